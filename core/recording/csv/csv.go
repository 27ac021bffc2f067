// Package csv reads and writes CSV recordings, wide or long.
//
// A wide one has a heading row, then a row for every time, with a column for
// every point:
//
//	time,oxygen [mA],mains
//	2026-03-02T02:00:00Z,10.48,1
//	2026-03-02T02:00:01Z,10.47,
//	2026-03-02T02:00:02Z,bad,0
//
// A long one has a row for every reading, in the columns time, point, value
// and, perhaps, unit and quality (good or bad).
//
// The time column is the one named time, timestamp, date or datetime, or else
// the first. An empty cell is no reading; NaN, bad, null and infinities are bad
// readings; on, true and closed are 1, off, false and open are 0, in any case
// of letters. A heading may end in the unit in which its values stand, in
// brackets.
//
// Fields are separated by commas, semicolons or tabs, and numbers have a
// decimal point or, unless commas separate, a comma; both are found from the
// first rows. Fields may be quoted; a quoted field ends on its line. A byte
// order mark and CRLF are read and dropped.
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

// MaxColumns is the largest number of columns. A file with more is no recording.
const MaxColumns = 4096

// A Reader reads recordings. Its zero value is ready for use.
type Reader struct {
	Name    string // of the file, for errors
	Options recording.Options
}

// Read reads a whole recording as a stream: memory grows with what is kept,
// not with the text. The error is a *recording.Error unless reading itself
// failed.
func (r Reader) Read(in io.Reader) (*recording.Recording, error) {
	s := &scan{
		Source: recording.Source{
			Name:    r.Name,
			Options: r.Options,
			Lines:   recording.NewLines(in),
			Skip:    recording.Skipper{On: r.Options.SkipBadRows},
		},
	}
	rec, err := s.read()
	return rec, recording.Wrap(r.Name, err)
}

// A scan is one Read under way.
type scan struct {
	recording.Source
	dialect
	columns []*recording.Column // by field; nil for the time
	timeAt  int
	values  []float64 // of a row, by column without the time
	missing []bool    // of these, which have no reading
	gaps    bool      // some have none
	quoted  []byte    // the contents of a quoted field with doubled quotes
}

// next reads the next line that is not empty; false at the end of the file.
func (s *scan) next() (bool, error) {
	for {
		line, err := s.Lines.Next()
		switch {
		case err == io.EOF:
			return false, nil
		case err != nil:
			return false, s.LineError(err, "CSV recording")
		}
		s.Number++
		if len(line) > 0 {
			s.Line = line
			return true, nil
		}
	}
}

func (s *scan) read() (*recording.Recording, error) {
	head, err := s.Lines.Head()
	if err != nil {
		return nil, err
	}
	s.dialect = findDialect(head)
	any, err := s.next()
	if err != nil {
		return nil, err
	}
	if !any {
		return nil, &recording.Error{File: s.Name, Text: "the file is empty; a recording begins with a row of column names"}
	}
	if !utf8.Valid(s.Line) || bytes.IndexByte(s.Line, 0) >= 0 {
		return nil, &recording.Error{File: s.Name, Text: "this is not a text file; a recording is read as CSV"}
	}
	headings, at, err := s.headings()
	if err != nil {
		return nil, err
	}
	if l, ok := findLong(headings); ok {
		return s.readLong(l, headings, head)
	}
	return s.readWide(headings, at, head)
}

// headings reads the row of column names, and at which byte each stands.
func (s *scan) headings() (names []string, at []int, err error) {
	for next := 0; next >= 0; {
		start := next
		var field []byte
		if field, next, err = s.field(next); err != nil {
			return nil, nil, err
		}
		if len(names) == MaxColumns {
			return nil, nil, s.Fail(start, "more than %d columns", MaxColumns)
		}
		names, at = append(names, string(field)), append(at, start)
	}
	return names, at, nil
}

