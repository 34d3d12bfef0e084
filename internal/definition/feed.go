package definition

import (
	"cmp"
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/digest"
	"zygos/internal/plain"
)

// Feed says where the releases of a base are listed, and which of them is meant.
type Feed struct {
	Kind     FeedKind
	At       string // a folder or file in the workspace or an absolute one, or an address
	File     string // of a listing: the name of a release's file, with ${release}; of an index: the image
	Format   string // of an index: the artifact's
	Variant  string // of an index
	Newest   string // what the releases look like of which the newest is meant
	Pinned   string // the release that is meant instead; "" for none
	SignedBy string // file of the key that has signed the listing; "" for any

	wanted, named *regexp.Regexp
}

// FeedKind is what lists releases.
type FeedKind int

const (
	Listing  FeedKind = iota // a file of SHA-256 checksums
	Index                    // the index of a region
	Registry                 // the tags of a repository
)

// Release is one that a feed lists.
type Release struct {
	Release string        `json:"release"`
	From    string        `json:"from"`
	SHA256  digest.Digest `json:"sha256,omitzero"`  // zero for one whose digest nobody asked for
	Gone    bool          `json:"gone,omitempty"`   // it was listed so, and is not any more
	Recall  string        `json:"recall,omitempty"` // why whoever made it has withdrawn it; "" if not
}

// Means says whether a release looks as those do of which the newest is meant.
func (f *Feed) Means(release string) bool { return f.wanted.MatchString(release) }

// ReleaseOf is the release that a listing's file is, "" if it is none.
func (f *Feed) ReleaseOf(file string) string {
	found := f.named.FindStringSubmatch(file)
	if found == nil || slices.ContainsFunc(found[1:], func(s string) bool { return s != found[1] }) {
		return ""
	}
	return found[1]
}

// Choose finds the newest of the releases that are meant, and the one to take: that, or the pinned one; nil if there is none.
func (f *Feed) Choose(list []Release) (take, newest *Release) {
	for i := range list {
		r := &list[i]
		if r.Recall == "" && f.Means(r.Release) && (newest == nil || plain.CompareVersions(r.Release, newest.Release) > 0) {
			newest = r
		}
		if r.Release == f.Pinned {
			take = r
		}
	}
	if f.Pinned == "" {
		take = newest
	}
	return take, newest
}

// Rule is what is meant, in words.
func (f *Feed) Rule() string {
	if f.Pinned != "" {
		return "pinned at " + f.Pinned
	}
	return "newest of " + f.Newest
}

// Wanted is what is not there if none is, in words.
func (f *Feed) Wanted() string {
	if f.Pinned != "" {
		return "no " + f.Pinned
	}
	return "nothing like " + f.Newest
}

// Listing is the document that is read.
func (f *Feed) Listing() string {
	last := strings.ToUpper(path.Base(f.At))
	if f.Kind != Listing || strings.Contains(last, "SUM") {
		return f.At
	}
	return Beside(f.At+"/", "SHA256SUMS")
}

// Beside is the path or address of a file that lies where another one does.
func Beside(at, name string) string {
	if u, err := url.Parse(at); err == nil && u.Host != "" {
		u.RawQuery, u.Fragment = "", ""
		u.Path, u.RawPath = path.Join(path.Dir(u.Path), name), ""
		return u.String()
	}
	return filepath.Join(filepath.Dir(at), name)
}

// Asked is what is known of a base that is found by a feed.
type Asked struct {
	At    time.Time // when the feed was asked; zero for never
	Gone  bool      // the feed does not list it any more
	Newer string    // a newer one than that which is pinned; "" for none
}

const (
	release = "${release}"
	// A star stands for numbers, and what holds them together, so that 1.* is no 1.0-rc1.
	star = `[0-9]+(?:[._-][0-9]+)*`
	// What releases are called: more would be seen in references, on screens and in paths.
	anyRelease = `([0-9A-Za-z](?:[0-9A-Za-z._+~-]{0,60}[0-9A-Za-z])?)`
)

// isRule says whether a text can be what releases look like.
func isRule(text string) bool {
	return regexp.MustCompile("^" + anyRelease + "$").MatchString(strings.ReplaceAll(text, "*", "0"))
}

