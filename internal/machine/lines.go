package machine

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"zygos/internal/plain"
)

// lineSplitter turns a script's two streams into whole lines, one at a time.
type lineSplitter struct {
	end  string // a line that ends with this ends the stream, whoever still holds it open
	mu   sync.Mutex
	emit func(stream, text string)
	cut  func(stream string, lines, bytes int64)
}

const (
	longestLine = 16 << 10 // bytes; a longer line comes in pieces
	headBytes   = 4 << 20  // of a stream that are passed on
	headLines   = 100_000  // as well: each becomes an event of its own
	tailBytes   = 64 << 10 // of a longer one that are passed on from its end
	tailLines   = 2_000
)

// Interpreters name the line in their messages: "script: line 12: …" or "script: 12: …".
var namesLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^` + scriptDir + `/[^:]+: (?:line )?(\d+): `)
})

// copy passes on a stream until it ends and returns the last line number of the script that it
// mentions. Of a long stream it passes on the head and the tail and tells how much lay between.
func (l *lineSplitter) copy(stream string, r io.Reader) (line int) {
	in := bufio.NewReaderSize(r, longestLine)
	for passed, count := 0, 0; passed < headBytes && count < headLines; count++ {
		raw, err := in.ReadSlice('\n')
		passed += len(raw)
		text, ended := strings.CutSuffix(string(raw), l.end+"\n")
		line = cmp.Or(l.line(stream, text), line)
		if ended || (err != nil && !errors.Is(err, bufio.ErrBufferFull)) {
			return line
		}
	}
	tail, lines, size := l.skim(in)
	for n := bytes.Count(tail, []byte("\n")); n > tailLines; n-- {
		tail = tail[bytes.IndexByte(tail, '\n')+1:]
	}
	l.mu.Lock()
	if skipped := size - int64(len(tail)); skipped > 0 {
		l.cut(stream, lines-int64(bytes.Count(tail, []byte("\n"))), skipped)
	}
	l.mu.Unlock()
	for text := range strings.Lines(string(tail)) {
		line = cmp.Or(l.line(stream, text), line)
	}
	return line
}

// line passes on a line and returns the line of the script that it mentions, 0 for none.
func (l *lineSplitter) line(stream, text string) (line int) {
	if text == "" {
		return 0
	}
	if m := namesLine().FindStringSubmatch(text); m != nil {
		line, _ = strconv.Atoi(m[1]) // digits by the expression
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.emit(stream, tidy(text))
	return line
}

// skim reads to the end of a stream; it returns its last whole lines, and how many lines and
// bytes there were in all.
func (l *lineSplitter) skim(in io.Reader) (tail []byte, lines, size int64) {
	mark := []byte(l.end + "\n")
	buf := make([]byte, 0, 4*tailBytes)
	for ended := false; !ended; {
		if len(buf) > 3*tailBytes {
			buf = append(buf[:0], buf[len(buf)-tailBytes-len(mark):]...)
		}
		n, err := in.Read(buf[len(buf):cap(buf)])
		from := max(0, len(buf)-len(mark))
		buf = buf[:len(buf)+n]
		lines += int64(bytes.Count(buf[len(buf)-n:], []byte("\n")))
		size += int64(n)
		if i := bytes.Index(buf[from:], mark); i >= 0 {
			after := buf[from+i:]
			size -= int64(len(after))
			lines -= int64(bytes.Count(after, []byte("\n")))
			buf, ended = buf[:from+i], true
		}
		ended = ended || err != nil
	}
	if len(buf) > tailBytes {
		buf = buf[len(buf)-tailBytes:]
	}
	if int64(len(buf)) < size {
		if i := bytes.IndexByte(buf, '\n'); i >= 0 {
			buf = buf[i+1:]
		}
	}
	return buf, lines, size
}

// Sequences with which programs colour text and move the cursor (ECMA-48, 5.4).
var controls = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\x1b(\[[0-?]*[ -/]*[@-~]|\][^\a\x1b]*(\a|\x1b\\)|[@-Z\\-_])`)
})

// tidy is a line as a person saw it: of a progress line that overwrites itself the last state stays,
// sequences for terminals and bells go; whatever else is not for reading shows as what it is.
func tidy(text string) string {
	text = strings.TrimRight(text, "\r\n")
	if i := strings.LastIndexByte(text, '\r'); i >= 0 {
		text = text[i+1:]
	}
	text = strings.Map(func(r rune) rune {
		if (r < ' ' && r != '\t') || r == 0x7f {
			return -1
		}
		return r
	}, controls().ReplaceAllString(strings.ToValidUTF8(text, "\uFFFD"), ""))
	return plain.Lines(text)
}