// timeColumn finds the column of the time among the headings.
func (s *scan) timeColumn(headings []string) error {
	s.timeAt = slices.IndexFunc(headings, func(h string) bool {
		name, _, err := recording.SplitHeading(h)
		return err == nil && (name == s.Options.TimeColumn || s.Options.TimeColumn == "" && recording.IsTimeName(name))
	})
	if s.timeAt < 0 && s.Options.TimeColumn != "" {
		return s.Fail(0, "no column is named %s, which was to be the time", s.Options.TimeColumn)
	}
	s.timeAt = max(s.timeAt, 0)
	s.Times = recording.NewTimes(s.Options, headings[s.timeAt], s.decimal)
	return nil
}

// settleTimes finds out from the first rows what the times are. A row that
// cannot be taken apart is left for the reading to refuse.
func (s *scan) settleTimes(head []byte) error {
	var first [][]byte
	probe := &scan{dialect: s.dialect}
	rest := head
	for row := 0; row <= sniffed && len(rest) > 0; row++ {
		var line []byte
		line, rest, _ = bytes.Cut(rest, []byte("\n"))
		if line = bytes.TrimSuffix(line, []byte("\r")); row == 0 || len(line) == 0 {
			continue
		}
		probe.Line = line
		for i, at := 0, 0; at >= 0; i++ {
			field, next, err := probe.field(at)
			if err != nil {
				break
			}
			if i == s.timeAt {
				first = append(first, bytes.Clone(field))
				break
			}
			at = next
		}
	}
	err := s.Times.Settle(first)
	if err == nil {
		return nil
	}
	// The error belongs to the first row, which is the next line.
	any, nextErr := s.next()
	if nextErr != nil || !any {
		return errors.Join(&recording.Error{File: s.Name, Text: err.Error()}, nextErr)
	}
	at := 0
	for range s.timeAt {
		if _, next, err := s.field(at); err == nil && next >= 0 {
			at = next
		}
	}
	return s.Fail(at, "%v%s", err, s.assumed())
}

// assumed is the part of a message about times that tells how the time column
// was chosen, if it was a guess.
func (s *scan) assumed() string {
	name, _, _ := strings.Cut(s.Times.Heading, "[")
	if s.Options.TimeColumn != "" || recording.IsTimeName(strings.TrimSpace(name)) {
		return ""
	}
	return fmt.Sprintf(" (no column is named time, so the first, %s, is taken for the time)", s.Times.Heading)
}

// finish ends a recording with what is to be known of how it was read.
func (s *scan) finish(b *recording.Builder, repeated int, format string) (*recording.Recording, error) {
	u := recording.Understood{Format: format, Separator: separators[s.separator], Decimal: "point"}
	if s.decimal == ',' {
		u.Decimal = "comma"
	}
	return s.Done(b, repeated, u, "the file has column names and no row below them")
}

// backward refuses a time that goes back.
func (s *scan) backward(b *recording.Builder, t int64, at int) error {
	last, any := b.Last()
	if !any || t >= last {
		return nil
	}
	return s.Backward(last, any, t, at, s.assumed())
}

// field reads the field that begins at a byte of the line, without the blanks
// around it; next is where the one after it begins, or -1.
func (s *scan) field(at int) (field []byte, next int, err error) {
	line := s.Line
	i := at
	for i < len(line) && line[i] != s.separator {
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
	if len(bytes.TrimSpace(s.Line[begin:quote])) > 0 {
		return nil, 0, s.Fail(quote, "a quote in the middle of a cell; quote the whole cell, and double the quotes in it")
	}
	s.quoted = s.quoted[:0]
	for i := quote + 1; i < len(s.Line); i++ {
		if s.Line[i] != '"' {
			s.quoted = append(s.quoted, s.Line[i])
			continue
		}
		if i+1 < len(s.Line) && s.Line[i+1] == '"' {
			s.quoted = append(s.quoted, '"')
			i++
			continue
		}
		rest := bytes.TrimLeft(s.Line[i+1:], " ")
		next = len(s.Line) - len(rest) + 1
		switch {
		case len(rest) == 0:
			next = -1
		case rest[0] != s.separator:
			return nil, 0, s.Fail(
				next-1,
				"%q after a quoted cell, where a %s or the end of the row must stand",
				recording.Shorten(rest),
				separators[s.separator],
			)
		}
		return bytes.TrimSpace(s.quoted), next, nil
	}
	return nil, 0, s.Fail(quote, "the quote that opens here is not closed on its line")
}
