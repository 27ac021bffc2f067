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
// the first. Where one is named date and another time, the time is both
// together. An empty cell is no reading; NaN, bad, null and infinities are bad
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

	"rectura/core/cells"
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
	dayAt   int       // the column of the day, where the time has two; else -1
	values  []float64 // of a row, by column without the time
	missing []bool    // of these, which have no reading
	gaps    bool      // some have none
	quoted  []byte    // the contents of a quoted field with doubled quotes
	moment  []byte    // a day and a time of day that were put together
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
		names, at = append(names, cells.Unguarded(string(field))), append(at, start)
	}
	return names, at, nil
}

// timeColumn finds the column of the time among the headings, or the columns of
// the day and the time of day.
func (s *scan) timeColumn(headings []string) error {
	find := func(is func(name string) bool) int {
		return slices.IndexFunc(headings, func(h string) bool {
			name, _, err := recording.SplitHeading(h)
			return err == nil && is(name)
		})
	}
	asked := s.Options.TimeColumn
	if s.timeAt, s.dayAt = dayAndTime(headings); s.dayAt >= 0 && asked == "" {
		s.Times = recording.NewTimes(s.Options, headings[s.dayAt]+", "+headings[s.timeAt], s.decimal)
		return nil
	}
	s.dayAt = -1
	s.timeAt = find(func(name string) bool { return name == asked || asked == "" && recording.IsTimeName(name) })
	if day, clock, two := strings.Cut(asked, ","); s.timeAt < 0 && two {
		s.dayAt = find(func(name string) bool { return name == strings.TrimSpace(day) })
		s.timeAt = find(func(name string) bool { return name == strings.TrimSpace(clock) })
		if s.dayAt < 0 || s.timeAt < 0 || s.dayAt == s.timeAt {
			return s.Fail(
				0,
				"%q names no two columns of this file, the day's and the time's; it has %s",
				asked,
				strings.Join(headings, ", "),
			)
		}
		s.Times = recording.NewTimes(s.Options, headings[s.dayAt]+", "+headings[s.timeAt], s.decimal)
		return nil
	}
	if s.timeAt < 0 && asked != "" {
		return s.Fail(0, "no column is named %s, which was to be the time; the file has %s", asked, strings.Join(headings, ", "))
	}
	s.timeAt = max(s.timeAt, 0)
	s.Times = recording.NewTimes(s.Options, headings[s.timeAt], s.decimal)
	return nil
}

// dayAndTime finds two columns that are named date and time; -1 where they are not both there.
func dayAndTime(headings []string) (timeAt, dayAt int) {
	named := func(word string) int {
		return slices.IndexFunc(headings, func(h string) bool { return strings.EqualFold(h, word) })
	}
	if timeAt, dayAt = named("time"), named("date"); timeAt < 0 || dayAt < 0 {
		return -1, -1
	}
	return timeAt, dayAt
}

// isTime tells whether a column is that of the time, or of its day.
func (s *scan) isTime(column int) bool { return column == s.timeAt || column == s.dayAt }

// together is a day and a time of day as one text.
func (s *scan) together(day, clock []byte) []byte {
	s.moment = append(append(append(s.moment[:0], day...), ' '), clock...)
	return s.moment
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
		var day, clock []byte
		for i, at := 0, 0; at >= 0 && i <= max(s.timeAt, s.dayAt); i++ {
			field, next, err := probe.field(at)
			if err != nil {
				break
			}
			switch at = next; i {
			case s.timeAt:
				clock = bytes.Clone(field)
			case s.dayAt:
				day = bytes.Clone(field)
			}
		}
		switch {
		case clock == nil || s.dayAt >= 0 && day == nil: // the reading refuses the row
		case s.dayAt >= 0:
			first = append(first, bytes.Clone(s.together(day, clock)))
		default:
			first = append(first, clock)
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
	if s.Options.TimeColumn != "" || s.dayAt >= 0 || recording.IsTimeName(strings.TrimSpace(name)) {
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
