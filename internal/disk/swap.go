package disk

// Swap is what tells that a partition is for swapping (mkswap(8), version 1): a page that says how many there are, then zeros.
func Swap(size int64, label string, id [16]byte) Volume {
	const page = 4096
	b := make([]byte, page)
	le.PutUint32(b[1024:], 1)
	le.PutUint32(b[1028:], uint32(size/page-1))
	copy(b[1036:], id[:])
	copy(b[1052:1068], label)
	copy(b[page-10:], "SWAPSPACE2")
	v, _ := Laid(size, []Placed{{0, Text(b)}}) // a definition asks for more than a page
	return v
}
