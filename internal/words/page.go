// Package words says results in words, for terminals and for pages: plans, events, differences, failures and lists, as lines and rows.
// It knows
// no terminal, and writes nothing.
package words

import (
	"fmt"
	"strings"

	"zygos/internal/plain"
)

// Style is how a text stands out. A text says the same without.
type Style int

const (
	Bold Style = iota
	Faint
	Red
	Green
	Amber
)

// Page is what there is to say, in order.
type Page struct {
	Parts []Part
	Style func(Style, string) string // nil for text as it is
	Near  func(file string) string   // a file's name as the reader has it; nil for the whole
}

// Part is a part of a page. It has one of these.
type Part struct {
	Line  string
	Table *Table
	Pairs [][2]string // names and values
	Note  string      // beside the result
	Next  string      // a command that is useful next
}

// Table is rows below a head.
type Table struct {
	Head []string
	Rows [][]string
}

// Paint styles a text.
func (w *Page) Paint(s Style, text string) string {
	if w.Style == nil {
		return text
	}
	return w.Style(s, text)
}

// Print adds lines.
func (w *Page) Print(form string, args ...any) {
	text := form
	if len(args) > 0 {
		text = fmt.Sprintf(form, args...)
	}
	for _, line := range strings.Split(text, "\n") {
		w.Parts = append(w.Parts, Part{Line: line})
	}
}

// Columns adds a table.
func (w *Page) Columns(head []string, rows [][]string) {
	w.Parts = append(w.Parts, Part{Table: &Table{head, rows}})
}

// Values adds names and values.
func (w *Page) Values(rows [][2]string) { w.Parts = append(w.Parts, Part{Pairs: rows}) }

// Note adds what is to be known beside the result.
func (w *Page) Note(form string, args ...any) {
	w.Parts = append(w.Parts, Part{Note: fmt.Sprintf(form, args...)})
}

// Next adds a command that is useful next.
func (w *Page) Next(command string) { w.Parts = append(w.Parts, Part{Next: command}) }

func (w *Page) near(file string) string {
	if w.Near == nil {
		return file
	}
	return w.Near(file)
}

// Words for people.
var (
	mib     = plain.MiB
	human   = plain.Duration
	age     = plain.Age
	when    = plain.Time
	short   = plain.Digest
	counted = plain.Counted
)

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// cut shortens a text to so many characters.
func cut(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return text
}
