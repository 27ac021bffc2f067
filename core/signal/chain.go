// Package signal turns readings into values that can be believed: the stages
// of an input's chain, the judgement of its health, its filters.
//
// The order is that of the sheet language: reading, stages, healthy, smooth,
// ignore changes, value and quality.
package signal

import (
	"fmt"
	"math"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// A line is the straight line through (a,c) and (b,d).
type line struct{ a, b, c, d float64 }

func (l line) forward(x float64) float64  { return l.c + (x-l.a)*(l.d-l.c)/(l.b-l.a) }
func (l line) backward(y float64) float64 { return l.a + (y-l.c)*(l.b-l.a)/(l.d-l.c) }

// A Chain is the compiled chain of an analog input. Its places are numbered as
// in Units: 0 is the reading, the last the engineering value.
type Chain struct {
	Units  []unit.Unit
	stages []line

	healthyAt int     // a place, or -1
	low, high float64 // the healthy range, in the unit of that place

	method  method
	samples int
	ignore  float64 // in engineering units; 0 hands every value on
}

type method uint8

const (
	noFilter method = iota
	average
	median
)

// NewChain compiles the chain of a checked analog input.
func NewChain(in *sheet.Input) *Chain {
	c := &Chain{Units: in.Units(), healthyAt: sheet.HealthyAt(in)}
	for i, s := range in.Stages {
		scale := s.(*sheet.Scale)
		// A stage may be written in another unit of the dimension that the one
		// before it ends in.
		from, to := scale.From, scale.To
		c.stages = append(c.stages, line{from.From.In(c.Units[i]), from.To.In(c.Units[i]), to.From.Value, to.To.Value})
	}
	if c.healthyAt >= 0 {
		u := c.Units[c.healthyAt]
		c.low, c.high = in.Healthy.Range.From.In(u), in.Healthy.Range.To.In(u)
	}
	if in.Smooth != nil {
		c.method, c.samples = average, in.Smooth.Samples
		if in.Smooth.Method == "median" {
			c.method = median
		}
	}
	if in.Ignore != nil {
		c.ignore = in.Ignore.Quantity.Unit.ConvertDifference(in.Ignore.Quantity.Value, in.Engineering())
	}
	return c
}

// Engineering is the unit of the scaled value.
func (c *Chain) Engineering() unit.Unit { return c.Units[len(c.Units)-1] }

// Carry takes a value at one place of the chain to another, forward or back.
func (c *Chain) Carry(value float64, from, to int) float64 {
	for ; from < to; from++ {
		value = c.stages[from].forward(value)
	}
	for ; from > to; from-- {
		value = c.stages[from-1].backward(value)
	}
	return value
}

// Stages lists the value at every place of the chain, given the one at a place.
func (c *Chain) Stages(value float64, at int) []unit.Quantity {
	all := make([]unit.Quantity, len(c.Units))
	for i, u := range c.Units {
		all[i] = unit.Quantity{Value: c.Carry(value, at, i), Unit: u}
	}
	return all
}

// Place finds where in the chain a unit stands: the place of that very unit,
// or else the first of its dimension, to which values must then be converted.
func (c *Chain) Place(u unit.Unit) (at int, ok bool) {
	for i, v := range c.Units {
		if u == v {
			return i, true
		}
	}
	for i, v := range c.Units {
		if u.Comparable(v) {
			return i, true
		}
	}
	return 0, false
}

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
)

// Judge tells what is wrong with a reading at a place of the chain, if anything.
func (c *Chain) Judge(value float64, at int) Fault {
	switch {
	case math.IsNaN(value):
		return Reported
	case math.IsInf(value, 0):
		return Infinite
	case c.healthyAt < 0:
		return None
	}
	switch v := c.Carry(value, at, c.healthyAt); {
	case v < c.low:
		return TooLow
	case v > c.high:
		return TooHigh
	}
	return None
}

// Explain says in words why a reading is bad; nothing if it is not.
func (c *Chain) Explain(f Fault, value float64, at int) string {
	switch f {
	case NotRead:
		return "not read yet"
	case Reported:
		return "the reading is marked bad"
	case Infinite:
		return "the reading is infinite"
	case TooLow, TooHigh:
		u := c.Units[c.healthyAt]
		v := c.Carry(value, at, c.healthyAt)
		current := u.Dimension() == unit.Current
		if current && v < 0 {
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
		}
		shown, bound := unit.ShortPair(v, limit)
		return fmt.Sprintf("%s %s is %s %s %s%s", shown, u.Name(), word, bound, u.Name(), cause)
	}
	return ""
}

// String describes the chain for the dump of a compiled job.
func (c *Chain) String() string {
	s := c.Units[0].String()
	for i, l := range c.stages {
		s += fmt.Sprintf(" (%g,%g)-(%g,%g) %s", l.a, l.c, l.b, l.d, c.Units[i+1])
	}
	if c.healthyAt >= 0 {
		s += fmt.Sprintf("; healthy %g..%g %s", c.low, c.high, c.Units[c.healthyAt])
	}
	if c.method != noFilter {
		s += fmt.Sprintf("; %s %d", map[method]string{average: "average", median: "median"}[c.method], c.samples)
	}
	if c.ignore > 0 {
		s += fmt.Sprintf("; ignore %g", c.ignore)
	}
	return s
}
