package cli_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// shown is a version as list --json writes it.
type shown struct {
	Image, Version string
	Trees          []struct{ Layers []string }
	Artifacts      []struct {
		Digest string
		Bytes  int64
	}
}

func (p *person) versions() (list []shown) {
	require.NoError(p.t, json.Unmarshal([]byte(p.ok("list", "--json")), &list))
	return list
}

// whole says that everything a version needs is in the state.
func (p *person) whole() {
	for _, v := range p.versions() {
		for _, a := range v.Artifacts {
			out, err := exec.Command("sha256sum", p.dir+"/.zygos/store/blobs/sha256/"+strings.TrimPrefix(a.Digest, "sha256:")).Output()
			require.NoError(p.t, err)
			require.Equal(p.t, strings.TrimPrefix(a.Digest, "sha256:"), strings.Fields(string(out))[0])
		}
		for _, layer := range v.Trees[0].Layers {
			require.FileExists(p.t, p.dir+"/.zygos/layers/"+layer+"/index.jsonl")
		}
	}
}

// A build and a publication are killed at random moments; what is registered is whole, and the
// next build goes through.
func TestKilledAtAnyMoment(t *testing.T) {
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		for i := range 15 {
			p.image(fmt.Sprintf("[[stage]]\nname = \"a\"\ninline = \"head -c 300000 /dev/urandom > /a; echo %d > /b\"\n[[stage]]\nname = \"c\"\ninline = \"cp /a /c; sleep 0.05\"\n", i))
			cmd := p.command("build", "first")
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(rand.IntN(350)) * time.Millisecond)
			_ = cmd.Process.Kill() // it may have ended
			_ = cmd.Wait()
			if len(p.versions()) > 0 {
				publish := p.command("publish", "first")
				require.NoError(t, publish.Start())
				time.Sleep(time.Duration(rand.IntN(60)) * time.Millisecond)
				_ = publish.Process.Kill() // it may have ended
				_ = publish.Wait()
			}
			p.whole()
		}
		waitFor(t, "the last build's lock", func() bool { return p.run("build", "first", "--force").code == 0 })
		p.ok("publish", "first")
		p.whole()
		require.Empty(t, p.glob(".zygos/run/*"))
		require.Empty(t, p.glob("regions/here/first/*/.part-*"))
		for _, placed := range p.glob("regions/here/first/*/*.tar.zst") {
			require.NoError(t, errorsOf(exec.Command("zstd", "-qt", placed)))
		}
		mounts, err := os.ReadFile("/proc/self/mounts")
		require.NoError(t, err)
		require.NotContains(t, string(mounts), p.dir)
	})
}

// Several people's commands at once, on one state: nothing is lost, nothing fails.
func TestManyCommandsAtOnce(t *testing.T) {
	p := me(t)
	p.ok("demo", "ebb", "--quiet")
	p.dir += "/ebb"
	images := []string{"turbine-link", "tide-desk", "buoy-logger"}
	var group sync.WaitGroup
	failed := make(chan string, 100)
	try := func(args ...string) {
		if r := p.run(args...); r.code != 0 {
			failed <- strings.Join(args, " ") + ": " + r.err
		}
	}
	for _, image := range images {
		group.Go(func() {
			for range 3 {
				try("build", image, "--force", "--quiet")
				try("tag", image, "candidate")
				try("publish", image, "--quiet")
			}
		})
		group.Go(func() {
			for range 6 {
				try("list")
				try("show", image)
				try("preview", image)
			}
		})
	}
	group.Wait()
	close(failed)
	for f := range failed {
		t.Error(f)
	}
	require.Len(t, p.versions(), 4+9)
	for _, region := range []string{"north-sound", "kelp-bay", "far-skerry"} {
		valid(t, "region", p.read("regions/"+region+"/index.json"))
	}
	require.Contains(t, p.read("regions/kelp-bay/index.json"), `"tags":["candidate"]`)
}
