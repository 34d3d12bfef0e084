package words

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/compare"
	"zygos/internal/family"
	"zygos/internal/inventory"
	"zygos/internal/layer"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/seal"
)

func TestSizesDurationsAndAges(t *testing.T) {
	for n, want := range map[int64]string{0: "0.0 MiB", 1: "<0.1 MiB", 1 << 20: "1.0 MiB", 1<<20 + 1<<19: "1.5 MiB", 5 << 30: "5120.0 MiB"} {
		require.Equal(t, want, mib(n))
	}
	for d, want := range map[time.Duration]string{1500 * time.Microsecond: "1.5 ms", 42 * time.Millisecond: "42 ms",
		1234 * time.Millisecond: "1.2 s",
		125 * time.Second:       "2 min 5 s", 3*time.Hour + 7*time.Minute: "3 h 7 min", 100 * time.Hour: "4 days"} {
		require.Equal(t, want, human(d))
	}
	for d, want := range map[time.Duration]string{-time.Minute: "0 s", 5 * time.Second: "5 s", 61 * time.Second: "1 min",
		90 * time.Minute: "1 h 30 min"} {
		require.Equal(t, want, age(time.Now().Add(-d)))
	}
	require.Equal(t, "2026-01-02T02:04:05Z", when(time.Date(2026, 1, 2, 3, 4, 5, 6, time.FixedZone("", 3600))))
	require.Equal(t, "0123456789ab", short("sha256:0123456789abcdef"))
	require.Equal(t, "1 path, 2 entries, 0 files", counted(1, "path")+", "+counted(2, "entry")+", "+counted(0, "file"))
}

func TestEventsAsLines(t *testing.T) {
	broke := func(f *record.Failure) record.Event { return record.Event{What: record.Broke{Failure: f}} }
	pg, one := &Page{}, record.At{Stage: "one"}
	for want, e := range map[string]record.Event{
		"link 2.3.0  build b-1":                                     {Image: "link", Build: "b-1", What: record.Started{Version: "2.3.0"}},
		"  stage    one              reused from b-0":               {What: record.Reused{At: one, From: "b-0"}},
		"    one | text":                                            {What: record.Output{At: one, Text: "text"}},
		"    one > scripts/a.sh":                                    {What: record.StepBegan{At: record.At{Stage: "one", Step: "scripts/a.sh"}}},
		"  stage    one              ran in 1.0 s, 1.0 MiB changed": {What: record.StageDone{At: one, Took: time.Second, Bytes: 1 << 20}},
		"  capture  raw              2.0 MiB in 1.0 s": {What: record.Captured{
			File: catalog.Artifact{Format: "raw", Bytes: 2 << 20}, Took: time.Second}},
		"  stopped  interrupted":                              {What: record.Broke{Text: "interrupted"}},
		"  failed   stage one: a.sh:7: exit code 3":           broke(&record.Failure{Stage: "one", Step: "a.sh", Line: 7, Code: 3}),
		"  failed   stage one: a.sh: ended by signal SIGKILL": broke(&record.Failure{Stage: "one", Step: "a.sh", Signal: "SIGKILL"}),
		"  failed   stage one: a.sh: cannot start":            broke(&record.Failure{Stage: "one", Step: "a.sh", Reason: "cannot start"}),
		"  seal     nothing to remove":                        {What: record.Sealed{Results: []seal.Result{{Group: "logs"}}}},
		"":                                                    {What: record.StepDone{}},
	} {
		require.Equal(t, want, pg.Event(e, ""))
	}
	many := make([]string, 50)
	for i := range many {
		many[i] = fmt.Sprintf("var/log/%02d", i)
	}
	lines := sealLines([]seal.Result{{Group: "logs", Paths: many, Bytes: 3 << 20}, {Group: "leases", Kept: true}})
	require.Contains(t, lines[0], "logs             50 paths, 3.0 MiB: var/log/00, ")
	require.True(t, strings.HasSuffix(lines[0], ", …"))
	require.Less(t, len(lines[0]), 130)
	require.Contains(t, lines[1], "left as it is")
}

func TestFailureReportSaysAllThatIsKnown(t *testing.T) {
	pg := &Page{}
	Failure(pg, &record.Failure{Build: "b-1", Image: "link", Kept: true, Stage: "one", Step: "inline script", Line: 4, Code: 2,
		Tail: []string{"first", "last"}})
	require.Equal(t, "\nBuild failed: exit code 2\n  image  link\n  stage  one\n  step   inline script, line 4\n  its last lines:\n    | "+
		"first\n    | last\n"+
		"Nothing was registered; finished stages are kept.\n  next: zygos log b-1 --stage one   shows all of its output\n        zygos enter "+
		"b-1   a shell where it failed\n", text(pg))
}

// text is the lines of a page, with what is beside them.
func text(pg *Page) (all string) {
	for _, part := range pg.Parts {
		switch {
		case part.Table != nil:
			for _, row := range append([][]string{part.Table.Head}, part.Table.Rows...) {
				all += strings.Join(row, " | ") + "\n"
			}
		case part.Pairs != nil:
			for _, row := range part.Pairs {
				all += row[0] + ": " + row[1] + "\n"
			}
		case part.Note != "":
			all += "note: " + part.Note + "\n"
		case part.Next != "":
			all += "next: " + part.Next + "\n"
		default:
			all += part.Line + "\n"
		}
	}
	return all
}

