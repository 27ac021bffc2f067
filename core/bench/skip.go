package bench

import (
	"math"
	"slices"

	"rectura/core/due"
	"rectura/core/logic"
	"rectura/core/recording"
)

// A skipping feed passes over readings that change nothing, without scaling them: it asks the
// stepper of each input between which readings that is so, and goes on to the first one that lies
// outside. What it passed over is handed over late, when somebody looks at the input; of one whose memory is
// made of its last few readings, only these.
//
// It gives the transitions, reasons and summaries of `played`, which hands over everything.
type skipping struct {
	stepper *logic.Stepper
	cursors []skipper
	of      []int32   // by input: its cursor, or -1
	soonest due.Queue // the cursors by the times of what they must hand over next
	moved   []int32   // the cursors that are to be asked anew
	begun   bool
	start   int64
}

// A skipper goes through the readings of one column.
type skipper struct {
	binding
	last   int // how many of the last readings are handed over; -1 for all
	blocks []*recording.Block
	place  place // of the first reading that has not been handed over
	event  place // of the first one, at or behind it, that must be
	time   int64 // of that one; never if there is none

	low, high float64 // between which readings of the column were passed over
	quiet     bool    // there is such an interval
	moved     bool    // it is to be asked anew
}

// A place is that of a reading in a column: its block, and where in it.
type place struct{ block, at int }

func (p place) before(q place) bool { return p.block < q.block || p.block == q.block && p.at < q.at }

// skip gives the feed of a recording, which begins at a time whether or not anything was
// read then.
func skip(s *logic.Stepper, bound []binding, start int64) *skipping {
	f := &skipping{stepper: s, start: start, of: make([]int32, len(s.Program().Inputs))}
	for i := range f.of {
		f.of[i] = -1
	}
	for _, b := range bound {
		last := 1
		if c := s.Program().Inputs[b.input].Chain; c != nil {
			last = c.Lookback()
		}
		if last > 0 {
			last++ // what a bad reading comes after is remembered, too
		}
		f.of[b.input] = int32(len(f.cursors))
		f.cursors = append(f.cursors, skipper{binding: b, last: last, blocks: b.column.Blocks, time: never})
	}
	f.soonest = due.New(len(f.cursors))
	s.Skip(f.behind, func(input int) {
		if k := f.of[input]; k >= 0 {
			f.move(k)
		}
	})
	return f
}

// Next is the time of the next reading that must be handed over.
func (f *skipping) Next() int64 {
	if !f.begun {
		return f.start
	}
	for _, k := range f.moved {
		f.find(k)
		f.cursors[k].moved = false
	}
	f.moved = f.moved[:0]
	return f.soonest.Earliest()
}

func (f *skipping) find(k int32) {
	c := &f.cursors[k]
	c.find(f.stepper)
	f.soonest.Set(k, c.time)
}

// Hand hands over the readings that must be, up to a time.
func (f *skipping) Hand(t int64, s *logic.Stepper) {
	if !f.begun {
		f.begun = true
		for k := range f.cursors {
			f.cursors[k].hand(t, s)
			f.move(int32(k))
		}
		return
	}
	for f.soonest.Earliest() <= t {
		k := f.soonest.First()
		f.cursors[k].hand(t, s)
		f.soonest.Set(k, never)
		f.move(k)
	}
}

// move notes a cursor that is to be asked anew.
func (f *skipping) move(k int32) {
	if c := &f.cursors[k]; !c.moved {
		c.moved = true
		f.moved = append(f.moved, k)
	}
}

// behind hands over, late, what was passed over of an input.
func (f *skipping) behind(input int, t int64) {
	if k := f.of[input]; k >= 0 {
		f.cursors[k].hand(t, f.stepper)
	}
}

// find goes on to the next reading that must be handed over.
func (c *skipper) find(s *logic.Stepper) {
	low, high, quiet := s.Quiet(c.input, c.at)
	if quiet && c.convert {
		low, high = c.to.Convert(low, c.from), c.to.Convert(high, c.from)
		low, high = min(low, high), max(low, high)
		hair := 1e-9 * (finite(low) + finite(high))
		low, high = low+hair, high-hair
	}
	if quiet && c.quiet && low == c.low && high == c.high && !c.event.before(c.place) {
		return // it stands there already
	}
	c.low, c.high, c.quiet = low, high, quiet
	c.event = c.place
	if quiet {
		c.event = c.outside()
	}
	c.time = never
	if c.event.block < len(c.blocks) {
		c.time = c.blocks[c.event.block].Times[c.event.at]
	}
}

func finite(v float64) float64 {
	if math.IsInf(v, 0) {
		return 0
	}
	return math.Abs(v)
}

// outside is the place of the first reading, from where the cursor stands, that is not quiet.
func (c *skipper) outside() place {
	p := c.place
	for ; p.block < len(c.blocks); p = (place{p.block + 1, 0}) {
		b := c.blocks[p.block]
		if p.at = b.Outside(p.at, c.low, c.high); p.at < b.Len() {
			return p
		}
	}
	return p
}

// hand hands over the readings up to a time, or the last of them that the input's memory is
// made of.
func (c *skipper) hand(t int64, s *logic.Stepper) {
	from := c.place
	to := c.until(t)
	if from == to {
		return
	}
	c.place = to
	if c.last > 0 {
		from = c.back(from, to)
	}
	for p := from; p != to; p = c.forth(p) {
		b := c.blocks[p.block]
		s.Read(b.Times[p.at], c.input, c.value(b.At(p.at)), c.at)
	}
}

// until is the place of the first reading after a time, which is most often that of the one
// that must be handed over.
func (c *skipper) until(t int64) place {
	if c.time == t && !c.event.before(c.place) {
		return c.forth(c.event)
	}
	return c.after(t)
}

// after is the place of the first reading after a time, from where the cursor stands.
func (c *skipper) after(t int64) place {
	p := c.place
	for ; p.block < len(c.blocks); p = (place{p.block + 1, 0}) {
		times := c.blocks[p.block].Times[p.at:]
		switch {
		case times[0] > t:
			return p
		case times[len(times)-1] > t:
			i, found := slices.BinarySearch(times, t)
			if found {
				i++
			}
			return place{p.block, p.at + i}
		}
	}
	return p
}

// back is the place of the last few readings before one, but not before another.
func (c *skipper) back(from, to place) place {
	p := to
	for range c.last {
		if p == from {
			break
		}
		if p.at == 0 {
			p.block--
			p.at = c.blocks[p.block].Len()
		}
		p.at--
	}
	return p
}

// forth is the place behind one.
func (c *skipper) forth(p place) place {
	if p.at++; p.at == c.blocks[p.block].Len() {
		return place{p.block + 1, 0}
	}
	return p
}
