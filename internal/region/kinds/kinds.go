// Package kinds is the table of the kinds of regions: a new one is a folder beside this one and a line here.
package kinds

import (
	"fmt"
	"slices"

	"zygos/internal/definition"
	"zygos/internal/region"
	"zygos/internal/region/cloud"
	"zygos/internal/region/folder"
	"zygos/internal/region/registry"
	"zygos/internal/region/s3"
)

// Table is the kinds, in the order in which they are told.
var Table = []*region.Kind{&folder.Kind, &registry.Kind, &s3.Kind, &cloud.Kind}

func find(name string) *region.Kind {
	if i := slices.IndexFunc(Table, func(k *region.Kind) bool { return k.Name == name }); i >= 0 {
		return Table[i]
	}
	return nil
}

// Readers are the kinds as definitions are read with them.
func Readers() definition.RegionKinds {
	kinds := definition.RegionKinds{Read: func(kind, name string, v definition.Values) any { return find(kind).Read(name, v) },
		Can:   func(kind string) []string { return find(kind).Can },
		Where: func(kind string, settings any) string { return find(kind).Where(settings) }}
	for _, k := range Table {
		kinds.Names = append(kinds.Names, k.Name)
		kinds.Taken = append(kinds.Taken, k.Taken...)
	}
	return kinds
}

// Open opens a region of zygos.toml; path resolves a path that starts at the workspace.
func Open(r *definition.Region, path func(string) string) (region.Region, error) {
	k := find(r.Kind)
	if k == nil || r.Settings == nil { // whoever only looks takes a wrong definition as it is
		return nil, fmt.Errorf("%s: region %s cannot be used: its kind is %q; 'zygos lint' says what to do", r.Pos, r.Name, r.Kind)
	}
	return k.Open(r, path), nil
}

// System is the same for regions of one kind between which artifacts are copied without this host, "" for one that stands alone.
func System(r *definition.Region) string {
	if k := find(r.Kind); k != nil && r.Settings != nil && k.System != nil {
		return k.System(r.Settings)
	}
	return ""
}

// Shares reports whether versions of an image with the same content lie at one location of a region.
func Shares(r *definition.Region) bool {
	k := find(r.Kind)
	return k != nil && k.Shares
}

// Where says where a region is, "" if that is not known.
func Where(r *definition.Region) string {
	if k := find(r.Kind); k != nil && r.Settings != nil {
		return k.Where(r.Settings)
	}
	return ""
}
