package artifact

// Ways in which a copy of an artifact was verified. What was sent along with it proves nothing.
const (
	ByContent = "content" // its bytes were read back
	ByDigest  = "digest"  // the other side made a digest of them
	BySize    = "size"    // nothing but the size could be compared
)
