package signal

import (
	"errors"
	"math"
	"slices"

	"rectura/core/memo"
)

// Never is a time that does not come.
const Never = math.MaxInt64

// Analog is a running analog input: its chain, and what it remembers.
type Analog struct {
	Chain *Chain
	*Memory
}

// A Memory is what an analog input remembers: the value that rules see, its
// quality, and what its health and its filters are judged by.
type Memory struct {
	Value float64 // in engineering units; meaningless while Fault is not None
	Fault Fault

	// What every reading touches stands together.
	judged  Fault // of the last reading
	any     bool  // one has come
	good    bool  // what is measured now is good, whatever is shown
	counted bool  // good and since say something
	skipped bool  // the last reading was thrown away
	pending bool  // the last one has not been handed on
	handed  bool  // a good value has been handed on since the start or the last bad one
	filled  bool  // something is in the filter

	Reading  float64 // the last one, as it came
	At       int     // the place of the chain at which it came
	came     int64   // when it came
	skipping int     // readings still to be thrown away
	since    int64   // since when it is good, or is not

	lagged float64 // the lag's output and its last input, and when that came
	input  float64
	lagAt  int64
	ring   []float64 // the last readings, a ring once it is full
	next   int       // where in a full ring the next one goes

	frozen, unsteady window

	cold   float64   // the temperature of a measured cold junction, in degrees Celsius
	sorted []float64 // the ring in order, for the median; made anew where it is not as long
}

// Fields lists all that lasts.
func (m *Memory) Fields(f *memo.Fields) {
	f.Float(1, &m.Value)
	memo.One(f, 2, faults, &m.Fault)
	f.Float(3, &m.Reading)
	memo.Int(f, 4, &m.At)
	memo.One(f, 5, faults, &m.judged)
	f.Time(6, &m.came)
	f.Bool(7, &m.any)
	f.Bool(8, &m.good)
	f.Time(9, &m.since)
	f.Bool(10, &m.counted)
	memo.Int(f, 11, &m.skipping)
	f.Bool(12, &m.skipped)
	f.Group(13, m.frozen.frozenFields)
	f.Group(14, m.unsteady.unsteadyFields)
	f.Floats(15, &m.ring)
	m.sorted = m.sorted[:0]
	memo.Int(f, 16, &m.next)
	f.Float(17, &m.lagged)
	f.Float(18, &m.input)
	f.Time(19, &m.lagAt)
	f.Bool(20, &m.filled)
	f.Bool(21, &m.handed)
	f.Float(22, &m.cold)
	f.Bool(23, &m.pending)
}

// Resume makes the input go on from what was read into its memory. It is an error
// if the chain cannot have remembered that.
func (a *Analog) Resume() error {
	c := a.Chain
	if a.At < 0 || a.At >= len(c.Units) || len(a.ring) > c.samples || a.next != 0 && a.next >= len(a.ring) || a.skipping > c.skip ||
		a.frozen.any && !a.frozen.whole() || a.unsteady.any && !a.unsteady.whole() {
		return errors.New("its chain cannot have remembered this")
	}
	if c.junction != nil {
		c.junction.setJunction(a.cold)
	}
	return nil
}

// NewAnalog gives an input that has not been read yet. If another input
// measures its cold junction, it has a chain of its own.
func NewAnalog(c *Chain) Analog { return Begin(c, &Memory{}) }

// Begin is NewAnalog with a memory that stands elsewhere; whatever was in it is
// forgotten.
func Begin(c *Chain, m *Memory) Analog {
	if c.junction != nil {
		c = c.clone()
	}
	a := Analog{c, m}
	a.Forget()
	if c.method == average || c.method == median {
		a.ring = make([]float64, 0, c.samples)
	}
	if c.method == median {
		a.sorted = make([]float64, 0, c.samples)
	}
	return a
}

// Forget makes the input one that has not been read yet.
func (a *Analog) Forget() {
	*a.Memory = Memory{Fault: NotRead, skipping: a.Chain.skip, cold: a.Chain.Cold(), ring: a.ring[:0], sorted: a.sorted[:0]}
}

// clone copies a chain with its thermocouple, whose cold junction moves.
func (c *Chain) clone() *Chain {
	own := *c
	own.stages = slices.Clone(c.stages)
	for i, s := range own.stages {
		if s == stage(c.junction) {
			t := *c.junction
			own.stages[i], own.junction = &t, &t
		}
	}
	return &own
}

