package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/cli"
	"zygos/internal/remote"
)

// impatient is the name by which the program of the tests is Zygos, and gives up on servers that say nothing after a moment.
const impatient = "zygos-impatient"

func impatientMain() {
	remote.Stall = 2 * time.Second
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}

const secretWords = "topuser:topsecret-of-the-region"

// foe is a server that does as badly as it can.
type foe struct {
	url, elsewhere string // of itself, and of another origin that must not be told anything
	over           <-chan struct{}
}

type trick func(f foe, w http.ResponseWriter, r *http.Request)

// Tricks that any server can play.
func endless(of string) trick {
	return func(f foe, w http.ResponseWriter, _ *http.Request) {
		for text := []byte(strings.Repeat(of, 1+64<<10/len(of))); ; {
			select {
			case <-f.over:
				return
			default:
			}
			if _, err := w.Write(text); err != nil {
				return
			}
		}
	}
}

func says(status int, text string, headers ...string) trick {
	return func(f foe, w http.ResponseWriter, _ *http.Request) {
		for i := 0; i < len(headers); i += 2 {
			w.Header().Set(headers[i], f.fill(headers[i+1]))
		}
		w.WriteHeader(status)
		_, _ = io.WriteString(w, f.fill(text))
	}
}

func (f foe) fill(text string) string {
	return strings.NewReplacer("SELF", f.url, "ELSEWHERE", f.elsewhere).Replace(text)
}

func cut(_ foe, w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Length", "1000000")
	_, _ = io.WriteString(w, `{"schema":`)
	w.(http.Flusher).Flush()
	panic(http.ErrAbortHandler)
}

func stall(f foe, w http.ResponseWriter, _ *http.Request) {
	_, _ = io.WriteString(w, "{")
	w.(http.Flusher).Flush()
	<-f.over
}

func drip(f foe, w http.ResponseWriter, _ *http.Request) {
	for {
		select {
		case <-f.over:
			return
		default:
		}
		_, _ = io.WriteString(w, " ")
		w.(http.Flusher).Flush()
		time.Sleep(50 * time.Millisecond)
	}
}

// begun says something, and goes on with something else without end.
func begun(head, of string) trick {
	return func(f foe, w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, f.fill(head))
		endless(of)(f, w, r)
	}
}

// on plays a trick where the path and query hold a word, and another one elsewhere.
func on(word string, yes, no trick) trick {
	return func(f foe, w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.Method+" "+r.URL.String(), word) {
			yes(f, w, r)
		} else {
			no(f, w, r)
		}
	}
}

const (
	entry = `{"image":"first","version":"9.9.9","tags":[],"artifacts":[{"id":"ID","name":"tar","format":"tar","digest":"DIGEST","bytes":9,` +
		`"location":"/x/a.tar.zst"}]}`
	indexHead = `{"schema":"zygos.region/1","region":"north","versions":[`
	zeros     = "sha256:0000000000000000000000000000000000000000000000000000000000000000"
	outside   = "sha256:../../../../victim/x"
)

func indexOf(id, digest string) string {
	return indexHead + strings.NewReplacer("ID", id, "DIGEST", digest).Replace(entry) + "]}"
}

