// Package csv reads wide CSV recordings: a heading row, then a row for every
// time, with a column for every point.
//
//	time,oxygen [mA],mains
//	2026-03-02T02:00:00Z,10.48,1
//	2026-03-02T02:00:01Z,10.47,
//	2026-03-02T02:00:02Z,bad,0
//
// The time column is the one named time, timestamp, date or datetime, or else
// the first. Its times are RFC 3339, or numbers: elapsed seconds below 1e8,
// seconds since 1970 below 1e11, milliseconds above. An empty cell is no
// reading; NaN, bad, null and infinities are bad readings; on, true and closed
// are 1, off, false and open are 0, in any case of letters. A heading may end
// in the unit in which its values stand, in brackets.
//
// Fields may be quoted; a quoted field ends on its line. A byte order mark and
// CRLF are read and dropped.
package csv

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"rectura/core/recording"
)

// The limits of what is read. What is beyond them is no recording.
const (
	MaxLine    = 1 << 20 // bytes
	MaxColumns = 4096
)

// A Reader reads recordings. Its zero value is ready for use.
type Reader struct {
	Name       string // of the file, for errors
	TimeColumn string // its heading, if it is none of the usual ones
}

// An Error is what is wrong with a file, and where. Line and Column count from
// 1, Column in characters; both are 0 where the whole file is meant.
type Error struct {
	File         string
	Line, Column int
	Text         string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Text)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Text)
}

// Read reads a whole recording as a stream: memory grows with what is kept,
// not with the text. The error is an *Error unless reading itself failed.
func (r Reader) Read(in io.Reader) (*recording.Recording, error) {
	s := &scan{Reader: r, lines: lineReader{in: in, buf: make([]byte, 256<<10)}}
	rec, err := s.read()
	if err != nil {
		var e *Error
		if !errors.As(err, &e) {
			err = fmt.Errorf("reading %s: %w", r.Name, err)
		}
		return nil, err
	}
	return rec, nil
}

// A scan is one Read under way.
type scan struct {
	Reader
	lines   lineReader
	number  int // of the line
	line    []byte
	columns []*recording.Column // by field; nil for the time
	timeAt  int
	times   timeReader
	cells   []recording.Cell // by column without the time
	quoted  []byte           // the contents of a quoted field with doubled quotes
}

// fail gives an error at a byte of the present line.
func (s *scan) fail(at int, format string, args ...any) error {
	column := 1 + utf8.RuneCount(s.line[:min(at, len(s.line))])
	return &Error{s.Name, s.number, column, fmt.Sprintf(format, args...)}
}

// next reads the next line that is not empty; false at the end of the file.
func (s *scan) next() (bool, error) {
	for {
		line, err := s.lines.next()
		if err == io.EOF {
			return false, nil
		}
		s.number++
		if errors.Is(err, errLong) {
			return false, &Error{s.Name, s.number, 1, fmt.Sprintf("this line is longer than %d MiB; this is no CSV recording", MaxLine>>20)}
		}
		if err != nil {
			return false, err
		}
		if s.number == 1 {
			line = bytes.TrimPrefix(line, []byte("\ufeff"))
		}
		if line = bytes.TrimSuffix(line, []byte("\r")); len(line) > 0 {
			s.line = line
			return true, nil
		}
	}
}

func (s *scan) read() (*recording.Recording, error) {
	any, err := s.next()
	if err != nil {
		return nil, err
	}
	if !any {
		return nil, &Error{File: s.Name, Text: "the file is empty; a recording begins with a row of column names"}
	}
	if err := s.heading(); err != nil {
		return nil, err
	}
	columns := slices.Clone(s.columns)
	columns = slices.Delete(columns, s.timeAt, s.timeAt+1)
	s.cells = make([]recording.Cell, len(columns))
	builder := recording.NewBuilder(columns, recording.Clock{})
	for {
		any, err := s.next()
		if err != nil {
			return nil, err
		}
		if !any {
			break
		}
		t, at, err := s.row()
		if err != nil {
			return nil, err
		}
		if last, some := builder.Last(); some && t < last {
			clock := s.times.clock
			return nil, s.fail(at, "the time goes back, from %s to %s%s; sort the rows by time", clock.Full(last), clock.Full(t), s.assumed())
		}
		builder.Row(t, s.cells)
	}
	rec, repeated := builder.Finish()
	if rec.Rows == 0 {
		return nil, &Error{File: s.Name, Text: "the file has column names and no row below them"}
	}
	rec.Clock = s.times.clock
	if repeated > 0 {
		rec.Notes = append(rec.Notes, fmt.Sprintf("readings that came again for the same time, of which the later counts: %d", repeated))
	}
	return rec, nil
}

