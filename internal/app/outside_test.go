package app_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms that read what others send: servers, files of others, catalogs.
var rooms = []string{"region", "region/cloud", "region/folder", "region/kinds", "region/registry", "region/s3", "supply", "feed", "base",
	"rescue",
	"secret", "remote", "publish", "manifest", "catalog", "app", "bounded"}

// What others send is read by package bounded; whatever reads otherwise is here, with what bounds it.
var boundedOtherwise = map[string]string{
	"base/xz.go io.CopyN":                   "three bytes of padding",
	"bounded/bounded.go io.Copy":            "the readers themselves",
	"bounded/bounded.go io.ReadAll":         "the readers themselves",
	"bounded/bounded.go json.NewDecoder":    "the readers themselves",
	"catalog/transfer.go json.NewDecoder":   "of a bounded.Reader, a row at a time",
	"manifest/canonical.go json.NewDecoder": "our own text",
	"region/folder/folder.go io.CopyN":      "the artifact in our store, of known size",
	"supply/download.go io.CopyN":           "the bytes that the catalog knows",
	"supply/supply.go io.CopyN":             "the bytes that the catalog knows",
	"secret/matcher.go io.ReadAll":          "our own text, masked",
}

// Servers are reached by package remote.
var reachedOtherwise = map[string]string{
	"remote/remote.go http.Client":            "the factory",
	"remote/remote.go http.Transport":         "the factory",
	"remote/remote.go http.DefaultTransport":  "the factory",
	"region/cloud/cloud.go http.Client":       "the type of what the factory makes",
	"region/registry/registry.go http.Client": "around the factory's transport",
	"base/pull.go http.Client":                "around the factory's transport",
}

func TestOutsideIsReadBoundedAndReachedByOneFactory(t *testing.T) {
	reads := regexp.MustCompile(`\b(io\.(Copy|CopyN|CopyBuffer|ReadAll)\b|(json|xml)\.NewDecoder\b)`)
	reaches := regexp.MustCompile(`\bhttp\.(Client|Transport|DefaultTransport|DefaultClient|Get|Head|Post)\b`)
	seen := map[string]bool{}
	for _, p := range packages(t) {
		name := strings.TrimPrefix(p.ImportPath, "zygos/internal/")
		for _, file := range p.GoFiles {
			text := read(t, p.Dir+"/"+file)
			for _, found := range reaches.FindAllString(text, -1) {
				at := name + "/" + file + " " + found
				seen[at] = true
				assert.Contains(t, reachedOtherwise, at, "servers are reached by package remote, which keeps credentials at their origin")
			}
			if !slices.Contains(rooms, name) {
				continue
			}
			for _, found := range reads.FindAllString(text, -1) {
				at := name + "/" + file + " " + found
				seen[at] = true
				assert.Contains(t, boundedOtherwise, at, "what others send is read by package bounded")
			}
		}
	}
	for at := range reachedOtherwise {
		require.True(t, seen[at], "%s is gone", at)
	}
}

// Fields of documents and rows whose names say that they are digests are of the type that holds nothing else. What is left as text is
// here, with why it becomes no path.
var digestsAsText = map[string]string{
	"record.Step.Digest":         "compared; it becomes a path by state.Dir.Text, which parses it",
	"record.Stage.Layer":         "becomes a path by layer.Store, which parses it",
	"record.StepBegan.Digest":    "shown",
	"record.StepDone.Digest":     "shown",
	"record.Heard.Digest":        "shown",
	"record.Reused.Layer":        "shown",
	"record.StageDone.Layer":     "shown",
	"record.Sealed.Layer":        "shown",
	"catalog.Judgement.Digest":   "shown",
	"catalog.Version.BaseDigest": "compared",
	"feed.Answer.Digest":         "shown",
	"app.Base.Digest":            "shown",
	"layer.line.Digest":          "compared with content",
	"layer.Snapshot.Layer":       "becomes a path by layer.Store, which parses it",
	"manifest.Base.Digest":       "compared",
	"plan.Base.Digest":           "compared",
	"plan.Source.Digest":         "becomes a path by state.Dir.Text, which parses it",
	"plan.Item.Digest":           "compared with the file that is copied",
	"plan.FirstBoot.Digest":      "becomes a path by state.Dir.Text, which parses it",
	"standin.Order.Digest":       "the server compares it with what is delivered",
	"plan.Step.Digest":           "becomes a path by state.Dir.Text, which parses it",
	"repeat.Artifact.Artifact":   "a name",
}