// Cold is the temperature of the thermocouple's cold junction, in degrees
// Celsius; 0 where another input measures none.
func (c *Chain) Cold() float64 {
	if c.junction == nil {
		return 0
	}
	return c.junction.cold
}

// With is the chain with its thermocouple's cold junction at a temperature in
// degrees Celsius; itself where no input measures one.
func (c *Chain) With(cold float64) *Chain {
	if c.junction == nil || c.junction.cold == cold {
		return c
	}
	own := c.clone()
	own.junction.setJunction(cold)
	return own
}

// Retime takes durations that are setpoints at their present values. A delay
// that is running counts from its beginning.
func (a *Analog) Retime(length Duration) {
	own := *a.Chain
	own.retime(length)
	a.Chain = &own
}

// Junction tells a thermocouple input how warm its cold junction is, in degrees
// Celsius, from its next reading on; NaN if that is not known.
func (a *Analog) Junction(celsius float64) {
	a.cold = celsius
	a.Chain.junction.setJunction(celsius)
}

// Read takes a reading that stands at a place of the chain. It tells whether
// the value or the quality that rules see is another one now.
func (a Analog) Read(t int64, reading float64, at int) (changed bool) {
	c, m := a.Chain, a.Memory
	if c.stale > 0 && m.any && t-m.came > c.stale {
		m.skipping = c.skip
	}
	m.Reading, m.At, m.came, m.any, m.pending = reading, at, t, true, true
	judged, v, carried := c.judge(reading, at)
	m.judged = judged
	if m.judged == NoAnswer && c.junction != nil && math.IsNaN(c.junction.cold) {
		m.judged = NoJunction
	}
	m.skipped = m.skipping > 0
	if m.skipped {
		m.skipping--
	}
	if !c.Timed() { // the usual, short way
		if m.judged != None {
			return a.turnBad(m.judged)
		}
		return !m.skipped && a.hand(t, v, carried)
	}
	a.observe(t)
	return a.update(t)
}

// Tick looks at the input at a time at which no reading came.
func (a Analog) Tick(t int64) (changed bool) { return a.any && a.update(t) }

// observe notes a reading for `frozen` and `unsteady`; a bad one starts both
// anew.
func (a Analog) observe(t int64) {
	c := a.Chain
	if a.judged != None {
		a.frozen.clear()
		a.unsteady.clear()
		return
	}
	if c.frozenAt >= 0 {
		a.frozen.add(t, c.Carry(a.Reading, a.At, c.frozenAt))
		a.frozen.narrow(c.frozenWithin)
	}
	if c.unsteadyAt >= 0 {
		a.unsteady.add(t, c.Carry(a.Reading, a.At, c.unsteadyAt))
	}
}

// measured is what is wrong at a time, whatever is shown.
func (a Analog) measured(t int64) Fault {
	c := a.Chain
	switch {
	case c.stale > 0 && t-a.came >= c.stale:
		return Stale
	case a.judged != None:
		return a.judged
	case c.frozenAt >= 0 && a.frozen.any && t-a.frozen.start >= c.frozen:
		return Frozen
	}
	if c.unsteadyAt >= 0 && a.unsteady.any {
		a.unsteady.expire(t - c.unsteady)
		if a.unsteady.spread() > c.unsteadyWidth {
			return Unsteady
		}
	}
	return None
}

// update brings what is shown up to date with what is measured. A reading that
// becomes good by waiting is handed on then.
func (a Analog) update(t int64) (changed bool) {
	c := a.Chain
	f := a.measured(t)
	if good := f == None; good != a.good || !a.counted {
		a.good, a.since, a.counted = good, t, true
	}
	switch {
	case f != None && a.Fault != None && a.Fault != NotRead:
		changed, a.Fault = a.Fault != f, f
		return changed
	case f != None && t-a.since >= c.badAfter:
		return a.turnBad(f)
	case f != None || a.skipped || !a.pending:
		return false
	case a.Fault == None || t-a.since >= c.goodAfter:
		return a.hand(t, a.Reading, a.At)
	}
	return false
}

