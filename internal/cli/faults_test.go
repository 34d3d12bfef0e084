package cli_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/manifest"
	"zygos/internal/needtest"
	"zygos/internal/standin"
)

// struck is how many faults of each kind a cloud has injected.
func struck(t *testing.T, address string) (all int, kinds map[string]int) {
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+"/faults", nil)
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&kinds))
	for _, n := range kinds {
		all += n
	}
	return all, kinds
}

// Publications to a cloud whose every tenth answer goes wrong, killed now and then: what is reported as placed is there and right, no
// document ever names what is not there, nothing is there twice, and in the end all is placed. ZYGOS_FAULTS faults, else 40 in a long
// round and 8 in a short one.
func TestFaultsOfACloud(t *testing.T) {
	t.Parallel()
	most, _ := strconv.Atoi(os.Getenv("ZYGOS_FAULTS"))
	if most == 0 {
		if most = 8; needtest.IsLong() {
			most = 40
		}
	}
	address := freeAddress(t)
	p := site(t, address, "parallel = 2\n", "bay", "cove")
	p.write("images/first.toml", strings.NewReplacer(`"here"`, `"bay", "cove"`, `"40MiB"`, `"20MiB"`).Replace(p.read("images/first.toml")))
	p.cloud("--import", "5ms", "--token", "20s")
	chance := rand.New(rand.NewPCG(1, uint64(most)))
	kinds := map[string]int{}
	done, versions, killed, reported := 0, 0, 0, 0
	for done < most {
		if versions%5 == 0 {
			p.ok("build", "first", "--force")
		} else {
			p.ok("publish", "first", "--remove")
		}
		versions++
		before, _ := struck(t, address)
		strike(t, address, fmt.Sprintf(`{"share":0.1,"seed":%d,"most":%d}`, versions, 30))
		for try := 0; ; try++ {
			require.Less(t, try, 40, "it comes to an end")
			cmd := p.command("publish", "first")
			var said strings.Builder
			cmd.Stderr = &said
			require.NoError(t, cmd.Start())
			if chance.IntN(4) == 0 {
				time.AfterFunc(time.Duration(chance.IntN(1500))*time.Millisecond, func() { _ = cmd.Process.Kill() })
			}
			err := cmd.Wait()
			p.named()
			if err == nil {
				break
			}
			if code := cmd.ProcessState.ExitCode(); code == -1 {
				killed++
			} else {
				reported++
				require.Equal(t, 6, code, said.String())
				require.Regexp(t, `not complete in|could not be written`, said.String())
			}
		}
		after, all := struck(t, address)
		strike(t, address, `{}`)
		done, kinds = done+after-before, all
		require.Contains(t, p.ok("verify", "first", "--deep"), "4 sound placements in 2 regions")
		r := p.run("verify")
		require.NotContains(t, r.out, "foreign", "nothing is placed twice")
	}
	t.Logf("%d faults (%v), %d publications, %d killed, %d that reported", done, kinds, versions, killed, reported)
	if most >= 500 {
		require.Len(t, kinds, len(standin.Kinds), "all kinds struck")
	}
}

// named makes sure that all that documents of the cloud name is there, with the right digest.
func (p *person) named() {
	there := map[string]string{} // digest by location's end
	for _, file := range p.glob(".zygos/standin/*/images/*/about.json") {
		var im standin.Image
		text, err := os.ReadFile(file)
		if err != nil {
			continue // removed meanwhile
		}
		require.NoError(p.t, json.Unmarshal(text, &im))
		there[im.ID] = im.Digest
	}
	for _, file := range p.glob(".zygos/standin/*/papers/index.json") {
		var x manifest.Index
		require.NoError(p.t, json.Unmarshal([]byte(p.read(relative(p, file))), &x))
		for _, v := range x.Versions {
			for _, a := range v.Artifacts {
				require.Equal(p.t, a.Digest.String(), there[a.ID], "%s names %s", file, a.ID)
			}
		}
	}
	for _, file := range p.glob(".zygos/standin/*/papers/*/*/manifest.json") {
		m, err := manifest.Read([]byte(p.read(relative(p, file))))
		require.NoError(p.t, err)
		for _, places := range m.Regions {
			for _, pl := range places {
				require.Equal(p.t, pl.Artifact.String(), there[pl.ID], "%s names %s", file, pl.ID)
			}
		}
	}
}
