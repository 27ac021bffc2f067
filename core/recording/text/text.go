// Package text reads recordings out of the lines that a serial console or a log
// has printed, by a pattern: words with the names of points, and perhaps time, in
// braces, or a regular expression with groups of these names.
//
//	{time} DO={oxygen} mA
//	(?P<time>\S+) DO=(?P<oxygen>\S+) mA
//
// Without a group for the time, lines are taken to lie a fixed time apart. A
// line that the pattern does not match is counted and told.
package text

import (
	"fmt"
	"io"
	"unicode/utf8"

	"rectura/core/recording"
)

// A Reader reads recordings; its options hold the pattern.
type Reader struct {
	Name    string // of the file, for errors
	Options recording.Options
}

// sniffed is the number of matching lines from which the form of times is
// found.
const sniffed = 200

// Read reads a whole recording as a stream. The error is a *recording.Error
// unless reading itself failed.
func (r Reader) Read(in io.Reader) (*recording.Recording, error) {
	if r.Options.Pattern == nil {
		return nil, &recording.Error{
			File: r.Name,
			Mend: "pattern",
			Text: "a text capture is read by a pattern, and none was given; write one with each point's name in braces, such as 'DO={oxygen} mA'",
		}
	}
	s := &scan{
		Source: recording.Source{
			Name:    r.Name,
			Options: r.Options,
			Lines:   recording.NewLines(in),
			Skip:    recording.Skipper{On: r.Options.SkipBadRows},
		},
		timeAt: -1,
	}
	rec, err := s.read()
	return rec, recording.Wrap(r.Name, err)
}

type scan struct {
	recording.Source
	timeAt  int   // the group of the time, or -1
	groups  []int // of each column
	builder *recording.Builder
	columns []*recording.Column
	cells   []recording.Cell
	matched int64

	unmatched int
	misses    []miss // the first of the lines that did not match
}

// A miss is a line that the pattern does not match.
type miss struct {
	number int
	line   []byte
}

// missesKept is how many lines that do not match are looked at to say how far the pattern
// fits, and missKept how much of each, in bytes.
const (
	missesKept = 50
	missKept   = 1000
)

// A capture is a line that matched, kept until the form of times is known.
type capture struct {
	number int
	line   []byte
	at     []int
}

func (s *scan) fail(c capture, at int, format string, args ...any) error {
	s.Number, s.Line = c.number, c.line
	return s.Fail(at, format, args...)
}

// begin makes a column of every named group.
func (s *scan) begin() error {
	namer := recording.NewNamer(s.Options)
	for i, name := range s.Options.Pattern.Headings {
		switch {
		case name == "":
		case name == s.Options.TimeColumn || s.Options.TimeColumn == "" && recording.IsTimeName(name):
			s.timeAt = i
			s.Times = recording.NewTimes(s.Options, name, '.')
		default:
			c, err := namer.Column(name)
			if err != nil {
				return &recording.Error{File: s.Name, Text: err.Error()}
			}
			s.columns, s.groups = append(s.columns, c), append(s.groups, i)
		}
	}
	switch {
	case len(s.columns) == 0:
		return &recording.Error{
			File: s.Name,
			Text: "the pattern names no point; write its name in braces where the reading stands, such as 'DO={oxygen} mA'",
			Mend: "pattern",
		}
	case s.timeAt < 0 && s.Options.Every <= 0:
		return &recording.Error{
			File: s.Name,
			Mend: "every",
			Text: "the pattern has no group named time, and nothing says how far apart the lines are; put {time} where it stands, or give the time between lines",
		}
	}
	if err := namer.Unused(s.Name, s.columns); err != nil {
		return err
	}
	s.builder = recording.NewBuilder(s.columns, recording.Clock{})
	s.builder.Limit(s.Options.MostReadings)
	if s.Options.Sort {
		s.builder.Sort()
	}
	s.cells = make([]recording.Cell, len(s.columns))
	return nil
}

