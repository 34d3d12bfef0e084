package layer_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"zygos/demo"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/needtest"
)

// listing prints what a script sees of the tree, in a form that the index can be printed in too:
// type, mode, owner, digest, name. It leaves out the count of a file's names, which the overlay
// gets wrong when one of them is removed in a higher layer.
const listing = `#!/bin/sh
cd /work
find . | while IFS= read -r p; do
    kind=$(stat -c %F "$p"); mode=$(stat -c %a "$p"); who=$(stat -c %u:%g "$p")
    case $kind in
        directory) echo "D $mode $who $p" ;;
        symbolic*) echo "L $(readlink "$p") $p" ;;
        fifo) echo "P $mode $who $p" ;;
        *) echo "F $mode $who $(sha256sum < "$p" | cut -d' ' -f1) $p" ;;
    esac
done
`

// seen collects what the listing printed.
type seen struct {
	step  int
	lines []string
}

func (s *seen) StepStarted(int) {}
func (s *seen) Line(step int, _, text string) {
	if step == s.step {
		s.lines = append(s.lines, text)
	}
}
func (s *seen) StepEnded(int, time.Duration, *machine.StepError) {}
func (s *seen) Cut(int, string, int64, int64)                    {}
func (s *seen) Note(string)                                      {}

// described prints the merged index in the listing's form.
func described(tree *layer.Tree) (lines []string) {
	for _, n := range tree.Nodes() {
		if n.Path != "work" && !strings.HasPrefix(n.Path, "work/") {
			continue
		}
		p := strings.Replace(n.Path, "work", ".", 1)
		switch n.Kind {
		case layer.Dir:
			lines = append(lines, fmt.Sprintf("D %o %d:%d %s", n.Mode, n.UID, n.GID, p))
		case layer.Symlink:
			lines = append(lines, fmt.Sprintf("L %s %s", n.Link, p))
		case layer.Fifo:
			lines = append(lines, fmt.Sprintf("P %o %d:%d %s", n.Mode, n.UID, n.GID, p))
		default:
			lines = append(lines, fmt.Sprintf("F %o %d:%d %s %s", n.Mode, n.UID, n.GID, n.Digest, p))
		}
	}
	return lines
}

// operations are random changes to a small tree; some fail, as in life.
func operations(r *rand.Rand, count int) string {
	var b strings.Builder
	b.WriteString("mkdir -p /work; cd /work\n")
	name := func() string {
		parts := []string{"a", "b", "c", "d"}
		p := parts[r.IntN(4)]
		for range r.IntN(3) {
			p += "/" + parts[r.IntN(4)]
		}
		return p
	}
	for range count {
		p, q := name(), name()
		fmt.Fprintf(&b, "{ %s ; } 2>/dev/null || true\n", []string{
			"mkdir -p " + p, "mkdir " + p, fmt.Sprintf("echo %d > %s", r.IntN(9), p), "rm -rf " + p, "rm " + p, "rmdir " + p, "mv " + p + " " + q,
			"ln " + p + " " + q, "ln -s " + q + " " + p, fmt.Sprintf("chmod %03o %s", 0o400|r.IntN(0o400), p), "mkfifo pipe" + p[:1],
			fmt.Sprintf("[ -L %s ] || chown %d:%d %s", p, r.IntN(3), r.IntN(3), p), "cp -a " + p + " " + q, "rm -rf " + p + " && mkdir " + p,
			fmt.Sprintf("echo more >> %s", p), "touch " + p,
		}[r.IntN(16)])
	}
	return b.String()
}

// Whatever stages do, the layers' indexes tell the same tree that a later stage sees.
func TestIndexesTellWhatTheOverlayShows(t *testing.T) {
	if owners().Count == 1 {
		needtest.Skip(t, "this host gives no subordinate ids, so scripts cannot change owners")
	}
	ids, _ := machine.Inside()
	file, err := demo.Files.Open("workspace/bases/field-os-1.2.0.tar.zst")
	require.NoError(t, err)
	plain, err := zstd.NewReader(file)
	require.NoError(t, err)
	defer plain.Close()
	base := folder(t)
	x, err := layer.Unpack(t.Context(), plain, base, layer.DefaultLimits)
	require.NoError(t, err)
	seeds := uint64(25)
	if !needtest.IsLong() {
		seeds = 5
	}
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 1))
			stack, dirs := []layer.Index{x}, []string{base.Dir}
			for level := range 5 {
				tree := layer.Merge(stack...)
				upper, scratch := folder(t), t.TempDir()
				u := &layer.Upper{Folder: upper, Lower: tree, Below: func(n *layer.Node) string { return filepath.Join(dirs[n.Layer], n.Path) },
					Epoch: 1767225600}
				require.NoError(t, u.Prepare(t.Context()))
				t.Cleanup(func() { require.NoError(t, layer.RemoveAll(scratch)) })
				todo := operations(r, 40)
				if level == 4 {
					todo = "ls -lR /work"
				}
				see := &seen{step: 1}
				at := machine.Folders{Layers: dirs, Upper: upper.Dir, Scratch: scratch}
				stage := machine.Stage{Name: "s", Timeout: time.Minute, Steps: []machine.Step{
					{Name: "change", Script: &machine.Script{Content: []byte(todo)}}, {Name: "list", Script: &machine.Script{Content: []byte(listing)}}}}
				require.NoError(t, machine.Sandbox{IDs: ids}.RunIn(t.Context(), at, stage, see))
				y, err := u.Scan(t.Context())
				require.NoError(t, err)
				if level == 4 {
					require.Empty(t, y, "what was only looked at is no part of the layer")
				}
				stack, dirs = append(stack, y), append(dirs, upper.Dir)
				got := described(layer.Merge(stack...))
				sort.Strings(got)
				sort.Strings(see.lines)
				require.Equal(t, strings.Join(see.lines, "\n"), strings.Join(got, "\n"), "level %d", level)
				for i := range y {
					if y[i].Kind != layer.Whiteout {
						_, err := os.Lstat(filepath.Join(upper.Dir, y[i].Path))
						require.NoError(t, err)
					}
				}
			}
		})
	}
}
