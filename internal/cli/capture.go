package cli

import (
	"context"
	"flag"
	"fmt"

	"zygos/internal/app"
	"zygos/internal/catalog"
)

var cmdCapture = &command{
	after: "; the version is as it was",
	name:  "capture", group: "build", args: "REF --format FORMAT", least: 1, most: 1,
	inside:  true,
	summary: "make another artifact of a version, from its kept layers",
	text: `The tree is the one that was built and sealed: nothing runs. The artifact is added to the
version and its record; 'zygos publish' brings it to the regions that take its format.`,
	example: "zygos capture turbine-link@2.3.0 --variant edge --format vmdk\n" +
		"zygos capture field-machine --format vhdx --boot uefi --size 8GiB",
	flags: func() flags { return &captureFlags{} },
	run:   opened(app.Lenient, runCapture),
}

// captureFlags are those of capture.
type captureFlags struct{ format, name, variant, boot, size string }

func (f *captureFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.format, "format", "", "tar, oci, raw, qcow2, vmdk, ova, vhd or vhdx: `FORMAT`")
	fs.StringVar(&f.name, "name", "", "call it `NAME`; default the format")
	fs.StringVar(&f.variant, "variant", "", "of the variant `NAME`")
	fs.StringVar(&f.boot, "boot", "", "uefi for a whole disk that starts, base for one laid out as the base's, or none: `HOW`")
	fs.StringVar(&f.size, "size", "", "of the disk, for instance 2GiB: `SIZE`; default the smallest")
}

// oneMore is the document of an artifact that was added.
type oneMore struct {
	Image    string            `json:"image"`
	Version  string            `json:"version"`
	Artifact *catalog.Artifact `json:"artifact"`
}

func runCapture(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*captureFlags)
	if f.format == "" {
		return wrongUse("capture needs --format, for instance --format qcow2")
	}
	if err := a.Writable(); err != nil {
		return err
	}
	l := in.live()
	if !in.json {
		a.Watch = in.watchBuild(l)
	}
	v, file, err := a.Capture(ctx, app.CaptureRequest{Ref: in.args[0], Variant: f.variant, Format: f.format, Name: f.name, Boot: f.boot,
		Size: f.size})
	l.end()
	switch {
	case err != nil:
		return err
	case in.json:
		return in.writeJSON(oneMore{v.Image, v.Version, file})
	}
	fmt.Fprintf(in.out, "Added %s to %s, %s, %s\n", file.Key(), v.Ref(), mib(file.Bytes), file.Digest)
	in.next("zygos publish " + v.Ref())
	return nil
}
