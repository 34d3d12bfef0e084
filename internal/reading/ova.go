package reading

import (
	"archive/tar"
	"errors"
	"io"
	"path"
	"slices"
)

// openOva opens the disk of an appliance (DSP0243, Open Virtualization Format, 1.1: a tar archive with a descriptor and disks).
func openOva(file io.ReaderAt, size int64) (Disk, string, error) {
	whole := io.NewSectionReader(file, 0, size)
	in := tar.NewReader(whole)
	var disk Disk
	form := ""
	for {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, "", errors.Join(errors.New("ova: its archive is damaged or cut short"), err)
		}
		if h.Typeflag != tar.TypeReg || slices.Contains([]string{".ovf", ".mf", ".cert"}, path.Ext(h.Name)) {
			continue
		}
		if disk != nil {
			return nil, "", errors.New("ova: it has several disks; take the one with the root out of it, with tar")
		}
		at, err := whole.Seek(0, io.SeekCurrent) // the reader takes headers whole, and no more
		if err != nil {
			return nil, "", err
		}
		if !inside(at, h.Size, size) {
			return nil, "", errors.New("ova: it is cut short")
		}
		inner, innerForm, err := Open(io.NewSectionReader(file, at, h.Size), h.Size)
		if err != nil {
			return nil, "", err
		}
		if innerForm != "vmdk" {
			return nil, "", errors.New("ova: its disk is no vmdk")
		}
		disk, form = inner, "ova"
	}
	if disk == nil {
		return nil, "", errors.New("ova: it has no disk; for an archive of a root, leave the kind of base out")
	}
	return disk, form, nil
}
