// Package parquet reads and writes recordings in Parquet files, wide or long as
// in package csv, with one flat column each.
//
// Times are timestamps, decimal or plain numbers, or text as in CSV. A null is no
// reading, a NaN a bad one.
package parquet

import (
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	pq "github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"rectura/core/recording"
)

// offsetKey is the file's note of how far east of UTC, in seconds, its times
// were shown, and columnsKey that of the order of its columns, a line each.
const (
	offsetKey  = "rectura.utc-offset"
	columnsKey = "rectura.columns"
)

// A Reader reads recordings. Its zero value is ready for use.
type Reader struct {
	Name    string // of the file, for errors
	Options recording.Options
}

// Read reads a whole recording of size bytes. The error is a *recording.Error
// unless reading itself failed.
func (r Reader) Read(in io.ReaderAt, size int64) (rec *recording.Recording, err error) {
	defer func() {
		// The library panics on some files that are no Parquet.
		if p := recover(); p != nil {
			rec, err = nil, r.fail("this file is broken: %v", p)
		}
	}()
	if size == 0 {
		return nil, r.fail("the file is empty")
	}
	if err := soundFooter(in, size); err != nil {
		return nil, r.fail("this is no whole Parquet file, or it has been cut off: %v", err)
	}
	f, err := pq.OpenFile(in, size, pq.SkipBloomFilters(true), pq.SkipPageIndex(true))
	if err != nil {
		return nil, r.fail("this is no whole Parquet file, or it has been cut off: %v", err)
	}
	s := &scan{Reader: r, file: f}
	if err := s.sound(in, size); err != nil {
		return nil, r.fail("the file cannot be read: %v", err)
	}
	return s.read()
}

func (r Reader) fail(text string, args ...any) error {
	return &recording.Error{File: r.Name, Text: fmt.Sprintf(text, args...)}
}

type scan struct {
	Reader
	file    *pq.File
	columns []*pq.Column
	timeAt  int
	times   *recording.Times
	decode  func(pq.Value) (int64, error) // of a time
	scale   int64                         // nanoseconds of one of a timestamp; 0 for other times
	latest  int64                         // timestamp
}

func (s *scan) read() (*recording.Recording, error) {
	s.columns = s.file.Root().Columns()
	for _, c := range s.columns {
		if !c.Leaf() || c.Repeated() {
			return nil, s.fail("the column %s is nested; a recording has one reading a row in each column, so write it out flat", c.Name())
		}
	}
	if len(s.columns) < 2 {
		return nil, s.fail("the file has %d columns; a recording has a time and at least one point", len(s.columns))
	}
	s.timeAt = slices.IndexFunc(s.columns, func(c *pq.Column) bool {
		return c.Name() == s.Options.TimeColumn || s.Options.TimeColumn == "" && recording.IsTimeName(c.Name())
	})
	if s.timeAt < 0 && s.Options.TimeColumn != "" {
		return nil, s.fail("no column is named %s, which was to be the time", s.Options.TimeColumn)
	}
	s.timeAt = max(s.timeAt, 0)
	if err := s.settle(); err != nil {
		return nil, err
	}
	at := map[string]int{}
	for i, c := range s.columns {
		at[strings.ToLower(c.Name())] = i
	}
	_, point := at["point"]
	_, value := at["value"]
	if point && value && len(s.columns) <= 5 {
		return s.readLong(at)
	}
	return s.readWide()
}

