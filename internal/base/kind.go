package base

import (
	"context"
	"io"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"zygos/internal/definition"
	"zygos/internal/layer"
)

// Kind is a kind of base: what a candidate in from may be, and how such a file becomes a layer.
type Kind struct {
	Name string
	// Takes says whether a path or address names a base of this kind. The first kind of the table that takes
	// it has it.
	Takes func(from string) bool
	// Read reads what else a definition says of such a base. key is what of it makes another tree of the same
	// file. nil if there is nothing to say.
	Read func(v definition.Values) (settings any, key string)
	// Schemes are addresses of its own, by what they begin with, such as "oci://", and how what lies there comes into the store. Files and
	// addresses of HTTP need none.
	Schemes map[string]func(ctx context.Context, im *Importer, b *definition.Base, from string) error
	// Whole says whether a file in the store is all that a base needs, where more than one file is; nil where one is.
	Whole func(stored string, settings any) bool
	// Unpack turns a file into a tree. in reads it from front to back, and is what is verified; file is the same
	// for whoever has to jump.
	Unpack func(ctx context.Context, in io.Reader, file *os.File, settings any, to layer.Folder, limits layer.Limits) (layer.Index, error)
}

// Table is the kinds. What no other takes is an archive.
var Table = []*Kind{&disk, &container, &archive}

func find(name string) *Kind {
	if i := slices.IndexFunc(Table, func(k *Kind) bool { return k.Name == name }); i >= 0 {
		return Table[i]
	}
	return &archive
}

// Readers are the kinds as definitions are read with them.
func Readers() definition.BaseKinds {
	return definition.BaseKinds{
		Of: func(from string) (kind, why, do string) {
			if from == "" {
				return "", "an empty path", "name a file or an address"
			}
			if isRemote(from) && !canBeFetched(from) {
				return "", "\"" + from + "\" is no address that can be fetched", "use " + addresses() + ", or a path"
			}
			if u, err := url.Parse(from); err == nil && u.User != nil && u.Host != "" {
				return "", "the address names a user, and with a password anybody who reads the file knows it", "take that out"
			}
			return Table[slices.IndexFunc(Table, func(k *Kind) bool { return k.Takes(from) })].Name, "", ""
		},
		Read: func(kind string, v definition.Values) (settings any, key string) {
			if k := find(kind); k.Read != nil {
				return k.Read(v)
			}
			return nil, ""
		}}
}

// addresses lists what addresses begin with.
func addresses() string {
	list := []string{"https://"}
	for _, k := range Table {
		list = append(list, slices.Sorted(maps.Keys(k.Schemes))...)
	}
	return "http://, " + strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}

// KindOf is the kind of base that a file is, by its name.
func KindOf(name string) string {
	return Table[slices.IndexFunc(Table, func(k *Kind) bool { return k.Takes(name) })].Name
}

// transport is how what lies at an address of a kind's own comes into the store; nil for other addresses.
func transport(from string) func(ctx context.Context, im *Importer, b *definition.Base, from string) error {
	for _, k := range Table {
		for scheme, fetch := range k.Schemes {
			if strings.HasPrefix(from, scheme) {
				return fetch
			}
		}
	}
	return nil
}

func canBeFetched(from string) bool {
	u, err := url.Parse(from)
	return err == nil && u.Host != "" && (u.Scheme == "http" || u.Scheme == "https" || transport(from) != nil)
}

// archive is a root archive: tar (POSIX.1-2001), also compressed.
var archive = Kind{Name: "archive", Takes: func(string) bool { return true },
	Unpack: func(ctx context.Context, in io.Reader, _ *os.File, _ any, to layer.Folder, limits layer.Limits) (layer.Index, error) {
		plain, done, err := decompress(in)
		if err != nil {
			return nil, err
		}
		defer done()
		return layer.Unpack(ctx, plain, to, limits)
	}}
