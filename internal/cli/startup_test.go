package cli_test

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Every command and every stage's process 1 pay for what packages do before main begins (GODEBUG=inittrace=1,
// package runtime). Allocations are the same each time, where times are not: who adds a library that makes tables
// or compiles patterns at start-up meets this, and finds out which it is.
func TestStartingStaysCheap(t *testing.T) {
	const mostBytes, mostAllocations = 1 << 20, 7500
	cmd := exec.CommandContext(t.Context(), program, "version")
	cmd.Env = append(os.Environ(), "GODEBUG=inittrace=1")
	var trace strings.Builder
	cmd.Stderr = &trace
	require.NoError(t, cmd.Run())
	type start struct {
		name               string
		bytes, allocations int
	}
	var list []start
	bytes, allocations := 0, 0
	for in := bufio.NewScanner(strings.NewReader(trace.String())); in.Scan(); {
		var s start
		var at, took float64
		if _, err := fmt.Sscanf(in.Text(), "init %s @%f ms, %f ms clock, %d bytes, %d allocs", &s.name, &at, &took, &s.bytes,
			&s.allocations); err == nil {
			list = append(list, s)
			bytes += s.bytes
			allocations += s.allocations
		}
	}
	require.Greater(t, len(list), 20, "the trace is read")
	sort.Slice(list, func(i, j int) bool { return list[i].allocations > list[j].allocations })
	if bytes > mostBytes || allocations > mostAllocations {
		t.Errorf("before main, %d bytes in %d allocations; at most %d in %d. The most: %v", bytes, allocations, mostBytes, mostAllocations,
			list[:8])
	}
}
