package logic

import (
	"math"
	"slices"

	"rectura/core/signal"
)

// Most readings change nothing: they stay on the same side of every point that
// they are compared with. A plain input, which is only compared with values that
// no input changes, has a quiet interval, between whose ends a reading is taken
// and nothing is evaluated.

// quiet is the open interval of an input's value in which no comparison of it
// can change.
type quiet struct {
	low, high float64
	ok        bool
}

// nowhere is the value of a plain input that is compared with nothing.
const nowhere = -2

// idleConds are the conditions that work out follows and loops whose outputs no condition, no
// value and no message names.
func (p *Program) idleConds() []bool {
	named := make([]bool, len(p.Outputs))
	for i := range p.Outputs {
		named[i] = len(p.links.outputConds.of(int32(i))) > 0 || len(p.links.outputValues.of(int32(i))) > 0
	}
	for _, m := range p.Messages {
		for _, x := range m.sends {
			if x.Kind == OutputKind {
				named[x.Index] = true
			}
		}
	}
	idle := make([]bool, len(p.conds))
	for _, f := range p.Follows {
		idle[f.node] = !named[f.Output]
	}
	for _, l := range p.Loops {
		idle[l.node] = !named[l.Output]
	}
	return idle
}

// Overlook makes the stepper leave out follows and loops at whose outputs nobody looks but who
// asks for them: their values are meaningless then.
func (s *Stepper) Overlook() { s.plain, s.idle = s.p.links.overlooked, s.p.links.idle }

// plainValues finds, for every input, the value node that it is by itself if it
// is plain, or nowhere; -1 if it is not. Some conditions do not count.
func (p *Program) plainValues(but []bool) []int32 {
	plain := make([]int32, len(p.Inputs))
	for i := range plain {
		plain[i] = -1
		values := p.links.inputValues.of(int32(i))
		value := int32(nowhere)
		switch {
		case len(values) == 1 && p.values[values[0]].op == valueInput:
			value = values[0]
		case len(values) > 0:
			continue
		}
		if !slices.ContainsFunc(p.links.inputConds.of(int32(i)), func(c int32) bool { return !but[c] && !p.plainCond(c, value) }) {
			plain[i] = value
		}
	}
	for i := range p.Inputs { // a cold junction is looked at whenever its thermocouple is read
		if j := p.Inputs[i].junction; j >= 0 {
			plain[i], plain[j] = -1, -1
		}
	}
	return plain
}

// plainCond tells whether a condition asks only whether the input is good, or
// compares it with what no input changes.
func (p *Program) plainCond(cond, value int32) bool {
	n := &p.conds[cond]
	switch n.op {
	case condGood:
		return true
	case condBelow, condAtMost, condAbove, condAtLeast, condBetween, condOutside, condNear, condCrosses:
		for k, v := range n.values() {
			if k > 0 && v >= 0 && len(p.links.valueInputs.of(v)) > 0 {
				return false
			}
		}
		return n.a == value
	case condLoop: // it looks at the value when it is worked out
		l := &p.Loops[n.a]
		return l.of == value && len(p.links.valueInputs.of(l.target)) == 0
	}
	return false
}

// isQuiet takes a reading's value if nothing comes of it.
func (s *Stepper) isQuiet(i int32) bool {
	q := &s.quiets[i]
	if !q.ok {
		return false
	}
	a := &s.inputs[i].signal
	if a.Fault != signal.None || !(a.Value > q.low && a.Value < q.high) {
		return false
	}
	if v := s.plain[i]; v >= 0 {
		s.values[v] = a.Value
	}
	return true
}

