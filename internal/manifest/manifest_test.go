package manifest_test

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/digest"
	"zygos/internal/manifest"
)

var (
	moment  = time.Date(2026, 1, 2, 3, 4, 5, 678, time.FixedZone("x", 3600))
	ofA     = digest.Of([]byte("a"))
	digestA = ofA.String()
	digestB = "sha256:" + strings.Repeat("b", 64)
)

func version() *catalog.Version {
	return &catalog.Version{Image: "turbine-link", Version: "2.3.4", Build: "b-20260102-030405-abcd", Created: moment, BaseName: "ebb-base",
		BaseVersion: "1.4.0",
		BaseDigest:  digestB, Labels: map[string]string{"purpose": "turbine <&> \"link\""},
		Artifacts: []catalog.Artifact{{Format: "raw", Digest: ofA, Bytes: 7}}}
}

func placement(region, id string) catalog.Placement {
	return catalog.Placement{ID: id, Image: "turbine-link", Version: "2.3.4", Region: region, Format: "raw", Artifact: ofA,
		Location: "/x", Verified: moment}
}

func compile(t *testing.T, name string) *jsonschema.Schema {
	c := jsonschema.NewCompiler()
	s, err := jsonschema.UnmarshalJSON(bytes.NewReader(manifest.Schemas[name]))
	require.NoError(t, err)
	require.NoError(t, c.AddResource("s.json", s))
	compiled, err := c.Compile("s.json")
	require.NoError(t, err)
	return compiled
}

func TestManifestIsCanonicalAndFollowsItsSchema(t *testing.T) {
	text, err := manifest.Canonical(manifest.For(version(), []catalog.Placement{placement("north", "zy-2"), placement("north", "zy-1")}))
	require.NoError(t, err)
	require.Equal(t, `{"artifacts":[{"bytes":7,"digest":"`+digestA+`","format":"raw","name":"raw"}],"base":{"digest":"`+digestB+`",`+
		`"name":"ebb-base","version":"1.4.0"},`+
		`"build":"b-20260102-030405-abcd","checks":{"failed":0,"passed":0},"created":"2026-01-02T02:04:05Z","image":"turbine-link",`+
		`"labels":{"purpose":"turbine <&> \"link\""},"regions":{"north":[{"artifact":"`+digestA+`","id":"zy-1","location":"/x",`+
		`"name":"raw","verified":"2026-01-02T02:04:05Z"},`+
		`{"artifact":"`+digestA+`","id":"zy-2","location":"/x","name":"raw","verified":"2026-01-02T02:04:05Z"}]},`+
		`"schema":"zygos.manifest/1","version":"2.3.4"}`, string(text))
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	require.NoError(t, compile(t, "manifest").Validate(document))
	again, err := manifest.Canonical(json.RawMessage(text))
	require.NoError(t, err)
	require.Equal(t, text, again, "the canonical form of the canonical form is itself")
}

// The examples of RFC 8785, sections 3.2.2 and 3.2.3, as far as our documents hold such values.
func TestCanonicalFormIsThatOfTheRFC(t *testing.T) {
	keys, err := manifest.Canonical(json.RawMessage(`{"\u20ac":"Euro Sign","\r":"Carriage Return","\ufb33":"Hebrew Letter Dalet With ` +
		`Dagesh","1":"One",
		"\ud83d\ude00":"Emoji: Grinning Face","\u0080":"Control","\u00f6":"Latin Small Letter O With Diaeresis"}`))
	require.NoError(t, err)
	require.Equal(t, "{\"\\r\":\"Carriage Return\",\"1\":\"One\",\"\u0080\":\"Control\",\"ö\":\"Latin Small Letter O With "+
		"Diaeresis\",\"€\":\"Euro Sign\","+
		"\"😀\":\"Emoji: Grinning Face\",\"\ufb33\":\"Hebrew Letter Dalet With Dagesh\"}", string(keys))
	text, err := manifest.Canonical(json.RawMessage(`{"string":"\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/\u2028<&>",` +
		`"literals":[null,true,false],"numbers":[-7,0,9007199254740992]}`))
	require.NoError(t, err)
	require.Equal(t, "{\"literals\":[null,true,false],\"numbers\":[-7,0,9007199254740992],"+
		"\"string\":\"€$\\u000f\\nA'B\\\"\\\\\\\\\\\"/\u2028<&>\"}", string(text))
	for _, number := range []string{"9007199254740994", "1.5", "1e30"} {
		_, err = manifest.Canonical(json.RawMessage(number))
		require.ErrorContains(t, err, "has no canonical form here")
	}
}

func TestUnpublishedManifestIsValidToo(t *testing.T) {
	v := version()
	v.Labels = nil
	text, err := manifest.Canonical(manifest.For(v, nil))
	require.NoError(t, err)
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	require.NoError(t, compile(t, "manifest").Validate(document))
}

func TestSchemaRefusesWhatIsNoManifest(t *testing.T) {
	schema := compile(t, "manifest")
	good, err := manifest.Canonical(manifest.For(version(), []catalog.Placement{placement("north", "zy-1")}))
	require.NoError(t, err)
	require.NoError(t, manifest.Check("manifest", good))
	require.ErrorContains(t, manifest.Check("manifest", []byte("{")), "no JSON")
	require.EqualError(t, manifest.Check("manifest", []byte(strings.Replace(string(good), `"bytes":7`, `"bytes":"7"`, 1))),
		"/artifacts/0/bytes is no integer")
	for _, change := range [][2]string{
		{`"zygos.manifest/1"`, `"zygos.manifest/2"`}, {`"2.3.4"`, `"2.3"`}, {`"bytes":7`, `"bytes":"7"`}, {`"bytes":7`, `"bytes":0`},
		{`"build":"b-`, `"build":"`},
		{`"sha256:ca97`, `"sha256:zzzz`}, {`"image":`, `"picture":`}, {`"format":"raw"`, `"format":"Tape 2"`}, {`"north":[`, `"North":[`},
		{`"id":"zy-1"`, `"id":""`},
	} {
		bad := strings.Replace(string(good), change[0], change[1], 1)
		require.NotEqual(t, string(good), bad, change[0])
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(bad))
		require.NoError(t, err)
		require.Error(t, schema.Validate(document), change[1])
		require.Error(t, manifest.Check("manifest", []byte(bad)), change[1])
	}
}

func TestRegionIndexGroupsByVersion(t *testing.T) {
	other := placement("north", "zy-3")
	other.Version = "2.3.3"
	x := manifest.IndexOf("north", []catalog.Placement{placement("north", "zy-1"), placement("north", "zy-2"), other},
		func(ref string) []string { return map[string][]string{"turbine-link@2.3.4": {"stable"}}[ref] },
		func(ref string) *catalog.Recall {
			if ref != "turbine-link@2.3.4" {
				return nil
			}
			return &catalog.Recall{Image: "ebb-base", Version: "1.4.0", Why: "a hole", Since: moment, Descendants: true}
		})
	require.Equal(t, "ebb-base@1.4.0", x.Versions[0].Recall.By)
	require.Len(t, x.Versions, 2)
	require.Len(t, x.Versions[0].Artifacts, 2)
	require.Equal(t, []string{"stable"}, x.Versions[0].Tags)
	text, err := manifest.Canonical(x)
	require.NoError(t, err)
	require.Contains(t, string(text), `"tags":[]`)
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	require.NoError(t, compile(t, "region").Validate(document))
}
