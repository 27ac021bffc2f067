package signal

import (
	"math"
	"slices"
)

// Analog is the running state of an analog input: the value that rules see,
// its quality, and the filters' memory.
type Analog struct {
	Chain *Chain
	Value float64 // in engineering units; meaningless while Fault is not None
	Fault Fault

	Reading float64 // the last one, as it came
	At      int     // the place of the chain at which it came

	window []float64 // the last readings, a ring once it is full
	next   int       // where in a full window the next one goes
	sorted []float64 // for the median
	fresh  bool      // no good reading has been handed on since the start or the last bad one
}

// NewAnalog gives an input that has not been read yet.
func NewAnalog(c *Chain) Analog {
	a := Analog{Chain: c, Fault: NotRead, fresh: true}
	if c.method != noFilter {
		a.window = make([]float64, 0, c.samples)
	}
	if c.method == median {
		a.sorted = make([]float64, 0, c.samples)
	}
	return a
}

// Read takes a reading that stands at a place of the chain. It tells whether
// the value or the quality that rules see is another one now.
func (a *Analog) Read(reading float64, at int) (changed bool) {
	a.Reading, a.At = reading, at
	if f := a.Chain.Judge(reading, at); f != None {
		changed = a.Fault != f
		a.Fault, a.fresh = f, true
		a.window, a.next = a.window[:0], 0
		return changed
	}
	v := a.smooth(a.Chain.Carry(reading, at, len(a.Chain.stages)))
	if a.fresh || math.Abs(v-a.Value) >= a.Chain.ignore {
		changed = a.fresh || v != a.Value
		a.Value, a.Fault, a.fresh = v, None, false
	}
	return changed
}

// smooth puts a value into the window and gives the filtered one. Sums run
// from the oldest to the newest, anew each time, so that no rounding error
// stays behind.
func (a *Analog) smooth(v float64) float64 {
	if a.Chain.method == noFilter {
		return v
	}
	if len(a.window) < a.Chain.samples {
		a.window = append(a.window, v)
	} else {
		a.window[a.next] = v
		a.next = (a.next + 1) % len(a.window)
	}
	n := len(a.window)
	if a.Chain.method == average {
		sum := 0.0
		for _, x := range a.window[a.next:] {
			sum += x
		}
		for _, x := range a.window[:a.next] {
			sum += x
		}
		return sum / float64(n)
	}
	a.sorted = append(a.sorted[:0], a.window...)
	slices.Sort(a.sorted)
	if n%2 == 1 {
		return a.sorted[n/2]
	}
	return (a.sorted[n/2-1] + a.sorted[n/2]) / 2
}

// Contact is the running state of a discrete input.
type Contact struct {
	Inverted bool
	On       bool // meaningless while Fault is not None
	Fault    Fault
}

// NewContact gives a contact that has not been read yet.
func NewContact(inverted bool) Contact { return Contact{Inverted: inverted, Fault: NotRead} }

// Read takes a reading: 0 is an open circuit, NaN and infinities are bad,
// anything else is a closed one. It tells whether the state or the quality is
// another one now.
func (c *Contact) Read(reading float64) (changed bool) {
	before := *c
	switch {
	case math.IsNaN(reading):
		c.Fault = Reported
	case math.IsInf(reading, 0):
		c.Fault = Infinite
	default:
		c.Fault, c.On = None, (reading != 0) != c.Inverted
	}
	return *c != before
}
