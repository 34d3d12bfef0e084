// Package machinetest lets tests make sandboxes, as root and as an ordinary user.
package machinetest

import (
	"fmt"
	"os"
	"testing"

	"zygos/internal/machine"
)

// Main runs a package's tests where sandboxes can be made. Call it from TestMain.
func Main(m *testing.M) {
	machine.Early()
	if _, ok := machine.Inside(); ok {
		os.Exit(m.Run())
	}
	code, err := machine.Enter(os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(code)
}
