package term

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/term"
)

// Steer goes before what ferry itself sends to steer a terminal. It is no part
// of any text in UTF-8, so that nothing that came with data can say it.
const Steer = "\xff"

// ClearLine goes to the beginning of a line and empties it.
const ClearLine = Steer + "\r" + Steer + "\x1b[K"

// Steered marks text as that of ferry itself where a library has put in escape
// sequences; data in it must have been made visible before.
func Steered(text string) string { return strings.ReplaceAll(text, "\x1b", Steer+"\x1b") }

// screen is where ferry prints. Control characters, and those that turn the
// direction of text, come from keys, headers, bodies and descriptions that
// anybody may have written: it prints them as \u001b, which also is what they
// are in JSON.
type screen struct {
	to   io.Writer
	mu   sync.Mutex
	rest []byte // the beginning of a character whose end comes with the next write
}

func (s *screen) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	text := p
	if len(s.rest) > 0 {
		text = append(s.rest, p...)
		s.rest = nil
	}
	if bytes.IndexFunc(text, hidden) < 0 && utf8.Valid(text) {
		_, err := s.to.Write(text)
		return len(p), err
	}
	out := make([]byte, 0, len(text)+64)
	for len(text) > 0 {
		if text[0] == Steer[0] && len(text) > 1 {
			out, text = append(out, text[1]), text[2:]
			continue
		}
		if text[0] == Steer[0] || !utf8.FullRune(text) {
			s.rest = bytes.Clone(text)
			break
		}
		r, size := utf8.DecodeRune(text)
		if hidden(r) {
			out = append(out, visible(r)...)
		} else {
			out = append(out, text[:size]...)
		}
		text = text[size:]
	}
	_, err := s.to.Write(out)
	return len(p), err
}

// hidden reports whether a character steers a terminal, or the reading of what
// stands beside it.
func hidden(r rune) bool {
	switch {
	case r == '\n', r == '\t':
		return false
	case r < ' ', r >= 0x7f && r < 0xa0:
		return true
	}
	return r == 0x061c || r == 0x200e || r == 0x200f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

func visible(r rune) string { return fmt.Sprintf(`\u%04x`, r) }

// Cell makes text fit a cell or a line of its own: nothing in it begins a
// line.
func Cell(text string) string {
	if strings.IndexFunc(text, func(r rune) bool { return hidden(r) || r == '\n' || r == '\t' }) < 0 {
		return text
	}
	var b strings.Builder
	for i, r := range text {
		switch {
		case strings.HasPrefix(text[i:], Steer):
			// what mark has coloured
			b.WriteString(Steer)
		case i > 0 && strings.HasSuffix(text[:i], Steer):
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case hidden(r):
			b.WriteString(visible(r))
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// TerminalOf returns the terminal that a writer is, if it is one.
func TerminalOf(w io.Writer) (*os.File, bool) {
	if s, ok := w.(*screen); ok {
		w = s.to
	}
	f, ok := w.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}
