package recording

import (
	"bytes"
	"errors"
	"io"
)

// MaxLine is the longest line of a text file that is read, in bytes.
const MaxLine = 1 << 20

// ErrLong is the error of a line beyond MaxLine.
var ErrLong = errors.New("line too long")

// Lines hands out the lines of a text file without their ends, from one buffer
// that grows only up to MaxLine. A byte order mark is dropped.
type Lines struct {
	in         io.Reader
	buf        []byte
	start, end int // of what is read and not handed out
	begun      bool
	err        error
}

// NewLines reads lines from a file.
func NewLines(in io.Reader) *Lines { return &Lines{in: in, buf: make([]byte, 64<<10)} }

// LinesOf gives the lines of a text that is all there, without copying it.
func LinesOf(text []byte) *Lines {
	return &Lines{buf: text, end: len(text), begun: true, err: io.EOF}
}

// Head is what the file begins with, as far as one buffer holds it, in whole
// lines; it is not taken.
func (l *Lines) Head() ([]byte, error) {
	for l.end < len(l.buf) && l.err == nil {
		l.fill()
	}
	l.begin()
	head := l.buf[l.start:l.end]
	if l.err == nil {
		if i := bytes.LastIndexByte(head, '\n'); i >= 0 {
			head = head[:i+1]
		}
	} else if l.err != io.EOF {
		return nil, l.err
	}
	return head, nil
}

// begin drops the byte order mark.
func (l *Lines) begin() {
	if !l.begun {
		l.begun = true
		if bytes.HasPrefix(l.buf[l.start:l.end], []byte("\ufeff")) {
			l.start += len("\ufeff")
		}
	}
}

// Next is the next line, until the following call; io.EOF after the last.
func (l *Lines) Next() ([]byte, error) {
	for !l.begun && l.end-l.start < len("\ufeff") && l.err == nil {
		l.fill()
	}
	l.begin()
	for scanned := 0; ; {
		if i := bytes.IndexByte(l.buf[l.start+scanned:l.end], '\n'); i >= 0 {
			line := l.buf[l.start : l.start+scanned+i]
			l.start += scanned + i + 1
			if n := len(line); n > 0 && line[n-1] == '\r' {
				line = line[:n-1]
			}
			return line, nil
		}
		scanned = l.end - l.start
		if l.err != nil {
			if l.err != io.EOF || l.start == l.end {
				return nil, l.err
			}
			line := l.buf[l.start:l.end]
			l.start = l.end
			return bytes.TrimSuffix(line, []byte("\r")), nil
		}
		if scanned > MaxLine {
			return nil, ErrLong
		}
		l.fill()
	}
}

// Chunk takes about size bytes of whole lines, with their ends, into a buffer;
// io.EOF after the last.
func (l *Lines) Chunk(buf []byte, size int) ([]byte, error) {
	l.begin()
	buf = append(buf[:0], l.buf[l.start:l.end]...)
	l.start, l.end = 0, 0
	if cap(buf) < size {
		buf = append(make([]byte, 0, size), buf...)
	}
	for len(buf) < size && l.err == nil {
		n, err := l.in.Read(buf[len(buf):size])
		buf, l.err = buf[:len(buf)+n], err
	}
	if l.err != nil && l.err != io.EOF {
		return nil, l.err
	}
	if len(buf) == 0 {
		return nil, io.EOF
	}
	if l.err == io.EOF {
		return buf, nil
	}
	end := bytes.LastIndexByte(buf, '\n') + 1
	if end == 0 {
		return nil, ErrLong
	}
	if rest := buf[end:]; len(rest) > len(l.buf) {
		l.buf = append([]byte{}, rest...)
		l.end = len(rest)
	} else {
		l.end = copy(l.buf, rest)
	}
	return buf[:end], nil
}

// fill reads more, after making room for it.
func (l *Lines) fill() {
	if l.start > 0 {
		l.end = copy(l.buf, l.buf[l.start:l.end])
		l.start = 0
	}
	if l.end == len(l.buf) {
		l.buf = append(l.buf, make([]byte, len(l.buf))...)
	}
	for range 100 {
		n, err := l.in.Read(l.buf[l.end:])
		l.end += n
		if n > 0 || err != nil {
			l.err = err
			return
		}
	}
	l.err = io.ErrNoProgress
}
