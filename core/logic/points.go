package logic

import (
	"rectura/core/sheet"
	"rectura/core/unit"
)

// An Effect is what passing a point does to its rule.
type Effect uint8

// The effects.
const (
	Trips Effect = iota
	Resets
)

func (e Effect) String() string { return [...]string{"trips", "resets"}[e] }

// A RulePoint is a value of an input at which a comparison of a rule trips or
// resets.
type RulePoint struct {
	Effect Effect
	Rule   int
	Input  int
	Op     sheet.Op        // how the input stands to the point when it is passed
	Stages []unit.Quantity // the point at every place of the input's chain
}

// Value is the point in engineering units.
func (r RulePoint) Value() unit.Quantity { return r.Stages[len(r.Stages)-1] }

// RulePoints lists the trip and reset points of a rule, with the setpoints and
// constants at the given values (as in Settings; nil for the written ones).
// Only comparisons of one input with values that no input changes have points.
// Where a rule has an `off when`, that one's trip points are its reset points.
func (p *Program) RulePoints(rule int, settings []float64) []RulePoint {
	if settings == nil {
		settings = make([]float64, len(p.Settings))
		for i, s := range p.Settings {
			settings[i] = s.Value.Value
		}
	}
	r := &p.Rules[rule]
	f := pointFinder{p: p, rule: rule, settings: settings}
	f.find(r.on, false, Trips, r.off < 0)
	if r.off >= 0 {
		f.find(r.off, false, Resets, false)
	}
	return f.points
}

type pointFinder struct {
	p        *Program
	rule     int
	settings []float64
	points   []RulePoint
}

// find looks for comparisons below a condition. Under a `not` they act the
// other way round: the condition comes true where the comparison lets go.
func (f *pointFinder) find(cond int32, negated bool, effect Effect, both bool) {
	n := &f.p.conds[cond]
	switch n.op {
	case condNot:
		f.find(n.a, !negated, effect, both)
	case condFor, condForStrict:
		f.find(n.a, negated, effect, both)
	case condAnd, condOr:
		for _, a := range f.p.args[n.a : n.a+n.b] {
			f.find(a, negated, effect, both)
		}
	case condBelow, condAtMost, condAbove, condAtLeast:
		f.compare(n, negated, effect, both)
	}
}

func (f *pointFinder) compare(n *condNode, negated bool, effect Effect, both bool) {
	left := &f.p.values[n.a]
	if left.op != valueInput {
		return
	}
	s := &Stepper{p: f.p, values: make([]float64, len(f.p.values)), settings: f.settings}
	for _, v := range [...]int32{n.b, n.deadband, n.hysteresis} {
		if v < 0 {
			continue
		}
		value, ok := f.value(v)
		if !ok {
			return
		}
		s.values[v] = value
	}
	trip, reset := s.points(n)
	op := sheet.Op(condNames[n.op])
	first, firstOp, second, secondOp := trip, op, reset, op.Opposite()
	if negated {
		first, firstOp, second, secondOp = reset, op.Opposite(), trip, op
	}
	f.add(effect, int(left.a), firstOp, first)
	if both {
		f.add(Resets, int(left.a), secondOp, second)
	}
}

func (f *pointFinder) add(effect Effect, input int, op sheet.Op, value float64) {
	c := f.p.Inputs[input].Chain
	f.points = append(f.points, RulePoint{effect, f.rule, input, op, c.Stages(value, len(c.Units)-1)})
}

// value computes a value that no input changes.
func (f *pointFinder) value(v int32) (float64, bool) {
	n := &f.p.values[v]
	switch n.op {
	case valueConst:
		return n.k, true
	case valueSetting:
		return f.settings[n.a], true
	case valueInput:
		return 0, false
	}
	a, ok := f.value(n.a)
	switch n.op {
	case valueNegate:
		return -a, ok
	case valueConvert:
		return convert(f.p.conversions[n.b], a), ok
	}
	b, okB := f.value(n.b)
	if n.op == valueSub {
		b = -b
	}
	return a + b, ok && okB
}
