package definition_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
)

// feed is that of a definition.
func feed(t *testing.T, newest, more string) *definition.Feed {
	problems, w := load(t, map[string]string{"zygos.toml": "[workspace]\nname = \"w\"\n[base.field-os]\nnewest = \"" + newest +
		"\"\nfeed = \"https://mirror.example/os\"\n" + more})
	require.Empty(t, problems)
	return w.Org.Base("field-os").Feed
}

func TestRulesOfReleases(t *testing.T) {
	file := "file = \"os-${release}.tar\"\n"
	for newest, cases := range map[string]map[string]bool{
		"1.*":     {"1.0": true, "1.10.2": true, "1.2-3": true, "1": false, "11.0": false, "1.0-rc1": false, "1.": false, "1.x": false},
		"1.*-rc*": {"1.0-rc1": true, "1.0": false},
		"*":       {"20260101": true, "2026-01-01": true, "1.0": true, "latest": false, "": false},
		"12.4":    {"12.4": true, "12.4.1": false, "12x4": false},
		"v*":      {"v1.2": true, "1.2": false},
	} {
		f := feed(t, newest, file)
		for release, means := range cases {
			require.Equal(t, means, f.Means(release), "%s of %s", release, newest)
		}
	}
	f := feed(t, "*", "file = \"${release}/os-${release}.tar\"\n")
	for name, release := range map[string]string{"1.2/os-1.2.tar": "1.2", "1.2/os-1.3.tar": "", "../os-...tar": "", "x/1.2/os-1.2.tar": "",
		"1.2/os-1.2.tar.gz": "", "1~rc1+b/os-1~rc1+b.tar": "1~rc1+b"} {
		require.Equal(t, release, f.ReleaseOf(name), name)
	}
	require.Equal(t, "https://mirror.example/os/SHA256SUMS", f.Listing())
	require.Equal(t, "https://mirror.example/os/1.2/os.tar", definition.Beside(f.Listing()+"?key=1", "1.2/os.tar"))
}

func TestChoiceOfReleases(t *testing.T) {
	list := []definition.Release{{Release: "1.9"}, {Release: "1.10"}, {Release: "1.11", Recall: "bad"}, {Release: "2.0"}}
	for more, want := range map[string][2]string{"": {"1.10", "1.10"}, "pinned = \"1.9\"": {"1.9", "1.10"},
		"pinned = \"1.11\"": {"1.11", "1.10"}, "pinned = \"1.8\"": {"", "1.10"}} {
		take, newest := feed(t, "1.*", "file = \"os-${release}.tar\"\n"+more).Choose(list)
		require.Equal(t, want[1], newest.Release)
		if want[0] == "" {
			require.Nil(t, take)
		} else {
			require.Equal(t, want[0], take.Release, more)
		}
	}
}
