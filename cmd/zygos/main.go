// Zygos makes golden machine images: see 'zygos help'.
package main

import (
	"os"

	"zygos/internal/cli"
	"zygos/internal/machine"
)

func main() {
	machine.Early()
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