// settle finds out what the time column's values are.
func (s *scan) settle() error {
	c := s.columns[s.timeAt]
	s.times = recording.NewTimes(s.Options, c.Name(), '.')
	if logical := c.Type().LogicalType(); logical != nil {
		switch l := logical.Value.(type) {
		case *format.TimestampType:
			s.scale = 1
			switch l.Unit.Value.(type) {
			case *format.MilliSeconds:
				s.scale = 1e6
			case *format.MicroSeconds:
				s.scale = 1e3
			}
			s.latest = math.MaxInt64 / s.scale
			s.decode = func(v pq.Value) (int64, error) { return s.timestamp(v.Int64()) }
			return s.times.Settle([][]byte{[]byte("1970-01-01T00:00:00Z")})
		case *format.DecimalType:
			scale := int(l.Scale)
			s.decode = func(v pq.Value) (int64, error) { return s.times.Read(decimal(integer(v), scale)) }
			return s.first()
		}
	}
	switch c.Type().Kind() {
	case pq.Int32, pq.Int64:
		s.decode = func(v pq.Value) (int64, error) { return s.times.Read(strconv.AppendInt(nil, integer(v), 10)) }
	case pq.Float, pq.Double:
		s.decode = func(v pq.Value) (int64, error) {
			x := v.Double()
			if v.Kind() == pq.Float {
				x = float64(v.Float())
			}
			return s.times.Read(strconv.AppendFloat(nil, x, 'f', -1, 64))
		}
	case pq.ByteArray, pq.FixedLenByteArray:
		s.decode = func(v pq.Value) (int64, error) { return s.times.Read(v.ByteArray()) }
	default:
		return s.fail("the column %s is of a kind that is no time", c.Name())
	}
	return s.first()
}

func (s *scan) timestamp(t int64) (int64, error) {
	if t > s.latest || t < -s.latest {
		return 0, fmt.Errorf("a time beyond 292 years")
	}
	return t * s.scale, nil
}

