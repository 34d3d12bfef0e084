// Command bench measures the built program against standard tools in the same run and prints
// ratios. usage: go run ./bench PROGRAM DEBIAN-WORKSPACE (as root, for all of it).
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

const tester = "zygos-tester"

var program string

func main() {
	if len(os.Args) < 3 {
		fail("usage: bench PROGRAM DEBIAN-WORKSPACE [demo|stages|debian|disks|children|catalog|places|checks|bases ...]")
	}
	var err error
	program, err = filepath.Abs(os.Args[1])
	check(err)
	temp, err := os.MkdirTemp("", "zygos-bench-")
	check(err)
	check(os.Chmod(temp, 0o755))
	defer os.RemoveAll(temp)
	fmt.Printf("%-46s %10s %10s %7s  %s\n", "WHAT", "ZYGOS", "STANDARD", "RATIO", "BUDGET")
	source, err := filepath.Abs(os.Args[2])
	check(err)
	for _, part := range []struct {
		name string
		do   func()
	}{
		{"demo", func() { size(); start(); demo(temp); unchanged(temp) }},
		{"stages", func() { stages(temp) }},
		{"debian", func() { capture(temp, source); lastStage(temp); output(temp) }},
		{"disks", func() { disks(temp, source); common(temp) }},
		{"children", func() { children(temp); bits(temp) }}, // of what the first and the third made
		{"catalog", func() { catalog(temp) }},
		{"places", func() { places(temp) }},
		{"checks", func() { checks(temp, source) }},
		{"bases", func() { bases(temp) }},
	} {
		if len(os.Args) == 3 || slices.Contains(os.Args[3:], part.name) {
			part.do()
		}
	}
}

func fail(form string, args ...any) {
	fmt.Fprintf(os.Stderr, form+"\n", args...)
	os.Exit(1)
}

func check(err error) {
	if err != nil {
		fail("%v", err)
	}
}

func row(what string, ours, standard time.Duration, budget string) {
	if standard == 0 {
		fmt.Printf("%-46s %10s %10s %7s  %s\n", what, round(ours), "-", "-", budget)
		return
	}
	fmt.Printf("%-46s %10s %10s %7.2f  %s\n", what, round(ours), round(standard), float64(ours)/float64(standard), budget)
}

func round(d time.Duration) string {
	if d > time.Second {
		return d.Round(10 * time.Millisecond).String()
	}
	return d.Round(100 * time.Microsecond).String()
}

// run carries out a command in a folder and returns what it printed.
func run(dir string, args ...string) []byte {
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir = dir
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		fail("%s: %v\n%s%s", strings.Join(args, " "), err, out, errs.String())
	}
	return out
}

func timed(f func()) time.Duration {
	began := time.Now()
	f()
	return time.Since(began)
}

