// Package jsonl reads and writes recordings in JSON Lines: one object a line,
// wide or long.
//
//	{"time":"2026-03-02T02:00:00Z","oxygen [mA]":10.48,"mains":1}
//	{"time":"2026-03-02T02:00:00Z","point":"oxygen","value":10.48,"unit":"mA"}
//
// A key that is absent is no reading; null, "bad", "NaN" and the infinities are
// bad ones. true and false are 1 and 0.
package jsonl

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"rectura/core/recording"
)

// A Reader reads recordings. Its zero value is ready for use.
type Reader struct {
	Name    string // of the file, for errors
	Options recording.Options
}

// sniffed is the number of lines from which the form of times is found.
const sniffed = 200

// Read reads a whole recording as a stream. The error is a *recording.Error
// unless reading itself failed.
func (r Reader) Read(in io.Reader) (*recording.Recording, error) {
	s := &scan{
		Source: recording.Source{
			Name:    r.Name,
			Options: r.Options,
			Lines:   recording.NewLines(in),
			Skip:    recording.Skipper{On: r.Options.SkipBadRows},
		},
		index: map[string]int{},
		names: map[string]bool{},
	}
	rec, err := s.read()
	return rec, recording.Wrap(r.Name, err)
}

type scan struct {
	recording.Source
	long  *recording.LongBuilder
	wide  *recording.Builder
	namer *recording.Namer
	index map[string]int // of wide columns, by key
	names map[string]bool
	some  []recording.Reading
	inRow []int // of each column: the line at which it was read last
	pairs []pair
	alike layout // of the line before
	json  *jsontext.Decoder
	text  bytes.Reader // what it reads
}

// A pair is one key of an object with its value.
type pair struct {
	key     string
	at, end int // the bytes at which the value begins and ends
	kind    jsontext.Kind
	value   []byte // a string's text, or the value as it stands
	column  int    // of a wide file, one more than its place there; 0 if it is not known yet
}

func (s *scan) read() (*recording.Recording, error) {
	head, err := s.Lines.Head()
	if err != nil {
		return nil, err
	}
	if err := s.begin(head); err != nil {
		return nil, err
	}
	for s.Options.Rows == 0 || s.rows() < s.Options.Rows {
		line, err := s.Lines.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, s.LineError(err, "recording")
		}
		s.Number++
		if s.Line = line; len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		if err := s.row(); err != nil && !s.Skip.Skip(err) {
			return nil, err
		}
	}
	return s.finish()
}

func (s *scan) rows() int {
	if s.long != nil {
		return s.long.Rows()
	}
	return s.wide.Rows()
}

// begin finds out from the first lines whether the file is wide or long, which
// key is the time, and what times are.
func (s *scan) begin(head []byte) error {
	var first [][]byte
	heading, tried := "", 0
	var failed error
	for rest := head; len(rest) > 0 && tried < sniffed; {
		s.Line, rest, _ = bytes.Cut(rest, []byte("\n"))
		s.Number++
		if len(bytes.TrimSpace(s.Line)) == 0 {
			continue
		}
		tried++
		if err := s.parse(); err != nil {
			if failed == nil {
				failed = err
			}
			continue
		}
		if heading == "" {
			heading = s.timeKey()
			if s.has("point") && s.has("value") {
				s.long = recording.NewLongBuilder(s.Options)
			}
		}
		for _, p := range s.pairs {
			if p.key == heading {
				first = append(first, p.value)
			}
		}
	}
	switch {
	case tried == 0:
		return &recording.Error{File: s.Name, Text: "the file is empty; a recording has a JSON object on each line"}
	case heading == "":
		if failed != nil {
			return failed
		}
		return s.Fail(0, "this object has no time; its key is time, timestamp, date or datetime, or say which")
	}
	s.Times = recording.NewTimes(s.Options, heading, '.')
	s.namer = recording.NewNamer(s.Options)
	s.wide = recording.NewBuilder(nil, recording.Clock{})
	s.wide.Limit(s.Options.MostReadings)
	if s.Options.Sort {
		s.wide.Sort()
	}
	s.Number = 0
	if err := s.Times.Settle(first); err != nil {
		return &recording.Error{File: s.Name, Line: 1, Column: 1, Text: err.Error()}
	}
	return nil
}

func (s *scan) has(key string) bool {
	for _, p := range s.pairs {
		if strings.EqualFold(p.key, key) {
			return true
		}
	}
	return false
}

// timeKey is the key of the time in the first object.
func (s *scan) timeKey() string {
	for _, p := range s.pairs {
		if p.key == s.Options.TimeColumn || s.Options.TimeColumn == "" && recording.IsTimeName(p.key) {
			return p.key
		}
	}
	return ""
}

