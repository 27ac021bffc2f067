package recording

import (
	"cmp"
	"slices"
)

// A Builder collects rows, each with a time and a reading or none for every
// column, into a Recording. Columns that have a reading in every row of a block
// share its times.
type Builder struct {
	recording *Recording
	times     []int64 // of the rows of the block being filled
	columns   []building
	repeated  int
	sizes     int
	shared    bool // no column has times of its own in the block being filled
	sort      bool
	unsorted  []sortable
}

// A sortable row waits for all others.
type sortable struct {
	t     int64
	cells []Cell
}

// A building is the block of one column that is being filled.
type building struct {
	column *Column
	times  []int64 // its own, once it has missed a row
	own    bool
	values []float64
}

// NewBuilder begins a recording with columns that have no readings yet.
func NewBuilder(columns []*Column, clock Clock) *Builder {
	b := &Builder{recording: &Recording{Columns: columns, Clock: clock}, sizes: 64}
	for _, c := range columns {
		b.columns = append(b.columns, building{column: c})
	}
	return b
}

// Sort lets times go back; rows are brought into order at the end. Rows of one
// time keep theirs.
func (b *Builder) Sort() { b.sort = true }

// AddColumn adds a column that was met only now, and returns its number.
func (b *Builder) AddColumn(c *Column) int {
	b.recording.Columns = append(b.recording.Columns, c)
	b.columns = append(b.columns, building{column: c, own: b.recording.Rows > 0})
	b.shared = b.shared && b.recording.Rows == 0
	return len(b.columns) - 1
}

// Column is the column of a number, as AddColumn gives it.
func (b *Builder) Column(i int) *Column { return b.columns[i].column }

// Columns are all columns so far.
func (b *Builder) Columns() []*Column { return b.recording.Columns }

// A Cell is one reading of a row, or none.
type Cell struct {
	Value   float64
	Present bool
}

// Last is the time of the last row; only if there is one.
func (b *Builder) Last() (t int64, any bool) { return b.recording.End, b.recording.Rows > 0 }

// Rows is the number of rows so far.
func (b *Builder) Rows() int { return b.recording.Rows + len(b.unsorted) }

// Row adds a row. Its time must not be before that of the last one; at the same
// time, a reading takes the place of the one before. Columns beyond the cells
// have no reading in it.
func (b *Builder) Row(t int64, cells []Cell) {
	if b.sort {
		b.unsorted = append(b.unsorted, sortable{t, slices.Clone(cells)})
		return
	}
	r := b.recording
	r.Rows++
	if r.Rows == 1 {
		r.Origin, r.Start, r.End = t, t, t
	} else if t == r.End {
		b.repeat(t, cells)
		return
	}
	if len(b.times) == BlockSize {
		b.flush()
	}
	r.End = t
	if b.times == nil {
		b.begin()
	}
	for i := len(cells); i < len(b.columns); i++ {
		b.separate(&b.columns[i])
	}
	for i, cell := range cells {
		c := &b.columns[i]
		if !cell.Present {
			b.separate(c)
			continue
		}
		if c.values == nil {
			c.values = make([]float64, 0, b.sizes)
		}
		c.values = append(c.values, cell.Value)
		if c.own {
			c.times = append(c.times, t)
			if len(c.values) == BlockSize {
				c.finish(c.times)
			}
		}
	}
	b.times = append(b.times, t)
}

// begin makes room for the rows of a block.
func (b *Builder) begin() {
	b.times = make([]int64, 0, b.sizes)
	b.shared = true
	for i := range b.columns {
		c := &b.columns[i]
		if c.own {
			b.shared = false
		} else if c.values == nil {
			c.values = make([]float64, 0, b.sizes)
		}
	}
}

// FullRow is Row for a row in which every column has a reading.
func (b *Builder) FullRow(t int64, values []float64) {
	if !b.shared || b.sort || len(b.times) == BlockSize || t == b.recording.End {
		cells := make([]Cell, len(values))
		for i, v := range values {
			cells[i] = Cell{v, true}
		}
		b.Row(t, cells)
		return
	}
	b.recording.Rows++
	b.recording.End = t
	for i, v := range values {
		c := &b.columns[i]
		c.values = append(c.values, v)
	}
	b.times = append(b.times, t)
}

// A Stretch is the readings of a column in many rows: as blocks that share the
// rows' times, or as values, some of which may be missing (nil for none).
type Stretch struct {
	Blocks  []*Block
	Values  []float64
	Missing []bool
}