// assumed is the part of a message about times that tells how the time column
// was chosen, if it was a guess.
func (s *scan) assumed() string {
	if s.TimeColumn != "" || isTimeName(s.times.heading) {
		return ""
	}
	return fmt.Sprintf(" (no column is named time, so the first, %s, is taken for the time)", s.times.heading)
}

func isTimeName(s string) bool {
	return slices.Contains([]string{"time", "timestamp", "date", "datetime"}, strings.ToLower(s))
}

// heading reads the row of column names.
func (s *scan) heading() error {
	if !utf8.Valid(s.line) || bytes.IndexByte(s.line, 0) >= 0 {
		return &Error{File: s.Name, Text: "this is not a text file; a recording is read as CSV"}
	}
	seen := map[string]bool{}
	s.timeAt = -1
	for at := 0; at >= 0; {
		start := at
		field, next, err := s.field(at)
		if err != nil {
			return err
		}
		name, unit, err := splitHeading(string(field))
		switch {
		case err != nil:
			return s.fail(start, "%v", err)
		case name == "":
			return s.fail(start, "column %d has no name", len(s.columns)+1)
		case seen[name]:
			return s.fail(start, "two columns are named %s; rename one", name)
		case len(s.columns) == MaxColumns:
			return s.fail(start, "more than %d columns", MaxColumns)
		}
		seen[name] = true
		if s.timeAt < 0 && (name == s.TimeColumn || s.TimeColumn == "" && isTimeName(name)) {
			s.timeAt = len(s.columns)
		}
		s.columns = append(s.columns, &recording.Column{Name: name, Unit: unit})
		at = next
	}
	if s.timeAt < 0 && s.TimeColumn != "" {
		return s.fail(0, "no column is named %s, which was to be the time", s.TimeColumn)
	}
	if s.timeAt < 0 {
		s.timeAt = 0
	}
	s.times.heading = s.columns[s.timeAt].Name
	if allNumbers(s.columns) {
		return s.fail(0, "the first row holds numbers where the column names must stand")
	}
	return nil
}

func allNumbers(columns []*recording.Column) bool {
	for _, c := range columns {
		if _, ok := parseFloat([]byte(c.Name)); !ok {
			return false
		}
	}
	return true
}

// splitHeading takes `oxygen [mA]` apart.
func splitHeading(s string) (name, unit string, err error) {
	name, unit, found := strings.Cut(s, "[")
	name = strings.TrimSpace(name)
	if !found {
		return name, "", nil
	}
	unit, rest, closed := strings.Cut(unit, "]")
	if unit = strings.TrimSpace(unit); !closed || strings.TrimSpace(rest) != "" || unit == "" {
		return "", "", fmt.Errorf("the heading %s has a bracket that is not a unit at its end; write it as: name [unit]", s)
	}
	return name, unit, nil
}

