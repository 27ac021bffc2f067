// Package signal turns readings into values that can be believed: the stages
// of an input's chain, the judgement of its health, its filters.
//
// The order is that of the sheet language: reading, stages, healthy and the
// other health clauses, skip, smooth, clamp, round, ignore changes, value and
// quality.
//
// A Chain is what an input's clauses say, compiled; an Analog or a Contact is
// the running state of one. Time comes from outside, as everywhere in core: a
// reading carries its own, and Due says when the next look at an input is due
// although no reading comes.
package signal

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// A Chain is the compiled chain of an analog input. Its places are numbered as
// in Units: 0 is the reading, the last the engineering value.
type Chain struct {
	Units  []unit.Unit
	stages []stage
	lines  []line // the stages, if all of them are straight lines; else nil

	direction int           // of values with readings: 1, -1, or 0 where they turn or nobody knows
	backward  []backward    // by place
	junction  *thermocouple // the stage whose cold junction another input measures, or nil
	signed    bool          // readings are counts of a signed 16-bit card

	healthyAt int     // a place, or -1
	low, high float64 // the healthy range, in the unit of that place

	frozenAt      int // a place, or -1
	frozenWithin  float64
	unsteadyAt    int
	unsteadyWidth float64

	method  method
	samples int
	skip    int
	clamped bool
	clampLo float64
	clampHi float64
	round   float64 // 0: not at all
	down    bool
	ignore  float64 // in engineering units; 0 hands every value on

	times
	timed bool // one of them, or of what they are for, is there
	input *sheet.Input
}

// times are the durations in an input's clauses, in nanoseconds; 0 where none
// is written.
type times struct {
	stale, frozen, unsteady, badAfter, goodAfter, lag int64
}

type method uint8

const (
	noFilter method = iota
	average
	median
	lag
)

// A Duration tells how long a duration of the sheet is, in nanoseconds.
type Duration func(*sheet.Duration) int64

// NewChain compiles the chain of a checked analog input. Durations that are
// setpoints may change later: see Retime.
func NewChain(in *sheet.Input, length Duration) *Chain {
	c := &Chain{Units: in.Units(), input: in, healthyAt: -1, frozenAt: -1, unsteadyAt: -1}
	for i, s := range in.Stages {
		st := newStage(s, c.Units[i])
		if t, ok := st.(*thermocouple); ok && in.JunctionName() != "" {
			c.junction = t
		}
		c.stages = append(c.stages, st)
	}
	c.lines = onlyLines(c.stages)
	if len(in.Stages) > 0 {
		if s, ok := in.Stages[0].(*sheet.Scale); ok && c.Units[0].Dimension() == unit.Counts {
			low, high := s.From.From.Value, s.From.To.Value
			c.signed = min(low, high) < 0 && min(low, high) >= math.MinInt16 && max(low, high) <= math.MaxInt16
		}
	}
	if h := in.Healthy; h != nil {
		c.healthyAt = sheet.PlaceOf(in, h.Range.To.Unit)
		u := c.Units[c.healthyAt]
		c.low, c.high = h.Range.From.In(u), h.Range.To.In(u)
	}
	place := func(q unit.Quantity) (int, float64) {
		at := sheet.PlaceOf(in, q.Unit)
		return at, q.Unit.ConvertDifference(q.Value, c.Units[at])
	}
	if f := in.Frozen; f != nil {
		c.frozenAt, c.frozenWithin = place(f.Within)
	}
	if u := in.Unsteady; u != nil {
		c.unsteadyAt, c.unsteadyWidth = place(u.Beyond)
	}
	if in.Skip != nil {
		c.skip = in.Skip.Count
	}
	if in.Smooth != nil {
		c.method, c.samples = map[string]method{"average": average, "median": median, "lag": lag}[in.Smooth.Method], in.Smooth.Samples
	}
	u := in.Engineering()
	if in.Clamp != nil {
		c.clamped, c.clampLo, c.clampHi = true, in.Clamp.Range.From.In(u), in.Clamp.Range.To.In(u)
	}
	if in.Round != nil {
		c.round, c.down = in.Round.Quantity.Unit.ConvertDifference(in.Round.Quantity.Value, u), in.Round.Down
	}
	if in.Ignore != nil {
		c.ignore = in.Ignore.Quantity.Unit.ConvertDifference(in.Ignore.Quantity.Value, u)
	}
	c.prepareQuiet()
	c.retime(length)
	return c
}

func onlyLines(stages []stage) []line {
	lines := make([]line, len(stages))
	for i, s := range stages {
		l, ok := s.(line)
		if !ok {
			return nil
		}
		lines[i] = l
	}
	return lines
}

