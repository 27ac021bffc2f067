package recording

import (
	"cmp"
	"slices"
)

// A Builder collects rows, each with a time and readings of some of the columns,
// into a Recording. Columns that have a reading in every row of a block share its
// times. The work and the memory grow with the readings, not with the columns
// that a row leaves out.
type Builder struct {
	recording *Recording
	times     []int64 // of the rows of the block being filled
	columns   []building
	repeated  int
	dense     bool // every column had a reading in every row of the last block
	shared    bool // and has in the one being filled
	sort      bool
	unsorted  []sortable
	readings  int64
	limit     int64
}

// A sortable row waits for all others.
type sortable struct {
	t        int64
	readings []Reading
}

// A building is the block of one column that is being filled. It shares the
// times of the rows for as long as it has a reading in each.
type building struct {
	column *Column
	times  []int64 // its own, once it has missed a row
	own    bool
	values []float64
}

// NewBuilder begins a recording with columns that have no readings yet.
func NewBuilder(columns []*Column, clock Clock) *Builder {
	b := &Builder{recording: &Recording{Columns: columns, Clock: clock}, shared: true, limit: DefaultReadings}
	for _, c := range columns {
		b.columns = append(b.columns, building{column: c})
	}
	return b
}

// Limit sets the largest number of readings that are taken; 0 for the usual one.
func (b *Builder) Limit(readings int64) {
	if readings > 0 {
		b.limit = readings
	}
}

// Over tells whether there were more readings than are taken. Those are counted
// only.
func (b *Builder) Over() bool { return b.readings > b.limit }

// Sort lets times go back; rows are brought into order at the end. Rows of one
// time keep theirs.
func (b *Builder) Sort() { b.sort = true }

// AddColumn adds a column that was met only now, and returns its number.
func (b *Builder) AddColumn(c *Column) int {
	b.recording.Columns = append(b.recording.Columns, c)
	b.columns = append(b.columns, building{column: c})
	b.shared = b.shared && len(b.times) == 0
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

// A Reading is one of a column, by its number.
type Reading struct {
	Column int
	Value  float64
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
		some := make([]Reading, 0, len(cells))
		for i, c := range cells {
			if c.Present {
				some = append(some, Reading{i, c.Value})
			}
		}
		b.Sparse(t, some)
		return
	}
	row, again := b.open(t)
	put := 0
	for i, c := range cells {
		if c.Present {
			b.put(i, row, t, c.Value, again)
			put++
		}
	}
	b.close(t, put, again)
}

// Sparse is Row for a row of which only the readings that it has are given, each
// of another column.
func (b *Builder) Sparse(t int64, some []Reading) {
	if b.sort {
		if b.readings += int64(len(some)); !b.Over() {
			b.unsorted = append(b.unsorted, sortable{t, slices.Clone(some)})
		}
		return
	}
	row, again := b.open(t)
	for _, r := range some {
		b.put(r.Column, row, t, r.Value, again)
	}
	b.close(t, len(some), again)
}

// open begins a row and gives its number in the block being filled; again tells
// whether it has the time of the last row.
func (b *Builder) open(t int64) (row int, again bool) {
	r := b.recording
	r.Rows++
	switch {
	case r.Rows == 1:
		r.Origin, r.Start, r.End = t, t, t
	case t == r.End:
		return len(b.times) - 1, true
	}
	if len(b.times) == BlockSize {
		b.flush()
	}
	r.End = t
	if b.times == nil {
		b.begin()
	}
	return len(b.times), false
}

// close ends a row that so many readings were put into.
func (b *Builder) close(t int64, put int, again bool) {
	if !again {
		b.times = append(b.times, t)
		b.shared = b.shared && put == len(b.columns)
	}
}

// begin makes room for the rows of a block.
func (b *Builder) begin() {
	b.shared = true
	room := 64
	if b.dense {
		room = BlockSize
	}
	b.times = make([]int64, 0, room)
	for i := range b.columns {
		c := &b.columns[i]
		if c.own {
			b.shared = false
		} else if b.dense && c.values == nil {
			c.values = make([]float64, 0, BlockSize)
		}
	}
}

// put puts a reading into a row of the block being filled; a row below 0 belongs
// to a block that is finished.
func (b *Builder) put(i, row int, t int64, v float64, again bool) {
	if b.readings++; b.Over() {
		return
	}
	c := &b.columns[i]
	if again && b.replace(c, t, v) {
		b.repeated++
		return
	}
	if n := len(c.values); !c.own && (n < row || row < 0) { // it has missed a row
		c.own, b.shared = true, false
		c.times = append(make([]int64, 0, n+1), b.times[:n]...)
	}
	c.values = append(c.values, v)
	if c.own {
		c.times = append(c.times, t)
		if len(c.values) == BlockSize {
			c.finish(c.times)
		}
	}
}

// replace puts a reading in the place of the column's last one, if that is of the
// same time.
func (b *Builder) replace(c *building, t int64, v float64) bool {
	n := len(c.values)
	switch {
	case n == 0:
		if !b.lastIs(c, t) {
			return false
		}
		b.replaceLast(c, v)
		return true
	case c.own && c.times[n-1] == t, !c.own && b.times[n-1] == t:
		c.values[n-1] = v
		return true
	}
	return false
}

// FullRow is Row for a row in which every column has a reading.
func (b *Builder) FullRow(t int64, values []float64) {
	if !b.shared || b.sort || b.times == nil || len(b.times) == BlockSize || t == b.recording.End || b.Over() {
		some := make([]Reading, len(values))
		for i, v := range values {
			some[i] = Reading{i, v}
		}
		b.Sparse(t, some)
		return
	}
	b.readings += int64(len(values))
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
	b.readings += int64(len(times)) * int64(len(b.columns))
	if b.Over() {
		return
	}
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
		b.readings += int64(part.Columns[i].Len())
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
}

// finish makes a block of what was collected.
func (c *building) finish(times []int64) {
	if len(c.values) > 0 {
		if cap(c.values) > 2*len(c.values) {
			c.values = slices.Clip(slices.Clone(c.values))
		}
		c.column.Blocks = append(c.column.Blocks, NewBlock(times, c.values))
	}
	c.values, c.times = nil, nil
}

// flush ends a block of rows. A column with times of its own goes on until its
// block is reasonably full, and then shares times again.
func (b *Builder) flush() {
	b.dense = true
	for i := range b.columns {
		c := &b.columns[i]
		n := len(c.values)
		if !c.own && n == len(b.times) {
			c.finish(b.times)
			continue
		}
		b.dense = false
		if !c.own && n > 0 {
			c.own, c.times = true, slices.Clone(b.times[:n])
		}
		if n == 0 || n >= BlockSize/2 {
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
		b.sort, b.unsorted, b.readings = false, nil, 0
		slices.SortStableFunc(rows, func(a, c sortable) int { return cmp.Compare(a.t, c.t) })
		for _, row := range rows {
			b.Sparse(row.t, row.readings)
		}
	}
	for i := range b.columns {
		c := &b.columns[i]
		if c.own {
			c.finish(c.times)
		} else {
			c.finish(b.times[:len(c.values)])
		}
	}
	b.times = nil
	return b.recording, b.repeated
}
