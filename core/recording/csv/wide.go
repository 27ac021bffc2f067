package csv

import (
	"bytes"

	"rectura/core/recording"
)

// readWide reads a row for every time.
func (s *scan) readWide(headings []string, at []int, head []byte) (*recording.Recording, error) {
	if err := s.wideColumns(headings, at); err != nil {
		return nil, err
	}
	if err := s.settleTimes(head); err != nil {
		return nil, err
	}
	var columns []*recording.Column
	for _, c := range s.columns {
		if c != nil {
			columns = append(columns, c)
		}
	}
	b := recording.NewBuilder(columns, recording.Clock{})
	b.Limit(s.Options.MostReadings)
	if s.Options.Sort {
		b.Sort()
	}
	repeated := 0
	var err error
	if s.shared() {
		repeated, err = s.readParts(b)
	} else {
		err = s.rows(b)
	}
	if err != nil {
		return nil, err
	}
	return s.finish(b, repeated, "CSV, wide")
}

// rows reads rows to the end.
func (s *scan) rows(b *recording.Builder) error {
	n := len(s.columns) - 1
	if s.dayAt >= 0 {
		n--
	}
	s.values, s.missing = make([]float64, n), make([]bool, n)
	cells := make([]recording.Cell, n)
	for s.Options.Rows == 0 || b.Rows() < s.Options.Rows {
		any, err := s.next()
		if err != nil {
			return err
		}
		if !any {
			break
		}
		t, at, err := s.row()
		if err == nil {
			err = s.backward(b, t, at)
		}
		if err != nil {
			if s.Skip.Skip(err) {
				continue
			}
			return err
		}
		if !s.gaps {
			b.FullRow(t, s.values)
			continue
		}
		for i, v := range s.values {
			cells[i] = recording.Cell{Value: v, Present: !s.missing[i]}
		}
		b.Row(t, cells)
	}
	return nil
}

// wideColumns makes a column of every heading but that of the time.
func (s *scan) wideColumns(headings []string, at []int) error {
	numbers := true
	for _, h := range headings {
		_, isNumber := recording.ParseNumber([]byte(h), s.decimal)
		numbers = numbers && isNumber
	}
	if numbers {
		return s.Fail(0, "the first row holds numbers where the column names must stand")
	}
	if err := s.timeColumn(headings); err != nil {
		return err
	}
	namer := recording.NewNamer(s.Options)
	seen := map[string]bool{}
	var named []*recording.Column
	for i, h := range headings {
		if s.isTime(i) {
			s.columns = append(s.columns, nil)
			continue
		}
		c, err := namer.Column(h)
		switch {
		case err != nil:
			return s.Fail(at[i], "%v", err)
		case c.Name == "":
			return s.Fail(at[i], "column %d has no name", i+1)
		case seen[c.Name]:
			return s.Fail(at[i], "two columns are named %s; rename one", c.Name)
		}
		seen[c.Name] = true
		s.columns, named = append(s.columns, c), append(named, c)
	}
	return namer.Unused(s.Name, named)
}

// row reads a row into s.values and s.missing, and its time, which stands at a byte of the
// line. Numbers and times that are written the short way are read where they
// stand; everything else goes through field.
func (s *scan) row() (t int64, timeAt int, err error) {
	line, sep := s.Line, s.separator
	cell, at := 0, 0
	s.gaps = false
	var day, clock []byte // where they stand apart
	for i := range s.columns {
		if at < 0 {
			return 0, 0, s.Fail(len(line), "this row ends after cell %d of %d; %s is missing", i, len(s.columns), s.heading(i))
		}
		if s.dayAt >= 0 && s.isTime(i) {
			start := at
			var field []byte
			if field, at, err = s.field(at); err != nil {
				return 0, 0, err
			}
			if i == s.dayAt {
				day, timeAt = bytes.Clone(field), start
			} else {
				clock = bytes.Clone(field)
			}
			continue
		}
		if i == s.timeAt {
			timeAt = at
			if v, n := s.Times.Prefix(line[at:]); n > 0 && at+n < len(line) && line[at+n] == sep {
				t, at = v, at+n+1
				continue
			}
			var field []byte
			if field, at, err = s.field(at); err != nil {
				return 0, 0, err
			}
			if t, err = s.Times.Read(field); err != nil {
				return 0, 0, s.Fail(timeAt, "%v%s", err, s.assumed())
			}
			continue
		}
		value, missing := &s.values[cell], &s.missing[cell]
		cell++
		if v, n := recording.Prefix(line[at:], s.decimal); n > 0 {
			if end := at + n; end == len(line) {
				*value, *missing, at = v, false, -1
				continue
			} else if line[end] == sep {
				*value, *missing, at = v, false, end+1
				continue
			}
		}
		start := at
		var field []byte
		if field, at, err = s.field(at); err != nil {
			return 0, 0, err
		}
		if *missing = len(field) == 0; *missing {
			s.gaps = true
			continue
		}
		v, word, ok := recording.ParseValue(field, s.decimal)
		if !ok {
			return 0, 0, s.Fail(
				start,
				"%s: %q is no reading; a cell holds a number, a word such as on, off or bad, or nothing",
				s.columns[i].Name,
				recording.Shorten(field),
			)
		}
		*value = v
		if word {
			s.NoteWord(s.columns[i], field, start)
		}
	}
	if at >= 0 {
		hint := ""
		if sep == ',' {
			hint = "; a decimal comma is read only where semicolons or tabs separate"
		}
		return 0, 0, s.Fail(at-1, "this row has more cells than the heading, %d%s", len(s.columns), hint)
	}
	if s.dayAt >= 0 {
		if t, err = s.Times.Read(s.together(day, clock)); err != nil {
			return 0, 0, s.Fail(timeAt, "%v", err)
		}
	}
	return t, timeAt, nil
}

// heading names a column for a message.
func (s *scan) heading(i int) string {
	if s.isTime(i) {
		return s.Times.Heading
	}
	return s.columns[i].Name
}
