package publish

import (
	"fmt"
	"path"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
)

// name is what an artifact is called in a region.
type name struct {
	file   string // of a file of it
	called string // else
	wrong  error  // why it cannot be placed there
}

// names gives each artifact of a version a name in a region that no other has. placed is what the region holds of the version: an
// artifact keeps the name under which it lies there, and takes none under which another one does.
func names(v *catalog.Version, pattern string, placed []catalog.Placement) map[artifact.Key]name {
	keys, list := v.Keys(), map[artifact.Key]name{}
	for _, k := range keys {
		list[k] = nameOf(v, k, keys, pattern, placed)
	}
	for _, k := range keys { // names that the user chose
		for _, other := range keys {
			if n := list[k]; pattern != "" && n.wrong == nil && !other.Same(k) && list[other].called == n.called {
				n.wrong = fmt.Errorf("it is to be called %s there, as %s is; tell them apart with ${variant} and ${artifact} in the region's name",
					n.called, other)
				list[k] = n
			}
		}
	}
	return list
}

func nameOf(v *catalog.Version, k artifact.Key, keys []artifact.Key, pattern string, placed []catalog.Placement) (n name) {
	can, wrong := k.Files(v.Image, v.Version)
	if wrong != nil {
		return name{wrong: wrong}
	}
	called := func(k artifact.Key) string {
		artifact := k.Name
		if artifact == "" {
			artifact = k.Format
		}
		return definition.Called(pattern, map[string]string{"image": v.Image, "version": v.Version, "variant": k.Variant, "artifact": artifact,
			"build": v.Build})
	}
	n.called = called(k)
	if pattern != "" {
		n.file = n.called + artifact.Find(k.Format).Extension
		return n
	}
	for _, other := range keys {
		if !other.Same(k) && called(other) == n.called {
			n.called = k.Whole(v.Image, v.Version)
		}
	}
	if n.file, wrong = k.File(v.Image, v.Version, keys); wrong != nil {
		return name{wrong: wrong}
	}
	own, others := "", map[string]bool{} // names of files
	for _, pl := range placed {
		if file := path.Base(pl.Location); pl.Key().Same(k) {
			own = file
		} else {
			others[file] = true
		}
	}
	switch {
	case (own == can[0] || own == can[1]) && !others[own]:
		n.file = own
	case others[n.file]:
		n.file = can[1]
	}
	return n
}
