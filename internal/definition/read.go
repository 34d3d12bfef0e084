package definition

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2/unstable"

	"zygos/internal/plain"
)

// ask marks a key as known and returns its entry, nil if it is not there.
func (t *table) ask(name string) *entry {
	t.asked = append(t.asked, name)
	e := t.find(name)
	if e != nil {
		e.read = true
	}
	return e
}

func (t *table) wrong(e *entry, want, example string) {
	t.problems.add(e.pos, fmt.Sprintf("%q must be %s", e.name, want), "write "+example)
}

// later refuses keys that have a meaning but are not supported yet.
func (t *table) later(names ...string) {
	for _, name := range names {
		if e := t.ask(name); e != nil {
			t.problems.add(e.pos, fmt.Sprintf("%q in %s is not supported yet", name, t.name), "take it out for now")
		}
	}
}

// done reports every key that nobody asked for, with the nearest one that is known.
func (t *table) done() {
	for _, e := range t.entries {
		if !e.read {
			t.problems.add(e.pos, fmt.Sprintf("unknown key %q in %s", e.name, t.name),
				suggest(e.name, t.asked, "known keys are "+strings.Join(t.asked, ", ")))
		}
	}
}

func (t *table) text(name string) (string, Pos) {
	e := t.ask(name)
	if e == nil {
		return "", t.pos
	}
	if e.kind != unstable.String {
		t.wrong(e, "a text", fmt.Sprintf("%s = %q", name, "…"))
	}
	t.problems.fit(e.text, e.value.pos)
	return e.text, e.value.pos
}

// labels reads a table of labels.
func (t *table) labels() []textEntry {
	list := t.textMap("labels")
	for _, l := range list {
		if unshown := plain.Unshown(l.text); unshown != "" && plain.Unfit(l.text) == "" {
			t.problems.add(l.pos, "the label cannot be used: "+unshown, "take it out")
		}
	}
	return list
}

// fit refuses a text that neither databases nor environments take.
func (p *Problems) fit(text string, at Pos) {
	if unfit := plain.Unfit(text); unfit != "" {
		p.add(at, "the text cannot be used: "+unfit, "take it out")
	}
}

func (t *table) textMust(name, example string) (string, Pos) {
	text, at := t.text(name)
	if text == "" && (t.find(name) == nil || t.find(name).kind == unstable.String) {
		t.problems.add(at, fmt.Sprintf("%s needs %q", t.name, name), fmt.Sprintf("add %s = %q", name, example))
	}
	return text, at
}

type textAt struct {
	text string
	pos  Pos
}

func (t *table) texts(name string) []textAt {
	e := t.ask(name)
	if e == nil {
		return nil
	}
	var list []textAt
	if e.kind != unstable.Array {
		t.wrong(e, "a list of texts", name+` = ["…", "…"]`)
		return nil
	}
	for _, v := range e.list {
		if v.kind != unstable.String {
			t.problems.add(v.pos, fmt.Sprintf("%q must hold texts only", name), "put the value in quotes")
			continue
		}
		t.problems.fit(v.text, v.pos)
		list = append(list, textAt{v.text, v.pos})
	}
	return list
}

// textMap reads a table whose values are all texts, in order of appearance.
func (t *table) textMap(name string) []textEntry {
	e := t.ask(name)
	if e == nil {
		return nil
	}
	if e.table == nil {
		t.wrong(e, "a table of texts", name+` = { NAME = "…" }`)
		return nil
	}
	var list []textEntry
	for _, item := range e.table.entries {
		if item.kind != unstable.String {
			t.problems.add(item.pos, fmt.Sprintf("%q in %q must be a text", item.name, name), "put the value in quotes")
			continue
		}
		t.problems.fit(item.name, item.pos)
		t.problems.fit(item.text, item.value.pos)
		list = append(list, textEntry{item.name, item.text, item.value.pos})
	}
	return list
}

type textEntry struct {
	name, text string
	pos        Pos
}

// named reads the tables below [name.…], in order of appearance.
func (t *table) named(name string) []*entry {
	e := t.ask(name)
	if e == nil {
		return nil
	}
	if e.table == nil {
		t.wrong(e, "a group of tables", "["+name+".NAME]")
		return nil
	}
	var list []*entry
	for _, item := range e.table.entries {
		if item.table == nil {
			t.problems.add(item.pos, fmt.Sprintf("%q in [%s] must be a table", item.name, name), fmt.Sprintf("write [%s.%s]", name, item.name))
			continue
		}
		list = append(list, item)
	}
	return list
}

func (t *table) sub(name string) *table {
	e := t.ask(name)
	if e == nil {
		return nil
	}
	if e.table == nil {
		t.wrong(e, "a table", "["+name+"]")
	}
	return e.table
}

