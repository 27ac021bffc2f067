package cli

import (
	"fmt"
	"io"
	"os"
)

// A plainWriter writes text to a terminal, or to a file that may come to be shown
// on one. Control characters in it, such as one in the name of a recording's
// column, are written as \x1b, so that they do nothing there.
type plainWriter struct {
	io.Writer
	escape string // how a character is written, for fmt
}

// The ways to write a control character: for people, and for readers of JSON, who
// take it for what it was.
const (
	forPeople = `\x%02x`
	inJSON    = `\u%04x`
)

func (w plainWriter) Write(p []byte) (int, error) {
	var safe []byte
	done := 0 // of p, that is in safe
	for i := 0; i < len(p); i++ {
		from, code := i, rune(p[i])
		switch {
		case code == '\n' || code == '\t':
			continue
		case code == 0xc2 && i+1 < len(p) && p[i+1] >= 0x80 && p[i+1] < 0xa0: // of the second range, in UTF-8
			i++
			code = rune(p[i])
		case code >= ' ' && code != 0x7f:
			continue
		}
		safe = append(safe, p[done:from]...)
		safe = fmt.Appendf(safe, w.escape, code)
		done = i + 1
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
