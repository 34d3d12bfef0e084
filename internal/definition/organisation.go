package definition

import (
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/digest"
)

// Organisation is what zygos.toml says.
type Organisation struct {
	Name    string
	File    string
	Bases   []Base   // in order of appearance
	Regions []Region // in order of appearance
	Tags    []TagRule
	Keep    Retention
	Catalog Catalog
	Budget  int64 // bytes that the state may take, as far as it can be helped; 0 for any

	taken []string // names that no image can have
}

// Catalog says where the catalog is, if not in the state: in a PostgreSQL database.
type Catalog struct {
	URL         string // postgres://USER@HOST/DATABASE, "" for the state's own
	Credentials string // where the password comes from: env:NAME, file:PATH or command:…; "" for none
	Pos         Pos
}

// sslModes are those of PostgreSQL (34.19, "SSL Support").
var sslModes = []string{"disable", "allow", "prefer", "require", "verify-ca", "verify-full"}

func readCatalog(t *table, problems *Problems) (c Catalog) {
	c.URL, c.Pos = t.textMust("url", "postgres://zygos@db.example/zygos")
	u, err := url.Parse(c.URL)
	switch {
	case c.URL == "":
	case err != nil || (u.Scheme != "postgres" && u.Scheme != "postgresql") || strings.Trim(u.Path, "/") == "":
		problems.add(c.Pos, "the url is no address of a PostgreSQL database", "write postgres://USER@HOST/DATABASE")
	case u.Query().Has("sslmode") && !slices.Contains(sslModes, u.Query().Get("sslmode")):
		problems.add(c.Pos, fmt.Sprintf("unknown sslmode %q", u.Query().Get("sslmode")), "choose from "+strings.Join(sslModes, ", "))
	case u.User != nil || u.RawQuery != "":
		if _, has := u.User.Password(); has || u.Query().Has("password") {
			problems.add(c.Pos, "the url holds a password, which anybody who reads the file knows", `take it out, and say credentials = "env:NAME"`)
		}
	}
	var at Pos
	if c.Credentials, at = t.text("credentials"); c.Credentials != "" {
		problems.source(c.Credentials, at)
	}
	t.done()
	return c
}

// Base is an outside starting point with a checksum.
type Base struct {
	Name    string
	Release string
	From    []string      // tried in order: a path in the workspace or an absolute one, or an http(s) address
	SHA256  digest.Digest // of the file
	Kind    string
	// SizeAtMost is how many bytes are downloaded of it; 0 for the usual bound.
	SizeAtMost int64
	// Settings are what the kind has read; Key says what of them and of the kind makes another tree of the same file.
	Settings any
	Key      string
	// Feed says where its releases are listed, nil for a base that the definition pins. Release, From and SHA256 are then what was listed
	// when it was last asked, SHA256 "" if nothing was.
	Feed  *Feed
	Asked Asked
	Pos   Pos
}

// Region is a place hosts fetch artifacts from.
type Region struct {
	Name     string
	Kind     string
	Settings any // what the kind has read
	Terms
	Pos Pos
	can []string // of Abilities
}

// For is the region as an image's definition wants it.
func (r *Region) For(img *Image) *Region {
	own := *r
	if img != nil {
		own.Terms = img.Terms[r.Name].Over(r.Terms)
	}
	return &own
}

// Retention says which versions prune leaves: the newest so many, those younger than so many days,
// and, if it says so, those that a tag once pointed at.
type Retention struct {
	Versions int64
	Days     int64
	Tagged   bool
}

func readRetention(t *table) (r Retention) {
	r.Versions, r.Days, r.Tagged = t.count("versions", 1), t.count("days", 1), t.flag("tagged")
	if t.find("versions") == nil && t.find("days") == nil {
		t.problems.add(t.pos, "[keep] says nothing", "add versions = 5, days = 90, or both")
	}
	t.done()
	return r
}

// TagRule says what must hold before a tag may point at a version: "regions", "age:24h", "from:TAG".
type TagRule struct {
	Tag   string
	Needs []string
}

// TagNeeds lists what a tag needs.
func (o *Organisation) TagNeeds(tag string) []string {
	for _, r := range o.Tags {
		if r.Tag == tag {
			return r.Needs
		}
	}
	return nil
}

func readTagRule(e *entry, known Needs, problems *Problems) TagRule {
	r := TagRule{Tag: e.name}
	if reason := CheckTag(e.name); reason != "" {
		problems.add(e.pos, reason, "rename the rule")
	}
	for _, n := range e.table.texts("needs") {
		name, value, _ := strings.Cut(n.text, ":")
		if !problems.oneOf("need", name, n.pos, known.Names, known.Later) {
			continue
		}
		if what, do := known.Check(name, value); what != "" {
			problems.add(n.pos, fmt.Sprintf("%q %s", n.text, what), do)
		}
		r.Needs = append(r.Needs, n.text)
	}
	e.table.done()
	return r
}

// Base finds a base by name.
func (o *Organisation) Base(name string) *Base {
	for i := range o.Bases {
		if o.Bases[i].Name == name {
			return &o.Bases[i]
		}
	}
	return nil
}

// Region finds a region by name.
func (o *Organisation) Region(name string) *Region {
	for i := range o.Regions {
		if o.Regions[i].Name == name {
			return &o.Regions[i]
		}
	}
	return nil
}

// RegionNames lists the regions in order of appearance.
func (o *Organisation) RegionNames() []string {
	names := make([]string, len(o.Regions))
	for i := range o.Regions {
		names[i] = o.Regions[i].Name
	}
	return names
}

