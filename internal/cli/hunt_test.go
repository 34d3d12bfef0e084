package cli_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/hunt"
)

// A planted regression among 16 versions of 6 stages is found in at most 12 tries; one that came with the parent, in the parent's stage.
func TestHuntFindsThePlantedStage(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	const stages = 6
	image := "series = \"0.1\"\nbase = \"field-os\"\n"
	for s := range stages {
		image += fmt.Sprintf("[[stage]]\nname = \"s%d\"\nscripts = [\"scripts/s%d.sh\"]\n", s, s)
		p.write(fmt.Sprintf("scripts/s%d.sh", s), fmt.Sprintf("#!/bin/sh\n# Makes a part.\necho 0 > /s%d\n", s))
	}
	image += "[[check]]\nname = \"mode\"\nexpect = [{ path = \"/s3\", mode = \"0644\" }]\nlevel = \"warn\"\n" +
		"[[check]]\nname = \"always\"\ninline = \"true\"\n[[artifact]]\nformat = \"tar\"\n"
	p.write("images/first.toml", image)
	for n := range 16 {
		stage := n % stages
		script := fmt.Sprintf("#!/bin/sh\n# Makes a part.\necho %d > /s%d\n", n, stage)
		if n == 9 { // stage s3 is changed, for good
			script += "chmod 0600 /s3\n"
		}
		if n > 9 && stage == 3 {
			script += "chmod 0600 /s3\n"
		}
		p.write(fmt.Sprintf("scripts/s%d.sh", stage), script)
		p.ok("build", "first", "--quiet", "--force")
	}
	var found hunt.Cause
	require.NoError(t, json.Unmarshal([]byte(p.ok("hunt", "first", "--check", "mode", "--json")), &found))
	require.Equal(t, "0.1.9", found.Fails.Version)
	require.Equal(t, "0.1.8", found.Passes.Version)
	require.Equal(t, "s3", found.Stage)
	require.LessOrEqual(t, found.Tries, 12)
	r := p.run("hunt", "first", "--check", "mode", "--passes", "first@0.1.5")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.out, "mode passes on first@0.1.8 and fails on first@0.1.9: stage s3 of first@0.1.9 broke it")
	require.Contains(t, r.out, "+chmod 0600 /s3")
	require.Regexp(t, `changed +/s3 content, mode`, r.out)
	require.Contains(t, r.err, "first@0.1.9 after s3: fails")
	p.fails(1, "it passes on first@0.1.15: there is nothing to hunt", "hunt", "first", "--check", "always")
	p.fails(1, "it fails on first@0.1.10 already", "hunt", "first", "--check", "mode", "--passes", "first@0.1.10")
	p.fails(2, "it has mode, always", "hunt", "first", "--check", "gone")
	p.fails(2, "must be older", "hunt", "first", "--check", "mode", "--passes", "first@0.1.9", "--fails", "first@0.1.3")

	// What came with the parent is found there.
	p.write("images/child.toml", "series = \"1.0\"\nbase = \"first@0.1.8\"\n[[stage]]\nname = \"own\"\ninline = \"echo 1 > /own\"\n"+
		"[[check]]\nname = \"mode\"\nlevel = \"warn\"\nexpect = [{ path = \"/s3\", mode = \"0644\" }]\n[[artifact]]\nformat = \"tar\"\n")
	p.ok("build", "child", "--quiet")
	p.write("images/child.toml", strings.Replace(p.read("images/child.toml"), "first@0.1.8", "first@0.1.9", 1))
	p.ok("build", "child", "--quiet")
	require.Contains(t, p.ok("hunt", "child", "--check", "mode"),
		"mode passes on child@1.0.0 and fails on child@1.0.1: stage s3 of first@0.1.9 broke it (it was 0.1.8)")
}
