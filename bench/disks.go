package main

import (
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// disks writes the tree of the Debian example with a kernel in each format of disk, against the standard tools: a file
// system from the folder, converted to the same format and compression.
func disks(temp, source string) {
	ws := filepath.Join(temp, "disks")
	example, err := filepath.Abs("examples/debian")
	check(err)
	run(temp, "cp", "-r", source, ws)
	run(temp, "cp", "-r", example+"/.", ws)
	run(temp, "cp", filepath.Join(source, "zygos.toml"), ws)
	text := "series = \"1.0\"\nbase = \"field-machine\"\n"
	formats := []struct{ name, format, says, convert, budget string }{
		{"raw", "raw", "", "-O raw", "1.0 x"},
		{"qcow2-zlib", "qcow2", "", "-c -O qcow2", "0.20 x"},
		{"qcow2-zstd", "qcow2", "compression = \"zstd\"\n", "-c -O qcow2 -o compression_type=zstd", "0.35 x"},
		{"vmdk", "vmdk", "", "-O vmdk -o subformat=streamOptimized", "0.15 x"},
		{"ova", "ova", "", "-O vmdk -o subformat=streamOptimized", "0.15 x"},
		{"vhd", "vhd", "", "-O vpc -o subformat=dynamic", "1.0 x"},
		{"vhdx", "vhdx", "", "-O vhdx", "1.0 x"},
	}
	for _, f := range formats {
		text += fmt.Sprintf("[[artifact]]\nname = %q\nformat = %q\n%s", f.name, f.format, f.says)
	}
	check(os.WriteFile(filepath.Join(ws, "images/disks.toml"), []byte(text), 0o644))
	run(ws, "sed", "-i", "/^boots/d", "images/field-machine.toml")
	run(ws, program, "build", "field-gateway", "field-machine", "disks", "--quiet")
	tree := filepath.Join(temp, "machine-tree")
	check(os.Mkdir(tree, 0o755))
	run(ws, "sh", "-c", program+" try disks -- tar --create --xattrs --numeric-owner --one-file-system --directory / . | "+
		"tar --extract --xattrs --numeric-owner --directory "+tree)
	plain := filepath.Join(temp, "plain.raw")
	var files []time.Duration
	ours := map[string][]time.Duration{}
	standard := map[string][]time.Duration{}
	sizes := map[string]int64{}
	for range 3 {
		events := run(ws, program, "build", "disks", "--force", "--json")
		_, size := captured(events, "raw")
		files = append(files, timed(func() {
			run(temp, "sh", "-c", fmt.Sprintf("truncate -s %d %s && mke2fs -q -t ext4 -F -d %s %s", size, plain, tree, plain))
		}))
		for _, f := range formats {
			ours[f.name] = append(ours[f.name], took(events, f.name))
			out := filepath.Join(temp, "standard."+f.name)
			took := timed(func() { run(temp, "sh", "-c", "qemu-img convert -f raw "+f.convert+" "+plain+" "+out+" && sync "+out) })
			info, err := os.Stat(out)
			check(err)
			sizes[f.name] = info.Size()
			check(os.Remove(out))
			standard[f.name] = append(standard[f.name], files[len(files)-1]+took)
		}
		check(os.Remove(plain))
		if len(files) == 3 {
			for _, f := range formats {
				row("tree to "+f.name+", against mke2fs -d and qemu-img convert", median(ours[f.name]), median(standard[f.name]), f.budget)
			}
			for _, f := range formats {
				_, bytes := captured(events, f.name)
				fmt.Printf("  %-12s %6.1f MiB, the standard tool's %6.1f MiB, %.2f x\n", f.name, mib(bytes), mib(sizes[f.name]),
					float64(bytes)/float64(sizes[f.name]))
			}
		}
	}
	cmd := exec.Command(program, "build", "disks", "--force", "--quiet")
	cmd.Dir = ws
	check(cmd.Run())
	if use, ok := maxRSS(cmd.ProcessState); ok {
		fmt.Printf("%-46s %6.0f MiB %10s %7s  128 MB\n", "memory of that build", float64(use)/1024, "-", "-")
	}
}

// common builds versions whose last stage changed one file: how long it takes from the command to the registered version, and how
// much of its disk the one before has too. One tree has 0.5 GiB, the other 3 GiB.
func common(temp string) {
	ws := filepath.Join(temp, "disks")
	disk := "[[artifact]]\nformat = \"qcow2\"\nboot = \"uefi\"\ncompression = \"zstd\"\n"
	file := filepath.Join(ws, "images/field-machine.toml")
	text, err := os.ReadFile(file)
	check(err)
	head, _, _ := strings.Cut(string(text), "[[artifact]]")
	check(os.WriteFile(file, []byte(head+disk), 0o644))
	wide := "series = \"1.0\"\nbase = \"field-machine\"\n" +
		"[[stage]]\nname = \"fill\"\ninline = \"for i in 1 2 3 4 5 6; do cp -a /usr /srv/$i; done\"\n" +
		"[[stage]]\nname = \"last\"\ninline = \"echo SALT > /etc/last\"\n" + disk
	change := func(image string, n int) {
		if image == "wide" {
			check(os.WriteFile(filepath.Join(ws, "images/wide.toml"), []byte(strings.Replace(wide, "SALT", fmt.Sprint(n), 1)), 0o644))
			return
		}
		changed := fmt.Appendf(nil, "[Match]\nType=ether\n\n[Network]\nDHCP=yes\n# %d\n", n)
		check(os.WriteFile(filepath.Join(ws, "files/wired.network"), changed, 0o644))
	}
	for _, image := range []string{"field-machine", "wide"} {
		built := func() string {
			_, rest, _ := strings.Cut(string(run(ws, program, "show", image, "--json")), `"format": "qcow2",`)
			_, rest, _ = strings.Cut(rest, `"digest": "sha256:`)
			return filepath.Join(ws, ".zygos/store/blobs/sha256", rest[:64])
		}
		change(image, 0)
		run(ws, program, "build", image, "--quiet")
		before, n := built(), 0
		a, b := both(5, func() { n++; change(image, n); run(ws, program, "build", image, "--quiet") }, func() {
			run(ws, "sh", "-c", "cp "+before+" copy && sync copy && sha256sum copy && rm copy")
		})
		row("last stage changed, to the registered qcow2 of "+image+", against cp and sha256sum", a, b, "2.5 s at 0.5 GiB, 1.0 x at 3 GiB")
		had := map[[32]byte]bool{}
		for _, c := range chunks(before) {
			had[c.sum] = true
		}
		same, all := 0, 0
		for _, c := range chunks(built()) {
			if all += c.size; had[c.sum] {
				same += c.size
			}
		}
		fmt.Printf("  a disk of %.0f MiB, of which %.2f %% is in the one before (chunks of about 64 KiB; 98 %%)\n", mib(int64(all)),
			100*float64(same)/float64(all))
	}
}

type chunk struct {
	sum  [32]byte
	size int
}

// chunks cuts a file where its content says so, about every 64 KiB (a gear hash).
func chunks(file string) (list []chunk) {
	text, err := os.ReadFile(file)
	check(err)
	var gear [256]uint64
	r := rand.New(rand.NewPCG(1, 2))
	for i := range gear {
		gear[i] = r.Uint64()
	}
	start, hash := 0, uint64(0)
	for i, b := range text {
		hash = hash<<1 + gear[b]
		if size := i + 1 - start; (size >= 16<<10 && hash>>48 == 0) || size >= 256<<10 || i == len(text)-1 {
			list = append(list, chunk{sha256.Sum256(text[start : i+1]), size})
			start, hash = i+1, 0
		}
	}
	return list
}

func mib(n int64) float64 { return float64(n) / (1 << 20) }