// scenes are what servers do, by what is done with them.
var scenes = map[string]map[string]trick{
	"base": {"endless": endless("\x00"), "cut": cut, "stall": stall, "drip": drip, "other bytes": says(200, "nothing of that"),
		"elsewhere": says(307, "", "Location", "ELSEWHERE/base"), "circles": says(302, "", "Location", "SELF/again"),
		"huge": says(200, "x", "Content-Length", "9000000000000000"), "later": says(503, "", "Retry-After", "99999999")},
	"listing": {"endless": endless("0"), "lines": endless(strings.Repeat("0", 64) + "  field-os-1.2.0.tar.zst\n"), "cut": cut, "stall": stall,
		"drip": drip, "page": says(200, "<html>log in first\n</html>"), "elsewhere": says(301, "", "Location", "ELSEWHERE/SHA256SUMS")},
	"index": {"endless": endless("["), "objects": begun(indexHead, "{},"), "entries": begun(indexHead, indexOf("zy-1",
		zeros)[len(indexHead):][:200]+","),
		"one entry": begun(indexHead+`{"image":"`, "a"), "outside": says(200, indexOf("zy-1", outside)), "id": says(200,
			indexOf(`$(touch x)\n`, zeros)),
		"stall": stall, "drip": drip, "elsewhere": says(307, "", "Location", "ELSEWHERE/index.json")},
	"locate": {"endless": endless(" "), "objects": begun(indexHead, "{},"), "deep": begun(indexHead, "["), "outside": says(200,
		indexOf("zy-1", outside)),
		"id": says(200, indexOf(`$(touch x)\n`, zeros)), "stall": stall, "gzip": says(200, "\x1f\x8b\x08", "Content-Encoding", "gzip")},
	"registry": {"realm": says(401, "", "WWW-Authenticate", `Bearer realm="ELSEWHERE/token",service="x"`), "basic": says(401, "",
		"WWW-Authenticate", "Basic"),
		"location": on("POST", says(202, "", "Location", "ELSEWHERE/upload"), says(404, "")), "port": says(307, "", "Location", "ELSEWHERE/v2/"),
		"upload":  on("PUT", says(307, "", "Location", "ELSEWHERE/put"), on("POST", says(202, "", "Location", "SELF/put"), says(404, ""))),
		"endless": endless("{"), "stall": stall, "errors": says(500, "{}"), "drip": drip},
	"registry list": {"pages": says(200, `{"repositories":["golden/first"],"tags":["a"]}`, "Link",
		`<SELF/v2/_catalog?n=1&last=a>; rel="next"`),
		"endless": endless(`{"repositories":["`), "tags": on("_catalog", says(200, `{"repositories":["golden/first"]}`), endless(`{"tags":["`))},
	"s3": {"port": says(307, "", "Location", "ELSEWHERE/bucket"), "endless": endless("<a>"), "stall": stall, "errors": says(503, ""),
		"drip": drip},
	"s3 list": {"circles": says(200, `<ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>x</NextContinuationToken>`+
		`<Contents><Key>a</Key></Contents></ListBucketResult>`), "stall": stall, "endless": begun("<ListBucketResult>",
		"<Contents><Key>a</Key></Contents>")},
	"cloud": {"session": on("session", says(307, "", "Location", "ELSEWHERE/session"), says(500, "")), "stall": stall,
		"endless":   endless(`{"token":"`),
		"importing": on("session", says(200, `{"token":"t"}`), says(200, `{"state":"importing","part":1000,"bytes":1}`)), "drip": drip,
		"id":   on("session", says(200, `{"token":"t"}`), says(200, `{"state":"ready","image":"$(touch x)"}`)),
		"part": on("session", says(200, `{"token":"t"}`), says(200, `{"state":"open","part":9000000000,"bytes":1}`)), "errors": says(429, "",
			"Retry-After", "1")},
	"cloud list": {"circles": on("session", says(200, `{"token":"t"}`), says(200, `{"images":[{"id":"a"}],"next":"a"}`))},
	"oci base": {"realm": says(401, "", "WWW-Authenticate", `Bearer realm="ELSEWHERE/token",service="x"`), "endless": endless("{"),
		"stall":     stall,
		"elsewhere": says(307, "", "Location", "ELSEWHERE/v2/os/manifests/1")},
}

// commands are the command of a scene, and what zygos.toml says for it; HOST is the server's.
var commands = map[string][2]string{
	"base": {"[base.b]\nrelease = \"1\"\nfrom = [\"http://HOST/x.tar.zst\"]\nsha256 = \"" + zeros[7:] +
		"\"\nsize_at_most = \"32MiB\"\n", "build first"},
	"listing": {"[base.b]\nnewest = \"1.*\"\nfeed = \"http://HOST/\"\nfile = \"field-os-${release}.tar.zst\"\n", "bases --refresh"},
	"index":   {"[base.b]\nnewest = \"9.*\"\nfeed = \"http://HOST/index.json\"\nfile = \"first\"\n", "build first"},
	"locate":  {"", "locate first --index http://HOST/index.json"},
	"registry": {"[region.x]\nkind = \"registry\"\nurl = \"http://HOST/golden\"\ncredentials = \"env:CRED\"\n",
		"publish first --region x"},
	"registry list": {"[region.x]\nkind = \"registry\"\nurl = \"http://HOST/golden\"\ncredentials = \"env:CRED\"\n", "verify --region x"},
	"s3": {"[region.x]\nkind = \"s3\"\nurl = \"http://HOST\"\nbucket = \"bucket\"\ncredentials = \"env:CRED\"\n",
		"publish first --region x"},
	"s3 list": {
		"[region.x]\nkind = \"s3\"\nurl = \"http://HOST\"\nbucket = \"bucket\"\ncredentials = \"env:CRED\"\narea = \"here\"\n",
		"verify --region x"},
	"cloud": {"[region.x]\nkind = \"cloud\"\nurl = \"http://HOST\"\ncredentials = \"env:CRED\"\npatience = \"5s\"\n",
		"publish first --region x"},
	"cloud list": {"[region.x]\nkind = \"cloud\"\nurl = \"http://HOST\"\ncredentials = \"env:CRED\"\n", "verify --region x"},
	"oci base": {"[base.b]\nrelease = \"1\"\nfrom = [\"oci://HOST/os:1\"]\nsha256 = \"" + zeros[7:] +
		"\"\ncredentials = \"env:CRED\"\n", "build first"},
}

