package recording

import (
	"container/heap"
	"errors"
	"fmt"
	"math"
)

// EachRow calls f for every time at which a column has a reading, in order, and
// for the recording's start and end, with the readings of that time in the order
// of their columns. They are overwritten by the next call.
func (r *Recording) EachRow(f func(t int64, some []Reading) error) error {
	var q rowQueue
	for i, c := range r.Columns {
		if len(c.Blocks) > 0 {
			q = append(q, rowCursor{column: i, blocks: c.Blocks, t: c.Blocks[0].Times[0]})
		}
	}
	heap.Init(&q)
	some := make([]Reading, 0, len(r.Columns))
	row := func(t int64) []Reading {
		some = some[:0]
		for len(q) > 0 && q[0].t == t {
			c := &q[0]
			some = append(some, Reading{c.column, c.blocks[0].At(c.next)})
			if c.advance() {
				heap.Fix(&q, 0)
			} else {
				heap.Pop(&q)
			}
		}
		return some
	}
	last, any := int64(math.MinInt64), false
	if len(q) == 0 || q[0].t > r.Start {
		if err := f(r.Start, nil); err != nil {
			return err
		}
		last, any = r.Start, true
	}
	for len(q) > 0 {
		t := q[0].t
		if err := f(t, row(t)); err != nil {
			return err
		}
		last, any = t, true
	}
	if !any || last < r.End {
		return f(r.End, nil)
	}
	return nil
}

// mostCells bounds the table that a recording becomes where every row has a cell
// for every column.
const mostCells = 500_000_000

// ErrTable is the error of a recording that is no table that could be written.
var ErrTable = errors.New("too many for a table; write JSON Lines")

// FitsTable tells why so many rows of all columns are too large a table.
func (r *Recording) FitsTable(rows int) error {
	if n := len(r.Columns); n > 0 && rows > mostCells/n {
		return fmt.Errorf("%d rows of %d columns are mostly empty, and %w", rows, n, ErrTable)
	}
	return nil
}

// A rowCursor stands at a reading of a column.
type rowCursor struct {
	column int
	blocks []*Block
	next   int
	t      int64
}

// advance goes to the next reading; false if there is none.
func (c *rowCursor) advance() bool {
	if c.next++; c.next == c.blocks[0].Len() {
		c.blocks, c.next = c.blocks[1:], 0
	}
	if len(c.blocks) == 0 {
		return false
	}
	c.t = c.blocks[0].Times[c.next]
	return true
}

// A rowQueue has the cursor that comes next in front; of those of one time, that
// of the first column.
type rowQueue []rowCursor

func (q rowQueue) Len() int { return len(q) }
func (q rowQueue) Less(i, j int) bool {
	return q[i].t < q[j].t || q[i].t == q[j].t && q[i].column < q[j].column
}
func (q rowQueue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *rowQueue) Push(x any)   { *q = append(*q, x.(rowCursor)) }
func (q *rowQueue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}
