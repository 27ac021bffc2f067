package signal

import (
	"fmt"
	"math"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// A Fault is why a reading cannot be believed.
type Fault uint8

// The faults. NotRead is that of an input before its first reading.
const (
	None Fault = iota
	NotRead
	Reported // the recording or the device says so
	Infinite
	TooLow
	TooHigh
	Overflow   // counts that the signed card cannot give
	NoAnswer   // a stage has none: beyond a curve, an open divider
	NoJunction // the cold junction's own input is bad
	Stale
	Frozen
	Unsteady
	faults // how many there are
)

// Judge tells what is wrong with a reading at a place of the chain, if
// anything, by itself: without what came before it.
func (c *Chain) Judge(value float64, at int) Fault {
	f, _, _ := c.judge(value, at)
	return f
}

// judge is Judge; it gives the value as far as it has been carried along the chain for
// that, and to which place, so that nobody carries it there again.
func (c *Chain) judge(value float64, at int) (f Fault, v float64, to int) {
	switch {
	case value-value != 0: // one test for what is seldom either
		if math.IsNaN(value) {
			return Reported, value, at
		}
		return Infinite, value, at
	case c.signed && at == 0 && (value > math.MaxInt16 || value < math.MinInt16):
		return Overflow, value, at
	}
	v, to = value, at
	if c.healthyAt >= 0 {
		if at != c.healthyAt {
			v, to = c.Carry(value, at, c.healthyAt), c.healthyAt
		}
		switch {
		case v < c.low:
			return TooLow, v, to
		case v > c.high:
			return TooHigh, v, to
		}
	}
	if c.lines == nil && math.IsNaN(c.Carry(value, at, len(c.stages))) {
		return NoAnswer, v, to
	}
	if to < at { // carried back, which is not the way that values go
		v, to = value, at
	}
	return None, v, to
}

// Explain says in words why a reading is bad; nothing if it is not.
func (c *Chain) Explain(f Fault, value float64, at int) string {
	switch f {
	case NotRead, Reported, Infinite:
		return explainPlain(f)
	case TooLow, TooHigh:
		return c.explainUnhealthy(f, c.Carry(value, at, c.healthyAt))
	case Overflow:
		if value > math.MaxInt16 {
			return fmt.Sprintf(
				"%s counts is more than a signed card gives (32767): %s counts was taken as unsigned",
				unit.Short(value),
				unit.Short(value-65536),
			)
		}
		return fmt.Sprintf("%s counts is less than a signed card gives (-32768)", unit.Short(value))
	case NoAnswer:
		for i := at; i < len(c.stages); i++ {
			next := c.stages[i].forward(value)
			if math.IsNaN(next) {
				return c.stages[i].refuse(value)
			}
			value = next
		}
		return "no stage of the chain has an answer"
	case NoJunction:
		return "the cold junction, " + c.input.JunctionName() + ", is bad"
	case Stale:
		return "no reading came for " + unit.FormatDuration(c.stale)
	case Frozen:
		return fmt.Sprintf(
			"the reading has stayed within %s for %s: frozen",
			withUnit(unit.Short(c.frozenWithin), c.Units[c.frozenAt]),
			unit.FormatDuration(c.frozen),
		)
	case Unsteady:
		return fmt.Sprintf(
			"readings spread by more than %s within %s: floating input or loose wire",
			withUnit(unit.Short(c.unsteadyWidth), c.Units[c.unsteadyAt]),
			unit.FormatDuration(c.unsteady),
		)
	}
	return ""
}

func (c *Chain) explainUnhealthy(f Fault, v float64) string {
	u := c.Units[c.healthyAt]
	current := u.Dimension() == unit.Current
	if current && v < -0.02*c.loopSpan() { // a card without a signal is a little beside zero
		return unit.Short(v) + " " + u.Name() + ": reversed polarity"
	}
	limit, word, cause := c.low, "below", ""
	if f == TooHigh {
		limit, word = c.high, "above"
	}
	switch {
	case current && f == TooLow:
		cause = ": broken loop or no supply"
	case current:
		cause = ": short circuit or sensor beyond its range"
	case c.sensesAt(c.healthyAt) && f == TooLow:
		cause = ": short circuit"
	case c.sensesAt(c.healthyAt):
		cause = ": open sensor or broken wire"
	}
	shown, bound := unit.ShortPair(v, limit)
	return fmt.Sprintf("%s is %s %s%s", withUnit(shown, u), word, withUnit(bound, u), cause)
}

// loopSpan is how wide the signal is where it is judged: from one end to the other of the
// stage that begins there, or of what is healthy.
func (c *Chain) loopSpan() float64 {
	if c.healthyAt < len(c.input.Stages) {
		if s, is := c.input.Stages[c.healthyAt].(*sheet.Scale); is {
			u := c.Units[c.healthyAt]
			low, high := ordered(s.From.From.In(u), s.From.To.In(u))
			return high - low
		}
	}
	return c.high - c.low
}

// sensesAt tells whether a resistance thermometer is read at a place of the chain.
func (c *Chain) sensesAt(at int) bool {
	if at >= len(c.input.Stages) || c.Units[at].Dimension() != unit.MustLookup("ohm").Dimension() {
		return false
	}
	curve, is := c.input.Stages[at].(*sheet.Curve)
	return is && curve.Sensor != sheet.Table
}

// explainPlain says what is wrong where no chain is needed to tell.
func explainPlain(f Fault) string {
	switch f {
	case NotRead:
		return "not read yet"
	case Reported:
		return "the reading is marked bad"
	case Infinite:
		return "the reading is infinite"
	}
	return ""
}