// Whatever a server does, Zygos ends in time, takes little memory and disk, tells no other server anything, and writes nothing outside.
func TestHostileServers(t *testing.T) {
	needsNothing := me(t)
	needsNothing.ok("new", "made")
	made := filepath.Join(needsNothing.dir, "made")
	needsNothing.dir = made
	needsNothing.ok("build", "first")
	count := 0
	limit := make(chan struct{}, 12) // most of the time they wait
	var group sync.WaitGroup
	for kind, list := range scenes {
		for name, play := range list {
			count++
			group.Go(func() {
				limit <- struct{}{}
				defer func() { <-limit }()
				t.Run(kind+"/"+name, func(t *testing.T) { scene(t, made, commands[kind], play) })
			})
		}
	}
	group.Wait()
	require.GreaterOrEqual(t, count, 60)
}

func scene(t *testing.T, made string, command [2]string, play trick) {
	root := tempDir(t)
	var mu sync.Mutex
	var told []string
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(io.LimitReader(r.Body, 1<<10))
		mu.Lock()
		defer mu.Unlock()
		for header := range r.Header {
			if strings.Contains(header, "Auth") || strings.Contains(header, "Amz") || strings.Contains(header, "Cookie") {
				told = append(told, header+": "+r.Header.Get(header))
			}
		}
		if len(body) > 0 || r.Method != http.MethodGet && r.Method != http.MethodHead {
			told = append(told, r.Method+" "+string(body))
		}
		w.WriteHeader(http.StatusNotFound)
	}))
	t.Cleanup(other.Close)
	var f foe
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { play(f, w, r) }))
	over := make(chan struct{})
	f = foe{server.URL, other.URL, over}
	t.Cleanup(func() { close(over); server.CloseClientConnections(); server.Close() })

	ws := filepath.Join(root, "deep/er/ws")
	require.NoError(t, os.MkdirAll(filepath.Dir(ws), 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(root, "victim"), 0o755))
	require.NoError(t, exec.Command("cp", "-r", made, ws).Run())
	file := filepath.Join(ws, "zygos.toml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	more := strings.ReplaceAll(command[0], "HOST", strings.TrimPrefix(server.URL, "http://"))
	require.NoError(t, os.WriteFile(file, append(text, "\n"+more...), 0o644))
	if strings.Contains(more, "[base.b]") {
		image := filepath.Join(ws, "images/first.toml")
		text, err := os.ReadFile(image)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(image, bytes.Replace(text, []byte(`base    = "field-os"`), []byte(`base    = "b"`), 1), 0o644))
	}

	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.CommandContext(ctx, self, strings.Fields(strings.ReplaceAll(command[1], "HOST", strings.TrimPrefix(server.URL, "http://")))...)
	cmd.Args[0] = impatient
	cmd.Dir, cmd.Env = ws, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + root, "CRED=" + secretWords}
	out, _ := cmd.CombinedOutput() // how it ends is looked at below
	require.NoError(t, ctx.Err(), "it hangs:\n%s", out)
	require.True(t, cmd.ProcessState.Exited(), "%s", out)
	require.NotContains(t, string(out), "goroutine ")
	require.NotContains(t, string(out), "topsecret")
	if strings.HasPrefix(command[1], "publish") || strings.HasPrefix(command[1], "build") {
		require.NotZero(t, cmd.ProcessState.ExitCode(), "%s", out)
	}
	const most = 128 << 10 // KiB
	require.Less(t, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss, int64(most), "memory:\n%s", out)
	mu.Lock()
	defer mu.Unlock()
	require.Empty(t, told, "%s", out)
	var size int64
	require.NoError(t, filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err == nil && !strings.HasPrefix(name, filepath.Join(root, "deep")) && name != root && name != filepath.Join(root, "victim") {
			err = fmt.Errorf("%s is outside", name)
		}
		if info, e := d.Info(); e == nil {
			size += info.Size()
		}
		return err
	}))
	require.Less(t, size, int64(200<<20))
}
