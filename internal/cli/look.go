package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"golang.org/x/term"

	"zygos/internal/plain"
	"zygos/internal/words"
)

var styles = map[words.Style]lipgloss.Style{words.Bold: lipgloss.NewStyle().Bold(true), words.Faint: lipgloss.NewStyle().Faint(true),
	words.Red: lipgloss.NewStyle().Foreground(lipgloss.Red), words.Green: lipgloss.NewStyle().Foreground(lipgloss.Green),
	words.Amber: lipgloss.NewStyle().Foreground(lipgloss.Yellow)}

// screen is where people read: nothing that others wrote reaches it raw.
type screen struct{ io.Writer }

// colours are all that paint writes.
var colours = sync.OnceValue(func() (list []string) {
	for _, style := range styles {
		before, after, _ := strings.Cut(style.Render("x"), "x")
		list = append(list, before, after)
	}
	return list
})

func (s screen) Write(p []byte) (int, error) {
	text := string(p)
	if _, err := io.WriteString(s.Writer, plain.Painted(text, colours())); err != nil {
		return 0, err
	}
	return len(p), nil
}

// raw is what a screen writes to, for bytes that are not for reading.
func raw(w io.Writer) io.Writer {
	if s, ok := w.(screen); ok {
		w = s.Writer
	}
	return w
}

// file is the file that a writer writes to, if it is one.
func file(w io.Writer) (*os.File, bool) {
	w = raw(w)
	if s, ok := w.(*sink); ok {
		w = s.Writer
	}
	f, ok := w.(*os.File)
	return f, ok
}

func isTerminal(w io.Writer) bool {
	f, ok := file(w)
	return ok && term.IsTerminal(int(f.Fd()))
}

// wideness is how many characters a terminal shows in a line, 0 for what is none.
func wideness(w io.Writer) int {
	if f, ok := file(w); ok {
		if columns, _, err := term.GetSize(int(f.Fd())); err == nil {
			return columns
		}
	}
	return 0
}

func (in *invocation) colored(w io.Writer) bool {
	switch in.color {
	case "always":
		return true
	case "never":
		return false
	}
	return os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && isTerminal(w)
}

// paint styles a text where colour is wanted; the text says the same without.
func (in *invocation) paint(style words.Style, text string) string {
	if !in.colored(in.err) || !in.colored(in.out) {
		return text
	}
	return styles[style].Render(text)
}

func (in *invocation) writeJSON(v any) error {
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	err := enc.Encode(v)
	if err == nil {
		in.wrote = true
		_, err = raw(in.out).Write(plain.JSON(text.Bytes()))
	}
	return err
}

// page is an empty page in the colours of this terminal.
func (in *invocation) page() *words.Page { return &words.Page{Style: in.paint, Near: nearby} }

// show writes a page: notes and commands beside the result.
func (in *invocation) show(page *words.Page) error { return in.showOn(in.out, page) }

func (in *invocation) showOn(w io.Writer, page *words.Page) (err error) {
	for _, part := range page.Parts {
		switch {
		case err != nil:
			return err
		case part.Table != nil:
			err = in.columns(part.Table.Head, part.Table.Rows)
		case part.Pairs != nil:
			in.pairs(part.Pairs)
		case part.Note != "":
			in.note("%s", part.Note)
		case part.Next != "":
			in.next(part.Next)
		default:
			_, err = fmt.Fprintln(w, part.Line)
		}
	}
	return err
}

// answer writes a result: as a document where JSON is wanted, else as a page.
func (in *invocation) answer(document any, page func(*words.Page)) error {
	if in.json {
		return in.writeJSON(document)
	}
	pg := in.page()
	page(pg)
	return in.show(pg)
}

// note tells something on the side.
func (in *invocation) note(form string, args ...any) {
	if !in.quiet && !in.json {
		fmt.Fprintf(in.err, form+"\n", args...)
	}
}

// next proposes the next useful command.
func (in *invocation) next(command string) {
	in.note("%s %s", in.paint(words.Faint, "next:"), command)
}

// columns writes rows below a head, aligned, without lines.
func (in *invocation) columns(head []string, rows [][]string) error {
	for _, row := range rows {
		for i := range row {
			row[i] = oneLine.Replace(row[i])
		}
	}
	t := table.New().Border(lipgloss.HiddenBorder()).BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).
		BorderHeader(false).BorderColumn(false).BorderRow(false).Headers(head...).Rows(rows...).
		StyleFunc(func(row, col int) lipgloss.Style {
			style := lipgloss.NewStyle()
			if col < len(head)-1 {
				style = style.PaddingRight(2)
			}
			if row == table.HeaderRow && in.colored(in.out) {
				style = style.Bold(true)
			}
			return style
		})
	text := t.String()
	if in.wide > 0 && lipgloss.Width(text) > in.wide {
		return in.blocks(head, rows)
	}
	for _, line := range strings.Split(text, "\n") {
		if _, err := fmt.Fprintln(in.out, strings.TrimRight(line, " ")); err != nil {
			return err
		}
	}
	return nil
}

// blocks writes each row as a name and what is known of it, for a terminal that is narrower than the table: no value
// is folded that somebody may want to copy.
func (in *invocation) blocks(head []string, rows [][]string) error {
	for _, row := range rows {
		text, used := in.paint(words.Bold, row[0]), in.wide
		for i, cell := range row[1:] {
			if cell == "-" || cell == "" {
				continue
			}
			name := strings.ToLower(head[i+1])
			width := len(name) + 1 + lipgloss.Width(cell)
			if used += 2 + width; used > in.wide {
				text, used = text+"\n", 2+width
			}
			text += "  " + in.paint(words.Faint, name) + " " + cell
		}
		if _, err := fmt.Fprintln(in.out, text); err != nil {
			return err
		}
	}
	return nil
}

// oneLine keeps a text of others within its cell.
var oneLine = strings.NewReplacer("\n", `\n`, "\r", `\r`, "\t", `\t`)

// pairs writes names and values below each other.
func (in *invocation) pairs(rows [][2]string) {
	width := 0
	for _, r := range rows {
		width = max(width, len(r[0]))
	}
	for _, r := range rows {
		fmt.Fprintf(in.out, "%s  %s\n", in.paint(words.Faint, fmt.Sprintf("%-*s", width, r[0])), oneLine.Replace(r[1]))
	}
}

// Words for people.
var (
	mib     = plain.MiB
	human   = plain.Duration
	when    = plain.Time
	counted = plain.Counted
)
