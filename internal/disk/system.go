package disk

import (
	"context"
	"slices"
)

// System is a file system, or another use of a partition, that is written.
type System struct {
	Name  string   // in definitions and in fstab(5)
	Type  [16]byte // of its partition (UEFI 2.10, 5.3.3)
	Label int      // bytes of the longest label
	Files bool     // it holds files, and is mounted
	// Lay makes a volume of files: of Options.Size bytes, or the smallest and a margin.
	Lay func(ctx context.Context, files []File, o Options) (Volume, error)
	// Mount is the end of its line in fstab(5), from the options on.
	Mount string
}

// Systems are the file systems. Roots are of the first.
var Systems = []*System{
	{Name: "ext4", Type: TypeLinux, Label: 16, Files: true, Lay: Ext4, Mount: "defaults 0 2"},
	{Name: "swap", Type: TypeSwap, Label: 16, Mount: "sw 0 0", Lay: func(_ context.Context, _ []File, o Options) (Volume, error) {
		return Swap(o.Size, o.Label, o.UUID), nil
	}},
}

// FindSystem is a file system by its name, nil if there is none.
func FindSystem(name string) *System {
	if i := slices.IndexFunc(Systems, func(s *System) bool { return s.Name == name }); i >= 0 {
		return Systems[i]
	}
	return nil
}