// both measures two things by turns and returns their medians, so that a noisy moment hits both.
func both(times int, ours, standard func()) (a, b time.Duration) {
	var as, bs []time.Duration
	for range times {
		as = append(as, timed(ours))
		bs = append(bs, timed(standard))
	}
	return median(as), median(bs)
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

func size() {
	info, err := os.Stat(program)
	check(err)
	kind := run("/", "sh", "-c", "file -b "+program+" 2>/dev/null | grep -o 'statically linked' || echo unknown")
	loader, _ := exec.Command("ldd", program).CombinedOutput()
	fmt.Printf("%-46s %6.1f MiB %10s %7s  30 MB; %s; ldd: %s\n", "program", float64(info.Size())/(1<<20), "-", "-",
		strings.TrimSpace(string(kind)), strings.TrimSpace(string(loader)))
}

func start() {
	a, b := both(51, func() { run("/", program, "version") }, func() { run("/", "true") })
	row("zygos version, against 'true'", a, b, "10ms")
}

func demo(temp string) {
	n := 0
	a, b := both(5, func() { n++; run(temp, program, "demo", fmt.Sprint("root", n), "--quiet") }, func() {})
	row("demo from an empty folder, as root", a, b*0, "10s")
	home := filepath.Join(temp, "home")
	check(os.Mkdir(home, 0o777))
	check(os.Chmod(home, 0o777))
	a, b = both(5, func() {
		n++
		run(home, "setpriv", "--reuid="+tester, "--regid="+tester, "--init-groups", program, "demo", fmt.Sprint("user", n), "--quiet")
	}, func() {})
	row("demo from an empty folder, as an ordinary user", a, b*0, "10s")
}

func unchanged(temp string) {
	ws := filepath.Join(temp, "root1")
	a, b := both(31, func() { run(ws, program, "build", "turbine-link") }, func() { run(ws, "true") })
	row("unchanged build turbine-link, against 'true'", a, b, "50ms")
}

// stages compares one stage more with a bare unshare and chroot that run the same command.
func stages(temp string) {
	ws := filepath.Join(temp, "stages")
	run(temp, program, "new", ws)
	const many = 40
	definition := func(count int, salt string) {
		var b strings.Builder
		b.WriteString("series = \"0.1\"\nbase = \"field-os\"\n")
		for i := range count {
			fmt.Fprintf(&b, "[[stage]]\nname = \"s%d\"\ninline = \"echo %s%d > /made\"\n", i, salt, i)
		}
		b.WriteString("[[artifact]]\nformat = \"tar\"\n")
		check(os.WriteFile(filepath.Join(ws, "images/first.toml"), []byte(b.String()), 0o644))
	}
	build := func(count int, salt string) time.Duration {
		definition(count, salt)
		return timed(func() { run(ws, program, "build", "first", "--quiet") })
	}
	build(1, "warm")
	root := filepath.Join(temp, "bare")
	check(os.Mkdir(root, 0o755))
	run(temp, "sh", "-c", "zstd -dc "+ws+"/bases/*.zst | tar -x -C "+root)
	var ours, bare []time.Duration
	for i := range 7 {
		one := build(1, fmt.Sprint("one", i))
		all := build(1+many, fmt.Sprint("many", i))
		ours = append(ours, (all-one)/many)
		bare = append(bare, timed(func() {
			for range many {
				run(temp, "unshare", "--mount", "--pid", "--ipc", "--uts", "--cgroup", "--user", "--map-root-user", "--fork", "chroot", root,
					"/bin/sh", "-c", "echo x > /made")
			}
		})/many)
	}
	row("one stage, against unshare + chroot", median(ours), median(bare), "2 x, or 15ms beyond its script")
}

// took reads how long capturing an artifact took from a build's events.
func took(events []byte, name string) time.Duration {
	d, _ := captured(events, name)
	return d
}

// captured reads how long capturing an artifact took, and its bytes.
func captured(events []byte, name string) (time.Duration, int64) {
	for _, line := range bytes.Split(events, []byte("\n")) {
		var e struct {
			Kind     string
			Took     time.Duration `json:"took_ns"`
			Artifact struct {
				Name  string
				Bytes int64
			}
		}
		if json.Unmarshal(line, &e) == nil && e.Kind == "captured" && e.Artifact.Name == name {
			return e.Took, e.Artifact.Bytes
		}
	}
	fail("no artifact %s in the build's events", name)
	return 0, 0
}

func capture(temp, source string) {
	ws := filepath.Join(temp, "debian")
	run(temp, "cp", "-r", source, ws)
	run(ws, program, "build", "field-gateway", "--quiet")
	run(ws, program, "publish", "field-gateway", "--quiet")
	root := filepath.Join(temp, "tree")
	check(os.Mkdir(root, 0o755))
	run(ws, "sh", "-c", "zstd -dc regions/shelf/*/*/*.tar.zst | tar --extract --xattrs --numeric-owner --directory "+root)
	raw, err := filepath.Glob(ws + "/regions/shelf/*/*/*.raw")
	check(err)
	info, err := os.Stat(raw[0])
	check(err)
	fmt.Printf("  the Debian example: a tree of %s, a disk of %d MiB\n",
		strings.Fields(string(run(temp, "du", "-sh", "--apparent-size", root)))[0], info.Size()>>20)
	var tars, raws, tarZstd, mke2fs, summed []time.Duration
	for i := range 5 {
		events := run(ws, program, "build", "field-gateway", "--force", "--json")
		tars, raws = append(tars, took(events, "tar")), append(raws, took(events, "raw"))
		file := filepath.Join(temp, fmt.Sprint("standard", i))
		tarZstd = append(tarZstd, timed(func() {
			run(temp, "sh", "-c", "tar --create --sort=name --xattrs --numeric-owner --directory "+root+" . | zstd -q -T0 -o "+file+".tar.zst "+
				"&& sync "+file+".tar.zst")
		}))
		make := timed(func() {
			run(temp, "sh", "-c", fmt.Sprintf("truncate -s %d %s && mke2fs -q -t ext4 -d %s %s && sync %s", info.Size(), file, root, file, file))
		})
		mke2fs = append(mke2fs, make)
		summed = append(summed, make+timed(func() { run(temp, "sha256sum", file) }))
		check(os.Remove(file))
	}
	row("capture tar with its digest, against tar | zstd -T0", median(tars), median(tarZstd), "1.2 x")
	row("capture raw with its digest, against mke2fs -d", median(raws), median(mke2fs), "1.2 x")
	row("  the same, against mke2fs -d and sha256sum", median(raws), median(summed), "")
	memory(ws)
}

// lastStage changes the last script of the Debian example and tells where the time goes from the
// command to the registered version.
func lastStage(temp string) {
	ws := filepath.Join(temp, "debian")
	file := filepath.Join(ws, "images/field-gateway.toml")
	text, err := os.ReadFile(file)
	check(err)
	parts := map[string][]time.Duration{}
	var whole []time.Duration
	for i := range 5 {
		changed := strings.Replace(string(text), "\nid -un\n", fmt.Sprintf("\nid -un; echo %d >> ~/.bash_aliases\n", i), 1)
		if changed == string(text) {
			fail("the last script of the Debian example is not as expected")
		}
		check(os.WriteFile(file, []byte(changed), 0o644))
		began := time.Now()
		events := run(ws, program, "build", "field-gateway", "--json")
		whole = append(whole, time.Since(began))
		at := began
		for _, line := range bytes.Split(events, []byte("\n")) {
			var e struct {
				Kind, Stage string
				Time        time.Time
				Took        time.Duration `json:"took_ns"`
				Artifact    struct{ Format string }
			}
			if json.Unmarshal(line, &e) != nil {
				continue
			}
			name := map[string]string{"started": "start and plan", "base": "base", "reused": "stages reused", "stage-done": "the stage that changed",
				"sealed": "seal", "captured": "capture " + e.Artifact.Format, "registered": "register"}[e.Kind]
			if name != "" {
				if n := parts[name]; len(n) <= i {
					parts[name] = append(n, 0)
				}
				parts[name][i] += e.Time.Sub(at)
				at = e.Time
			}
		}
	}
	check(os.WriteFile(file, text, 0o644))
	row("last script of the Debian example changed", median(whole), 0, "5s with one disk")
	for _, name := range []string{"start and plan", "base", "stages reused", "the stage that changed", "seal", "capture tar", "capture raw",
		"register"} {
		row("  "+name, median(parts[name]), 0, "")
	}
}

// children builds eight children of one parent one after another and at once.
func children(temp string) {
	ws := filepath.Join(temp, "debian")
	var names []string
	for i := range 8 {
		names = append(names, fmt.Sprintf("child-%d", i))
	}
	const hash, count = "find /usr -xdev -type f -print0 | xargs -0 sha256sum > /var/lib/inventory",
		"i=0; while [ $i -lt 300000 ]; do i=$((i+1)); done; echo done > /made"
	for _, kind := range []struct{ what, ws, base, script, format string }{
		{"8 children whose scripts take the time", filepath.Join(temp, "root1"), "ebb-base", count, "tar"},
		{"8 Debian children with a raw", ws, "field-gateway", hash, "raw"}, {"8 Debian children with a tar", ws, "field-gateway", hash, "tar"}} {
		ws, salt := kind.ws, 0
		define := func() {
			salt++
			for i, name := range names {
				check(os.WriteFile(filepath.Join(ws, "images", name+".toml"),
					fmt.Appendf(nil, "series = \"1.0\"\nbase = %q\n[[stage]]\nname = \"work\"\nnetwork = \"none\"\n"+
						"inline = \"\"\"\n%s\n# %d %d\n\"\"\"\n[[artifact]]\nformat = %q\n", kind.base, kind.script, i, salt, kind.format), 0o644))
			}
		}
		var most int64
		at := func(jobs string) func() {
			return func() {
				define()
				cmd := exec.Command(program, append([]string{"build", "--quiet", "--jobs", jobs}, names...)...)
				cmd.Dir = ws
				check(cmd.Run())
				if use, ok := maxRSS(cmd.ProcessState); ok {
					most = max(most, use)
				}
			}
		}
		two, one := both(3, at("2"), at("1"))
		fmt.Printf("%-46s %10s %10s %7.2f  1.7 x faster; the second is --jobs 1\n", kind.what+", --jobs 2", round(two), round(one),
			float64(one)/float64(two))
		fmt.Printf("%-46s %6.0f MiB %10s %7s  128 MB\n", "  memory of those builds", float64(most)/1024, "-", "-")
	}
}

// output compares a script that prints 1 GiB with one that throws it away.
func output(temp string) {
	ws := filepath.Join(temp, "loud")
	run(temp, program, "new", ws)
	salt := 0
	build := func(to string) func() {
		return func() {
			salt++
			check(os.WriteFile(filepath.Join(ws, "images/first.toml"),
				fmt.Appendf(nil, "series = \"0.1\"\nbase = \"field-os\"\n[[stage]]\nname = \"loud\"\ninline = \"\"\"\n"+
					"yes 'a line that an installer prints again and again %d' | head -c 1048576 > /tmp/lines\nfor i in $(seq 1024); do cat /tmp/lines; "+
					"done %s\n\"\"\"\n[[artifact]]\nformat = \"tar\"\n", salt, to), 0o644))
			run(ws, program, "build", "first", "--quiet")
		}
	}
	a, b := both(3, build(""), build("> /dev/null"))
	row("a script that prints 1 GiB, against > /dev/null", a, b, "")
	out := run(ws, "sh", "-c", "du -sm .zygos/builds/* | sort -n | tail -1 | cut -f1")
	fmt.Printf("%-46s %6s MiB\n", "  its log", strings.TrimSpace(string(out)))
}

// memory prints the most memory that a build which captures both artifacts took.
func memory(ws string) {
	cmd := exec.Command(program, "build", "field-gateway", "--force", "--quiet")
	cmd.Dir = ws
	check(cmd.Run())
	if use, ok := maxRSS(cmd.ProcessState); ok {
		fmt.Printf("%-46s %6.0f MiB %10s %7s  128 MB\n", "memory of that build", float64(use)/1024, "-", "-")
	}
}

// maxRSS is the most memory a process had resident, in KiB (getrusage(2)).
func maxRSS(state *os.ProcessState) (int64, bool) {
	use, ok := state.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0, false
	}
	return use.Maxrss, true
}

// bits builds the same in two folders at two times and compares all digests.
func bits(temp string) {
	var digests []string
	for _, dir := range []string{"one", "two/deeper"} {
		ws := filepath.Join(temp, dir)
		run(temp, program, "demo", ws, "--quiet")
		digests = append(digests, string(run(ws, "sh", "-c",
			program+` list --json | grep -v fingerprint | grep -E '"(sha256:)?[0-9a-f]{64}"|"digest"'`)))
		time.Sleep(1100 * time.Millisecond)
	}
	same := "DIFFERENT"
	if digests[0] == digests[1] {
		same = fmt.Sprintf("identical, %d of them", strings.Count(digests[0], "\n"))
	}
	fmt.Printf("%-46s %s\n", "digests of two builds, two folders, two times", same)
}
