package workspace_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/workspace"
)

func TestScriptsSayWhatTheyAreAndWhoUsesThem(t *testing.T) {
	w := &workspace.Workspace{Root: t.TempDir(), Images: []*definition.Image{
		{Name: "link", Stages: []definition.Stage{{Name: "one", Scripts: []definition.Script{{Path: "scripts/a.sh"}, {Inline: "true"}}},
			{Name: "two", Scripts: []definition.Script{{Path: "./tools/b"}}}}},
		{Name: "desk", Stages: []definition.Stage{{Name: "one", Scripts: []definition.Script{{Path: "scripts/a.sh"}}}},
			FirstBoots: []definition.FirstBoot{{Name: "enrol", Script: definition.Script{Path: "scripts/empty-head"}}},
			Checks:     []definition.Check{{Name: "holds"}, {Name: "c", Script: &definition.Script{Path: "scripts/empty-head"}}}}}}
	for name, text := range map[string]string{
		"scripts/a.sh":       "#!/bin/sh -eu\n\n# Does one thing.\n# needs: curl,sfdisk  tar\n# And more words.\necho # not a summary\n",
		"scripts/sub/idle":   "echo nothing said\n",
		"scripts/.hidden":    "",
		"tools/b":            "#!/usr/bin/python3\nprint()\n",
		"scripts/empty-head": "#!/bin/sh\n\necho\n# Too late.\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(w.Root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(w.Root, name), []byte(text), 0o644))
	}
	list, err := w.Scripts()
	require.NoError(t, err)
	require.Equal(t, []workspace.Script{
		{Path: "scripts/a.sh", Summary: "Does one thing.", Needs: []string{"curl", "sfdisk", "tar"}, Runs: "/bin/sh -eu",
			Users: []workspace.User{{Image: "link", Stage: "one"}, {Image: "desk", Stage: "one"}}},
		{Path: "scripts/empty-head", Needs: []string{}, Runs: "/bin/sh",
			Users: []workspace.User{{Image: "desk", Stage: "first boot enrol"}, {Image: "desk", Stage: "check c"}}},
		{Path: "scripts/sub/idle", Needs: []string{}, Users: []workspace.User{}},
		{Path: "tools/b", Needs: []string{}, Runs: "/usr/bin/python3", Users: []workspace.User{{Image: "link", Stage: "two"}}},
	}, list)
	require.True(t, list[0].Matches([]string{"CURL", "desk"}))
	require.False(t, list[0].Matches([]string{"curl", "nobody"}))
	warnings, err := w.Warnings()
	require.NoError(t, err)
	require.Len(t, warnings, 1+3+1)
	for _, p := range warnings {
		require.NotEmpty(t, p.Do)
	}
	empty := &workspace.Workspace{Root: t.TempDir()}
	list, err = empty.Scripts()
	require.NoError(t, err)
	require.Empty(t, list)
}
