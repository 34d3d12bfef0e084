package disk

import (
	"encoding/binary"
	"fmt"
	"os"
)

// Capacity is how many bytes a disk has that lies in a container which this package wrote, by QEMU's name of its format.
func Capacity(file, format string) (int64, error) {
	f, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	word := func(at int64, order binary.ByteOrder) (int64, error) {
		b := make([]byte, 8)
		_, err := f.ReadAt(b, at)
		return int64(order.Uint64(b)), err
	}
	switch format {
	case "raw":
		return info.Size(), nil
	case "qcow2":
		return word(24, binary.BigEndian)
	case "vmdk":
		n, err := word(12, binary.LittleEndian)
		return n * 512, err
	case "vpc":
		return word(info.Size()-vhdFoot+48, binary.BigEndian)
	case "vhdx":
		return word(vhdxMetadata+vhdxUnit+8, binary.LittleEndian)
	}
	return 0, fmt.Errorf("%s is no format whose size is known", format)
}
