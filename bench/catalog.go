package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

const (
	images   = 500
	versions = 199 // of each that are imported; one more is built
)

func image(i int) string { return fmt.Sprintf("image-%03d", i) }

// baseOf is what an image is built on: 20 on a base from outside, each of the others on one of them or of theirs.
func baseOf(i int) string {
	if i < 20 {
		return "field-os"
	}
	return image((i - 20) / 10)
}

// catalog measures commands on a catalog of 100,000 versions: 500 images with 200 versions each,
// 200 moves of tags an image, the newest 20 versions in 10 regions, five recalls.
func catalog(temp string) {
	ws := filepath.Join(temp, "many")
	run(temp, program, "new", ws)
	file := filepath.Join(temp, "catalog.jsonl")
	writeCatalog(file)
	settings, err := os.OpenFile(filepath.Join(ws, "zygos.toml"), os.O_APPEND|os.O_WRONLY, 0)
	check(err)
	for r := range 10 {
		fmt.Fprintf(settings, "[region.region-%d]\nkind = \"folder\"\npath = \"r%d\"\n", r, r)
	}
	check(os.WriteFile(filepath.Join(ws, "scripts", "common.sh"), []byte("echo 1 > /common\n"), 0o644))
	for i := range images {
		check(os.WriteFile(filepath.Join(ws, "images", image(i)+".toml"), fmt.Appendf(nil,
			"series = \"1.0\"\nbase = %q\n[labels]\nowner = \"team-%d\"\n[[stage]]\nname = \"common\"\nscripts = "+
				"[\"scripts/common.sh\"]\n[[artifact]]\nformat = \"tar\"\n", baseOf(i), i%20), 0o644))
	}
	a, _ := both(1, func() { run(ws, program, "import", file) }, func() {})
	row("100,000 versions: import", a, 0, "")
	a, _ = both(1, func() { run(ws, append([]string{program, "build", "--quiet", "first"}, names()...)...) }, func() {})
	row("  zygos build of all 500 images", a, 0, "")
	measure(ws, func() { run(ws, "true") })
	server := os.Getenv("ZYGOS_POSTGRES")
	if server == "" {
		fmt.Println("no PostgreSQL server in ZYGOS_POSTGRES: bench/with-postgres.sh runs one")
		return
	}
	address, err := url.Parse(server)
	check(err)
	password, _ := address.User.Password()
	check(os.Setenv("CATALOG_PASSWORD", password))
	address.User = url.User(address.User.Username())
	fmt.Fprintf(settings, "[catalog]\nurl = %q\ncredentials = \"env:CATALOG_PASSWORD\"\n", address)
	check(settings.Close())
	a, _ = both(1, func() { run(ws, program, "import", ".zygos/catalog.db") }, func() {})
	row("the same on PostgreSQL, against psql -c 'SELECT 1': import", a, 0, "")
	measure(ws, func() { run(ws, "psql", server, "-c", "SELECT 1") })
}

func names() (list []string) {
	for i := range images {
		list = append(list, image(i))
	}
	return list
}

func measure(ws string, standard func()) {
	for _, command := range []string{"locate image-100@stable --region region-3", "list", "list image-100",
		"list --where owner=team-3 --tag stable", "list --only recalled",
		"show image-100@stable", "lineage image-003@1.0.100"} {
		a, b := both(11, func() { run(ws, append([]string{program}, strings.Fields(command)...)...) }, standard)
		row("  zygos "+command, a, b, "50ms")
	}
	for command, budget := range map[string]string{"prune": "2s", "list --sort size": "300ms"} { // which read all there is
		a, b := both(5, func() { run(ws, append([]string{program}, strings.Fields(command)...)...) }, standard)
		row("  zygos "+command, a, b, budget)
	}
	script := filepath.Join(ws, "scripts", "common.sh")
	due := func(what string) {
		a, b := both(11, func() {
			cmd := exec.Command(program, "due")
			cmd.Dir = ws
			_ = cmd.Run() // ends with 1 if something is due
		}, standard)
		row("  zygos due, "+what, a, b, "500ms")
	}
	due("nothing due")
	check(os.WriteFile(script, []byte("echo 2 > /common\n"), 0o644))
	due("all 500 due")
	check(os.WriteFile(script, []byte("echo 1 > /common\n"), 0o644))
}

