package cli

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/app"
	"zygos/internal/definition"
	"zygos/internal/standin"
)

var cmdStandin = &command{
	name: "standin", group: "operate",
	after:   "; what it holds stays in its folder",
	summary: "run the simulated cloud, for demos and rehearsals",
	text: `Answers until it is interrupted, as a cloud with several sites that holds images: the one that
the regions of the kind cloud in zygos.toml speak of, or one on its own. What it holds lies in
its folder, with the user and password that it wants. GET /openapi.json describes its API, and
PUT /faults says which faults strike. --faults lets each strike once, on uploads, in order:
refuse, drop, silence, slow, error, throttle, corrupt, expire, lose, quota.`,
	example: "zygos standin\nzygos standin --pace 20MiB --faults drop,expire\n" +
		"zygos standin --listen 127.0.0.1:8440 --dir /tmp/cloud --site kelp-bay --site far-skerry",
	flags: func() flags { return &standinFlags{} },
	run:   runStandin,
}

// standinFlags are those of standin.
type standinFlags struct {
	listen, dir   string
	sites, faults namesFlag
	pace, quota   sizeFlag
	imports       time.Duration
	token         time.Duration
}

func (f *standinFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.listen, "listen", "", "answer on `HOST:PORT`")
	fs.StringVar(&f.dir, "dir", "", "keep what it holds in `DIR`")
	fs.Var(&f.sites, "site", "a site called `NAME`; may be repeated")
	fs.Var(&f.pace, "pace", "bytes a second that a connection takes, `SIZE`; default all")
	fs.Var(&f.quota, "quota", "what a site holds at most, `SIZE`; default any")
	fs.DurationVar(&f.imports, "import", 200*time.Millisecond, "how long an import takes, `DURATION`")
	fs.DurationVar(&f.token, "token", time.Hour, "how long a token holds, `DURATION`")
	fs.Var(&f.faults, "faults", "`FAULT`s that strike once each")
}

// sizeFlag is a flag that takes a size.
type sizeFlag int64

func (s *sizeFlag) String() string {
	if *s == 0 {
		return ""
	}
	return mib(int64(*s))
}

func (s *sizeFlag) Set(text string) error {
	size, what, do := definition.ParseSize(text)
	if what != "" {
		return fmt.Errorf("%s; %s", what, do)
	}
	*s = sizeFlag(size)
	return nil
}

func runStandin(ctx context.Context, in *invocation) error {
	f := in.flags.(*standinFlags)
	r := app.StandinRequest{Listen: f.listen, Faults: standin.Plan{Next: f.faults}, Settings: standin.Settings{Dir: f.dir, Sites: f.sites,
		Pace: int64(f.pace), Import: f.imports, Token: f.token, Quota: int64(f.quota)}}
	err := app.Standin(ctx, in.where(), r, func(address string, c *standin.Cloud) {
		at := map[string]string{"url": "http://" + address, "dir": c.Dir, "sites": strings.Join(c.Sites, " "),
			"credentials": filepath.Join(c.Dir, standin.CredentialsName)}
		if in.json {
			_ = in.writeJSON(at) // it answers all the same
			return
		}
		fmt.Fprintf(in.out, "The simulated cloud answers at %s, with the sites %s\n", at["url"], at["sites"])
		in.note("it holds what it is given in %s, and knows the user in %s; Ctrl-C ends it", at["dir"], at["credentials"])
	})
	if ctx.Err() != nil && err == nil {
		return ctx.Err()
	}
	return err
}