// What others chose comes into a line without what a terminal obeys.
func TestWhatOthersWroteStaysWords(t *testing.T) {
	evil := "a\x1b[2Jb\u009b31m\u202e\nRegistered"
	safe := `a\x1b[2Jb\u009b31m\u202e\nRegistered`
	pg := &Page{}
	for _, line := range []string{some([]string{evil}), pg.Event(record.Event{What: record.Brought{File: evil}}, ""),
		pg.Event(record.Event{What: record.Sealed{Results: []seal.Result{{Group: "logs", Paths: []string{evil}}}}}, "")} {
		require.Contains(t, line, safe)
	}
	listed(pg, "files", []string{evil}, true)
	require.Contains(t, text(pg), `\nRegistered`)
	require.Contains(t, Brief(strings.Repeat("x", 5000)), "…(5000 bytes)…")
}

func TestDiffInWords(t *testing.T) {
	pg := &Page{}
	d := &compare.Trees{Was: "link@1.0.0", Now: "link@1.1.0", Bytes: [2]int64{1 << 20, 3 << 20}}
	for i := range 20 {
		d.Files = append(d.Files, layer.Change{Path: fmt.Sprintf("etc/%02d", i), State: "added"})
	}
	d.Packages = []inventory.Change{{Name: "curl", State: "changed", Was: "1", Now: "2"}}
	Diff(pg, d, false)
	require.Equal(t, "link@1.0.0 -> link@1.1.0\nsize: 1.0 MiB -> 3.0 MiB (+2.0 MiB)\nfiles: 20 added, 0 removed, 0 changed\n"+
		"packages: 0 added, 0 removed, 1 changed\nusers: the same\ngroups: the same\nservices: the same\nlistening: the same\n"+
		"\npackages\n  ~ curl  1 -> 2\n\nfiles\n", text(pg)[:strings.Index(text(pg), "  + /etc/00")])
	require.Contains(t, text(pg), "  + /etc/14\n  and 5 more; --all shows them\n")
	pg = &Page{}
	Diff(pg, d, true)
	require.Contains(t, text(pg), "  + /etc/19\n")
}

func TestFindingsInWords(t *testing.T) {
	pg := &Page{}
	Found(pg, []publish.Found{{Region: "north", State: publish.Sound}, {Region: "north", State: publish.Sound},
		{Region: "south", Location: "x", State: publish.Foreign, What: "no version of this catalog was placed there"}}, "by size")
	require.Equal(t, "REGION | VERSION | WHAT | STATE | WHY\nsouth | - | x | foreign | no version of this catalog was placed there\n"+
		"2 sound placements in 2 regions, by size\n", text(pg))
}

func TestVersionsInWords(t *testing.T) {
	pg := &Page{}
	Versions(pg, []catalog.Version{{Image: "link", Version: "1.0.0", Created: time.Now(), BaseName: "field-os", BaseVersion: "1",
		Tags: []string{"stable"}, Artifacts: []catalog.Artifact{{Format: "tar", Name: "tar", Bytes: 1 << 20}}}},
		[]catalog.Build{{Image: "link", Version: "1.0.1", State: catalog.Failed, Base: "field-os@1", Started: time.Now()}})
	require.Contains(t, text(pg), "link | 1.0.1 | - | 0 s | - | - | field-os@1 | - | - | failed\n"+
		"link | 1.0.0 | stable | 0 s | 1.0 MiB | tar | field-os@1 | - | - | -\n")
	for want, m := range map[string]catalog.Move{
		"link@stable -> 1.0.0":             {Version: "1.0.0"},
		"link@stable -> 1.0.0 (as before)": {Version: "1.0.0", Was: "1.0.0"},
		"link@stable -> 1.0.0 (was 0.9.0)": {Version: "1.0.0", Was: "0.9.0"},
		"link@stable removed (was 0.9.0)":  {Was: "0.9.0"},
	} {
		m.Image, m.Tag = "link", "stable"
		require.Equal(t, want, Move(m))
	}
}

// A page can be in other colours, or in none, and says the same.
func TestStylesAreThePagesOwn(t *testing.T) {
	list := []family.Member{{Relative: catalog.Relative{Image: "link", Version: "1.0.0", BaseName: "field-os", BaseVersion: "1",
		Created: time.Now()}, Tags: []string{"stable"}, Due: "the base moved"}}
	plain, marked := &Page{}, &Page{Style: func(s Style, text string) string { return fmt.Sprintf("<%d>%s</>", s, text) }}
	Lineage(plain, "link@1.0.0", list)
	Lineage(marked, "link@1.0.0", list)
	require.Equal(t, "field-os@1\n└── link@1.0.0  0 s old  stable  due: the base moved\n", text(plain))
	require.Equal(t, "<1>field-os@1</>\n└── <0>link@1.0.0</>  <1>0 s old</>  <3>stable</>  <4>due: the base moved</>\n", text(marked))
}