// Rising adds rows column by column: times that all go up and come after the
// last row, and the readings of every column. The slices are kept.
func (b *Builder) Rising(times []int64, columns []Stretch) {
	if len(times) == 0 {
		return
	}
	r := b.recording
	if r.Rows == 0 {
		r.Origin, r.Start = times[0], times[0]
	}
	b.flush() // what rows there are, as they are
	for i := range b.columns {
		b.columns[i].finish(b.columns[i].times)
		b.columns[i].own = false
	}
	r.Rows += len(times)
	r.End = times[len(times)-1]
	for i := range b.columns {
		c, of := &b.columns[i], &columns[i]
		if of.Blocks != nil {
			c.column.Blocks = append(c.column.Blocks, of.Blocks...)
			continue
		}
		for from := 0; from < len(times); from += BlockSize {
			to := min(from+BlockSize, len(times))
			t, v := times[from:to:to], of.Values[from:to:to]
			if of.Missing != nil {
				t, v = present(t, v, of.Missing[from:to])
			}
			c.times, c.values = t, v
			c.finish(t)
		}
	}
}

// Append adds a part of the recording that was built by itself: the same
// columns, and times that come after the last row.
func (b *Builder) Append(part *Recording) {
	r := b.recording
	if r.Rows == 0 {
		r.Origin, r.Start = part.Start, part.Start
	}
	b.flush()
	for i := range b.columns {
		c := &b.columns[i]
		c.finish(c.times)
		c.own = false
		c.column.Blocks = append(c.column.Blocks, part.Columns[i].Blocks...)
		if c.column.Word == nil {
			c.column.Word = part.Columns[i].Word
		}
	}
	r.Rows += part.Rows
	r.End = part.End
}

// present leaves out the readings that are missing.
func present(times []int64, values []float64, missing []bool) (t []int64, v []float64) {
	for i, m := range missing {
		if !m {
			t, v = append(t, times[i]), append(v, values[i])
		}
	}
	return t, v
}

// separate gives a column times of its own, since it misses a row.
func (b *Builder) separate(c *building) {
	if c.own {
		return
	}
	b.shared = false
	c.own, c.times = true, append(make([]int64, 0, cap(b.times)), b.times...)
}

// repeat takes another row of the last row's time.
func (b *Builder) repeat(t int64, cells []Cell) {
	for i, cell := range cells {
		if !cell.Present {
			continue
		}
		c := &b.columns[i]
		if n := len(c.values); n > 0 && (!c.own || c.times[n-1] == t) {
			c.values[n-1] = cell.Value
			b.repeated++
			continue
		}
		if len(c.values) == 0 && b.lastIs(c, t) {
			// Its block was just finished with a reading of this very time.
			b.replaceLast(c, cell.Value)
			continue
		}
		// The row's block is finished, and this column had no reading in it.
		c.own, b.shared = true, false
		c.values, c.times = append(c.values, cell.Value), append(c.times, t)
		if len(c.values) == BlockSize {
			c.finish(c.times)
		}
	}
}

func (b *Builder) lastIs(c *building, t int64) bool {
	n := len(c.column.Blocks)
	if n == 0 {
		return false
	}
	last := c.column.Blocks[n-1]
	return last.Times[last.Len()-1] == t
}

func (b *Builder) replaceLast(c *building, v float64) {
	n := len(c.column.Blocks)
	last := c.column.Blocks[n-1]
	values := make([]float64, last.Len())
	for i := range values {
		values[i] = last.At(i)
	}
	values[len(values)-1] = v
	c.column.Blocks[n-1] = NewBlock(last.Times, values)
	b.repeated++
}

// finish makes a block of what was collected.
func (c *building) finish(times []int64) {
	if len(c.values) > 0 {
		c.column.Blocks = append(c.column.Blocks, NewBlock(times, c.values))
	}
	c.values, c.times = nil, nil
}

// flush ends a block of rows. A column with times of its own goes on until its
// block is reasonably full, and then shares times again.
func (b *Builder) flush() {
	b.sizes = BlockSize
	for i := range b.columns {
		c := &b.columns[i]
		if !c.own {
			c.finish(b.times)
		} else if len(c.values) == 0 || len(c.values) >= BlockSize/2 {
			c.finish(c.times)
			c.own = false
		}
	}
	b.times = nil
}

// Finish ends the recording. Repeated is the number of readings that took the
// place of an earlier one of the same time.
func (b *Builder) Finish() (r *Recording, repeated int) {
	if b.sort {
		rows := b.unsorted
		b.sort, b.unsorted = false, nil
		slices.SortStableFunc(rows, func(a, c sortable) int { return cmp.Compare(a.t, c.t) })
		for _, row := range rows {
			b.Row(row.t, row.cells)
		}
	}
	for i := range b.columns {
		c := &b.columns[i]
		if c.own {
			c.finish(c.times)
		} else {
			c.finish(b.times)
		}
	}
	b.times = nil
	return b.recording, b.repeated
}
