package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// checks measures what judging takes: an instance and a trivial check, each further one, and expectations of the Debian example.
func checks(temp, debian string) {
	ws := filepath.Join(temp, "checks")
	run(temp, program, "new", ws)
	file := filepath.Join(ws, "images", "first.toml")
	text, err := os.ReadFile(file)
	check(err)
	run(ws, program, "build", "first", "--quiet")
	with := func(n int) func() {
		var list strings.Builder
		for i := range n {
			fmt.Fprintf(&list, "[[check]]\nname = \"c%d\"\ninline = \"true\"\n", i)
		}
		return func() {
			check(os.WriteFile(file, append(text, "\n"+list.String()...), 0o644))
			run(ws, program, "test", "first", "--quiet")
		}
	}
	one, eleven := both(15, with(1), with(11))
	row("zygos test: an instance and one trivial check", one, 0, "100ms")
	row("  each further check", (eleven-one)/10, 0, "25ms")

	ws = filepath.Join(temp, "expects")
	run(temp, "cp", "-r", debian, ws)
	file = filepath.Join(ws, "images", "field-gateway.toml")
	text, err = os.ReadFile(file)
	check(err)
	run(ws, program, "build", "field-gateway", "--quiet")
	list := "\n[[check]]\nname = \"house rules\"\nlevel = \"warn\"\nexpect = [\n"
	for i := range 10 {
		list += fmt.Sprintf("{ path = \"/etc/ssh/sshd_config\", mode = \"0644\", owner = \"root:root\" }, "+
			"{ package = \"openssh-server\", version = \">= 1:%d\" }, "+
			"{ account = \"root\", shell = \"/bin/bash\" }, { setuid = [] }, { starts = \"ssh\" },\n", i)
	}
	check(os.WriteFile(file, append(text, list+"]\n"...), 0o644))
	a, _ := both(9, func() { run(ws, program, "test", "field-gateway", "--quiet") }, func() {})
	row("50 expectations over the Debian example", a, 0, "0.5s")
}
