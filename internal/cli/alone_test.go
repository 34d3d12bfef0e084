package cli_test

import (
	"testing"

	"zygos/internal/needtest"
)

// What waits for guests by the clock runs one after another beside all else, and begins first: a guest in software takes what processors
// there are, and several at once start so slowly that those who wait give up.
func TestInGuests(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	t.Run("clones of a bootable disk", clonesOfABootableDisk)
	t.Run("limits", limitsInAGuest)
	t.Run("a kernel reads a disk", kernelReadsADisk)
}
