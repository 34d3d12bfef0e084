// Package artifact is the table of formats that a build can be captured in: a new one is a file here and
// a line in the table.
package artifact

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/reading"
	"zygos/internal/store"
)

// Format is a way to write the tree of a build as a file.
type Format struct {
	Name      string
	Extension string // of files, with its dot
	MediaType string // in the store's layout and in registries
	Options   []*Option
	QEMU      string        // what QEMU calls a disk that it can start, "" for what is none
	Reads     *reading.Form // how such a disk is read, nil for what is none
	Ends      []string      // of the names of such disks, beside Extension
	// StartRank and ReadRank order the formats by how soon one is taken to be started, or to be fetched and read: the lowest first, those
	// without a rank last.
	StartRank, ReadRank int
	Packs               bool // in pieces, so that those that come again in the next version are copied
	// Plain says that the same tree gives the same file whatever the options.
	Plain bool
	Write func(ctx context.Context, to *store.Writer, t *Tree, o Options) error
}

// Options is what the definition says of an artifact, and what is known of the build.
type Options struct {
	Size   int64             // bytes of a disk; 0 for the smallest and a margin
	Says   Says              // all else
	Label  string            // what a file system is called: the image
	Labels map[string]string // of the version
	Makers []string          // of the tree's layers: what made each
	Epoch  int64             // no time is later, in seconds since 1970
}

// Tree is what is captured.
type Tree struct {
	Digest string        // 64 hexadecimal digits
	Nodes  []*layer.Node // of Merged, in order
	Merged *layer.Tree
	// Content is the file that holds a node's content.
	Content func(*layer.Node) string
	// Tell is told how many bytes of content were written, Note what the user should know.
	Tell   func(n int64)
	Note   func(text string)
	Layout []byte     // how the disk was laid out that its base was read from; nil if it was none
	Past   *disk.Past // of the artifact's last disk, and what of this one is noted for the next; may be nil
}

// Table is the formats, in the order in which they are told.
var Table = []*Format{&tar, &raw, &qcow2, &vmdk, &vhd, &vhdx, &ova, &oci}

// Find is a format by its name, nil if there is none.
func Find(name string) *Format {
	if i := slices.IndexFunc(Table, func(f *Format) bool { return f.Name == name }); i >= 0 {
		return Table[i]
	}
	return nil
}

// OpenDisk opens a disk in any container of the table; what is in none is raw. form is the name of its format.
func OpenDisk(file io.ReaderAt, size int64) (d reading.Disk, form string, err error) {
	var forms []*reading.Form
	for _, f := range Table {
		if f.Reads != nil && f.Reads != &reading.Raw {
			forms = append(forms, f.Reads)
		}
	}
	return reading.Open(file, size, forms...)
}

// NamesDisk reports whether a file's name is that of a disk.
func NamesDisk(name string) bool {
	return slices.ContainsFunc(Table, func(f *Format) bool {
		return f.Reads != nil && slices.ContainsFunc(append(f.Ends, f.Extension), func(end string) bool { return strings.HasSuffix(name, end) })
	})
}

// ByRank compares formats by a rank of theirs.
func ByRank(a, b int) int {
	return cmp.Compare(cmp.Or(a, math.MaxInt), cmp.Or(b, math.MaxInt))
}

// Names lists the formats.
func Names() (names []string) {
	for _, f := range Table {
		names = append(names, f.Name)
	}
	return names
}

// Takes says whether a definition may say something of such an artifact.
func (f *Format) Takes(option string) bool {
	return slices.ContainsFunc(f.Options, func(o *Option) bool { return o.Name == option })
}

// UnknownError says that this program has no such format.
type UnknownError struct{ Format string }

func (e *UnknownError) Error() string {
	return fmt.Sprintf("this Zygos does not know the format %q; it knows %s. Use the one that made it", e.Format, strings.Join(Names(), ", "))
}

// Key tells an artifact of a version from the others: by variant and name.
type Key struct {
	Variant string // "" for an image of one shape
	Name    string // the format's, unless the definition gives another
	Format  string
}

// String is a key as people read it: "edge tar", "edge disk (raw)".
func (k Key) String() string {
	name := k.Name
	if k.Name == "" {
		name = k.Format
	} else if k.Name != k.Format {
		name += " (" + k.Format + ")"
	}
	return strings.TrimSpace(k.Variant + " " + name)
}

// File is what the artifact of a version is called outside the store, beside others of the version. It is IMAGE-VERSION-VARIANT-NAME,
// without the name where that is the format's; if another artifact has that name too, the artifact is told apart by an underscore, which
// is in no word: IMAGE-VERSION-VARIANT_NAME. The error is an *UnknownError.
func (k Key) File(image, version string, beside []Key) (string, error) {
	names, err := k.Files(image, version)
	if err != nil {
		return "", err
	}
	for _, other := range beside {
		if others, err := other.Files(image, version); err == nil && others[0] == names[0] && !other.Same(k) {
			return names[1], nil
		}
	}
	return names[0], nil
}

// Files are the two names that File chooses from: the short one, and the one that is this artifact's alone.
func (k Key) Files(image, version string) (names [2]string, err error) {
	format := Find(k.Format)
	if format == nil {
		return names, &UnknownError{k.Format}
	}
	parts := []string{image, version}
	if k.Variant != "" {
		parts = append(parts, k.Variant)
	}
	if k.Name != "" && k.Name != k.Format {
		parts = append(parts, k.Name)
	}
	names[0] = strings.Join(parts, "-") + format.Extension
	names[1] = k.Whole(image, version) + format.Extension
	return names, nil
}

// Whole is a name with which no other artifact of any version can be confused.
func (k Key) Whole(image, version string) string {
	return image + "-" + version + "-" + k.Variant + "_" + cmp.Or(k.Name, k.Format)
}

// Same reports whether two keys tell of one artifact.
func (k Key) Same(other Key) bool {
	return k.Variant == other.Variant && cmp.Or(k.Name, k.Format) == cmp.Or(other.Name, other.Format)
}
