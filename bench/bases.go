package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// bases measures how long a disk of 3 GiB takes to become a layer, by the build's own log, against 'qemu-img convert' and 'debugfs rdump',
// which check nothing and remember nothing of what they copy.
func bases(temp string) {
	ws := filepath.Join(temp, "bases")
	run(temp, program, "new", ws)
	sh := func(script string) string { return string(run(ws, "sh", "-euc", script)) }
	sh(`mkdir tree && cp -a /usr/share tree/ && size=$(du -sm tree | cut -f1)
i=0; while [ $size -lt 2800 ]; do
head -c 25000000 /dev/urandom > tree/random-$i; seq 3000000 | head -c 7000000 > tree/text-$i; size=$((size+32)); i=$((i+1)); done
truncate -s 3200M disk.raw && mke2fs -q -F -t ext4 -d tree disk.raw && rm -r tree`)
	file := filepath.Join(ws, "zygos.toml")
	org, err := os.ReadFile(file)
	check(err)
	for _, options := range []string{"qcow2", "qcow2 -c", "qcow2 -c -o compression_type=zstd", "vmdk", "vpc", "vhdx"} {
		ends := map[string]string{"raw": "raw", "qcow2": "qcow2", "vmdk": "vmdk", "vpc": "vhd", "vhdx": "vhdx"}
		name := "base." + ends[strings.Fields(options)[0]]
		sh("qemu-img convert -f raw -O " + options + " disk.raw " + name)
		sum := strings.Fields(sh("sha256sum " + name))[0]
		check(os.WriteFile(file, fmt.Appendf(org, "\n[base.disk]\nrelease = \"1\"\nfrom = [\"%s\"]\nsha256 = \"%s\"\n", name, sum), 0o644))
		check(os.WriteFile(filepath.Join(ws, "images", "first.toml"), []byte("series = \"1.0\"\nbase = \"disk\"\n"+
			"[[stage]]\nname = \"enough\"\ninline = \"false\"\n[[artifact]]\nformat = \"tar\"\n"), 0o644))
		var ours, theirs []time.Duration
		for range 3 {
			sh("rm -rf .zygos out plain.raw; mkdir out; sync")
			began := time.Now()
			sh("qemu-img convert -O raw " + name + " plain.raw && debugfs -R 'rdump / out' plain.raw >/dev/null 2>&1")
			theirs = append(theirs, time.Since(began))
			sh("rm -rf out plain.raw")
			sh(program + " build first --quiet >/dev/null 2>&1 || true") // it ends behind its base
			ours = append(ours, baseTook(sh(program+" log first --json")))
		}
		row("a base of 3 GiB from "+options, median(ours), median(theirs), "1.0")
	}
}

// baseTook is how long a build's base took.
func baseTook(log string) time.Duration {
	for line := range strings.Lines(log) {
		var e struct {
			Kind string        `json:"kind"`
			Took time.Duration `json:"took_ns"`
		}
		if json.Unmarshal([]byte(line), &e) == nil && e.Kind == "base" {
			return e.Took
		}
	}
	fail("the log tells of no base")
	return 0
}
