package logic

import (
	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A Role is what passing a point does to its rule.
type Role uint8

// The roles.
const (
	Trips Role = iota
	Resets
	Keeps // what a loop does; its Op is empty
)

func (e Role) String() string { return [...]string{"trips", "resets", "keeps"}[e] }

// A RulePoint is a value of an input or derived value at which a comparison of a
// rule trips or resets, or that a loop keeps.
type RulePoint struct {
	Role   Role
	Rule   string          // or loop
	Name   string          // of the input or derived value
	Op     sheet.Op        // how it stands to the point when that is passed
	Stages []unit.Quantity // the point at every place of the input's chain
}

// Direction is which way a value passes the point: falling or rising; empty for what a
// loop keeps, which is passed either way.
func (r RulePoint) Direction() string {
	switch {
	case r.Role == Keeps:
		return ""
	case r.Op.Falling():
		return "falling"
	}
	return "rising"
}

// Value is the point in engineering units.
func (r RulePoint) Value() unit.Quantity { return r.Stages[len(r.Stages)-1] }

// rulePoints lists the trip and reset points of a rule. Only comparisons, and
// ranges, of one input or derived value with values that no input changes have
// points. Where a rule has an `off when`, or a latch a `reset when`, that one's trip
// points are its reset points; a pulse has none.
func (p *Program) rulePoints(rule int, fixed *Stepper) []RulePoint {
	r := &p.Rules[rule]
	f := pointFinder{p: p, rule: r.Name, fixed: fixed}
	f.find(r.on, false, Trips, r.off < 0 && !r.latch && r.pulse < 0)
	for _, cond := range [...]int32{r.off, r.reset} {
		if cond >= 0 {
			f.find(cond, false, Resets, false)
		}
	}
	return f.points
}

// loopPoint is the value that a loop keeps; none where an input gives it, or the
// loop keeps a computed value.
func (p *Program) loopPoint(loop int, fixed *Stepper) []RulePoint {
	l := &p.Loops[loop]
	f := pointFinder{p: p, rule: l.Name, fixed: fixed}
	if _, _, ok := p.measured(l.of); ok && fixed.known[l.target] {
		f.add(&condNode{a: l.of}, Keeps, passing{point: fixed.values[l.target]})
	}
	return f.points
}

// bandPoints are the limits of bands, each with the value at which its band lets
// go again.
func (p *Program) bandPoints(bands int, fixed *Stepper) []RulePoint {
	b := &p.Bands[bands]
	f := pointFinder{p: p, rule: b.Name, fixed: fixed}
	for _, band := range b.Bands {
		if band.limit >= 0 {
			f.find(band.limit, false, Trips, true)
		}
	}
	return f.points
}

// Points are those of a rule, an alarm, bands or a loop, with setpoints and constants
// at the given values (as in Settings; nil for the written ones); none of anything
// else.
func (p *Program) Points(name string, settings []float64) []RulePoint {
	r, _ := p.Find(name)
	switch fixed := p.fixedAt(settings); r.Kind {
	case RuleKind, AlarmKind:
		return p.rulePoints(p.RuleOf(r), fixed)
	case LoopKind:
		return p.loopPoint(int(r.Index), fixed)
	case BandsKind:
		return p.bandPoints(int(r.Index), fixed)
	}
	return nil
}

// PointsBySignal are those of all rules and loops, by the input, derived value or
// output that they are about; bands have lanes that show theirs.
func (p *Program) PointsBySignal(settings []float64) map[string][]RulePoint {
	all := map[string][]RulePoint{}
	fixed := p.fixedAt(settings)
	for i := range p.Rules {
		for _, pt := range p.rulePoints(i, fixed) {
			all[pt.Name] = append(all[pt.Name], pt)
		}
	}
	for i := range p.Loops {
		for _, pt := range p.loopPoint(i, fixed) {
			all[pt.Name] = append(all[pt.Name], pt)
		}
	}
	return all
}

// written are the values of setpoints and constants as they are written, unless
// others are given.
func (p *Program) written(settings []float64) []float64 {
	if settings != nil {
		return settings
	}
	settings = make([]float64, len(p.Settings))
	for i, s := range p.Settings {
		settings[i] = s.Value.Value
	}
	return settings
}

// fixedAt works out the values that no input changes, with the setpoints and
// constants at the given values (nil for the written ones): of a Stepper that does
// nothing else, they are known.
func (p *Program) fixedAt(settings []float64) *Stepper {
	if settings == nil && p.fixed != nil {
		return p.fixed
	}
	s := &Stepper{
		p:      p,
		Memory: Memory{settings: p.written(settings)},
		values: make([]float64, len(p.values)),
		known:  make([]bool, len(p.values)),
		some:   make([]float64, 0, p.widest),
	}
	for i := range p.values {
		n := &p.values[i]
		fixed := n.op != valueInput && n.op != valueOutput
		for _, a := range p.valueArgs(n) {
			fixed = fixed && s.known[a]
		}
		if fixed {
			s.values[i], s.known[i] = s.value(n)
		}
	}
	return s
}

type pointFinder struct {
	p      *Program
	rule   string
	fixed  *Stepper
	points []RulePoint
}

// find looks for comparisons below a condition. Under a `not` they act the
// other way round: the condition comes true where the comparison lets go.
func (f *pointFinder) find(cond int32, negated bool, role Role, both bool) {
	n := &f.p.conds[cond]
	switch n.op {
	case condNot:
		f.find(n.a, !negated, role, both)
	case condFor, condForStrict:
		f.find(n.a, negated, role, both)
	case condAnd, condOr, condQuorum:
		for _, a := range f.p.args[n.a : n.a+n.b] {
			f.find(a, negated, role, both)
		}
	case condBelow, condAtMost, condAbove, condAtLeast:
		f.compare(n, negated, role, both)
	case condBetween, condOutside:
		f.between(n, negated, role, both)
	}
}

func (f *pointFinder) compare(n *condNode, negated bool, role Role, both bool) {
	s := f.values(n)
	if s == nil {
		return
	}
	trip, reset := s.points(n)
	op := sheet.Op(operations[n.op].name)
	first, second := passing{op, trip}, passing{op.Opposite(), reset}
	if negated {
		first, second = second, first
	}
	f.add(n, role, first)
	if both {
		f.add(n, Resets, second)
	}
}

// between adds the points of a range, which has two of each.
func (f *pointFinder) between(n *condNode, negated bool, role Role, both bool) {
	s := f.values(n)
	if s == nil {
		return
	}
	into := func(tripped bool) [2]passing {
		low, high := s.ends(n, tripped)
		return [2]passing{{sheet.AtLeast, low}, {sheet.AtMost, high}}
	}
	outOf := func(tripped bool) [2]passing {
		low, high := s.ends(n, tripped)
		return [2]passing{{sheet.Below, low}, {sheet.Above, high}}
	}
	first, second := into(false), outOf(true)
	if n.op == condOutside {
		first, second = outOf(false), into(true)
	}
	if negated {
		first, second = second, first
	}
	f.add(n, role, first[:]...)
	if both {
		f.add(n, Resets, second[:]...)
	}
}

// A passing is a point and how a value stands to it once it is passed.
type passing struct {
	op    sheet.Op
	point float64
}

func (f *pointFinder) add(n *condNode, role Role, all ...passing) {
	name, chain, _ := f.p.measured(n.a)
	for _, x := range all {
		stages := []unit.Quantity{{Value: x.point}}
		if chain != nil {
			stages = chain.Stages(x.point, len(chain.Units)-1)
		} else {
			stages[0].Unit = f.p.unitOf(name)
		}
		f.points = append(f.points, RulePoint{role, f.rule, name, x.op, stages})
	}
}

// values are those that a condition compares a signal with; nil if it compares
// no signal, or one with another.
func (f *pointFinder) values(n *condNode) *Stepper {
	if _, _, ok := f.p.measured(n.a); !ok {
		return nil
	}
	for i, v := range n.values() {
		if i > 0 && v >= 0 && !f.fixed.known[v] {
			return nil
		}
	}
	return f.fixed
}

// unitOf is the unit of a derived value or an analog output.
func (p *Program) unitOf(name string) unit.Unit {
	if i := p.Index(DerivedKind, name); i >= 0 {
		return p.Derived[i].Unit
	}
	return p.Outputs[p.Index(OutputKind, name)].Unit
}

// measured tells whether a value is that of an input, an analog output or a
// derived value, and which one's; only an input has a chain.
func (p *Program) measured(value int32) (name string, chain *signal.Chain, ok bool) {
	switch n := &p.values[value]; n.op {
	case valueInput:
		return p.Inputs[n.a].Name, p.Inputs[n.a].Chain, true
	case valueOutput:
		return p.Outputs[n.a].Name, nil, true
	}
	if d, is := p.derived[value]; is {
		return p.Derived[d].Name, nil, true
	}
	return "", nil, false
}
