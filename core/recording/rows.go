package recording

import "math"

// EachRow calls f for every time at which a column has a reading, in order, and
// for the recording's start and end, with the readings of that time. The cells
// are overwritten by the next call.
func (r *Recording) EachRow(f func(t int64, cells []Cell) error) error {
	type cursor struct {
		blocks []*Block
		next   int
	}
	cursors := make([]cursor, len(r.Columns))
	for i, c := range r.Columns {
		cursors[i] = cursor{blocks: c.Blocks}
	}
	cells := make([]Cell, len(r.Columns))
	started := false
	for {
		t := int64(math.MaxInt64)
		for i := range cursors {
			if c := &cursors[i]; len(c.blocks) > 0 {
				t = min(t, c.blocks[0].Times[c.next])
			}
		}
		if t == math.MaxInt64 {
			break
		}
		if !started && t > r.Start {
			if err := f(r.Start, cells); err != nil {
				return err
			}
		}
		started = true
		for i := range cursors {
			c := &cursors[i]
			cells[i] = Cell{}
			if len(c.blocks) == 0 || c.blocks[0].Times[c.next] != t {
				continue
			}
			cells[i] = Cell{c.blocks[0].At(c.next), true}
			if c.next++; c.next == c.blocks[0].Len() {
				c.blocks, c.next = c.blocks[1:], 0
			}
		}
		if err := f(t, cells); err != nil {
			return err
		}
		if t == r.End {
			return nil
		}
	}
	clear(cells)
	if !started && r.Start < r.End {
		if err := f(r.Start, cells); err != nil {
			return err
		}
	}
	return f(r.End, cells)
}