// parse takes the object of a line apart into s.pairs.
func (s *scan) parse() error {
	if s.alike.take(s.Line, s.pairs) {
		return nil
	}
	s.pairs, s.alike.before = s.pairs[:0], s.alike.before[:0]
	s.text.Reset(s.Line)
	if s.json == nil {
		s.json = jsontext.NewDecoder(&s.text)
	} else {
		s.json.Reset(&s.text)
	}
	d := s.json
	open, err := d.ReadToken()
	if err != nil || open.Kind() != '{' {
		return s.Fail(0, "%q is no JSON object; each line of the file is one", recording.Shorten(s.Line))
	}
	for d.PeekKind() != '}' {
		key, err := d.ReadToken()
		if err != nil {
			return s.broken(d, err)
		}
		p := pair{key: key.String(), at: int(d.InputOffset())}
		for p.at < len(s.Line) && (s.Line[p.at] == ':' || s.Line[p.at] == ' ') {
			p.at++
		}
		if p.kind = d.PeekKind(); p.kind == '{' || p.kind == '[' {
			return s.Fail(
				p.at,
				"%s holds another %s; a reading is a number, a word or null",
				p.key,
				map[jsontext.Kind]string{'{': "object", '[': "list"}[p.kind],
			)
		}
		value, err := d.ReadToken()
		if err != nil {
			return s.broken(d, err)
		}
		p.end, p.value = int(d.InputOffset()), []byte(value.String())
		s.pairs = append(s.pairs, p)
	}
	if _, err := d.ReadToken(); err != nil {
		return s.broken(d, err)
	}
	if rest := bytes.TrimSpace(s.Line[d.InputOffset():]); len(rest) > 0 {
		return s.Fail(int(d.InputOffset()), "%q follows the object; each line holds one", recording.Shorten(rest))
	}
	s.alike.keep(s.Line, s.pairs)
	return nil
}

func (s *scan) broken(d *jsontext.Decoder, err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return s.Fail(len(s.Line), "the object is not closed on its line; the file may have been cut off")
	}
	return s.Fail(int(d.InputOffset()), "this is no JSON: %v", err)
}

// row takes one line.
func (s *scan) row() error {
	if err := s.parse(); err != nil {
		return err
	}
	var t int64
	found := -1
	for i, p := range s.pairs {
		if p.key != s.Times.Heading {
			continue
		}
		var err error
		if t, err = s.Times.Read(p.value); err != nil {
			return s.Fail(p.at, "%v", err)
		}
		found = i
	}
	if found < 0 {
		return s.Fail(0, "this object has no %s", s.Times.Heading)
	}
	last, any := s.wide.Last()
	if s.long != nil {
		last, any = s.long.Last()
	}
	if err := s.Backward(last, any, t, s.pairs[found].at, ""); err != nil {
		return err
	}
	if s.long != nil {
		return s.longRow(t)
	}
	return s.wideRow(t, found)
}

// reading reads a value.
func (s *scan) reading(p pair) (v float64, word, present bool, err error) {
	if p.kind == '"' && len(p.value) == 0 {
		return 0, false, false, nil
	}
	v, word, ok := recording.ParseValue(p.value, '.')
	if !ok {
		return 0, false, false, s.Fail(
			p.at,
			"%s: %q is no reading; it is a number, a word such as on, off or bad, or null",
			p.key,
			recording.Shorten(p.value),
		)
	}
	return v, word && p.kind == '"', true, nil
}

func (s *scan) wideRow(t int64, time int) error {
	s.some = s.some[:0]
	for i, p := range s.pairs {
		if i == time {
			continue
		}
		v, word, present, err := s.reading(p)
		if err != nil {
			return err
		}
		if p.column == 0 {
			k, known := s.index[p.key]
			if !known {
				if k, err = s.addColumn(p); err != nil {
					return err
				}
			}
			p.column = k + 1
			s.pairs[i].column = p.column
		}
		k := p.column - 1
		if !present {
			continue
		}
		if s.inRow[k] == s.Number { // two keys of one point
			return s.Fail(p.at, "%s stands twice in this object", p.key)
		}
		s.inRow[k] = s.Number
		s.some = append(s.some, recording.Reading{Column: k, Value: v})
		if word {
			s.NoteWord(s.wide.Column(k), p.value, p.at)
		}
	}
	s.wide.Sparse(t, s.some)
	return nil
}

func (s *scan) addColumn(p pair) (int, error) {
	if len(s.names) == recording.MaxColumns {
		return 0, s.Fail(p.at, "more than %d points", recording.MaxColumns)
	}
	c, err := s.namer.Column(p.key)
	if err != nil {
		return 0, s.Fail(p.at, "%v", err)
	}
	if c.Name == "" {
		return 0, s.Fail(p.at, "a key without a name")
	}
	if s.names[c.Name] {
		return 0, s.Fail(p.at, "two keys are for %s; map one of them otherwise", c.Name)
	}
	s.names[c.Name] = true
	k := s.wide.AddColumn(c)
	s.index[p.key] = k
	s.inRow = append(s.inRow, 0)
	return k, nil
}

func (s *scan) longRow(t int64) error {
	var r recording.LongReading
	var value pair
	var word bool
	for _, p := range s.pairs {
		switch strings.ToLower(p.key) {
		case "point":
			r.Point = string(p.value)
		case "unit":
			r.Unit = string(p.value)
		case "quality":
			r.Quality = string(p.value)
		case "value":
			var err error
			if r.Value, word, r.Present, err = s.reading(p); err != nil {
				return err
			}
			value = p
		}
	}
	c, err := s.long.Reading(t, r)
	if err != nil {
		return s.Fail(0, "%v", err)
	}
	if word {
		s.NoteWord(c, value.value, value.at)
	}
	return nil
}

func (s *scan) finish() (*recording.Recording, error) {
	b, format := s.wide, "JSON Lines, wide"
	if s.long != nil {
		var err error
		if b, err = s.long.Done(s.Name); err != nil {
			return nil, err
		}
		format = "JSON Lines, long"
	} else if err := s.namer.Unused(s.Name, s.wide.Columns()); err != nil {
		return nil, err
	}
	return s.Done(b, 0, recording.Understood{Format: format}, "no line of the file holds a reading")
}
