// Package definition reads zygos.toml and the images' definition files, strictly: every key that
// is unknown, of a wrong type, missing or refers to nothing is a Problem with its place and what
// to do about it, and all problems are found at once.
//
// The package knows files and text; it knows nothing of versions, builds or regions' contents.
package definition

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Pos is a place in a file; line and column count from 1, the column in bytes.
type Pos struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Pos) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Problem is something wrong in a definition.
type Problem struct {
	Pos
	What string `json:"what"`
	Do   string `json:"do"`
}

func (p Problem) String() string { return fmt.Sprintf("%s: %s; %s", p.Pos, p.What, p.Do) }

// Problems is an error that lists all problems, in order of file, line and column.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i := range p {
		lines[i] = p[i].String()
	}
	return strings.Join(lines, "\n")
}

// Err is nil if there is no problem.
func (p Problems) Err() error {
	if len(p) == 0 {
		return nil
	}
	slices.SortStableFunc(p, func(a, b Problem) int {
		if c := strings.Compare(a.File, b.File); c != 0 {
			return c
		}
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return p
}

func (p *Problems) add(at Pos, what, do string) { *p = append(*p, Problem{at, what, do}) }

// value is a TOML value and where it stands.
type value struct {
	pos   Pos
	kind  unstable.Kind
	text  string // of a scalar
	list  []value
	table *table
}

type entry struct {
	name string
	pos  Pos
	value
	read bool
}

// table is a TOML table being read: what is not asked for by the end is unknown.
type table struct {
	name     string // in words, for messages
	pos      Pos
	entries  []*entry
	asked    []string
	problems *Problems
}

func (t *table) find(name string) *entry {
	for _, e := range t.entries {
		if e.name == name {
			return e
		}
	}
	return nil
}

// parse reads a TOML document into tables with places; nil after a syntax error, which is reported.
func parse(file string, text []byte, problems *Problems) *table {
	var whole map[string]any
	if err := toml.Unmarshal(text, &whole); err != nil {
		at := Pos{file, 1, 1}
		var decode *toml.DecodeError
		if errors.As(err, &decode) {
			at.Line, at.Column = decode.Position()
		}
		problems.add(at, strings.TrimPrefix(err.Error(), "toml: "), "correct the TOML syntax")
		return nil
	}
	r := treeReader{file: file, problems: problems, lines: []int{0}}
	for i, c := range text {
		if c == '\n' {
			r.lines = append(r.lines, i+1)
		}
	}
	r.parser.Reset(text)
	root := &table{name: "the file", pos: Pos{file, 1, 1}, problems: problems}
	into := root
	for r.parser.NextExpression() {
		e := r.parser.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			into = r.header(root, e)
		case unstable.KeyValue:
			r.keyValue(into, e)
		}
	}
	return root
}

type treeReader struct {
	parser   unstable.Parser
	file     string
	problems *Problems
	lines    []int // offsets at which lines begin
}

func (r *treeReader) at(n *unstable.Node) Pos {
	if n.Raw.Length == 0 {
		return Pos{}
	}
	offset := int(n.Raw.Offset)
	line, found := slices.BinarySearch(r.lines, offset)
	if !found {
		line--
	}
	return Pos{r.file, line + 1, offset - r.lines[line] + 1}
}

// header finds or makes the table that a [a.b] or [[a.b]] line opens.
func (r *treeReader) header(root *table, e *unstable.Node) *table {
	t := root
	for keys := e.Key(); keys.Next(); {
		last, key := keys.IsLast(), keys.Node()
		found := t.find(string(key.Data))
		if found == nil {
			found = &entry{name: string(key.Data), pos: r.at(key), value: value{kind: unstable.Table, pos: r.at(key)}}
			if last && e.Kind == unstable.ArrayTable {
				found.kind = unstable.ArrayTable
			} else {
				found.table = r.newTable(t, key)
			}
			t.entries = append(t.entries, found)
		}
		if found.kind == unstable.ArrayTable {
			if last {
				found.list = append(found.list, value{kind: unstable.Table, pos: r.at(key), table: r.newTable(t, key)})
			}
			t = found.list[len(found.list)-1].table
		} else {
			t = found.table
		}
	}
	return t
}

func (r *treeReader) newTable(parent *table, key *unstable.Node) *table {
	name := "[" + string(key.Data) + "]"
	if strings.HasPrefix(parent.name, "[") {
		name = strings.TrimSuffix(parent.name, "]") + "." + string(key.Data) + "]"
	}
	return &table{name: name, pos: r.at(key), problems: r.problems}
}

func (r *treeReader) keyValue(t *table, e *unstable.Node) {
	for keys := e.Key(); keys.Next(); {
		key := keys.Node()
		if !keys.IsLast() {
			found := t.find(string(key.Data))
			if found == nil {
				found = &entry{name: string(key.Data), pos: r.at(key), value: value{kind: unstable.Table, pos: r.at(key), table: r.newTable(t, key)}}
				t.entries = append(t.entries, found)
			}
			t = found.table
			continue
		}
		v := r.value(e.Value(), r.at(key), t, key)
		t.entries = append(t.entries, &entry{name: string(key.Data), pos: r.at(key), value: v})
	}
}

func (r *treeReader) value(n *unstable.Node, fallback Pos, parent *table, key *unstable.Node) value {
	v := value{kind: n.Kind, pos: r.at(n), text: string(n.Data)}
	if v.pos.Line == 0 {
		v.pos = fallback
	}
	switch n.Kind {
	case unstable.Array:
		for items := n.Children(); items.Next(); {
			if items.Node().Kind != unstable.Comment {
				v.list = append(v.list, r.value(items.Node(), v.pos, parent, key))
			}
		}
	case unstable.InlineTable:
		v.table = r.newTable(parent, key)
		v.table.pos = v.pos
		for items := n.Children(); items.Next(); {
			if items.Node().Kind == unstable.KeyValue {
				r.keyValue(v.table, items.Node())
			}
		}
	}
	return v
}
