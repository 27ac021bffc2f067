package signal

import "math"

// hair is by how much the ends of a quiet interval are drawn in, as a part of what they are:
// more than the rounding of any chain, so that a reading inside never leads outside.
const hair = 1e-9

// Quiet is between which readings at a place of its chain, ends excluded, an input whose value
// lies between two others keeps it there, good, whatever comes in what order. ok is false
// where every reading must be seen: there is a clause that takes time into account, a curve that turns, a
// filter that still holds something else.
func (a Analog) Quiet(low, high float64, at int) (from, to float64, ok bool) {
	c, m := a.Chain, a.Memory
	if c.direction == 0 || c.timed || c.junction != nil || c.method == lag || m.Fault != None || !m.handed || m.skipping > 0 ||
		!(m.Value > low && m.Value < high) {
		return 0, 0, false
	}
	if low, high = c.unshaped(low, high); !(low < high) {
		return 0, 0, false
	}
	if c.method != noFilter {
		for _, v := range a.ring { // what the filter gives lies between what it holds
			if !(v > low && v < high) {
				return 0, 0, false
			}
		}
	}
	b := &c.backward[at]
	if c.lines != nil {
		from, to = b.offset+b.slope*low, b.offset+b.slope*high
	} else {
		last := len(c.stages)
		from, to = c.carriedBack(low, last, at), c.carriedBack(high, last, at)
	}
	if from > to {
		from, to = to, from
	}
	from, to = drawnIn(max(from, b.low), min(to, b.high), b.size)
	if !(from < to) {
		return 0, 0, false // NaN, too
	}
	if c.lines == nil && !c.answers(from, to, at) {
		return 0, 0, false
	}
	return from, to, true
}

// backward is what is known of a place of a chain, of how values are carried back to it: the
// straight line, where all stages are such, and between which readings the input is healthy.
type backward struct {
	offset, slope float64
	low, high     float64
	size          float64 // of the numbers that are reckoned with there
}

// prepareQuiet works out what Quiet needs.
func (c *Chain) prepareQuiet() {
	c.direction = c.directionOf(0, len(c.stages))
	c.backward = make([]backward, len(c.Units))
	for at := range c.backward {
		b := &c.backward[at]
		b.low, b.high = math.Inf(-1), math.Inf(1)
		if c.direction == 0 {
			continue
		}
		last := len(c.stages)
		for k, l := range c.lines {
			b.size = max(b.size, math.Abs(c.Carry(l.a, k, at)), math.Abs(c.Carry(l.b, k, at)))
		}
		if c.lines != nil {
			b.offset = c.Carry(0, last, at)
			b.slope = c.Carry(1, last, at) - b.offset
		}
		if c.healthyAt >= 0 {
			b.low, b.high = ordered(c.Carry(c.low, c.healthyAt, at), c.Carry(c.high, c.healthyAt, at))
		}
		if c.signed && at == 0 {
			b.low, b.high = max(b.low, math.MinInt16), min(b.high, math.MaxInt16)
		}
	}
}

// answers tells whether a chain with curves has an answer at both ends of an interval, and so
// between them.
func (c *Chain) answers(from, to float64, at int) bool {
	return !math.IsInf(from, 0) && !math.IsInf(to, 0) && c.Judge(from, at) == None && c.Judge(to, at) == None
}

// carriedBack carries a value back along the chain; where its end is none, there is none.
func (c *Chain) carriedBack(v float64, from, to int) float64 {
	if math.IsInf(v, 0) {
		return v * float64(c.directionOf(to, from))
	}
	return c.Carry(v, from, to)
}

// drawnIn draws in the ends of an interval by a hair of them, or of a size.
func drawnIn(from, to, size float64) (low, high float64) {
	for _, end := range [...]float64{from, to} {
		if !math.IsInf(end, 0) {
			size = max(size, math.Abs(end))
		}
	}
	return from + hair*size, to - hair*size
}

// unshaped is between which values lie that clamping and rounding leave between two others: no
// wider than that, perhaps narrower.
func (c *Chain) unshaped(low, high float64) (from, to float64) {
	if c.round > 0 {
		low, high = low+c.round, high-c.round
	}
	if c.clamped && c.clampLo > low {
		low = math.Inf(-1)
	}
	if c.clamped && c.clampHi < high {
		high = math.Inf(1)
	}
	return low, high
}

// directionOf is the way that values go between two places: 1 if they rise with those at the
// first one, -1 if they fall; 0 if they do either, or nobody knows.
func (c *Chain) directionOf(from, to int) int {
	way := 1
	for _, s := range c.stages[from:to] {
		way *= directionOf(s)
	}
	return way
}

func directionOf(s stage) int {
	sign := func(rises bool) int {
		if rises {
			return 1
		}
		return -1
	}
	switch s := s.(type) {
	case line:
		if s.d == s.c || s.b == s.a {
			return 0
		}
		return sign((s.d > s.c) == (s.b > s.a))
	case correction:
		if !isMonotone(s.real) {
			return 0
		}
		return sign(s.real[len(s.real)-1] > s.real[0])
	case table:
		if !s.monotone {
			return 0
		}
		return sign(s.y[len(s.y)-1] > s.y[0])
	case *divider:
		return sign(!s.toGround)
	case *thermometer:
		switch s.sensor.(type) {
		case platinum, nickel:
			return 1
		case betaThermistor:
			return -1
		}
	case *converted:
		return directionOf(s.stage)
	}
	return 0
}

// Lookback is how many of the last readings an input's memory is made of; -1 if it is made of
// all since one that nobody knows.
func (c *Chain) Lookback() int {
	switch {
	case c.ignore > 0:
		return -1
	case c.method == average || c.method == median:
		return c.samples
	}
	return 1
}

// Quiet is Analog.Quiet for a contact: the readings of the state that it is in. While it is turning,
// every one must be seen.
func (c *Contact) Quiet() (from, to float64, ok bool) {
	raw := 0.0
	if c.On != c.Inverted {
		raw = 1
	}
	return raw - 0.5, raw + 0.5, c.Fault == None && !c.turning
}