func (s *scan) read() (*recording.Recording, error) {
	if err := s.begin(); err != nil {
		return nil, err
	}
	var waiting []capture
	settled := s.Times == nil
	settle := func() error {
		var first [][]byte
		for _, c := range waiting {
			if a, b := c.at[2*s.timeAt], c.at[2*s.timeAt+1]; a >= 0 {
				first = append(first, c.line[a:b])
			}
		}
		settled = true
		if err := s.Times.Settle(first); err != nil {
			return s.fail(waiting[0], waiting[0].at[2*s.timeAt], "%v", err)
		}
		for _, c := range waiting {
			if err := s.take(c); err != nil {
				return err
			}
		}
		waiting = nil
		return nil
	}
	for number := 1; s.Options.Rows == 0 || s.builder.Rows() < s.Options.Rows; number++ {
		line, err := s.Lines.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			s.Number = number - 1
			return nil, s.LineError(err, "text capture")
		}
		at := s.Options.Pattern.FindSubmatchIndex(line)
		if at == nil {
			if s.unmatched++; len(s.misses) < missesKept && (len(line) > 0 || s.misses == nil) {
				s.misses = append(s.misses, miss{number, append([]byte{}, line[:min(len(line), missKept)]...)})
			}
			continue
		}
		c := capture{number, line, at}
		if settled {
			if err := s.take(c); err != nil {
				return nil, err
			}
			continue
		}
		c.line = append([]byte{}, line...)
		if waiting = append(waiting, c); len(waiting) == sniffed {
			if err := settle(); err != nil {
				return nil, err
			}
		}
	}
	if !settled && len(waiting) > 0 {
		if err := settle(); err != nil {
			return nil, err
		}
	}
	return s.finish()
}

// take takes a line, or leaves a broken one out.
func (s *scan) take(c capture) error {
	if err := s.row(c); err != nil && !s.Skip.Skip(err) {
		return err
	}
	return nil
}

func (s *scan) row(c capture) error {
	t := s.matched * s.Options.Every
	s.matched++
	if s.timeAt >= 0 {
		a, b := c.at[2*s.timeAt], c.at[2*s.timeAt+1]
		if a < 0 {
			return s.fail(c, 0, "the pattern matched this line without its time")
		}
		var err error
		if t, err = s.Times.Read(c.line[a:b]); err != nil {
			return s.fail(c, a, "%v", err)
		}
		s.Number, s.Line = c.number, c.line
		last, any := s.builder.Last()
		if err := s.Backward(last, any, t, a, ""); err != nil {
			return err
		}
	}
	clear(s.cells)
	for i, g := range s.groups {
		a, b := c.at[2*g], c.at[2*g+1]
		if a < 0 || a == b {
			continue
		}
		v, word, ok := recording.ParseValue(c.line[a:b], '.')
		if !ok {
			return s.fail(
				c,
				a,
				"%s: %q is no reading; it is a number, or a word such as on, off or bad",
				s.columns[i].Name,
				recording.Shorten(c.line[a:b]),
			)
		}
		s.cells[i] = recording.Cell{Value: v, Present: true}
		if word {
			s.Number, s.Line = c.number, c.line
			s.NoteWord(s.columns[i], c.line[a:b], a)
		}
	}
	s.builder.Row(t, s.cells)
	return nil
}

func (s *scan) finish() (*recording.Recording, error) {
	if s.builder.Rows() == 0 && s.unmatched > 0 && len(s.Skip.Notes()) == 0 {
		return nil, s.nearest()
	}
	rec, err := s.Done(s.builder, 0, recording.Understood{Format: "text capture"}, "the file is empty")
	if err == nil && s.unmatched > 0 {
		rec.Notes = append(
			rec.Notes,
			fmt.Sprintf(
				"lines that the pattern does not match: %d; the first is line %d, %q",
				s.unmatched,
				s.misses[0].number,
				recording.Shorten(s.misses[0].line),
			),
		)
	}
	return rec, err
}

// nearest is the error of a capture of which no line matches: of the first lines, the one
// that the pattern fits furthest, and where it no longer does.
func (s *scan) nearest() error {
	r := newRuler(s.Options.Pattern)
	best, most, end := s.misses[0], 0, 0
	for _, m := range s.misses {
		if pieces, at := r.measure(m.line); pieces > most {
			best, most, end = m, pieces, at
		}
	}
	e := &recording.Error{File: s.Name, Line: best.number, Column: 1 + utf8.RuneCount(best.line[:end]), Mend: "pattern"}
	wanted := r.wanted(most)
	if most == 0 || wanted == "" {
		e.Text = fmt.Sprintf(
			"the pattern matches no line of the file, nor does its beginning; this one is %q",
			recording.Shorten(best.line),
		)
		return e
	}
	rest := "the line ends"
	if end < len(best.line) {
		rest = fmt.Sprintf("%q stands", recording.Shorten(best.line[end:]))
	}
	e.Text = fmt.Sprintf(
		"the pattern matches no line of the file; it comes furthest in this one, up to %q: then %s where the pattern has %s",
		recording.Shorten(best.line[:end]), rest, wanted,
	)
	return e
}
