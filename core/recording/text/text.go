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
	"fmt"
	"io"
	"regexp"
	"regexp/syntax"

	"rectura/core/recording"
)

// maxPattern is the largest pattern, in the steps of the machine that runs it:
// each byte of a capture may take as many.
const maxPattern = 1000

// Compile makes the pattern of a text capture of a regular expression.
func Compile(pattern string) (*regexp.Regexp, error) {
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil, err
	}
	if steps, err := syntax.Compile(tree.Simplify()); err != nil || len(steps.Inst) > maxPattern {
		return nil, fmt.Errorf("the pattern is too large; take a part of each line only, and no large counts such as {1000}")
	}
	return regexp.Compile(pattern)
}

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
			Text: "a text capture is read by a pattern, and none was given; write one with a group for each point, such as DO=(?P<oxygen>\\S+)",
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
	s.Number, s.Line = c.number, c.line
	return s.Fail(at, format, args...)
}

// begin makes a column of every named group.
func (s *scan) begin() error {
	namer := recording.NewNamer(s.Options)
	for i, name := range s.Options.Pattern.SubexpNames() {
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
		return &recording.Error{File: s.Name, Text: "the pattern names no point; write a group for each, such as (?P<oxygen>\\S+)"}
	case s.timeAt < 0 && s.Options.Every <= 0:
		return &recording.Error{
			File: s.Name,
			Mend: "every",
			Text: "the pattern has no group named time, and nothing says how far apart the lines are; add (?P<time>…), or give the time between lines",
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
		return nil, &recording.Error{
			File:   s.Name,
			Line:   s.firstAt,
			Column: 1,
			Text:   fmt.Sprintf("the pattern matches no line of the file; the first is %q", s.first),
		}
	}
	rec, err := s.Done(s.builder, 0, recording.Understood{Format: "text capture"}, "the file is empty")
	if err == nil && s.unmatched > 0 {
		rec.Notes = append(
			rec.Notes,
			fmt.Sprintf("lines that the pattern does not match: %d; the first is line %d, %q", s.unmatched, s.firstAt, s.first),
		)
	}
	return rec, err
}
