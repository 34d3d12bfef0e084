package machine

import (
	"bufio"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// lineSplitter turns a script's two streams into whole lines, one at a time.
type lineSplitter struct {
	end  string // a line that ends with this ends the stream, whoever still holds it open
	mu   sync.Mutex
	emit func(stream, text string)
}

const longestLine = 16 << 10 // bytes; a longer line comes in pieces

// Interpreters name the line in their messages: "script: line 12: …" or "script: 12: …".
var namesLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^` + scriptDir + `/[^:]+: (?:line )?(\d+): `)
})

// copy passes on a stream until it ends and returns the last line number of the script that it mentions.
func (l *lineSplitter) copy(stream string, r io.Reader) (line int) {
	in := bufio.NewReaderSize(r, longestLine)
	for {
		raw, err := in.ReadSlice('\n')
		text, ended := strings.CutSuffix(string(raw), l.end+"\n")
		if text != "" {
			if m := namesLine().FindStringSubmatch(text); m != nil {
				line, _ = strconv.Atoi(m[1]) // digits by the expression
			}
			l.mu.Lock()
			l.emit(stream, tidy(text))
			l.mu.Unlock()
		}
		if ended || (err != nil && !errors.Is(err, bufio.ErrBufferFull)) {
			return line
		}
	}
}

// Sequences with which programs colour text and move the cursor (ECMA-48, 5.4).
var controls = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\x1b(\[[0-?]*[ -/]*[@-~]|\][^\a\x1b]*(\a|\x1b\\)|[@-Z\\-_])`)
})

// tidy makes a line safe to print: of a progress line that overwrites itself the last state
// stays, control characters go.
func tidy(text string) string {
	text = strings.TrimRight(text, "\r\n")
	if i := strings.LastIndexByte(text, '\r'); i >= 0 {
		text = text[i+1:]
	}
	text = controls().ReplaceAllString(text, "")
	return strings.Map(func(r rune) rune {
		if (r < ' ' && r != '\t') || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, "\uFFFD"))
}
