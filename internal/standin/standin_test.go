package standin_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/standin"
)

// The description names each operation that there is, and no other, with its schemas.
func TestDescriptionIsOfWhatThereIs(t *testing.T) {
	var d struct {
		OpenAPI    string                                `json:"openapi"`
		Paths      map[string]map[string]json.RawMessage `json:"paths"`
		Components struct {
			Schemas map[string]json.RawMessage `json:"schemas"`
		} `json:"components"`
	}
	require.NoError(t, json.Unmarshal(standin.Description, &d))
	require.Equal(t, "3.1.0", d.OpenAPI)
	var described []string
	for path, operations := range d.Paths {
		for method := range operations {
			described = append(described, strings.ToUpper(method)+" "+path)
		}
	}
	require.ElementsMatch(t, standin.Operations(), described)
	for rest := string(standin.Description); ; {
		_, after, more := strings.Cut(rest, "#/components/schemas/")
		if !more {
			break
		}
		name, _, _ := strings.Cut(after, `"`)
		require.Contains(t, d.Components.Schemas, name)
		rest = after
	}
	for _, kind := range standin.Kinds {
		require.Contains(t, string(d.Components.Schemas["Fault"]), `"`+kind+`"`)
	}
}

// asker asks a cloud.
type asker struct {
	t     *testing.T
	url   string
	token string
}

func (a *asker) ask(method, path, body string, header ...string) (int, string) {
	r, err := http.NewRequestWithContext(a.t.Context(), method, a.url+path, strings.NewReader(body))
	require.NoError(a.t, err)
	r.Header.Set("Authorization", "Bearer "+a.token)
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(a.t, err)
	return answer.StatusCode, string(text)
}

func open(t *testing.T, s standin.Settings) (*asker, *standin.Cloud) {
	c, err := standin.Open(s)
	require.NoError(t, err)
	server := httptest.NewServer(c.Handler())
	t.Cleanup(func() { server.Close(); c.Close() })
	a := &asker{t: t, url: server.URL}
	a.session(s.Dir)
	return a, c
}

func (a *asker) session(dir string) {
	text, err := os.ReadFile(filepath.Join(dir, standin.CredentialsName))
	require.NoError(a.t, err)
	r, err := http.NewRequestWithContext(a.t.Context(), http.MethodPost, a.url+"/session", nil)
	require.NoError(a.t, err)
	user, password, _ := strings.Cut(strings.TrimSpace(string(text)), ":")
	r.SetBasicAuth(user, password)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(a.t, err)
	defer answer.Body.Close()
	var got struct{ Token string }
	require.NoError(a.t, json.NewDecoder(answer.Body).Decode(&got))
	require.NotEmpty(a.t, got.Token)
	a.token = got.Token
}

// Digests of "abc" and of its parts "ab" and "c", as sha256sum and RFC 9530 have them.
const (
	abc     = "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
	partAB  = "sha-256=:+44g/C5MPySMYMOb1lLzwTRymLuXe4tNWQO4UFViBgM=:"
	partABC = "sha-256=:ungWv48Bz+pBQUDeXa4iI7ADYaOWF3qctBD/YfIAFa0=:"
	partC   = "sha-256=:Ln0sA6lQeuJl7PW1NWiFpTOTogKdJBOUmXJloaJa78Y=:"
)

// wait waits until a delivery is no longer on its way.
func (a *asker) wait(site, name string) map[string]any {
	var d map[string]any
	require.Eventually(a.t, func() bool {
		code, text := a.ask("GET", "/sites/"+site+"/deliveries/"+name, "")
		require.Equal(a.t, 200, code, text)
		d = nil
		require.NoError(a.t, json.Unmarshal([]byte(text), &d))
		return d["state"] == "ready" || d["state"] == "failed"
	}, 5*time.Second, 5*time.Millisecond)
	return d
}

