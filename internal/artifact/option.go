package artifact

import (
	"cmp"
	"slices"
	"strconv"
	"time"
)

// Option is a key that a definition may give an artifact, beside format, name and only.
type Option struct {
	Name  string
	Is    Shape
	Words []string // the choices of a Word, the default first
	Open  bool     // of words, none means something else than the first
	Needs string   // another option, without which this one says nothing
}

// Shape is what an option's value looks like in a definition, and how it is kept.
type Shape int

const (
	Bytes Shape = iota // "2GiB"; kept as a number
	Word               // one of some
	Text               // any, on one line
	Count              // a whole number, 1 or more
	Span               // "3m"; kept as a duration
	Parts              // tables; kept as PartsText has it
)

// Says is what a definition says of an artifact, by option; what is not in it is the default.
type Says map[string]string

// Bytes is a size, or the default.
func (s Says) Bytes(name string, otherwise int64) int64 { return s.number(name, otherwise) }

// Count is a whole number, or the default.
func (s Says) Count(name string, otherwise int64) int64 { return s.number(name, otherwise) }

func (s Says) number(name string, otherwise int64) int64 {
	if n, err := strconv.ParseInt(s[name], 10, 64); err == nil {
		return n
	}
	return otherwise
}

// Word is the choice of an option, the first of its words by default.
func (s Says) Word(o *Option) string { return cmp.Or(s[o.Name], o.Words[0]) }

// Span is a duration, 0 if none is given.
func (s Says) Span(name string) time.Duration {
	d, _ := time.ParseDuration(s[name]) // "" is none
	return d
}

// AllOptions are those of all formats, each once, by name.
func AllOptions() (list []*Option) {
	for _, f := range Table {
		for _, o := range f.Options {
			if !slices.ContainsFunc(list, func(had *Option) bool { return had.Name == o.Name }) {
				list = append(list, o)
			}
		}
	}
	slices.SortFunc(list, func(a, b *Option) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// Taking lists the formats that take an option.
func Taking(option string) (names []string) {
	for _, f := range Table {
		if f.Takes(option) {
			names = append(names, f.Name)
		}
	}
	return names
}

// What several formats take.
var (
	size    = Option{Name: "size", Is: Bytes}
	booting = Option{Name: "boot", Is: Word, Words: []string{"none", "uefi", "base"}, Open: true}
	loading = Option{Name: "loader", Is: Word, Words: []string{"uki", "systemd-boot", "grub"}, Open: true, Needs: "boot"}
	esp     = Option{Name: "esp", Is: Bytes, Needs: "boot"}
	boots   = Option{Name: "boots", Is: Span, Needs: "boot"}                                    // within that time, when it is tried
	network = Option{Name: "network", Is: Word, Words: []string{"none", "host"}, Needs: "boot"} // of a machine that is tried
	cmdline = Option{Name: "cmdline", Is: Text, Needs: "boot"}

	partition = Option{Name: "partition", Is: Parts, Needs: "boot"}
)
