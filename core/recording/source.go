package recording

import (
	"errors"
	"fmt"
	"unicode/utf8"
)

// A Source is a file of lines that is being read: what every reader of text
// needs to say where something is wrong, what it left out, and how it
// understood the file.
type Source struct {
	Name    string // of the file, for errors
	Options Options
	Lines   *Lines
	Number  int    // of the present line
	Line    []byte // the present line
	Times   *Times
	Skip    Skipper
}

// Fail gives an error at a byte of the present line. What mends an error among the
// arguments mends it.
func (s *Source) Fail(at int, format string, args ...any) error {
	column := 1 + utf8.RuneCount(s.Line[:min(max(at, 0), len(s.Line))])
	e := &Error{File: s.Name, Line: s.Number, Column: column, Text: fmt.Sprintf(format, args...)}
	for _, a := range args {
		if m, ok := a.(*mendable); ok {
			e.Mend = m.option
		}
	}
	return e
}

// LineError is the error of the line after the present one, which could not be
// read.
func (s *Source) LineError(err error, what string) error {
	s.Number++
	if errors.Is(err, ErrLong) {
		return &Error{
			File:   s.Name,
			Line:   s.Number,
			Column: 1,
			Text:   fmt.Sprintf("this line is longer than %d MiB; this is no %s", MaxLine>>20, what),
		}
	}
	return err
}

// Wrap says which file an error is about, if it does not say so itself.
func Wrap(name string, err error) error {
	var e *Error
	if err == nil || errors.As(err, &e) {
		return err
	}
	return fmt.Errorf("reading %s: %w", name, err)
}

// Backward refuses a time that goes back, at a byte of the present line; hint
// is added to the sentence.
func (s *Source) Backward(last int64, any bool, t int64, at int, hint string) error {
	if !any || t >= last || s.Options.Sort {
		return nil
	}
	clock := s.Times.Clock()
	return s.Fail(
		at,
		"%v",
		mendedBy("sort", "the time goes back, from %s to %s%s; sort the rows by time", clock.Full(last), clock.Full(t), hint),
	)
}

// NoteWord remembers the first word in a column, and where it stands.
func (s *Source) NoteWord(c *Column, text []byte, at int) {
	if c.Word == nil {
		c.Word = &Word{Text: string(text), Line: s.Number, Column: 1 + utf8.RuneCount(s.Line[:at])}
	}
}

// clock is how the times of the file are shown.
func (s *Source) clock() Clock {
	if s.Times != nil {
		return s.Times.Clock()
	}
	return Clock{Elapsed: true}
}

// Done ends a recording with what is to be known of how it was read. none is
// what is wrong with a file without a row.
func (s *Source) Done(b *Builder, repeated int, u Understood, none string) (*Recording, error) {
	if b.Over() {
		return nil, &Error{
			File: s.Name,
			Text: fmt.Sprintf("the file has more than %d readings in all; divide it, or leave columns out", b.limit),
		}
	}
	r, more := b.Finish()
	repeated += more
	if r.Rows > 0 && (r.End < r.Start || uint64(r.End)-uint64(r.Start) > MaxSpan) {
		return nil, &Error{
			File: s.Name,
			Text: fmt.Sprintf(
				"the times go from %s to %s, over more than 292 years; is one of them wrong, or in another unit?",
				s.clock().Full(r.Start),
				s.clock().Full(r.End),
			),
		}
	}
	if r.Rows == 0 {
		if notes := s.Skip.Notes(); len(notes) > 1 {
			none = "no row of the file can be read; the first is " + notes[1]
		}
		return nil, &Error{File: s.Name, Text: none}
	}
	r.Understood = u
	if s.Times != nil {
		r.Clock = s.Times.Clock().Spanning(r.Start, r.End)
		s.Times.Describe(&r.Understood)
		r.Notes = s.Times.Notes()
	} else {
		r.Clock.Elapsed = true
		r.Understood.TimeFormat = "elapsed"
	}
	r.Notes = append(r.Notes, s.Skip.Notes()...)
	if repeated > 0 {
		r.Notes = append(r.Notes, fmt.Sprintf("readings that came again for the same time, of which the later counts: %d", repeated))
	}
	return r, nil
}