func TestDeliveryBecomesAnImage(t *testing.T) {
	dir := t.TempDir()
	a, _ := open(t, standin.Settings{Dir: dir, Sites: []string{"one", "two"}, Part: 2, Import: 10 * time.Millisecond, Quota: 10})
	order := `{"digest":"` + abc + `","bytes":3,"format":"raw","accounts":["x"]}`
	code, text := a.ask("PUT", "/sites/one/deliveries/im", order)
	require.Equal(t, 201, code, text)
	code, _ = a.ask("PUT", "/sites/one/deliveries/im/parts/2", "c", "Content-Digest", partC)
	require.Equal(t, 204, code)
	code, text = a.ask("PUT", "/sites/one/deliveries/im/parts/1", "ax", "Content-Digest", partAB)
	require.Equal(t, 400, code)
	require.Contains(t, text, "damaged")
	code, text = a.ask("POST", "/sites/one/deliveries/im/import", "")
	require.Equal(t, 409, code)
	require.Contains(t, text, "1 of 2 parts")
	code, text = a.ask("PUT", "/sites/one/deliveries/im", order)
	require.Equal(t, 200, code, "the same order again")
	require.Contains(t, text, `"have":[2]`)
	code, _ = a.ask("PUT", "/sites/one/deliveries/im", strings.Replace(order, "ba78", "ba79", 1))
	require.Equal(t, 409, code, "the name is taken")
	code, _ = a.ask("PUT", "/sites/one/deliveries/im/parts/1", "ab", "Content-Digest", partAB)
	require.Equal(t, 204, code)
	code, _ = a.ask("POST", "/sites/one/deliveries/im/import", "")
	require.Equal(t, 202, code)
	id := a.wait("one", "im")["image"].(string)
	code, text = a.ask("GET", "/sites/one/images/"+id+"/content", "", "Range", "bytes=1-")
	require.Equal(t, 206, code)
	require.Equal(t, "bc", text)
	code, text = a.ask("PATCH", "/sites/one/images/"+id, `{"accounts":[],"class":"cold"}`)
	require.Equal(t, 200, code, text)
	require.Contains(t, text, `"class":"cold"`)

	// The other site has it from the first.
	code, _ = a.ask("PUT", "/sites/two/deliveries/im", order)
	require.Equal(t, 201, code)
	code, _ = a.ask("POST", "/sites/two/deliveries/im/import", `{"from":"one/`+id+`"}`)
	require.Equal(t, 202, code)
	require.NotEqual(t, id, a.wait("two", "im")["image"])
	code, _ = a.ask("POST", "/sites/two/deliveries/im/import", `{"from":"../one"}`)
	require.Equal(t, 202, code, "it was begun already")

	// A name is free again once its image is gone; there is no room for more than the quota.
	code, _ = a.ask("DELETE", "/sites/one/images/"+id, "")
	require.Equal(t, 204, code)
	code, _ = a.ask("GET", "/sites/one/images/"+id, "")
	require.Equal(t, 404, code)
	code, _ = a.ask("PUT", "/sites/one/deliveries/im", order)
	require.Equal(t, 201, code)
	code, text = a.ask("PUT", "/sites/one/deliveries/more", strings.Replace(order, `"bytes":3`, `"bytes":8`, 1))
	require.Equal(t, 507, code)
	require.Contains(t, text, "quota")
	for _, path := range []string{"/sites/three/images", "/sites/one/images/..%2Fx", "/sites/one/images/.x", "/sites/one/papers/..%2Fx"} {
		code, _ = a.ask("GET", path, "")
		require.Contains(t, []int{400, 404}, code, path)
	}
}

// An import that was interrupted is ended by the next server of the folder; tokens do not outlive theirs.
func TestImportOutlivesItsServer(t *testing.T) {
	dir := t.TempDir()
	s := standin.Settings{Dir: dir, Sites: []string{"one"}, Import: time.Hour}
	a, c := open(t, s)
	code, _ := a.ask("PUT", "/sites/one/deliveries/im", `{"digest":"`+abc+`","bytes":3}`)
	require.Equal(t, 201, code)
	code, text := a.ask("PUT", "/sites/one/deliveries/im/parts/1", "abc", "Content-Digest", partABC)
	require.Equal(t, 204, code, text)
	code, _ = a.ask("POST", "/sites/one/deliveries/im/import", "")
	require.Equal(t, 202, code)
	c.Close()
	s.Import = 0
	b, _ := open(t, s)
	require.Equal(t, "ready", b.wait("one", "im")["state"])
	b.token = a.token
	code, text = b.ask("GET", "/sites", "")
	require.Equal(t, 401, code)
	require.Contains(t, text, "expired")
}

func TestFaultsStrike(t *testing.T) {
	dir := t.TempDir()
	a, c := open(t, standin.Settings{Dir: dir, Sites: []string{"one"}})
	code, _ := a.ask("PUT", "/faults", `{"share":1,"kinds":["error"],"most":1}`)
	require.Equal(t, 204, code)
	code, _ = a.ask("GET", "/sites", "")
	require.Equal(t, 503, code)
	code, _ = a.ask("GET", "/sites", "")
	require.Equal(t, 200, code, "no more than most")
	code, text := a.ask("PUT", "/faults", `{"next":["flood"]}`)
	require.Equal(t, 400, code)
	require.Contains(t, text, "there is no fault")
	for kind, want := range map[string]int{"refuse": 0, "drop": 0, "silence": 0, "throttle": 429, "expire": 401, "quota": 507} {
		code, _ = a.ask("PUT", "/sites/one/deliveries/"+kind, `{"digest":"`+abc+`","bytes":3}`)
		require.Equal(t, 201, code, kind)
		c.Faults.Set(standin.Plan{Next: []string{kind}})
		code, text = a.ask("PUT", "/sites/one/deliveries/"+kind+"/parts/1", "abc", "Content-Digest", partABC)
		require.Equal(t, want, code, "%s: %s", kind, text)
		a.session(dir)
		_, text = a.ask("GET", "/sites/one/deliveries/"+kind, "")
		require.Equal(t, kind == "silence", strings.Contains(text, `"have":[1]`), "what was done in silence is done")
		require.Equal(t, 1, c.Faults.Struck()[kind])
	}
	require.True(t, slices.Contains(standin.Kinds, "lose"))
}
