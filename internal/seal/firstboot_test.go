package seal_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The runner of first boot under every shell that is here: odd lines are passed over, values change nothing of the runner's own, a trial
// runs what may run, and what cannot be noted is not run.
func TestFirstBootRunner(t *testing.T) {
	text, err := os.ReadFile("start/first-boot")
	require.NoError(t, err)
	for _, shell := range []string{"dash", "bash", "busybox"} {
		if _, err := exec.LookPath(shell); err != nil {
			continue
		}
		t.Run(shell, func(t *testing.T) {
			root := t.TempDir()
			runner := string(text)
			for _, dir := range []string{"/var/lib/zygos", "/var/log/zygos", "/run/zygos", "/etc/zygos", "/sys/firmware"} {
				runner = strings.ReplaceAll(runner, dir, root+dir)
			}
			write := func(name, text string) {
				name = filepath.Join(root, name)
				require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
				require.NoError(t, os.WriteFile(name, []byte(text), 0o755))
			}
			read := func(name string) string {
				text, err := os.ReadFile(filepath.Join(root, name))
				require.NoError(t, err)
				return string(text)
			}
			write("runner", runner)
			run := func() string {
				command := []string{shell, root + "/runner", root + "/scripts"}
				if shell == "busybox" {
					command = append([]string{shell, "sh"}, command[1:]...)
				}
				out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
				require.NoError(t, err, "%s%s", out, read("var/log/zygos/first-boot.log"))
				return string(out)
			}
			write("etc/zygos/first-boot.env", "MY-KEY=1\nexport A=1\nA B=1\n# a comment\n\nscript=web\nvolume=x\nstatus=3\n1A=x\nzygos_script=y\n"+
				"ZYGOS_VOLUME=z\nKEY=a $(touch "+root+"/ran) b\nUID=7")
			write("scripts/01-enrol", "#!/bin/sh\necho \"$KEY|$script|$volume|$TRIAL|$ZYGOS_TRIAL\" > "+root+"/said\n")
			write("scripts/01-enrol.env", "TRIAL=no\n")
			write("scripts/02-seen", "echo \"trial $ZYGOS_TRIAL\" > "+root+"/seen\n")
			write("scripts/02-seen.trial", "")

			write("sys/firmware/qemu_fw_cfg/by_name/opt/zygos/trial/raw", "1")
			run()
			require.NoFileExists(t, root+"/said")
			require.Equal(t, "trial 1\n", read("seen"))
			require.Contains(t, read("var/log/zygos/first-boot.log"), "enrol does not run in a trial")

			require.NoError(t, os.RemoveAll(root+"/sys"))
			run()
			require.Equal(t, "a $(touch "+root+"/ran) b|web|x|no|\n", read("said"))
			require.NoFileExists(t, root+"/ran")
			log := read("var/log/zygos/first-boot.log")
			for _, line := range []string{"1", "2", "3", "9", "10", "11"} {
				require.Contains(t, log, "line "+line+" of "+root+"/etc/zygos/first-boot.env is no NAME=value")
			}
			require.NotContains(t, log, "web")
			require.NoError(t, os.Remove(root+"/said"))
			run()
			require.NoFileExists(t, root+"/said", "once")

			require.NoError(t, os.RemoveAll(root+"/var"))
			write("var", "no folder")
			out, err := exec.Command("sh", root+"/runner", root+"/scripts").CombinedOutput()
			require.NoError(t, err)
			require.Contains(t, string(out), "cannot be written")
			require.NoFileExists(t, root+"/said")
		})
	}
}