func writeCatalog(name string) {
	file, err := os.Create(name)
	check(err)
	out := bufio.NewWriter(file)
	enc := json.NewEncoder(out)
	line := func(table string, columns map[string]any) {
		check(enc.Encode(map[string]any{"table": table, "row": columns}))
	}
	fmt.Fprintln(out, `{"schema":"zygos.catalog/1","version":10}`)
	line("about", map[string]any{"name": "id", "value": "THE-BENCHMARK"})
	number := func(n int) string { return fmt.Sprintf("1.0.%d", n) }
	when := func(n int) string { return fmt.Sprintf("2026-01-%02dT%02d:%02d:00.000Z", 1+n%28, n/28%24, n/7%60) }
	bytes := func(i, n int) int { return 1000000 + (i*7919+n*104729)%1000000 }
	every := func(write func(i, n int)) {
		for i := range images {
			for n := range versions {
				write(i, n)
			}
		}
	}
	every(func(i, n int) {
		line("builds", map[string]any{"id": fmt.Sprintf("b-%03d-%03d", i, n), "image": image(i), "version": number(n), "base": "x",
			"state": "registered", "who": "me",
			"started": when(n), "ended": when(n), "error": "", "why": "a script changed"})
	})
	every(func(i, n int) {
		base, release := baseOf(i), "1.2.0"
		if i >= 20 {
			release = number(n)
		}
		line("versions", map[string]any{"image": image(i), "version": number(n), "major": 1, "minor": 0, "patch": n,
			"build": fmt.Sprintf("b-%03d-%03d", i, n), "created": when(n),
			"base_name": base, "base_version": release, "base_digest": "sha256:" + strings.Repeat("a", 64), "fingerprint": strings.Repeat("f", 64),
			"epoch": 1, "bytes": bytes(i, n),
			"trees": `[{"layers":["` + strings.Repeat("0", 64) + `"]}]`, "labels": fmt.Sprintf(`{"owner":"team-%d"}`, i%20)})
	})
	every(func(i, n int) {
		line("labels", map[string]any{"image": image(i), "version": number(n), "key": "owner", "value": fmt.Sprint("team-", i%20)})
		line("artifacts", map[string]any{"image": image(i), "version": number(n), "variant": "", "name": "raw", "format": "raw",
			"digest": fmt.Sprintf("sha256:%064x", i*1000+n), "bytes": bytes(i, n)})
		line("tag_moves", map[string]any{"number": i*versions + n + 1, "image": image(i), "tag": "stable", "was": number(max(0, n-1)),
			"version": number(n), "who": "me", "why": "", "at": when(n)})
		for r := range 10 {
			if n >= versions-20 {
				line("placements", map[string]any{"id": fmt.Sprintf("zy-%d-%d-%d", i, n, r), "image": image(i), "version": number(n),
					"region": fmt.Sprint("region-", r), "variant": "",
					"name": "raw", "format": "raw", "artifact": fmt.Sprintf("sha256:%064x", i*1000+n), "location": fmt.Sprint("/r/", r),
					"verified": when(n)})
			}
		}
	})
	for i := range images {
		line("tags", map[string]any{"image": image(i), "tag": "stable", "version": number(versions - 1)})
	}
	for k := range 5 {
		line("recalls", map[string]any{"number": k + 1, "image": image(30 + k), "version": number(50), "why": "a hole", "who": "me",
			"at": when(1), "since": when(1), "descendants": 1, "ended": "", "ended_by": ""})
	}
	check(out.Flush())
	check(file.Close())
}