// findQuiet works out the quiet intervals of the inputs that were evaluated.
func (s *Stepper) findQuiet() {
	for _, i := range s.evaluated {
		if s.evaluatedInput != nil {
			s.evaluatedInput(int(i))
		}
		q := &s.quiets[i]
		q.ok = s.plain[i] != -1 && s.p.Inputs[i].Chain != nil && !s.inputs[i].pinned && s.inputs[i].read &&
			s.faultOf(i) == signal.None
		if !q.ok {
			continue
		}
		q.low, q.high = math.Inf(-1), math.Inf(1)
		for _, c := range s.p.links.inputConds.of(i) {
			if s.idle != nil && s.idle[c] {
				continue
			}
			low, high, ok := s.quietOf(c)
			if q.ok = ok; !ok {
				break
			}
			q.low, q.high = max(q.low, low), min(q.high, high)
		}
	}
	s.evaluated = s.evaluated[:0]
}

// quietOf is between which values of its left side, ends excluded, a plain condition stays
// what it is.
func (s *Stepper) quietOf(c int32) (low, high float64, ok bool) {
	n, m := &s.p.conds[c], &s.conds[c]
	low, high = math.Inf(-1), math.Inf(1)
	if n.op == condGood {
		return low, high, true
	}
	if s.truths[c] == isUnknown {
		return low, high, false
	}
	if n.op == condLoop {
		return low, high, true
	}
	x := s.values[n.a]
	switch n.op {
	case condBetween, condOutside:
		from, to := s.ends(n, m.tripped)
		switch {
		case x < from:
			high = from
		case x > to:
			low = to
		default:
			low, high = from, to
		}
		return low, high, true
	case condNear:
		// x - r is rounded, so that the ends are drawn in by more than that.
		r, w := s.values[n.b], s.values[n.n]
		slack := 1e-12 * (math.Abs(r) + math.Abs(w))
		switch {
		case x-r > w:
			low = r + w + slack
		case x-r < -w:
			high = r - w - slack
		default:
			low, high = r-w+slack, r+w-slack
		}
		return low, high, true
	case condCrosses:
		// On the other value, it keeps the side that it came from.
		if !m.waiting || x == s.values[n.b] {
			return low, high, false
		}
		if m.tripped != m.lapsed { // it is above, whichever side counts
			low = s.values[n.b]
		} else {
			high = s.values[n.b]
		}
		return low, high, true
	}
	trip, reset := s.points(n)
	rising := n.op == condAbove || n.op == condAtLeast
	switch {
	case rising && m.tripped:
		low = reset
	case rising:
		high = trip
	case m.tripped:
		high = reset
	default:
		low = trip
	}
	return low, high, true
}

// Quiet is between which readings at a place of its chain, ends excluded, an input's readings
// change nothing until something else does; ok is false where each of them must be
// handed over. Readings that are not must be handed over late: see Behind.
func (s *Stepper) Quiet(input, at int) (low, high float64, ok bool) {
	i := int32(input)
	if s.always || s.patient || !s.began || s.inputs[i].pinned {
		return 0, 0, false
	}
	if s.p.Inputs[i].Chain == nil {
		return s.inputs[i].contact.Quiet()
	}
	q := &s.quiets[i]
	if !q.ok {
		return 0, 0, false
	}
	return s.analog[i].Quiet(q.low, q.high, at)
}

// Scan tells the stepper that it is looked at only every period, in nanoseconds, as a controller of that loop time would do.
func (s *Stepper) Scan(period int64) { s.scan = period }

// Skip makes the stepper call hand where an input is looked at: that hands over, late, what was
// quiet and has not been read up to that time. Of inputs that it has evaluated, which may
// be quiet otherwise than before, it tells by evaluated.
func (s *Stepper) Skip(hand func(input int, t int64), evaluated func(input int)) {
	s.behind, s.evaluatedInput = hand, evaluated
}

// catchUp has what was passed over of an input handed over.
func (s *Stepper) catchUp(i int32) {
	if s.behind != nil {
		s.behind(int(i), s.now)
	}
}

// catchUpValue does so with the inputs that a value depends on.
func (s *Stepper) catchUpValue(v int32) {
	if s.behind == nil {
		return
	}
	for _, i := range s.p.links.valueInputs.of(v) {
		if i >= 0 { // and no output
			s.behind(int(i), s.now)
		}
	}
}
