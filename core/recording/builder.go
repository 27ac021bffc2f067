package recording

// A Builder collects rows, each with a time and a reading or none for every
// column, into a Recording. Columns that have a reading in every row of a block
// share its times.
type Builder struct {
	recording *Recording
	times     []int64 // of the rows of the block being filled
	columns   []building
	repeated  int
	sizes     int
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

// A Cell is one reading of a row, or none.
type Cell struct {
	Value   float64
	Present bool
}

// Last is the time of the last row; only if there is one.
func (b *Builder) Last() (t int64, any bool) { return b.recording.End, b.recording.Rows > 0 }

// Row adds a row. Its time must not be before that of the last one; at the same
// time, a reading takes the place of the one before.
func (b *Builder) Row(t int64, cells []Cell) {
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
		b.times = make([]int64, 0, b.sizes)
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

// separate gives a column times of its own, since it misses a row.
func (b *Builder) separate(c *building) {
	if c.own {
		return
	}
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
