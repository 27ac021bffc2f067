package csv

import (
	"errors"
	"io"

	"rectura/core/recording"
)

// parts is how many parts of a file are read at a time, and partSize how large
// one is, in bytes.
const parts = 4

var partSize = 4 << 20 // tests take less

// shared tells whether the rows can be read in parts: every row by itself, and
// somebody who takes part.
func (s *scan) shared() bool {
	o := s.Options
	return o.Spread != nil && !o.Sort && !o.SkipBadRows && o.Rows == 0 && s.Times.Independent()
}

// A part is some whole lines of a file, and what was read of them.
type part struct {
	text      []byte
	lines     int
	recording *recording.Recording
	repeated  int
	err       error
}

// readParts reads the rows in parts, a few at a time, and joins them in order.
// While some parts are read, the text of the next ones is fetched.
func (s *scan) readParts(b *recording.Builder) (repeated int, err error) {
	now, next := make([]part, parts), make([]part, parts)
	n, failed := s.fetch(now)
	for n > 0 {
		tasks := make([]func(), n, n+1)
		for i := range tasks {
			tasks[i] = func() { s.readPart(&now[i]) }
		}
		fetched, after := 0, failed
		if failed == nil {
			tasks = append(tasks, func() { fetched, after = s.fetch(next) })
		}
		s.Options.Spread(tasks)
		for i := range n {
			more, err := s.join(b, &now[i])
			if err != nil {
				return 0, err
			}
			repeated += more
		}
		now, next, n, failed = next, now, fetched, after
	}
	if failed != nil {
		return 0, s.LineError(failed, "CSV recording")
	}
	return repeated, nil
}

// fetch takes text for parts, as many as there is text for. Its error stands
// behind their text.
func (s *scan) fetch(batch []part) (n int, err error) {
	for i := range batch {
		text, err := s.Lines.Chunk(batch[i].text, partSize)
		if err == io.EOF {
			return i, nil
		}
		if err != nil {
			return i, err
		}
		batch[i] = part{text: text}
	}
	return len(batch), nil
}

// readPart reads a part by itself; lines in its error count from its first.
func (s *scan) readPart(p *part) {
	times := *s.Times
	own := &scan{
		Source:  recording.Source{Name: s.Name, Options: s.Options, Lines: recording.LinesOf(p.text), Times: &times},
		dialect: s.dialect,
		timeAt:  s.timeAt,
		dayAt:   s.dayAt,
	}
	columns := make([]*recording.Column, 0, len(s.columns))
	for _, c := range s.columns {
		if c != nil {
			c = &recording.Column{Name: c.Name, Unit: c.Unit}
			columns = append(columns, c)
		}
		own.columns = append(own.columns, c)
	}
	b := recording.NewBuilder(columns, recording.Clock{})
	b.Limit(s.Options.MostReadings)
	p.err = own.rows(b)
	p.recording, p.repeated = b.Finish()
	p.lines = own.Number
}

// join puts a part behind those before it.
func (s *scan) join(b *recording.Builder, p *part) (repeated int, err error) {
	first := s.Number
	s.Number += p.lines
	var e *recording.Error
	if errors.As(p.err, &e) && e.Line > 0 {
		e.Line += first
	}
	r := p.recording
	for _, c := range r.Columns {
		if c.Word != nil {
			c.Word.Line += first
		}
	}
	last, any := b.Last()
	switch {
	case r.Rows > 0 && any && r.Start < last:
		// The time goes back in its first row, before any error of its own.
		line := &scan{
			Source:  recording.Source{Name: s.Name, Options: s.Options, Lines: recording.LinesOf(p.text), Times: s.Times, Number: first},
			dialect: s.dialect,
		}
		if some, err := line.next(); err != nil || !some {
			return 0, err
		}
		at := 0
		for range s.timeAt {
			_, next, err := line.field(at)
			if err != nil {
				return 0, err
			}
			at = next
		}
		return 0, line.backward(b, r.Start, at)
	case p.err != nil:
		return 0, p.err
	case r.Rows == 0:
		return 0, nil
	case any && r.Start == last: // its first row is another of the last time
		err := r.EachRow(func(t int64, some []recording.Reading) error {
			b.Sparse(t, some)
			return nil
		})
		return p.repeated, err
	}
	b.Append(r)
	return p.repeated, nil
}