// row reads a row into s.cells, and its time, which stands at a byte of the line.
func (s *scan) row() (t int64, timeAt int, err error) {
	cell, at := 0, 0
	for i := range s.columns {
		if at < 0 {
			return 0, 0, s.fail(len(s.line), "this row ends after cell %d of %d; %s is missing", i, len(s.columns), s.columns[i].Name)
		}
		start := at
		var field []byte
		if field, at, err = s.field(at); err != nil {
			return 0, 0, err
		}
		if i == s.timeAt {
			if t, err = s.times.read(field); err != nil {
				return 0, 0, s.fail(start, "%v%s", err, s.assumed())
			}
			timeAt = start
			continue
		}
		c := &s.cells[cell]
		cell++
		c.Present = len(field) > 0
		if !c.Present {
			continue
		}
		var ok bool
		if c.Value, ok = parseFloat(field); !ok {
			if c.Value, ok = s.word(field, s.columns[i], start); !ok {
				return 0, 0, s.fail(start, "%s: %q is no reading; a cell holds a number, a word such as on, off or bad, or nothing", s.columns[i].Name, shorten(field))
			}
		}
	}
	if at >= 0 {
		return 0, 0, s.fail(at-1, "this row has more cells than the heading, %d; a decimal comma is not read", len(s.columns))
	}
	return t, timeAt, nil
}

// word reads the words that stand for readings.
func (s *scan) word(field []byte, c *recording.Column, at int) (float64, bool) {
	v, ok := words[strings.ToLower(string(field))]
	if ok && c.Word == nil && v == v {
		c.Word = &recording.Word{Text: string(field), Line: s.number, Column: 1 + utf8.RuneCount(s.line[:at])}
	}
	return v, ok
}

// shorten keeps a cell that is quoted in a message readable.
func shorten(b []byte) string {
	const most = 40
	if len(b) <= most {
		return string(b)
	}
	return string(b[:most]) + "…"
}

// field reads the field that begins at a byte of the line, without the blanks
// around it; next is where the one after it begins, or -1.
func (s *scan) field(at int) (field []byte, next int, err error) {
	line := s.line
	i := at
	for i < len(line) && line[i] != ',' {
		if line[i] == '"' {
			return s.quotedField(at, i)
		}
		i++
	}
	next = i + 1
	if i == len(line) {
		next = -1
	}
	for at < i && line[at] == ' ' {
		at++
	}
	for i > at && line[i-1] == ' ' {
		i--
	}
	return line[at:i], next, nil
}

// quotedField reads a field with a quote at a byte; the field itself begins at
// another, with only blanks between.
func (s *scan) quotedField(begin, quote int) (field []byte, next int, err error) {
	if len(bytes.TrimSpace(s.line[begin:quote])) > 0 {
		return nil, 0, s.fail(quote, "a quote in the middle of a cell; quote the whole cell, and double the quotes in it")
	}
	s.quoted = s.quoted[:0]
	for i := quote + 1; i < len(s.line); i++ {
		if s.line[i] != '"' {
			s.quoted = append(s.quoted, s.line[i])
			continue
		}
		if i+1 < len(s.line) && s.line[i+1] == '"' {
			s.quoted = append(s.quoted, '"')
			i++
			continue
		}
		rest := bytes.TrimLeft(s.line[i+1:], " ")
		next = len(s.line) - len(rest) + 1
		switch {
		case len(rest) == 0:
			next = -1
		case rest[0] != ',':
			return nil, 0, s.fail(next-1, "%q after a quoted cell, where a comma or the end of the row must stand", shorten(rest))
		}
		return bytes.TrimSpace(s.quoted), next, nil
	}
	return nil, 0, s.fail(quote, "the quote that opens here is not closed on its line")
}

var errLong = errors.New("line too long")

// A lineReader hands out lines without their end, from one buffer that grows
// only up to MaxLine.
type lineReader struct {
	in         io.Reader
	buf        []byte
	start, end int // of what is read and not handed out
	err        error
}

func (l *lineReader) next() ([]byte, error) {
	for scanned := 0; ; {
		if i := bytes.IndexByte(l.buf[l.start+scanned:l.end], '\n'); i >= 0 {
			line := l.buf[l.start : l.start+scanned+i]
			l.start += scanned + i + 1
			return line, nil
		}
		scanned = l.end - l.start
		if l.err != nil {
			if l.err != io.EOF || scanned == 0 {
				return nil, l.err
			}
			line := l.buf[l.start:l.end]
			l.start = l.end
			return line, nil
		}
		if scanned > MaxLine {
			return nil, errLong
		}
		l.fill()
	}
}

// fill reads more, after making room for it.
func (l *lineReader) fill() {
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
