package base

import "io"

// Platform is what a definition says of a container image.
func Platform(name string) any { return containerSays{platform: name} }

// Unpacked is the content of a packed stream.
func Unpacked(r io.Reader) ([]byte, error) {
	plain, done, err := decompress(r)
	if err != nil {
		return nil, err
	}
	defer done()
	return io.ReadAll(plain)
}
