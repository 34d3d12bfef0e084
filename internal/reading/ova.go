package reading

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
)

// mostEntries is how many files an appliance may have.
const mostEntries = 1000

// openOva opens the disk of an appliance (DSP0243, Open Virtualization Format, 1.1: a tar archive with a descriptor and disks).
func openOva(file io.ReaderAt, size int64) (Disk, error) {
	whole := io.NewSectionReader(file, 0, size)
	in := tar.NewReader(whole)
	var disk Disk
	for entries := 0; ; entries++ {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, errors.Join(errors.New("its archive is damaged or cut short"), err)
		}
		if entries >= mostEntries {
			return nil, fmt.Errorf("it has more than %d entries", mostEntries)
		}
		if h.Typeflag != tar.TypeReg || slices.Contains([]string{".ovf", ".mf", ".cert"}, path.Ext(h.Name)) {
			continue
		}
		if disk != nil {
			return nil, errors.New("it has several disks; take the one with the root out of it, with tar")
		}
		at, err := whole.Seek(0, io.SeekCurrent) // the reader takes headers whole, and no more
		if err != nil {
			return nil, err
		}
		if !inside(at, h.Size, size) {
			return nil, errors.New("it is cut short")
		}
		content := io.NewSectionReader(file, at, h.Size)
		head := make([]byte, len(vmdkMark))
		if _, err := content.ReadAt(head, 0); err != nil || string(head) != vmdkMark { // no appliance in an appliance
			return nil, errors.New("its disk is no vmdk")
		}
		if disk, err = openVmdk(content, h.Size); err != nil {
			return nil, err
		}
	}
	if disk == nil {
		return nil, errors.New("it has no disk; for an archive of a root, leave the kind of base out")
	}
	return disk, nil
}
