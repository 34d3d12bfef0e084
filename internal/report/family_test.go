package report_test

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/report"
)

type rect struct {
	Class string  `xml:"class,attr"`
	X     float64 `xml:"x,attr"`
	Y     float64 `xml:"y,attr"`
	W     float64 `xml:"width,attr"`
	H     float64 `xml:"height,attr"`
}

type drawn struct {
	Width  float64 `xml:"width,attr"`
	Height float64 `xml:"height,attr"`
	Paths  []struct {
		D string `xml:"d,attr"`
	} `xml:"path"`
	Groups []struct {
		Rect rect     `xml:"rect"`
		Text []string `xml:"text"`
	} `xml:"g"`
}

// wide is a family of three generations with so many children, each with so many of its own.
func wide(children, grandchildren int) *report.Family {
	f := &report.Family{Title: "base@1.0.0", Made: time.Now(),
		Members: []report.Member{{Ref: "os@1"}, {Ref: "base@1.0.0", On: "os@1", Age: "3 days", Tags: []string{"stable", "live"}, Here: true}}}
	for i := range children {
		child := fmt.Sprintf("child-%d@1.0.0", i)
		f.Members = append(f.Members, report.Member{Ref: child, On: "base@1.0.0", Age: "2 days", State: "recalled: <b> & more",
			Due: strings.Repeat("a long reason ", 20)})
		for j := range grandchildren {
			f.Members = append(f.Members, report.Member{Ref: fmt.Sprintf("grandchild-%d-%d@1.0.0", i, j), On: child, Age: "1 s",
				State: "recall planned", Planned: true})
		}
	}
	return f
}

func TestEveryMemberHasAPlaceOfItsOwn(t *testing.T) {
	for _, size := range [][2]int{{0, 0}, {1, 0}, {3, 2}, {1, 9}, {40, 1}} {
		f := wide(size[0], size[1])
		var out bytes.Buffer
		require.NoError(t, f.SVG(&out))
		var d drawn
		require.NoError(t, xml.Unmarshal(out.Bytes(), &d))
		require.Len(t, d.Groups, len(f.Members))
		require.Len(t, d.Paths, len(f.Members)-1)
		for i, a := range d.Groups {
			r := a.Rect
			require.True(t, r.X >= 0 && r.Y >= 0 && r.X+r.W <= d.Width && r.Y+r.H <= d.Height+1, "%v in %v x %v", r, d.Width, d.Height)
			for _, b := range d.Groups[:i] {
				o := b.Rect
				require.False(t, r.X < o.X+o.W && o.X < r.X+r.W && r.Y < o.Y+o.H && o.Y < r.Y+r.H, "%v on %v", r, o)
			}
			for _, text := range a.Text {
				require.LessOrEqual(t, float64(len([]rune(text)))*7, r.W)
			}
		}
		require.Contains(t, d.Groups[0].Rect.Class, "outside")
		require.Contains(t, d.Groups[1].Rect.Class, "here")
	}
}

func TestPageIsSelfContainedAndSaysItAll(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, wide(2, 1).HTML(&out))
	page := out.String()
	for _, want := range []string{"<title>Family of base@1.0.0</title>", "stable, live", "recalled: &lt;b&gt; &amp; more",
		"prefers-color-scheme: dark", "@media print", "<svg", "grandchild-1-0@1.0.0", strings.TrimSpace(strings.Repeat("a long reason ", 20))} {
		require.Contains(t, page, want)
	}
	require.NotContains(t, strings.ReplaceAll(page, "http://www.w3.org/2000/svg", ""), "http")
	d := xml.NewDecoder(strings.NewReader(page[strings.Index(page, "<svg"):strings.Index(page, "</svg>")]))
	for {
		if _, err := d.Token(); err != nil {
			if err != io.EOF {
				require.ErrorContains(t, err, "unexpected EOF")
			}
			return
		}
	}
}
