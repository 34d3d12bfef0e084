package judge

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/record"
)

// made is a tree of these entries.
func made(t *testing.T, bodies map[string]string, more ...tar.Header) *Tree {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, text := range bodies {
		more = append(more, tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text))})
	}
	for _, h := range more {
		h.Format = tar.FormatPAX
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(bodies[h.Name]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	s := &layer.Store{Dir: t.TempDir()}
	dir, err := s.Begin(s.Dir)
	require.NoError(t, err)
	x, err := layer.Unpack(t.Context(), &b, layer.Folder{Dir: filepath.Join(dir, "tree")}, layer.DefaultLimits)
	require.NoError(t, err)
	digest, err := s.Commit(dir, x)
	require.NoError(t, err)
	merged, err := s.Stack([]string{digest})
	require.NoError(t, err)
	return &Tree{Files: layer.Files{Store: s, Layers: []string{digest}, Tree: merged}}
}

// read is what a definition says of an expectation.
func read(t *testing.T, toml string) *definition.Check {
	var problems definition.Problems
	dir := t.TempDir()
	writeFile(t, filepath.Join(dir, "images/link.toml"),
		"base = \"x\"\nseries = \"1.0\"\n[[artifact]]\nformat = \"tar\"\n[[check]]\nname = \"c\"\n[[check.expect]]\n"+toml)
	img := definition.ReadImage(dir, "images/link.toml", Forms(), &problems)
	require.Empty(t, problems, "%s", toml)
	return &img.Checks[0]
}

// Each expectation as definitions say it holds in a tree or says what is there instead.
func TestExpectationsOfATree(t *testing.T) {
	tree := made(t, map[string]string{"etc/issue": "Field OS 1\nsecond\n", "usr/bin/tool": "x",
		"var/lib/dpkg/status": "Package: curl\nStatus: install ok installed\nVersion: 8.5.0-2\n\n",
		"etc/passwd":          "root:x:0:0::/root:/bin/sh\nkeeper:x:900:900::/home/keeper:/bin/bash\n",
		"etc/group":           "root:x:0:\nadm:x:4:keeper\n"},
		tar.Header{Name: "usr/bin/su", Typeflag: tar.TypeReg, Mode: 0o4755}, tar.Header{Name: "srv", Typeflag: tar.TypeDir, Mode: 0o777},
		tar.Header{Name: "tmp", Typeflag: tar.TypeDir, Mode: 0o1777}, tar.Header{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "etc/issue"})
	for toml, found := range map[string]string{
		`path = "/etc/issue"`:                         "",
		`path = "/etc/none"`:                          "is not there",
		"path = \"/etc/none\"\nabsent = true":         "",
		"path = \"/etc/issue\"\nabsent = true":        "there",
		"path = \"/etc/issue\"\nmode = \"0644\"":      "",
		"path = \"/etc/issue\"\nmode = \"0600\"":      "0644",
		"path = \"/etc/issue\"\nholds = \"Field OS\"": "",
		"path = \"/etc/issue\"\nholds = \"Lake OS\"":  "its content does not hold that",
		`package = "curl"`:                            "",
		"package = \"curl\"\nversion = \">= 8.4\"":    "",
		"package = \"curl\"\nversion = \">= 9\"":      "8.5.0-2",
		"package = \"telnet\"\nabsent = true":         "",
		"package = \"curl\"\nabsent = true":           "8.5.0-2",
		`account = "keeper"`:                          "",
		"account = \"keeper\"\ngroups = [\"adm\"]":    "",
		"account = \"keeper\"\ngroups = [\"sudo\"]":   "sudo",
		"account = \"keeper\"\nshell = \"/bin/sh\"":   "/bin/bash",
		"account = \"guest\"\nabsent = true":          "",
		`setuid = ["/usr/bin/su"]`:                    "",
		`setuid = []`:                                 "/usr/bin/su",
		`writable_by_all = ["/srv"]`:                  "",
		`writable_by_all = []`:                        "/srv",
		`size_at_most = "1MiB"`:                       "",
		`starts = "sshd"`:                             "nothing starts it",
		`listens = "tcp/22"`:                          "names it",
	} {
		for _, e := range read(t, toml).Expect {
			got := find(e.Kind).Holds(tree, e.Settings)
			if found == "" {
				require.Empty(t, got, toml)
			} else {
				require.Contains(t, got, found, toml)
			}
		}
	}
}

// What checks came to is counted, and what went wrong is said in lines with an end.
func TestResultsAreCounted(t *testing.T) {
	list := []record.CheckResult{{State: record.Passed}, {State: record.Failed}, {State: record.Warned}, {State: record.Skipped},
		{State: record.Passed}}
	require.Equal(t, record.Counts{Passed: 2, Failed: 1, Warned: 1, Skipped: 1}, record.Count(list))
	r := record.CheckResult{Expects: []record.Expected{{What: "a", Holds: true}, {What: "b", Found: "c"}}, Cut: 7}
	for range 30 {
		r.Output = append(r.Output, "line")
	}
	require.Equal(t, []string{"b: c", "[7 lines before these are not kept]"}, r.Wrong()[:2])
	require.Len(t, r.Wrong(), 22)
	l := &listener{}
	for range 1000 {
		l.Line(0, "out", "0123456789")
	}
	l.Cut(0, "out", 5, 100)
	require.LessOrEqual(t, len(l.lines), mostLines)
	require.EqualValues(t, 1000-len(l.lines)+5, l.cut)
}

func writeFile(t *testing.T, name, text string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
}
