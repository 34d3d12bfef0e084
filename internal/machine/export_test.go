package machine

import (
	"testing"
	"time"
)

// SetSilence changes after how long a guest that says nothing is gone, for a test.
func SetSilence(t *testing.T, d time.Duration) {
	was := silence
	silence = d
	t.Cleanup(func() { silence = was })
}
