package layer

// Segment is a run of data in a file, in bytes; between segments are only zeros.
type Segment struct{ Offset, Length int64 }

// A run of zero pages at least this long counts as a hole. Holes follow from the content,
// not from the file system it happens to lie on, so that every copy gives the same artifact.
const (
	pageSize = 4096
	holeMin  = 16 * pageSize
)

// holeFinder is told a file's content in order and finds its holes.
type holeFinder struct {
	at       int64
	pageZero bool
	zeroFrom int64 // start of the run of zero pages before the current page, -1 if there is none
	segments []Segment
	dataFrom int64
}

func newHoleFinder() *holeFinder { return &holeFinder{pageZero: true, zeroFrom: -1} }

func (h *holeFinder) Write(p []byte) (int, error) {
	for rest := p; len(rest) > 0; {
		n := min(int64(len(rest)), pageSize-h.at%pageSize)
		h.pageZero = h.pageZero && isZero(rest[:n])
		h.at += n
		rest = rest[n:]
		if h.at%pageSize == 0 {
			h.page(h.at - pageSize)
		}
	}
	return len(p), nil
}

func (h *holeFinder) page(from int64) {
	switch {
	case h.pageZero && h.zeroFrom < 0:
		h.zeroFrom = from
	case !h.pageZero && h.zeroFrom >= 0:
		h.hole(from)
	}
	h.pageZero = true
}

// hole ends the run of zero pages at to.
func (h *holeFinder) hole(to int64) {
	if to-h.zeroFrom >= holeMin {
		if h.zeroFrom > h.dataFrom {
			h.segments = append(h.segments, Segment{h.dataFrom, h.zeroFrom - h.dataFrom})
		}
		h.dataFrom = to
	}
	h.zeroFrom = -1
}

// Data lists the segments of a file with holes; nil for a file without.
func (h *holeFinder) Data() []Segment {
	size := h.at
	if size%pageSize != 0 {
		h.page(size - size%pageSize)
	}
	if h.zeroFrom >= 0 {
		h.hole(size)
	}
	if h.dataFrom == 0 && len(h.segments) == 0 {
		return nil
	}
	if h.dataFrom < size {
		h.segments = append(h.segments, Segment{h.dataFrom, size - h.dataFrom})
	}
	if h.segments == nil {
		return []Segment{}
	}
	return h.segments
}

func isZero(p []byte) bool {
	for len(p) >= 8 {
		if p[0]|p[1]|p[2]|p[3]|p[4]|p[5]|p[6]|p[7] != 0 {
			return false
		}
		p = p[8:]
	}
	for _, c := range p {
		if c != 0 {
			return false
		}
	}
	return true
}
