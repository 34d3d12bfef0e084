// Package report draws pages and pictures: self-contained, readable in print, light and dark. It
// knows what is to be shown as plain values, and nothing of where they come from.
package report

import (
	_ "embed"
	"html/template"
	"io"
	"strings"
	"sync"
	"time"
	"unicode/utf8"
)

// Family is a version with those it was built on and those built on it.
type Family struct {
	Title   string // the version's reference
	Made    time.Time
	Members []Member // every one after the one it was built on
}

// Member is a version in a family, or the base from outside that the oldest was built on.
type Member struct {
	Ref     string
	On      string // reference of what it was built on, "" for the base from outside
	Age     string // in words
	Tags    []string
	State   string // "", or in words that it is recalled, and why
	Planned bool   // the recall holds from a later time on
	Due     string // "", or why its image is due
	Here    bool   // the one that was asked for
}

// Outside says whether it is the base from outside.
func (m *Member) Outside() bool { return m.On == "" }

// Measures of a picture, in CSS pixels.
const (
	charWidth  = 7.3 // of a 12 px monospace letter, a little more than any has
	lineHeight = 17.0
	padding    = 10.0
	columnGap  = 52.0
	rowGap     = 12.0
	margin     = 16.0
	mostChars  = 44 // of a line in a box
	mostLines  = 3  // of a text in a box; the whole text is its title
)

// box is a member with its place in the picture.
type box struct {
	*Member
	X, Y, W, H float64
	Lines      []line
	below      []*box
	column     int
}

type line struct {
	Class, Text, Whole string
	X, Y               float64
}

// edge joins a box with one that was built on it.
type edge struct{ X1, Y1, X2, Y2, Mid float64 }

// picture is what the templates draw.
type picture struct {
	Family
	Width, Height float64
	Boxes         []*box
	Edges         []edge
}

//go:embed family.svg.tmpl
var svgText string

//go:embed family.html.tmpl
var pageText string

// templates are read when the first is used; most commands use none.
var templates = sync.OnceValue(func() *template.Template {
	t := template.New("svg").Funcs(template.FuncMap{"join": strings.Join})
	return template.Must(template.Must(t.Parse(svgText)).New("page").Parse(pageText))
})

// SVG draws a family as a picture.
func (f *Family) SVG(w io.Writer) error { return templates().ExecuteTemplate(w, "svg", f.lay()) }

// HTML writes a page with the picture and the same as a table.
func (f *Family) HTML(w io.Writer) error { return templates().ExecuteTemplate(w, "page", f.lay()) }

// lay finds a place for every member: a column for each generation, each member at the middle of
// those built on it.
func (f *Family) lay() *picture {
	p := &picture{Family: *f}
	at := map[string]*box{}
	var widths []float64
	for i := range f.Members {
		b := &box{Member: &f.Members[i]}
		b.write()
		if on := at[b.On]; on != nil {
			b.column = on.column + 1
			on.below = append(on.below, b)
		}
		at[b.Ref] = b
		p.Boxes = append(p.Boxes, b)
		if b.column == len(widths) {
			widths = append(widths, 0)
		}
		widths[b.column] = max(widths[b.column], b.W)
	}
	bottom := margin
	for _, b := range p.Boxes {
		if at[b.On] == nil {
			bottom = b.stack(bottom) + rowGap
		}
	}
	p.Height = bottom - rowGap + margin
	for _, b := range p.Boxes {
		b.X = margin
		for _, w := range widths[:b.column] {
			b.X += w + columnGap
		}
		b.W = widths[b.column]
		p.Width = max(p.Width, b.X+b.W+margin)
		for i := range b.Lines {
			b.Lines[i].X, b.Lines[i].Y = b.X+padding, b.Y+padding+lineHeight*(float64(i)+0.72)
		}
	}
	for _, b := range p.Boxes {
		for _, c := range b.below {
			p.Edges = append(p.Edges, edge{b.X + b.W, b.Y + b.H/2, c.X, c.Y + c.H/2, (b.X + b.W + c.X) / 2})
		}
	}
	return p
}

// stack places a box and those built on it, from a height on, and returns where they end.
func (b *box) stack(top float64) (bottom float64) {
	if len(b.below) == 0 {
		b.Y = top
		return top + b.H
	}
	bottom = top
	for i, c := range b.below {
		if i > 0 {
			bottom += rowGap
		}
		bottom = c.stack(bottom)
	}
	first, last := b.below[0], b.below[len(b.below)-1]
	b.Y = (first.Y+first.H/2+last.Y+last.H/2)/2 - b.H/2
	if low := top - b.Y; low > 0 { // it is higher than all below it
		b.move(low)
		bottom += low
	}
	return max(bottom, b.Y+b.H)
}

func (b *box) move(down float64) {
	b.Y += down
	for _, c := range b.below {
		c.move(down)
	}
}

// write sets the lines of a box and its size.
func (b *box) write() {
	add := func(class, text string) {
		for _, part := range wrap(text) {
			b.Lines = append(b.Lines, line{Class: class, Text: part, Whole: text})
		}
	}
	add("name", b.Ref)
	if b.Outside() {
		add("faint", "base from outside")
	} else {
		add("faint", b.Age+" old")
	}
	add("tags", strings.Join(b.Tags, ", "))
	if b.Planned {
		add("due", b.State)
	} else {
		add("recalled", b.State)
	}
	add("due", b.Due)
	for _, l := range b.Lines {
		b.W = max(b.W, 2*padding+charWidth*float64(utf8.RuneCountInString(l.Text)))
	}
	b.H = 2*padding + lineHeight*float64(len(b.Lines)) - 4
}

// wrap breaks a text into lines between words, and cuts what is too long all the same.
func wrap(text string) (lines []string) {
	for _, word := range strings.Fields(text) {
		last := len(lines) - 1
		switch {
		case last >= 0 && utf8.RuneCountInString(lines[last])+1+utf8.RuneCountInString(word) <= mostChars:
			lines[last] += " " + word
		case len(lines) == mostLines:
			lines[last] = cut(lines[last]+" "+word, mostChars)
			return lines
		default:
			lines = append(lines, cut(word, mostChars))
		}
	}
	return lines
}

func cut(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return text
}

// Class is the kinds of a box, for its colours.
func (b *box) Class() string {
	kinds := "box"
	for _, k := range []struct {
		is   bool
		name string
	}{{b.Outside(), " outside"}, {b.Here, " here"}, {b.State != "" && !b.Planned, " withdrawn"}} {
		if k.is {
			kinds += k.name
		}
	}
	return kinds
}