// withFeed reads a base that is found by a feed.
func (b *Base) withFeed(e *entry, root string, kinds BaseKinds, problems *Problems) {
	t, f := e.table, &Feed{}
	for _, other := range []string{"release", "from", "sha256"} {
		if wrong := t.ask(other); wrong != nil {
			problems.add(wrong.pos, fmt.Sprintf("%s has %q beside newest and feed", t.name, other),
				"take one out: a base is named by release, from and sha256, or found by newest and feed")
		}
	}
	var at Pos
	if f.Newest, at = t.textMust("newest", "1.*"); f.Newest != "" && !isRule(f.Newest) {
		problems.add(at, fmt.Sprintf("%q is no form of releases", f.Newest), `write for instance "1.*" or "12.4.*"; * stands for numbers`)
	}
	f.wanted = regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(f.Newest), `\*`, star) + "$")
	f.At, at = t.textMust("feed", "https://mirror.example/field-os")
	why := ""
	if f.At != "" {
		var do string
		if _, why, do = kinds.Of(f.At); why != "" {
			problems.add(at, why, do)
		}
	}
	f.Kind = Listing
	switch {
	case strings.HasPrefix(f.At, "oci://"):
		f.Kind = Registry
		if strings.ContainsAny(path.Base(f.At), ":@") && strings.Count(f.At, "/") > 2 {
			problems.add(at, fmt.Sprintf("%q names one image of a repository", f.At), "leave out the tag: the tags are the releases")
		}
	case strings.HasSuffix(f.At, ".json"):
		f.Kind = Index
	}
	name := f.readFile(t, problems)
	if f.Pinned, at = t.text("pinned"); f.Pinned != "" && (!isRule(f.Pinned) || strings.Contains(f.Pinned, "*")) {
		problems.add(at, fmt.Sprintf("%q is no release", f.Pinned), `write one that the feed lists, for instance "1.7.0"`)
	}
	if f.SignedBy, at = t.text("signed_by"); f.SignedBy != "" {
		key := f.SignedBy
		if !filepath.IsAbs(key) {
			key = filepath.Join(root, key)
		}
		if f.Kind == Registry {
			problems.add(at, "the tags of a registry carry no signature", "take signed_by out, or name a listing as the feed")
		} else if info, err := os.Stat(key); err != nil || !info.Mode().IsRegular() {
			problems.add(at, fmt.Sprintf("there is no file %s", f.SignedBy), "put the key there that the publisher gives out")
		}
	}
	b.Feed = f
	if f.At == "" || why != "" || name == "" { // nobody knows what belongs there
		return
	}
	b.Kind, _, _ = kinds.Of(name)
	b.Settings, b.Key = kinds.Read(b.Kind, Values{t})
	t.done()
}

// readFile reads what names a release's file, and returns a name that has its end; "" if there is none.
func (f *Feed) readFile(t *table, problems *Problems) (name string) {
	if f.Kind == Registry {
		return f.At
	}
	var at Pos
	if f.Kind == Index {
		if f.File, at = t.textMust("file", "ebb-base"); f.File != "" && !IsName(f.File) {
			problems.add(at, fmt.Sprintf("%q is no name of an image", f.File), "write the name that the image has in the index")
		}
		f.Variant, _ = t.text("variant")
		f.Format, at = t.text("format")
		f.Format = cmp.Or(f.Format, "tar")
		if !problems.oneOf("format", f.Format, at, artifact.Names(), nil) {
			return ""
		}
		return "base" + artifact.Find(f.Format).Extension
	}
	f.File, at = t.textMust("file", "field-os-${release}.tar.zst")
	rest := strings.ReplaceAll(f.File, release, "")
	switch {
	case f.File == "":
		return ""
	case rest == f.File:
		problems.add(at, fmt.Sprintf("%q does not say where its release stands", f.File), `write it as in file = "field-os-${release}.tar.zst"`)
	case strings.Contains(rest, "${"):
		problems.add(at, fmt.Sprintf("%q has another ${…} than ${release}", f.File), "take it out")
	case path.Clean("/" + f.File)[1:] != f.File:
		problems.add(at, fmt.Sprintf("%q is no path below the feed", f.File), "write it as the listing has it, without . and ..")
	default:
		f.named = regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(f.File), regexp.QuoteMeta(release), anyRelease) + "$")
		return f.File
	}
	return ""
}
