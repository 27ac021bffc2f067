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

// plainValues finds, for every input, the value node that it is by itself if it
// is plain; -1 if it is not.
func (p *Program) plainValues() []int32 {
	plain := make([]int32, len(p.Inputs))
	for i := range plain {
		plain[i] = -1
		values := p.links.inputValues.of(int32(i))
		if len(values) != 1 || p.values[values[0]].op != valueInput {
			continue
		}
		if !slices.ContainsFunc(p.links.inputConds.of(int32(i)), func(c int32) bool { return !p.plainCond(c, values[0]) }) {
			plain[i] = values[0]
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
	case condBelow, condAtMost, condAbove, condAtLeast:
		for k, v := range n.values() {
			if k > 0 && v >= 0 && len(p.links.valueInputs.of(v)) > 0 {
				return false
			}
		}
		return n.a == value
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
	s.values[s.p.links.plain[i]] = a.Value
	return true
}

// findQuiet works out the quiet intervals of the inputs that were evaluated.
func (s *Stepper) findQuiet() {
	for _, i := range s.evaluated {
		q := &s.quiets[i]
		q.ok = s.p.links.plain[i] >= 0 && !s.inputs[i].pinned && s.inputs[i].read && s.faultOf(i) == signal.None
		if !q.ok {
			continue
		}
		q.low, q.high = math.Inf(-1), math.Inf(1)
		for _, c := range s.p.links.inputConds.of(i) {
			n := &s.p.conds[c]
			if n.op == condGood {
				continue
			}
			if s.truths[c] == isUnknown {
				q.ok = false
				break
			}
			trip, reset := s.points(n)
			rising := n.op == condAbove || n.op == condAtLeast
			switch {
			case rising && s.conds[c].tripped:
				q.low = max(q.low, reset)
			case rising:
				q.high = min(q.high, trip)
			case s.conds[c].tripped:
				q.high = min(q.high, reset)
			default:
				q.low = max(q.low, trip)
			}
		}
	}
	s.evaluated = s.evaluated[:0]
}
