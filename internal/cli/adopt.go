package cli

import (
	"context"
	"flag"

	"zygos/internal/app"
	"zygos/internal/record"
)

var cmdAdopt = &command{
	name: "adopt", group: "build", args: "FILE --as IMAGE --version X.Y.Z", least: 1, most: 1,
	inside:  true,
	summary: "make a version of a disk or a root archive that was made elsewhere",
	text: `The file's tree becomes a layer, so that children can be built on it, and it can be compared,
judged, placed and traced from then on. A disk is kept as it is, byte for byte; of an archive, an
artifact of the format tar is made. Nothing runs and nothing is sealed: what must not be in clones
is still in it, and the definition's checks tell ('zygos test'). The image needs a definition.
The base of such a version is called adopted, its release the first 12 digits of the file's digest.`,
	example: "zygos adopt old-gateway.qcow2 --as gateway --version 1.0.0",
	flags:   func() flags { return &adoptFlags{} },
	run:     opened(app.Strict, runAdopt),
}

// adoptFlags are those of adopt.
type adoptFlags struct{ as, version string }

func (f *adoptFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.as, "as", "", "of the image `IMAGE`")
	fs.StringVar(&f.version, "version", "", "as the version `X.Y.Z`")
}

func runAdopt(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*adoptFlags)
	if f.as == "" || f.version == "" {
		return wrongUse("adopt needs --as IMAGE and --version X.Y.Z")
	}
	if err := a.Writable(); err != nil {
		return err
	}
	l := in.follow(a)
	if in.json { // the result is the one document
		a.Watch = func(record.Event) {}
	}
	record, err := a.Adopt(ctx, app.AdoptRequest{File: in.args[0], Image: f.as, Version: f.version})
	l.end()
	switch {
	case err != nil:
		return err
	case in.json:
		return in.writeJSON(record.Version)
	}
	ref := record.Version.Ref()
	in.next("zygos test " + ref + "   judge it by the image's checks")
	return nil
}