func TestDigestsAreOfTheirType(t *testing.T) {
	seen := map[string]bool{}
	called := regexp.MustCompile(`(?i)^(digest|sha256|base_digest|artifact|layer)$`)
	for _, p := range packages(t) {
		name := room(p.ImportPath)
		for _, file := range p.GoFiles {
			if name == "" {
				continue
			}
			parsed, err := parser.ParseFile(token.NewFileSet(), p.Dir+"/"+file, nil, 0)
			require.NoError(t, err)
			ast.Inspect(parsed, func(n ast.Node) bool {
				spec, ok := n.(*ast.TypeSpec)
				if !ok {
					return true
				}
				fields, ok := spec.Type.(*ast.StructType)
				if !ok {
					return true
				}
				for _, f := range fields.Fields.List {
					kind, isName := f.Type.(*ast.Ident)
					if f.Tag == nil || !isName || kind.Name != "string" {
						continue
					}
					key, _, _ := strings.Cut(reflect.StructTag(strings.Trim(f.Tag.Value, "`")).Get("json"), ",")
					if called.MatchString(key) {
						at := parsed.Name.Name + "." + spec.Name.Name + "." + f.Names[0].Name
						seen[at] = true
						if digestsAsText[at] == "" {
							t.Errorf("%s: a digest is a digest.Digest; text is no path", at)
						}
					}
				}
				return true
			})
		}
	}
	for at := range digestsAsText {
		assert.True(t, seen[at], "%s is gone", at)
	}
}

// Functions that make paths of what may come from outside take digests of their type, or parse.
func TestPathsOfDigestsAreParsed(t *testing.T) {
	for file, want := range map[string][]string{
		"../store/store.go": {"func (s *Store) Path(d digest.Digest) string"},
		"../layer/store.go": {"func (s *Store) folder(digest string) string { return filepath.Join(s.Dir, digestOf.Name(digest)) }"},
		"../state/dir.go":   {`d.In("texts", digest.Name(text))`, `d.In("captures", digest.Name(key)+".json")`},
		"../base/pull.go":   {`own.Hex()+".blob"`},
	} {
		for _, words := range want {
			require.Contains(t, read(t, file), words)
		}
	}
}

// Every place in these rooms where a path or a key is made, with what makes it safe: what comes from JSON, XML, text or SQL of others
// passes through one of these forms.
var pathsMade = map[string]struct {
	count int
	safe  string
}{
	"region/content.go": {1, "the artifact's file in our store"},
	"region/folder/documents.go": {7,
		"names of manifests, which ManifestOf parses where they come from a list; IsLocal before one is removed"},
	"region/folder/folder.go": {24,
		"image, version and file of a definition; locations of the catalog; Remove takes what is below the folder"},
	"region/registry/place.go": {1, "digests that Validate accepts"},
	"region/s3/place.go":       {1, "keys of a bucket, no paths"},
	"region/s3/s3.go":          {4, "keys of a bucket, no paths"},
	"supply/download.go":       {5, "the file that the user names"},
	"supply/index.go":          {1, "the file that the user names, or a name below an index that IsLocal accepts"},
	"feed/feed.go":             {1, "the name of a base in zygos.toml"},
	"feed/kinds.go":            {1, "names of an index that ReadIndex accepts, and IsLocal"},
	"feed/signed.go":           {1, "the key's file of zygos.toml"},
	"base/base.go":             {3, "paths of zygos.toml"},
	"base/container.go":        {5, "digest.Digest; names in a tree, which layer checks"},
	"base/disk.go":             {5, "folders of ours"},
	"base/download.go":         {10, "digest.Digest"},
	"base/pull.go":             {5, "digest.Digest"},
	"publish/documented.go":    {2, "names of an index that ReadIndex accepts, and IsLocal; a file that the user names"},
	"publish/documents.go":     {2, "image and version of the catalog, which Register and import parse"},
	"rescue/rescue.go":         {1, "the folder that the user names; names in it are of the file system"},
}

func TestPathsThatAreMadeOfWhatOthersSend(t *testing.T) {
	makes := regexp.MustCompile(`\b((filepath|path)\.Join|` +
		`os\.(Open|OpenFile|Create|ReadFile|ReadDir|WriteFile|Mkdir|MkdirAll|Rename|Remove|RemoveAll))\(`)
	seen := map[string]int{}
	for _, p := range packages(t) {
		name := strings.TrimPrefix(p.ImportPath, "zygos/internal/")
		if !slices.Contains(rooms, name) || slices.Contains([]string{"app", "catalog", "secret", "remote", "bounded"}, name) {
			continue
		}
		for _, file := range p.GoFiles {
			if n := len(makes.FindAllString(read(t, p.Dir+"/"+file), -1)); n > 0 {
				seen[name+"/"+file] = n
			}
		}
	}
	for at, n := range seen {
		assert.Equal(t, n, pathsMade[at].count, "%s makes a path more or less: say in the list what makes it safe", at)
	}
	require.Len(t, seen, len(pathsMade))
}
