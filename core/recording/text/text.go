// Package text reads recordings out of the lines that a serial console or a log
// has printed, by a pattern: a regular expression with a group named after each
// point and, perhaps, one named time.
//
//	(?P<time>\S+) DO=(?P<oxygen>\S+) mA
//
// Without a group for the time, lines are taken to lie a fixed time apart. A
// line that the pattern does not match is counted and told.
package text

import (
	"errors"
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
		return nil, &recording.Error{File: r.Name, Text: "a text capture is read by a pattern, and none was given; write one with a group for each point, such as DO=(?P<oxygen>\\S+)"}
	}
	s := &scan{Reader: r, lines: recording.NewLines(in), skip: recording.Skipper{On: r.Options.SkipBadRows}, timeAt: -1}
	rec, err := s.read()
	if err != nil {
		var e *recording.Error
		if !errors.As(err, &e) {
			err = fmt.Errorf("reading %s: %w", r.Name, err)
		}
		return nil, err
	}
	return rec, nil
}

type scan struct {
	Reader
	lines   *recording.Lines
	skip    recording.Skipper
	times   *recording.Times
	timeAt  int   // the group of the time, or -1
	groups  []int // of each column
	builder *recording.Builder
	columns []*recording.Column
	cells   []recording.Cell
	matched int64

	unmatched int
	first     string // line that did not match
	firstAt   int
}

// A capture is a line that matched, kept until the form of times is known.
type capture struct {
	number int
	line   []byte
	at     []int
}

func (s *scan) fail(c capture, at int, format string, args ...any) error {
	return &recording.Error{File: s.Name, Line: c.number, Column: 1 + utf8.RuneCount(c.line[:min(max(at, 0), len(c.line))]), Text: fmt.Sprintf(format, args...)}
}

// begin makes a column of every named group.
func (s *scan) begin() error {
	namer := recording.NewNamer(s.Options)
	for i, name := range s.Options.Pattern.SubexpNames() {
		switch {
		case name == "":
		case name == s.Options.TimeColumn || s.Options.TimeColumn == "" && recording.IsTimeName(name):
			s.timeAt = i
			s.times = recording.NewTimes(s.Options, name, '.')
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
		return &recording.Error{File: s.Name, Text: "the pattern names no point; write a group for each, such as (?P<oxygen>\\S+)"}
	case s.timeAt < 0 && s.Options.Every <= 0:
		return &recording.Error{File: s.Name, Text: "the pattern has no group named time, and nothing says how far apart the lines are; add (?P<time>…), or give the time between lines"}
	}
	if err := namer.Unused(s.Name, s.columns); err != nil {
		return err
	}
	s.builder = recording.NewBuilder(s.columns, recording.Clock{})
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
	settled := s.times == nil
	settle := func() error {
		var first [][]byte
		for _, c := range waiting {
			if a, b := c.at[2*s.timeAt], c.at[2*s.timeAt+1]; a >= 0 {
				first = append(first, c.line[a:b])
			}
		}
		settled = true
		if err := s.times.Settle(first); err != nil {
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
		line, err := s.lines.Next()
		if err == io.EOF {
			break
		}
		if errors.Is(err, recording.ErrLong) {
			return nil, &recording.Error{File: s.Name, Line: number, Column: 1, Text: fmt.Sprintf("this line is longer than %d MiB; this is no text capture", recording.MaxLine>>20)}
		}
		if err != nil {
			return nil, err
		}
		at := s.Options.Pattern.FindSubmatchIndex(line)
		if at == nil {
			if s.unmatched++; s.unmatched == 1 {
				s.first, s.firstAt = recording.Shorten(line), number
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
	if err := s.row(c); err != nil && !s.skip.Skip(err) {
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
		if t, err = s.times.Read(c.line[a:b]); err != nil {
			return s.fail(c, a, "%v", err)
		}
		if last, any := s.builder.Last(); any && t < last && !s.Options.Sort {
			clock := s.times.Clock()
			return s.fail(c, a, "the time goes back, from %s to %s; sort the rows by time", clock.Full(last), clock.Full(t))
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
			return s.fail(c, a, "%s: %q is no reading; it is a number, or a word such as on, off or bad", s.columns[i].Name, recording.Shorten(c.line[a:b]))
		}
		s.cells[i] = recording.Cell{Value: v, Present: true}
		if column := s.columns[i]; word && column.Word == nil {
			column.Word = &recording.Word{Text: string(c.line[a:b]), Line: c.number, Column: 1 + utf8.RuneCount(c.line[:a])}
		}
	}
	s.builder.Row(t, s.cells)
	return nil
}

func (s *scan) finish() (*recording.Recording, error) {
	rec, repeated := s.builder.Finish()
	switch notes := s.skip.Notes(); {
	case rec.Rows > 0:
	case len(notes) > 1:
		return nil, &recording.Error{File: s.Name, Text: "no line of the file can be read; the first is " + notes[1]}
	case s.unmatched == 0:
		return nil, &recording.Error{File: s.Name, Text: "the file is empty"}
	default:
		return nil, &recording.Error{File: s.Name, Line: s.firstAt, Column: 1, Text: fmt.Sprintf("the pattern matches no line of the file; the first is %q", s.first)}
	}
	rec.Understood = recording.Understood{Format: "text capture"}
	if s.times != nil {
		rec.Clock = s.times.Clock()
		s.times.Describe(&rec.Understood)
		rec.Notes = s.times.Notes()
	} else {
		rec.Clock.Elapsed = true
		rec.Understood.TimeFormat = "elapsed"
	}
	rec.Notes = append(rec.Notes, s.skip.Notes()...)
	if s.unmatched > 0 {
		rec.Notes = append(rec.Notes, fmt.Sprintf("lines that the pattern does not match: %d; the first is line %d, %q", s.unmatched, s.firstAt, s.first))
	}
	if repeated > 0 {
		rec.Notes = append(rec.Notes, fmt.Sprintf("readings that came again for the same time, of which the later counts: %d", repeated))
	}
	return rec, nil
}
