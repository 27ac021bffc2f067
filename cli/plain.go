package cli

import (
	"fmt"
	"io"
	"os"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// A plainWriter writes text to a terminal, or to a file that may come to be shown
// on one. Control characters in it, such as one in the name of a recording's
// column, are written as \x1b, so that they do nothing there; and so are those that
// nobody sees, or that turn the text around them about.
type plainWriter struct {
	io.Writer
	inJSON bool // so that a reader of JSON takes them for what they were
}

// escaped appends the escape sequence of a character that must not reach a terminal.
func (w plainWriter) escaped(to []byte, r rune) []byte {
	if high, low := utf16.EncodeRune(r); w.inJSON && high != unicode.ReplacementChar {
		return fmt.Appendf(to, `\u%04x\u%04x`, high, low)
	}
	if w.inJSON || r > 0xff {
		return fmt.Appendf(to, `\u%04x`, r)
	}
	return fmt.Appendf(to, `\x%02x`, r)
}

func (w plainWriter) Write(p []byte) (int, error) {
	var safe []byte
	done := 0 // of p, that is in safe
	for i := 0; i < len(p); {
		r, n := rune(p[i]), 1
		if r >= 0x80 {
			r, n = utf8.DecodeRune(p[i:])
		}
		if r != '\n' && r != '\t' && (unicode.IsControl(r) || r >= 0x80 && unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)) {
			safe = append(safe, p[done:i]...)
			safe = w.escaped(safe, r)
			done = i + n
		}
		i += n
	}
	if safe == nil {
		return w.Writer.Write(p)
	}
	if _, err := w.Writer.Write(append(safe, p[done:]...)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// file is the file that a writer writes to in the end, if it is one.
func file(w io.Writer) (*os.File, bool) {
	if p, ok := w.(plainWriter); ok {
		w = p.Writer
	}
	f, ok := w.(*os.File)
	return f, ok
}
