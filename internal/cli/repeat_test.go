package cli_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What comes out the same is said to, also when the workspace has moved on; each planted difference is named, with its stage and file.
func TestRepeatComparesBits(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.write("files/note.txt", "noted\n")
		p.write("scripts/part.sh", "#!/bin/sh\n# Makes a part.\ncat /note > /part; cat /run/zygos/secrets/key | wc -c >> /part\n")
		image := func(more string) string {
			return "series = \"0.1\"\nbase = \"field-os\"\n[input.key]\nsecret = true\nfrom = \"env:KEY\"\n" +
				"[[stage]]\nname = \"same\"\nfiles = [{ from = \"files/note.txt\", to = \"/note\" }]\nscripts = [\"scripts/part.sh\"]\n" +
				"secrets = [\"key\"]\n" + more + "[[artifact]]\nformat = \"tar\"\n[[artifact]]\nformat = \"qcow2\"\n"
		}
		p.env = append(p.env, "KEY=a-secret-of-now")
		p.write("images/first.toml", image(""))
		p.ok("build", "first")
		require.Contains(t, p.ok("repeat", "first"), "first@0.1.0 comes out the same, bit for bit: 2 artifacts")
		p.write("files/note.txt", "something else\n")
		p.write("scripts/part.sh", "#!/bin/sh\n# Makes nothing.\nfalse\n")
		p.ok("repeat", "first")
		require.Contains(t, p.ok("show", "first"), "2 times, identical")
		require.Empty(t, p.glob(".zygos/run/*"), "nothing is left")

		p.write("files/note.txt", "noted\n")
		p.write("scripts/part.sh", "#!/bin/sh\n# Makes a part.\ncat /note > /part\n")
		asked := 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			asked++
			fmt.Fprintf(w, "what is newest: %s\n", strings.Repeat("x", asked))
		}))
		defer server.Close()
		address := strings.TrimPrefix(server.URL, "http://")
		for name, c := range map[string]struct{ script, says string }{
			"date":    {"date > /planted", "it holds a date or a time: write ${SOURCE_DATE_EPOCH}"},
			"random":  {"head -c 12 /dev/urandom | od -An -tx1 | tr -d ' ' > /planted", "drawn anew"},
			"bytes":   {"head -c 64 /dev/urandom > /planted; printf '\\\\000' >> /planted", "a random value"},
			"order":   {"seq 100 | shuf > /planted", "the same lines in another order: sort what is listed"},
			"packed":  {"head -c 8 /dev/urandom | gzip > /planted", "use gzip -n"},
			"network": {"wget -qO /planted http://" + address + "/", "the stage reaches the network: name what it fetches"},
			"times":   {"echo 1 > /planted; touch -d @$(( $(date +%s) - 50000000 )) /planted", "times of files alone differ"},
		} {
			p.write("images/first.toml", image("[[stage]]\nname = \"planted\"\ninline = \""+c.script+"\"\n"))
			p.ok("build", "first", "--force", "--quiet")
			time.Sleep(1100 * time.Millisecond) // clocks count seconds
			r := p.fails(4, "", "repeat", "first")
			require.Contains(t, r.out, "comes out different, first in stage planted", name)
			require.Contains(t, r.out, c.says, name)
			require.Contains(t, p.ok("show", "first"), "once, different")
		}

		// What is not there any more is said.
		p.env[len(p.env)-1] = "KEY=another-secret"
		p.fails(1, "the value that the secret key had then; it has another one now", "repeat", "first@0.1.0")
		p.env[len(p.env)-1] = "KEY=a-secret-of-now"
		for _, name := range p.glob(".zygos/texts/*") {
			if strings.Contains(p.read(relative(p, name)), "wc -c") {
				require.NoError(t, os.Remove(name))
			}
		}
		p.fails(1, "its record lacks scripts/part.sh of stage same, as it was", "repeat", "first@0.1.0")
	})
}
