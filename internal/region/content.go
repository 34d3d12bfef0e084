package region

import (
	"errors"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// Content is the bytes of an artifact, wherever they are. Whoever opens it closes it.
type Content interface {
	io.ReaderAt
	io.Closer
	// Data is the next extent with data at or behind a place; between extents there are zeros. Behind the last one the error is io.EOF.
	Data(at int64) (from, to int64, err error)
}

// OpenFile opens a file as content.
func OpenFile(name string) (*File, error) {
	f, err := os.Open(name)
	return &File{f}, err
}

// File is content that is a file.
type File struct{ *os.File }

// Data is Content's.
func (f *File) Data(at int64) (from, to int64, err error) {
	if from, err = unix.Seek(int(f.Fd()), at, unix.SEEK_DATA); errors.Is(err, unix.ENXIO) {
		return 0, 0, io.EOF
	}
	if err == nil {
		to, err = unix.Seek(int(f.Fd()), from, unix.SEEK_HOLE)
	}
	return from, to, err
}