// IsName says whether a word can name an image, base, region, stage or tag: lower-case letters,
// digits, and inside it also '-' and '.'; 63 bytes at most.
func IsName(word string) bool {
	if word == "" || len(word) > 63 {
		return false
	}
	for i, c := range []byte(word) {
		inside := i > 0 && i < len(word)-1
		if !(c >= 'a' && c <= 'z') && !(c >= '0' && c <= '9') && !(inside && (c == '-' || c == '.')) {
			return false
		}
	}
	return true
}

func (p *Problems) name(what, name string, at Pos) {
	if !IsName(name) {
		p.add(at, fmt.Sprintf("%q is no name for %s", name, what), "use lower-case letters, digits, '-' and '.', 63 at most")
	}
}

// ReadOrganisation reads zygos.toml in the folder root. What belongs to a kind is read by it.
func ReadOrganisation(root string, kinds Kinds, problems *Problems) *Organisation {
	const file = "zygos.toml"
	o := &Organisation{File: file}
	text, err := os.ReadFile(filepath.Join(root, file))
	if err != nil {
		problems.add(Pos{file, 1, 1}, "cannot be read: "+cause(err).Error(), "make it readable")
		return o
	}
	t := parse(file, text, problems)
	if t == nil {
		return o
	}
	if w := t.sub("workspace"); w != nil {
		o.Name, _ = w.textMust("name", "my-organisation")
		w.done()
	} else if t.find("workspace") == nil {
		problems.add(t.pos, "[workspace] is missing", `add [workspace] with name = "…"`)
	}
	for _, e := range t.named("base") {
		o.Bases = append(o.Bases, readBase(e, root, kinds.Bases, problems))
	}
	o.taken = kinds.Regions.Taken
	for _, e := range t.named("region") {
		o.Regions = append(o.Regions, readRegion(e, kinds.Regions, problems))
	}
	o.checkPlaces(kinds.Regions, problems)
	if state := t.sub("state"); state != nil {
		o.Budget = state.size("budget")
		state.done()
	}
	for _, e := range t.named("tag") {
		o.Tags = append(o.Tags, readTagRule(e, kinds.Needs, problems))
	}
	if keep := t.sub("keep"); keep != nil {
		o.Keep = readRetention(keep)
	}
	if c := t.sub("catalog"); c != nil {
		o.Catalog = readCatalog(c, problems)
	}
	t.done()
	return o
}

// checkPlaces finds regions that lie in one place: each would overwrite what the other says of itself there.
func (o *Organisation) checkPlaces(kinds RegionKinds, problems *Problems) {
	at := map[string]string{} // regions by place
	for i := range o.Regions {
		r := &o.Regions[i]
		if r.Settings == nil || kinds.Where == nil {
			continue
		}
		place := r.Kind + " " + path.Clean(kinds.Where(r.Kind, r.Settings))
		if other, taken := at[place]; taken {
			problems.add(r.Pos, fmt.Sprintf("region %q lies where region %q does", r.Name, other), "give it a place of its own")
		}
		at[place] = r.Name
	}
}

func readBase(e *entry, root string, kinds BaseKinds, problems *Problems) Base {
	b := Base{Name: e.name, Pos: e.pos}
	problems.name("a base", b.Name, e.pos)
	b.SizeAtMost = e.table.size("size_at_most")
	if e.table.find("newest") != nil || e.table.find("feed") != nil {
		b.withFeed(e, root, kinds, problems)
		return b
	}
	b.Release, _ = e.table.textMust("release", "1.0.0")
	if from := e.table.find("from"); from == nil {
		problems.add(e.pos, fmt.Sprintf("%s does not say where it comes from", e.table.name), `add from = ["bases/FILE.tar.zst"]`)
	}
	for _, c := range e.table.texts("from") {
		kind, why, do := kinds.Of(c.text)
		switch {
		case kind == "":
			problems.add(c.pos, why, do)
			continue
		case b.Kind != "" && b.Kind != kind:
			problems.add(c.pos, fmt.Sprintf("%q is of another kind (%s) than what is named before it (%s)", c.text, kind, b.Kind),
				"name places of the same file")
			continue
		}
		b.Kind = kind
		b.From = append(b.From, c.text)
	}
	sum, at := e.table.textMust("sha256", "64 hexadecimal digits")
	var err error
	if b.SHA256, err = digest.Parse(sum); sum != "" && err != nil {
		problems.add(at, fmt.Sprintf("%q is no SHA-256 checksum", sum), "write the 64 hexadecimal digits that sha256sum prints for the file")
	}
	if b.Kind == "" { // nobody knows what belongs there
		return b
	}
	b.Settings, b.Key = kinds.Read(b.Kind, Values{e.table})
	e.table.done()
	return b
}

func readRegion(e *entry, kinds RegionKinds, problems *Problems) Region {
	r := Region{Name: e.name, Pos: e.pos}
	problems.name("a region", r.Name, e.pos)
	kind, at := e.table.textMust("kind", "folder")
	known := kind != "" && problems.oneOf("kind of region", kind, at, kinds.Names, nil)
	if r.Kind = kind; known {
		r.can = kinds.Can(kind)
	}
	var asked said
	if r.Terms, asked = readTerms(e.table, artifact.Names(), r.can); known {
		asked.can(kind, r.can, problems)
		r.Settings = kinds.Read(kind, e.name, Values{e.table})
		e.table.done()
	} // else nobody knows what belongs there
	return r
}