func (c *Chain) retime(length Duration) {
	in := c.input
	clause := func(d *sheet.DurationClause) int64 {
		if d == nil {
			return 0
		}
		return length(d.Duration)
	}
	c.times = times{stale: clause(in.Stale), badAfter: clause(in.BadAfter), goodAfter: clause(in.GoodAfter)}
	if in.Frozen != nil {
		c.frozen = length(in.Frozen.After)
	}
	if in.Unsteady != nil {
		c.unsteady = length(in.Unsteady.Within)
	}
	if in.Smooth != nil && in.Smooth.Lag != nil {
		c.lag = length(in.Smooth.Lag)
	}
	c.timed = c.stale > 0 || c.frozenAt >= 0 || c.unsteadyAt >= 0 || c.badAfter > 0 || c.goodAfter > 0
}

// Timed tells whether an input with this chain may have to be looked at without
// a reading.
func (c *Chain) Timed() bool {
	return c.timed
}

// Engineering is the unit of the scaled value.
func (c *Chain) Engineering() unit.Unit { return c.Units[len(c.Units)-1] }

// Carry takes a value at one place of the chain to another, forward or back.
// It is NaN where a stage has no answer: beyond the end of a curve, or
// backward through a table that rises and falls.
func (c *Chain) Carry(value float64, from, to int) float64 {
	if c.lines != nil {
		for ; from < to; from++ {
			value = c.lines[from].forward(value)
		}
		for ; from > to; from-- {
			value = c.lines[from-1].backward(value)
		}
		return value
	}
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

// Place finds where in the chain a unit stands: the value that the chain ends
// in if it has that very unit, or else the first place that has, or else the
// same by dimension; values must then be converted.
func (c *Chain) Place(u unit.Unit) (at int, ok bool) {
	last := len(c.Units) - 1
	for _, same := range []func(v unit.Unit) bool{func(v unit.Unit) bool { return u == v }, u.Comparable} {
		if same(c.Units[last]) {
			return last, true
		}
		for i, v := range c.Units {
			if same(v) {
				return i, true
			}
		}
	}
	return 0, false
}

// asRead stands behind the unit of a value before the chain's last stage that is in the same
// unit: what a corrected input showed without its correction.
const asRead = " as read"

// AsRead takes " as read" off the end of a value's text.
func AsRead(s string) (value string, is bool) {
	return strings.CutSuffix(strings.TrimRight(s, " "), asRead)
}

// PlaceAsRead is Place for a value as it is read, before the stages that leave its unit as it is: the
// first place in that unit. ok is false if no later place is in it, too.
func (c *Chain) PlaceAsRead(u unit.Unit) (at int, ok bool) {
	last, found := c.Place(u)
	for i, v := range c.Units {
		if found && i < last && u.Comparable(v) && v == c.Units[last] {
			return i, true
		}
	}
	return 0, false
}

// PlaceNames are the units at all places, told apart: one that is the unit of a later place,
// too, is "mg/L as read".
func (c *Chain) PlaceNames() []string {
	names := make([]string, len(c.Units))
	for i, u := range c.Units {
		if names[i] = u.Name(); slices.Contains(c.Units[i+1:], u) && u != (unit.Unit{}) {
			names[i] += asRead
		}
	}
	return names
}

// Span is the lowest and highest engineering value that the chain is made for:
// the ends of its last stage that has ends, or else those of its healthy range.
// ok is false if neither gives any.
func (c *Chain) Span() (low, high float64, ok bool) {
	last := len(c.stages)
	within := func(a, b float64, at int) bool {
		a, b = c.Carry(a, at, last), c.Carry(b, at, last)
		low, high = ordered(a, b)
		return high > low && !math.IsInf(high-low, 0)
	}
	for i := last - 1; i >= 0; i-- {
		if a, b, has := c.stages[i].ends(); has && within(a, b, i+1) {
			return low, high, true
		}
	}
	if c.healthyAt >= 0 && within(c.low, c.high, c.healthyAt) {
		return low, high, true
	}
	return 0, 0, false
}

// ReadingSpan is the lowest and highest reading that the chain is made for, as
// far as its stages say.
func (c *Chain) ReadingSpan() (low, high float64) {
	if len(c.stages) == 0 {
		if c.healthyAt == 0 {
			return c.low, c.high
		}
		return 0, 100
	}
	// The first stage from which the ends of the reading can be told.
	switch s := c.input.Stages[0].(type) {
	case *sheet.Scale:
		return ordered(s.From.From.In(c.Units[0]), s.From.To.In(c.Units[0]))
	case *sheet.Root:
		return ordered(s.From.From.In(c.Units[0]), s.From.To.In(c.Units[0]))
	case *sheet.Divider:
		supply := s.Supply.In(c.Units[0])
		return supply * 0.01, supply * 0.99
	case *sheet.Curve:
		if n := len(s.Pairs); n > 0 {
			return s.Pairs[0].From.In(c.Units[0]), s.Pairs[n-1].From.In(c.Units[0])
		}
	}
	if a, b := c.Carry(
		0,
		len(c.stages),
		0,
	), c.Carry(
		celsius.Convert(100, c.Engineering()),
		len(c.stages),
		0,
	); c.Engineering().Dimension() == unit.Temperature &&
		!math.IsNaN(a+b) {
		return ordered(c.Carry(celsius.Convert(0, c.Engineering()), len(c.stages), 0), b)
	}
	return 0, 100
}

func ordered(a, b float64) (low, high float64) { return min(a, b), max(a, b) }

// ParseReading reads a number and the unit that says at which stage of an
// input's chain it stands; a number alone stands at the first.
func (c *Chain) ParseReading(input, s string) (value float64, at int, err error) {
	text, raw := AsRead(s)
	q, err := unit.ParseQuantity(text)
	if err != nil {
		return 0, 0, err
	}
	if q.Unit == (unit.Unit{}) && !raw {
		return q.Value, 0, nil
	}
	at, ok := c.Place(q.Unit)
	if raw && ok {
		if at, ok = c.PlaceAsRead(q.Unit); !ok {
			return 0, 0, fmt.Errorf(
				"%s: only a value before a correction in its own unit is as read, and the chain of %s has %s",
				s,
				input,
				strings.Join(c.PlaceNames(), ", "),
			)
		}
	}
	if !ok {
		return 0, 0, fmt.Errorf(
			"%s is in %s, and the chain of %s has %s",
			s,
			q.Unit.Describe(),
			input,
			strings.Join(c.PlaceNames(), ", "),
		)
	}
	return q.In(c.Units[at]), at, nil
}

// Steady is the chain for a signal that has stood still for long: without its
// filters, and without the health clauses that watch the signal over time.
func (c *Chain) Steady() *Chain {
	own := *c
	own.method, own.skip, own.times = noFilter, 0, times{}
	own.frozenAt, own.unsteadyAt, own.timed = -1, -1, false
	return &own
}

// Resolution is the smallest step of the engineering value that the converter
// can tell apart, at mid span; 0 if readings are not counts.
func (c *Chain) Resolution() float64 {
	if c.Units[0].Dimension() != unit.Counts || len(c.stages) == 0 {
		return 0
	}
	low, high, ok := c.Span()
	if !ok {
		return 0
	}
	middle := c.Carry((low+high)/2, len(c.stages), 0)
	step := math.Abs(c.Carry(middle+0.5, 0, len(c.stages)) - c.Carry(middle-0.5, 0, len(c.stages)))
	if math.IsNaN(step) {
		return 0
	}
	return step
}

// Healthy is the healthy range and the place of the chain at which it is
// judged; ok is false if the input has none.
func (c *Chain) Healthy() (at int, low, high float64, ok bool) {
	return c.healthyAt, c.low, c.high, c.healthyAt >= 0
}

// Ignore is the smallest change of the engineering value that is handed on.
func (c *Chain) Ignore() float64 { return c.ignore }

// StageTexts are the stages in words, each as its clause stands in the sheet.
func (c *Chain) StageTexts() []string {
	all := make([]string, len(c.input.Stages))
	for i, s := range c.input.Stages {
		all[i] = s.String()
	}
	return all
}

// String describes the chain for the dump of a compiled job.
func (c *Chain) String() string {
	var b strings.Builder
	b.WriteString(c.Units[0].String())
	for i, s := range c.stages {
		fmt.Fprintf(&b, " %s %s", s, c.Units[i+1])
	}
	add := func(when bool, format string, args ...any) {
		if when {
			fmt.Fprintf(&b, "; "+format, args...)
		}
	}
	d := unit.FormatDuration
	add(c.healthyAt >= 0, "healthy %g..%g %s", c.low, c.high, c.unitAt(c.healthyAt))
	add(c.stale > 0, "stale %s", d(c.stale))
	add(c.frozenAt >= 0, "frozen %s within %g %s", d(c.frozen), c.frozenWithin, c.unitAt(c.frozenAt))
	add(c.unsteadyAt >= 0, "unsteady %g %s within %s", c.unsteadyWidth, c.unitAt(c.unsteadyAt), d(c.unsteady))
	add(c.badAfter > 0, "bad after %s", d(c.badAfter))
	add(c.goodAfter > 0, "good after %s", d(c.goodAfter))
	add(c.skip > 0, "skip %d", c.skip)
	add(c.method == average, "average %d", c.samples)
	add(c.method == median, "median %d", c.samples)
	add(c.method == lag, "lag %s", d(c.lag))
	add(c.clamped, "clamp %g..%g", c.clampLo, c.clampHi)
	add(c.round > 0 && !c.down, "round nearest %g", c.round)
	add(c.round > 0 && c.down, "round down %g", c.round)
	add(c.ignore > 0, "ignore %g", c.ignore)
	return b.String()
}

func (c *Chain) unitAt(place int) unit.Unit {
	if place < 0 {
		return unit.Unit{}
	}
	return c.Units[place]
}
