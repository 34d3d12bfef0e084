package app_test

import (
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// floors are those of docs/architecture.md, the lowest first.
var floors = [][]string{
	{"plain", "flock", "digest", "bounded", "remote"},
	{"artifact", "loader", "vm", "definition", "base", "machine", "layer", "disk", "reading",
		"store", "seal", "inventory", "secret", "host", "standin"},
	{"session", "state", "workspace", "catalog", "plan", "region", "manifest", "record"},
	{"build", "judge", "hunt", "repeat", "publish", "supply", "feed", "family", "retention", "compare", "rules", "rescue", "report", "sweep"},
	{"app"},
	{"cli", "words"},
}

// listed is what 'go list -json' says of a package.
type listed struct {
	ImportPath string
	Imports    []string
	GoFiles    []string
	Dir        string
}

func packages(t *testing.T) (list []listed) {
	text, err := exec.CommandContext(t.Context(), "go", "list", "-json=ImportPath,Imports,Dir,GoFiles", "zygos/...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(text)))
	for {
		var p listed
		if err := dec.Decode(&p); err == io.EOF {
			return list
		}
		require.NoError(t, err)
		list = append(list, p)
	}
}

// room is a package's name on its floor, "" for what stands beside the house.
func room(path string) string {
	name, ok := strings.CutPrefix(path, "zygos/internal/")
	if !ok || strings.HasSuffix(name, "test") {
		return ""
	}
	return strings.Split(name, "/")[0]
}

// A package knows floors below its own and its own floor: nothing flows back.
func TestNothingFlowsBack(t *testing.T) {
	floor := map[string]int{}
	for i, names := range floors {
		for _, name := range names {
			floor[name] = i
		}
	}
	seen := map[string]bool{}
	for _, p := range packages(t) {
		name := room(p.ImportPath)
		if name == "" {
			continue
		}
		seen[name] = true
		require.Contains(t, floor, name, "give it a floor, here and in docs/architecture.md")
		for _, other := range p.Imports {
			if below := room(other); below != "" {
				require.LessOrEqual(t, floor[below], floor[name], "%s knows %s, which is above it", name, below)
			}
		}
	}
	require.Len(t, seen, len(floor), "a room that is gone is still on a floor")
}

// What a server or a worker needs too knows nothing of a command line.
func TestOnlyTheCommandLineIsACommandLine(t *testing.T) {
	allowed := map[string]*regexp.Regexp{
		"cli":     regexp.MustCompile(`.`),
		"machine": regexp.MustCompile(`os\.(Getenv|Environ|Stdin|Stdout|Stderr|Args|Exit)`), // starts itself again, inside
	}
	forbidden := regexp.MustCompile(`\bos\.(Getenv|LookupEnv|Environ|Stdin|Stdout|Stderr|Args|Exit)\b|\bflag\.|\bfmt\.Print`)
	for _, p := range packages(t) {
		name := room(p.ImportPath)
		if name == "" {
			continue
		}
		for _, file := range p.GoFiles {
			for _, found := range forbidden.FindAllString(read(t, p.Dir+"/"+file), -1) {
				if ok := allowed[name]; ok == nil || !ok.MatchString(found) {
					t.Errorf("internal/%s/%s has %s: pass it in", name, file, found)
				}
			}
		}
	}
}

// One idea a file, and lines that are read at a glance.
func TestFilesAndLinesAreShort(t *testing.T) {
	const mostLines, mostBytes = 500, 140
	files, err := filepath.Glob("../../*/*.go")
	require.NoError(t, err)
	for _, p := range packages(t) {
		more, err := filepath.Glob(p.Dir + "/*.go")
		require.NoError(t, err)
		files = append(files, more...)
	}
	require.NotEmpty(t, files)
	for _, file := range files {
		n := 0
		for line := range strings.Lines(read(t, file)) {
			if n++; len(line) > mostBytes+1 {
				t.Errorf("%s:%d has %d bytes", file, n, len(line)-1)
			}
		}
		if n > mostLines {
			t.Errorf("%s has %d lines", file, n)
		}
	}
}

func read(t *testing.T, name string) string {
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(text)
}
