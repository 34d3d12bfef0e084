package definition

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Terms are how a region takes artifacts: what [region.NAME] says, and an image's [publish.region.NAME] over it. What is not set
// is the region's own affair.
type Terms struct {
	Formats    []string // what it takes; empty for all
	Naming     string   // what an artifact is called there, with ${…}; "" for DefaultName
	Encryption string   // "store" for keys of the region, or "key:ID"
	Accounts   []string // who may use it; nil for what the region does
	Class      string   // storage class
	Rate       int64    // bytes a second; 0 for all that the line gives
	Parallel   int64    // artifacts at once; 0 for one
}

// DefaultName is what an artifact is called in a region.
const DefaultName = "${image}-${version}-${variant}-${artifact}"

// Abilities are keys of terms that not every kind of region can do.
var Abilities = []string{"name", "encryption", "accounts", "class"}

// Takes says whether artifacts of a format are taken.
func (t *Terms) Takes(format string) bool {
	return len(t.Formats) == 0 || slices.Contains(t.Formats, format)
}

// Over are terms with those of another below them.
func (t Terms) Over(below Terms) Terms {
	t.Naming, t.Encryption = cmp.Or(t.Naming, below.Naming), cmp.Or(t.Encryption, below.Encryption)
	t.Class, t.Rate, t.Parallel = cmp.Or(t.Class, below.Class), cmp.Or(t.Rate, below.Rate), cmp.Or(t.Parallel, below.Parallel)
	if t.Formats == nil {
		t.Formats = below.Formats
	}
	if t.Accounts == nil {
		t.Accounts = below.Accounts
	}
	return t
}

// said is which of the abilities a table asks for, with their places.
type said map[string]Pos

// readTerms reads terms of a kind of region that knows some of the abilities; those that it does not know are left in asked.
func readTerms(t *table, formats, able []string) (terms Terms, asked said) {
	asked = said{}
	knows := func(name string) bool {
		e := t.find(name)
		if e != nil {
			asked[name] = e.pos
		}
		if !slices.Contains(able, name) {
			if e != nil {
				e.read = true
			}
			return false
		}
		return true
	}
	for _, f := range t.texts("formats") {
		if t.problems.oneOf("format", f.text, f.pos, formats, nil) {
			terms.Formats = append(terms.Formats, f.text)
		}
	}
	var at Pos
	if knows("name") {
		if terms.Naming, at = t.text("name"); terms.Naming != "" {
			t.problems.naming(terms.Naming, at)
		}
	}
	if knows("encryption") {
		terms.Encryption, at = t.text("encryption")
		if e := terms.Encryption; e != "" && e != "store" && (!strings.HasPrefix(e, "key:") || e == "key:") {
			t.problems.add(at, fmt.Sprintf("%q is no encryption", e), `write encryption = "store" for keys of the region, or "key:ID"`)
		}
	}
	if knows("accounts") {
		if t.find("accounts") != nil {
			terms.Accounts = []string{}
		}
		for _, a := range t.texts("accounts") {
			terms.Accounts = append(terms.Accounts, a.text)
		}
		slices.Sort(terms.Accounts)
	}
	if knows("class") {
		terms.Class, _ = t.text("class")
	}
	terms.Rate, terms.Parallel = t.size("rate"), t.count("parallel", 1)
	return terms, asked
}

// can reports what a region of a kind is asked for and cannot do.
func (s said) can(kind string, able []string, problems *Problems) {
	for _, name := range Abilities {
		if at, asked := s[name]; asked && !slices.Contains(able, name) {
			problems.add(at, fmt.Sprintf("a region of the kind %s knows no %s", kind, name), "take it out")
		}
	}
}

// naming checks what artifacts are to be called.
func (p *Problems) naming(name string, at Pos) {
	known := []string{"image", "version", "variant", "artifact", "build"}
	for _, m := range placeholder().FindAllStringSubmatch(name, -1) {
		if !slices.Contains(known, m[1]) {
			p.add(at, fmt.Sprintf("%q refers to nothing", m[0]), suggest(m[1], known, "known are "+strings.Join(known, ", ")))
		}
	}
	if rest := placeholder().ReplaceAllString(name, "x"); !nameForm().MatchString(rest) {
		p.add(at, fmt.Sprintf("%q is no name for artifacts", name), "use letters, digits, '-', '_' and '.', and ${…}")
	}
}

var nameForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`) })

// Called is what an artifact is called under a pattern: a part without a value goes with the dash beside it.
func Called(pattern string, values map[string]string) string {
	var parts []string
	for part := range strings.SplitSeq(cmp.Or(pattern, DefaultName), "-") {
		if text := Expand(part, values); text != "" || part == "" {
			parts = append(parts, text)
		}
	}
	return strings.Join(parts, "-")
}
