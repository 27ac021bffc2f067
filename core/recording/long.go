package recording

import (
	"fmt"
	"math"
	"strings"
)

// A LongReading is a row of a long recording.
type LongReading struct {
	Point   string
	Value   float64
	Present bool // there is a value
	Unit    string
	Quality string // good, bad or nothing
}

// A LongBuilder collects the readings of a long recording. Those of one time
// that follow each other become one row.
type LongBuilder struct {
	*Builder
	namer   *Namer
	index   map[string]int
	said    map[string]string // the unit that the file says of a point
	columns []*Column
	names   map[string]bool // of the columns
	row     []Reading       // that has been read so far
	inRow   []int           // of each column: the number of the last row that it is in
	number  int             // of the row
	t       int64
	any     bool
	rows    int
}

// NewLongBuilder begins a long recording.
func NewLongBuilder(o Options) *LongBuilder {
	b := &LongBuilder{
		Builder: NewBuilder(nil, Clock{}),
		namer:   NewNamer(o),
		index:   map[string]int{},
		said:    map[string]string{},
		names:   map[string]bool{},
	}
	b.Limit(o.MostReadings)
	if o.Sort {
		b.Builder.Sort()
	}
	return b
}

// Rows is the number of readings so far.
func (b *LongBuilder) Rows() int { return b.rows }

// Last is the time of the last reading.
func (b *LongBuilder) Last() (t int64, any bool) { return b.t, b.any }

// Reading adds a reading and tells its column.
func (b *LongBuilder) Reading(t int64, r LongReading) (*Column, error) {
	if r.Point == "" {
		return nil, fmt.Errorf("this row names no point")
	}
	i, known := b.index[r.Point]
	if !known {
		if len(b.columns) == MaxColumns {
			return nil, fmt.Errorf("more than %d points", MaxColumns)
		}
		c, err := b.namer.Column(r.Point)
		if err != nil {
			return nil, err
		}
		if c.Unit == "" {
			c.Unit = r.Unit
		}
		if b.names[c.Name] {
			return nil, fmt.Errorf("two points of the file become %s; map one of them otherwise", c.Name)
		}
		b.names[c.Name] = true
		b.inRow = append(b.inRow, 0)
		i = b.AddColumn(c)
		b.index[r.Point], b.said[r.Point] = i, r.Unit
		b.columns = append(b.columns, c)
	}
	if r.Unit != b.said[r.Point] {
		return nil, fmt.Errorf(
			"%s is in %s here, and was in %s before; a point has one unit in a recording",
			r.Point,
			orNone(r.Unit),
			orNone(b.said[r.Point]),
		)
	}
	switch strings.ToLower(r.Quality) {
	case "", "good":
	case "bad":
		r.Value, r.Present = math.NaN(), true
	default:
		return nil, fmt.Errorf("the quality %q is neither good nor bad", Shorten(r.Quality))
	}
	b.rows++
	if !b.any || t != b.t || b.inRow[i] == b.number {
		b.flush()
	}
	b.t, b.any = t, true
	if r.Present {
		b.row = append(b.row, Reading{i, r.Value})
		b.inRow[i] = b.number
	}
	return b.columns[i], nil
}

func orNone(unit string) string {
	if unit == "" {
		return "no unit"
	}
	return unit
}

func (b *LongBuilder) flush() {
	if b.any {
		b.Sparse(b.t, b.row)
		b.row = b.row[:0]
	}
	b.number++
}

// Done ends the rows; an error is a mapping that found no point.
func (b *LongBuilder) Done(file string) (*Builder, error) {
	b.flush()
	return b.Builder, b.namer.Unused(file, b.columns)
}