// Due is when the input must be looked at next although no reading comes;
// Never if it need not be.
func (a Analog) Due(now int64) int64 {
	c := a.Chain
	due := int64(Never)
	if !a.any || !c.Timed() {
		return due
	}
	soon := func(t int64) {
		if t > now {
			due = min(due, t)
		}
	}
	if c.stale > 0 {
		soon(later(a.came, c.stale))
	}
	if c.frozenAt >= 0 && a.frozen.any {
		soon(later(a.frozen.start, c.frozen))
	}
	if c.unsteadyAt >= 0 && a.unsteady.any && a.unsteady.spread() > c.unsteadyWidth {
		soon(later(a.unsteady.oldest(), c.unsteady))
	}
	switch {
	case !a.counted:
	case !a.good && (a.Fault == None || a.Fault == NotRead):
		soon(later(a.since, c.badAfter))
	case a.good && a.Fault != None:
		soon(later(a.since, c.goodAfter))
	}
	return due
}

// later is t + d, or Never where that is beyond the end of time.
func later(t, d int64) int64 {
	if s := t + d; s >= t {
		return s
	}
	return Never
}

// turnBad shows a fault; filters start anew after it.
func (a Analog) turnBad(f Fault) (changed bool) {
	changed = a.Fault != f
	a.Fault, a.handed, a.filled = f, false, false
	a.ring, a.next, a.sorted = a.ring[:0], 0, a.sorted[:0]
	return changed
}

// hand takes the last reading, as far as it has been carried along the chain, on to its
// end and through filter, clamp and rounding.
func (a Analog) hand(t int64, v float64, from int) (changed bool) {
	c, m := a.Chain, a.Memory
	m.pending = false
	if lines := c.lines; lines != nil && from <= len(lines) {
		for _, l := range lines[from:] {
			v = l.forward(v)
		}
	} else {
		v = c.Carry(v, from, len(c.stages))
	}
	if c.method != noFilter {
		v = a.smooth(t, v)
	}
	if c.clamped || c.round > 0 {
		v = c.shape(v)
	}
	if !m.handed || math.Abs(v-m.Value) >= c.ignore {
		changed = !m.handed || v != m.Value
		m.Value, m.Fault, m.handed = v, None, true
	}
	return changed
}

// stepHair is by how much of a step a value may be short of the step and still count as it when it is rounded down: what a line
// makes of whole counts is off by the rounding of its arithmetic.
const stepHair = 1e-9

// shape clamps and rounds a value.
func (c *Chain) shape(v float64) float64 {
	if c.clamped {
		v = min(max(v, c.clampLo), c.clampHi)
	}
	if c.round > 0 {
		if c.down {
			v = math.Floor(v/c.round+stepHair) * c.round
		} else {
			v = math.Round(v/c.round) * c.round
		}
	}
	return v
}

// sort puts a value of a full ring in the place of the one that left it, which most often stands
// near by.
func (a Analog) sort(v, left float64) {
	if len(a.sorted) != len(a.ring) {
		a.sorted = append(a.sorted[:0], a.ring...)
		slices.Sort(a.sorted)
		return
	}
	some := a.sorted
	i := 0
	for i < len(some)-1 && some[i] != left {
		i++
	}
	for ; i+1 < len(some) && some[i+1] < v; i++ {
		some[i] = some[i+1]
	}
	for ; i > 0 && some[i-1] > v; i-- {
		some[i] = some[i-1]
	}
	some[i] = v
}

// smooth puts a value into the filter and gives the filtered one.
func (a Analog) smooth(t int64, v float64) float64 {
	c := a.Chain
	first := !a.filled
	a.filled = true
	if c.method == lag {
		// The exact answer of a first-order lag to a signal that held its last
		// value until now.
		if first {
			a.lagged = v
		} else {
			a.lagged = a.input + (a.lagged-a.input)*math.Exp(-float64(t-a.lagAt)/float64(c.lag))
		}
		a.input, a.lagAt = v, t
		return a.lagged
	}
	left := math.NaN()
	if len(a.ring) < c.samples {
		a.ring = append(a.ring, v)
	} else {
		left = a.ring[a.next]
		a.ring[a.next] = v
		a.next = (a.next + 1) % len(a.ring)
	}
	n := len(a.ring)
	if c.method == average {
		// From the oldest to the newest, anew each time, so that no rounding
		// error stays behind.
		sum := 0.0
		for _, x := range a.ring[a.next:] {
			sum += x
		}
		for _, x := range a.ring[:a.next] {
			sum += x
		}
		return sum / float64(n)
	}
	a.sort(v, left)
	if n%2 == 1 {
		return a.sorted[n/2]
	}
	return (a.sorted[n/2-1] + a.sorted[n/2]) / 2
}