// first settles the form of times from the first of them.
func (s *scan) first() error {
	const sniffed = 200
	var first [][]byte
	decode := s.decode
	probe := s.times
	err := s.each(s.columns[s.timeAt], func(v pq.Value) error {
		switch {
		case v.IsNull():
			return s.fail("a row has no %s", s.columns[s.timeAt].Name())
		case v.Kind() == pq.ByteArray || v.Kind() == pq.FixedLenByteArray:
			first = append(first, slices.Clone(v.ByteArray()))
		default: // numbers speak for themselves
			if _, err := decode(v); err != nil {
				return s.fail("%v", err)
			}
			return errEnough
		}
		if len(first) == sniffed {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	if err := probe.Settle(first); err != nil {
		return s.fail("%v", err)
	}
	return nil
}

var errEnough = errors.New("enough")

func integer(v pq.Value) int64 {
	if v.Kind() == pq.Int32 {
		return int64(v.Int32())
	}
	return v.Int64()
}

// decimal writes a whole number of 10^-scale.
func decimal(n int64, scale int) []byte {
	text := strconv.FormatInt(n, 10)
	if scale <= 0 {
		return []byte(text)
	}
	sign := ""
	if n < 0 {
		sign, text = "-", text[1:]
	}
	if len(text) <= scale {
		text = strings.Repeat("0", scale-len(text)+1) + text
	}
	return []byte(sign + text[:len(text)-scale] + "." + text[len(text)-scale:])
}

// each calls f for every value of a column.
func (s *scan) each(c *pq.Column, f func(pq.Value) error) (err error) {
	for _, group := range s.file.RowGroups() {
		if err := eachIn(group.ColumnChunks()[c.Index()], func(p pq.Page) error { return eachValue(p, f) }); err != nil {
			return s.wrap(err)
		}
	}
	return nil
}

// wrap makes an error of a file that cannot be read to its end.
func (s *scan) wrap(err error) error {
	var e *recording.Error
	if err == nil || errors.As(err, &e) || errors.Is(err, errEnough) {
		return err
	}
	return s.fail("the file cannot be read to its end: %v", err)
}

func eachIn(chunk pq.ColumnChunk, f func(pq.Page) error) (err error) {
	pages := chunk.Pages()
	defer func() { err = errors.Join(err, pages.Close()) }()
	for {
		p, err := pages.ReadPage()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		err = f(p)
		pq.Release(p)
		if err != nil {
			return err
		}
	}
}

func eachValue(p pq.Page, f func(pq.Value) error) error {
	values := p.Values()
	buffer := make([]pq.Value, 1024)
	for {
		n, err := values.ReadValues(buffer)
		for _, v := range buffer[:n] {
			if err := f(v); err != nil {
				return err
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// readTimes reads the times of a row group. Timestamps without gaps are taken
// as they stand.
func (s *scan) readTimes(group pq.RowGroup) ([]int64, error) {
	times := make([]int64, 0, group.NumRows())
	c := s.columns[s.timeAt]
	err := eachIn(group.ColumnChunks()[c.Index()], func(p pq.Page) error {
		if s.scale > 0 && p.NumNulls() == 0 && p.Dictionary() == nil && c.Type().Kind() == pq.Int64 {
			data := p.Data()
			for _, v := range data.Int64() {
				t, err := s.timestamp(v)
				if err != nil {
					return s.fail("row %d: %v", len(times)+1, err)
				}
				times = append(times, t)
			}
			return nil
		}
		return eachValue(p, func(v pq.Value) error {
			if v.IsNull() {
				return s.fail("row %d has no %s", len(times)+1, c.Name())
			}
			t, err := s.decode(v)
			if err != nil {
				return s.fail("row %d: %v", len(times)+1, err)
			}
			times = append(times, t)
			return nil
		})
	})
	return times, s.wrap(err)
}

// readings are those of a column in a row group.
type readings struct{ recording.Stretch }

func (r *readings) add(v float64, present bool) {
	if !present && r.Missing == nil {
		r.Missing = make([]bool, len(r.Values), cap(r.Values))
	}
	r.Values = append(r.Values, v)
	if r.Missing != nil {
		r.Missing = append(r.Missing, !present)
	}
}

// plain gives the values one by one, where blocks are of no use.
func (r *readings) plain() {
	for _, b := range r.Blocks {
		for i := range b.Len() {
			r.Values = append(r.Values, b.At(i))
		}
	}
	r.Blocks = nil
}

// readColumn reads a column of a row group with given times, or with nil, of
// which no blocks are made. Doubles that have no gaps are taken as they stand,
// and made into blocks while the processor has them at hand.
func (s *scan) readColumn(group pq.RowGroup, c *pq.Column, column *recording.Column, times []int64) (*readings, error) {
	r := &readings{}
	if times != nil && !c.Optional() && c.Type().Kind() == pq.Double {
		err := s.readBlocks(group, c, times, r)
		return r, s.wrap(err)
	}
	r.Values = make([]float64, 0, group.NumRows())
	err := eachIn(group.ColumnChunks()[c.Index()], func(p pq.Page) error {
		return eachValue(p, func(v pq.Value) error {
			x, word, present, err := s.value(c, v)
			if word && column != nil && column.Word == nil {
				column.Word = &recording.Word{Text: string(v.ByteArray()), Line: len(r.Values) + 1, Column: c.Index() + 1}
			}
			r.add(x, present)
			return err
		})
	})
	return r, s.wrap(err)
}

func (s *scan) readBlocks(group pq.RowGroup, c *pq.Column, times []int64, r *readings) error {
	var block []float64
	done := 0
	finish := func() {
		if n := len(block); n > 0 && done+n <= len(times) {
			r.Blocks = append(r.Blocks, recording.NewBlock(times[done:done+n:done+n], block))
		}
		done, block = done+len(block), nil
	}
	take := func(values []float64) {
		for len(values) > 0 {
			if block == nil && len(values) >= recording.BlockSize { // a whole one, which need not be cleared first
				block, values = append([]float64(nil), values[:recording.BlockSize]...), values[recording.BlockSize:]
				finish()
				continue
			}
			if block == nil {
				block = make([]float64, 0, recording.BlockSize)
			}
			n := min(len(values), recording.BlockSize-len(block))
			block, values = append(block, values[:n]...), values[n:]
			if len(block) == recording.BlockSize {
				finish()
			}
		}
	}
	err := eachIn(group.ColumnChunks()[c.Index()], func(p pq.Page) error {
		if p.Dictionary() == nil {
			data := p.Data()
			take(data.Double())
			return nil
		}
		return eachValue(p, func(v pq.Value) error {
			take([]float64{v.Double()})
			return nil
		})
	})
	finish()
	if err == nil && done != len(times) {
		return s.unequal(c.Name(), done, len(times))
	}
	return err
}

func (s *scan) unequal(column string, rows, times int) error {
	return s.fail("the column %s has %d rows and the time %d; the file is broken", column, rows, times)
}

func (s *scan) value(c *pq.Column, v pq.Value) (x float64, word, present bool, err error) {
	if v.IsNull() {
		return 0, false, false, nil
	}
	switch v.Kind() {
	case pq.Boolean:
		if v.Boolean() {
			x = 1
		}
	case pq.Int32, pq.Int64:
		if l := c.Type().LogicalType(); l != nil {
			if d, ok := l.Value.(*format.DecimalType); ok {
				x, _ = recording.ParseNumber(decimal(integer(v), int(d.Scale)), '.') // digits and a point always are one
				return x, false, true, nil
			}
		}
		x = float64(integer(v))
	case pq.Float:
		x = float64(v.Float())
	case pq.Double:
		x = v.Double()
	case pq.ByteArray, pq.FixedLenByteArray:
		if len(v.ByteArray()) == 0 {
			return 0, false, false, nil
		}
		var ok bool
		if x, word, ok = recording.ParseValue(v.ByteArray(), '.'); !ok {
			return 0, false, false, s.fail(
				"%s: %q is no reading; it is a number, or a word such as on, off or bad",
				c.Name(),
				recording.Shorten(v.ByteArray()),
			)
		}
	default:
		return 0, false, false, s.fail("the column %s is of a kind that is no reading", c.Name())
	}
	return x, word, true, nil
}

func (s *scan) readWide() (*recording.Recording, error) {
	namer := recording.NewNamer(s.Options)
	var columns []*recording.Column
	var from []*pq.Column
	for i, c := range s.columns {
		if i == s.timeAt {
			continue
		}
		column, err := namer.Column(c.Name())
		if err == nil && column.Name == "" {
			err = fmt.Errorf("column %d has no name", i+1)
		}
		if err == nil && slices.ContainsFunc(columns, func(o *recording.Column) bool { return o.Name == column.Name }) {
			err = fmt.Errorf("two columns are named %s; rename one", column.Name)
		}
		if err != nil {
			return nil, s.fail("%v", err)
		}
		columns, from = append(columns, column), append(from, c)
	}
	if err := namer.Unused(s.Name, columns); err != nil {
		return nil, err
	}
	b := recording.NewBuilder(columns, recording.Clock{})
	b.Limit(s.Options.MostReadings)
	if s.Options.Sort {
		b.Sort()
	}
	for _, group := range s.file.RowGroups() {
		if s.Options.Rows > 0 && b.Rows() >= s.Options.Rows {
			break
		}
		times, err := s.readTimes(group)
		if err != nil {
			return nil, err
		}
		all := make([]*readings, len(columns))
		for i := range columns {
			if all[i], err = s.readColumn(group, from[i], columns[i], times); err != nil {
				return nil, err
			}
		}
		if err := s.add(b, times, all); err != nil {
			return nil, err
		}
	}
	return s.finish(b, "Parquet, wide")
}

// add adds the rows of a row group. A whole one whose times go up is added
// column by column.
func (s *scan) add(b *recording.Builder, times []int64, all []*readings) error {
	for i, r := range all {
		if r.Blocks == nil && len(r.Values) != len(times) {
			return s.unequal(b.Column(i).Name, len(r.Values), len(times))
		}
	}
	last, any := b.Last()
	up := !s.Options.Sort && s.Options.Rows == 0
	for i, t := range times {
		if !any && i == 0 || t > last {
			last = t
			continue
		}
		if up = false; t < last && !s.Options.Sort {
			clock := s.times.Clock()
			return s.fail("the time goes back in row %d of its group, from %s to %s; sort the rows by time", i+1, clock.Full(last), clock.Full(t))
		}
	}
	if up {
		columns := make([]recording.Stretch, len(all))
		for i, r := range all {
			columns[i] = r.Stretch
		}
		b.Rising(times, columns)
		return nil
	}
	for _, r := range all {
		r.plain()
	}
	cells := make([]recording.Cell, len(all))
	for i, t := range times {
		if s.Options.Rows > 0 && b.Rows() == s.Options.Rows {
			break
		}
		for k, r := range all {
			cells[k] = recording.Cell{Value: r.Values[i], Present: r.Missing == nil || !r.Missing[i]}
		}
		b.Row(t, cells)
	}
	return nil
}

func (s *scan) readLong(at map[string]int) (*recording.Recording, error) {
	b := recording.NewLongBuilder(s.Options)
	for _, group := range s.file.RowGroups() {
		times, err := s.readTimes(group)
		if err != nil {
			return nil, err
		}
		values, err := s.readColumn(group, s.columns[at["value"]], nil, nil)
		if err != nil {
			return nil, err
		}
		texts := map[string][]string{}
		for _, name := range []string{"point", "unit", "quality"} {
			i, ok := at[name]
			if !ok {
				texts[name] = make([]string, len(times))
				continue
			}
			err := eachIn(group.ColumnChunks()[s.columns[i].Index()], func(p pq.Page) error {
				return eachValue(p, func(v pq.Value) error {
					text := ""
					if !v.IsNull() {
						text = string(v.Bytes())
					}
					texts[name] = append(texts[name], text)
					return nil
				})
			})
			if err != nil {
				return nil, s.wrap(err)
			}
		}
		for i, t := range times {
			if last, any := b.Last(); any && t < last && !s.Options.Sort {
				clock := s.times.Clock()
				return nil, s.fail(
					"the time goes back in row %d of its group, from %s to %s; sort the rows by time",
					i+1,
					clock.Full(last),
					clock.Full(t),
				)
			}
			r := recording.LongReading{
				Point:   texts["point"][i],
				Value:   values.Values[i],
				Present: values.Missing == nil || !values.Missing[i],
				Unit:    texts["unit"][i],
				Quality: texts["quality"][i],
			}
			if _, err := b.Reading(t, r); err != nil {
				return nil, s.fail("row %d: %v", i+1, err)
			}
			if s.Options.Rows > 0 && b.Rows() >= s.Options.Rows {
				break
			}
		}
	}
	builder, err := b.Done(s.Name)
	if err != nil {
		return nil, err
	}
	return s.finish(builder, "Parquet, long")
}

func (s *scan) finish(b *recording.Builder, kind string) (*recording.Recording, error) {
	source := recording.Source{Name: s.Name, Options: s.Options, Times: s.times}
	rec, err := source.Done(b, 0, recording.Understood{Format: kind}, "the file has columns and no row in them")
	if err != nil {
		return nil, err
	}
	if text, ok := s.file.Lookup(offsetKey); ok {
		if offset, err := strconv.Atoi(text); err == nil && offset > -24*3600 && offset < 24*3600 {
			rec.Clock.Offset = offset
		}
	}
	if text, ok := s.file.Lookup(columnsKey); ok {
		order := strings.Split(text, "\n")
		slices.SortStableFunc(rec.Columns, func(a, b *recording.Column) int {
			return slices.Index(order, a.Heading()) - slices.Index(order, b.Heading())
		})
	}
	return rec, nil
}