// tables reads [[name]] or a list of inline tables.
func (t *table) tables(name string) []*table {
	e := t.ask(name)
	if e == nil {
		return nil
	}
	if e.kind != unstable.ArrayTable && e.kind != unstable.Array {
		t.wrong(e, "a list of tables", "[["+name+"]]")
		return nil
	}
	var list []*table
	for _, v := range e.list {
		if v.table == nil {
			t.problems.add(v.pos, fmt.Sprintf("%q must hold tables only", name), "write { … } or [["+name+"]]")
			continue
		}
		list = append(list, v.table)
	}
	return list
}

func (t *table) duration(name string) time.Duration {
	text, at := t.text(name)
	if text == "" {
		return 0
	}
	d, err := ParseAge(text)
	if err != nil || d <= 0 {
		t.problems.add(at, fmt.Sprintf("%q is no duration", text), `write for instance "90s", "10m", "1h30m" or "7d"`)
		return 0
	}
	return d
}

// ParseAge reads a duration, which may start with days: "7d", "1d12h", "90s".
func ParseAge(text string) (time.Duration, error) {
	days, rest, ok := strings.Cut(text, "d")
	if !ok {
		return time.ParseDuration(text)
	}
	n, err := strconv.ParseUint(days, 10, 16)
	if err != nil {
		return 0, fmt.Errorf("%q is no number of days", days)
	}
	whole := time.Duration(n) * 24 * time.Hour
	if rest == "" {
		return whole, nil
	}
	d, err := time.ParseDuration(rest)
	return whole + d, err
}

// count reads a whole number from least to a thousand million.
func (t *table) count(name string, least int64) int64 {
	e := t.ask(name)
	if e == nil {
		return 0
	}
	n, err := strconv.ParseInt(strings.ReplaceAll(e.text, "_", ""), 10, 64)
	if e.kind != unstable.Integer || err != nil || n < least || n > 1e9 {
		t.wrong(e, fmt.Sprintf("a whole number, %d or more", least), name+" = 2")
		return 0
	}
	return n
}

// fraction reads a number above 0.
func (t *table) fraction(name string) float64 {
	e := t.ask(name)
	if e == nil {
		return 0
	}
	f, err := strconv.ParseFloat(strings.ReplaceAll(e.text, "_", ""), 64)
	if (e.kind != unstable.Integer && e.kind != unstable.Float) || err != nil || !(f >= 0.01 && f <= 1e6) {
		t.wrong(e, "a number, 0.01 or more", name+" = 1.5")
		return 0
	}
	return f
}

// flag reads true or false.
func (t *table) flag(name string) bool {
	e := t.ask(name)
	if e == nil {
		return false
	}
	if e.kind != unstable.Bool {
		t.wrong(e, "true or false", name+" = true")
	}
	return e.text == "true"
}

var sizeForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(\d{1,9})(KiB|MiB|GiB|TiB)$`) })

var sizeUnits = map[string]int64{"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}

func (t *table) size(name string) int64 {
	text, at := t.text(name)
	if text == "" {
		return 0
	}
	size, what, do := ParseSize(text)
	if what != "" {
		t.problems.add(at, what, do)
	}
	return size
}

// mostSize is the largest size that can be said, in bytes: that of an ext4 file system.
const mostSize = 16 << 40

// ParseSize reads a size in KiB, MiB, GiB or TiB; if it cannot, it says what is wrong and what to do.
func ParseSize(text string) (size int64, what, do string) {
	m := sizeForm().FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Sprintf("%q is no size", text), `write for instance "512MiB" or "2GiB"`
	}
	n, _ := strconv.ParseInt(m[1], 10, 64) // nine digits by the expression
	unit := sizeUnits[m[2]]
	if n == 0 || n > mostSize/unit {
		return 0, fmt.Sprintf("a size of %q cannot be", text), "choose between 1MiB and 16TiB"
	}
	return n * unit, "", ""
}

// oneOf checks a word against a list; words in later are known but not supported yet.
func (p *Problems) oneOf(what, word string, at Pos, known, later []string) bool {
	for _, k := range known {
		if word == k {
			return true
		}
	}
	for _, l := range later {
		if word == l {
			p.add(at, fmt.Sprintf("%s %q is not supported yet", what, word), "supported are "+strings.Join(known, ", "))
			return false
		}
	}
	p.add(at, fmt.Sprintf("unknown %s %q", what, word), suggest(word, known, "choose from "+strings.Join(known, ", ")))
	return false
}

// suggest guesses which known word was meant, else falls back.
func suggest(word string, known []string, fallback string) string {
	if near := Nearest(word, known); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return fallback
}

// Nearest is the known word that a mistyped one is closest to, "" if none is close.
func Nearest(word string, known []string) string {
	best, distance := "", max(2, len(word)/3)+1
	for _, k := range known {
		if d := editDistance(strings.ToLower(word), strings.ToLower(k)); d < distance {
			best, distance = k, d
		}
	}
	return best
}

// editDistance counts insertions, deletions, replacements and swaps of neighbours.
func editDistance(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
