package csv

import (
	"rectura/core/recording"
	"strings"
)

// long is where the columns of a long file stand; -1 for one that it lacks.
type long struct{ point, value, unit, quality int }

// findLong tells whether the headings are those of a long file: point and value
// beside the time, and nothing that is unknown.
func findLong(headings []string) (long, bool) {
	l := long{-1, -1, -1, -1}
	others := 0
	for i, h := range headings {
		switch strings.ToLower(h) {
		case "point":
			l.point = i
		case "value":
			l.value = i
		case "unit":
			l.unit = i
		case "quality":
			l.quality = i
		default:
			others++
		}
	}
	most := 1 // the time
	if _, day := dayAndTime(headings); day >= 0 {
		most = 2
	}
	return l, l.point >= 0 && l.value >= 0 && others <= most
}

// readLong reads a row for every reading.
func (s *scan) readLong(l long, headings []string, head []byte) (*recording.Recording, error) {
	if err := s.timeColumn(headings); err != nil {
		return nil, err
	}
	if err := s.settleTimes(head); err != nil {
		return nil, err
	}
	b := recording.NewLongBuilder(s.Options)
	fields := make([][]byte, len(headings))
	starts := make([]int, len(headings))
	for s.Options.Rows == 0 || b.Rows() < s.Options.Rows {
		any, err := s.next()
		if err != nil {
			return nil, err
		}
		if !any {
			break
		}
		if err := s.longRow(b, l, headings, fields, starts); err != nil && !s.Skip.Skip(err) {
			return nil, err
		}
	}
	builder, err := b.Done(s.Name)
	if err != nil {
		return nil, err
	}
	return s.finish(builder, 0, "CSV, long")
}

func (s *scan) longRow(b *recording.LongBuilder, l long, headings []string, fields [][]byte, starts []int) error {
	next := 0
	for i := range headings {
		if next < 0 {
			return s.Fail(len(s.Line), "this row ends after cell %d of %d; %s is missing", i, len(headings), headings[i])
		}
		starts[i] = next
		field, n, err := s.field(next)
		if err != nil {
			return err
		}
		fields[i], next = append(fields[i][:0], field...), n
	}
	if next >= 0 {
		return s.Fail(next-1, "this row has more cells than the heading, %d", len(headings))
	}
	moment := fields[s.timeAt]
	if s.dayAt >= 0 {
		moment = s.together(fields[s.dayAt], moment)
	}
	t, err := s.Times.Read(moment)
	if err != nil {
		return s.Fail(starts[s.timeAt], "%v%s", err, s.assumed())
	}
	optional := func(i int) string {
		if i < 0 {
			return ""
		}
		return string(fields[i])
	}
	last, any := b.Last()
	if err := s.Backward(last, any, t, starts[s.timeAt], s.assumed()); err != nil {
		return err
	}
	v, word, ok := recording.ParseValue(fields[l.value], s.decimal)
	if len(fields[l.value]) > 0 && !ok {
		return s.Fail(
			starts[l.value],
			"%q is no reading; a value is a number, a word such as on, off or bad, or nothing",
			recording.Shorten(fields[l.value]),
		)
	}
	c, err := b.Reading(
		t,
		recording.LongReading{
			Point:   string(fields[l.point]),
			Value:   v,
			Present: len(fields[l.value]) > 0,
			Unit:    optional(l.unit),
			Quality: optional(l.quality),
		},
	)
	if err != nil {
		return s.Fail(starts[l.point], "%v", err)
	}
	if word {
		s.NoteWord(c, fields[l.value], starts[l.value])
	}
	return nil
}
