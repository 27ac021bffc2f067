package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A Tripped is where a rule was found to trip and to reset when one input moves
// slowly and all others stand still.
type Tripped struct {
	Rule, Input string
	Trip, Reset *Found        // nil: never reached
	Still       []string      // where the other inputs that the rule depends on stand
	Step        unit.Quantity // by which the reading moved
	Low, High   unit.Quantity // between which it did
	Always      bool          // the rule is on at both ends
}

// A Found is the first reading beyond a point, at every stage, and how the
// engineering value moved.
type Found struct {
	Stages  []unit.Quantity
	Falling bool
}

// fineness is how many steps a span is moved over where readings are not counts.
const fineness = 100_000

// Trip moves an input slowly from one end of its span to the other and back, a
// count at a time, or by 1/100,000 of the span where readings are not counts,
// and finds the first readings at which a rule trips and resets. Delays, minimum
// times and filters are waited out at each step, and a latch is reset as soon as
// it can be. Inputs that are not given stand still: discrete ones off, analog ones
// at mid span.
func Trip(p *logic.Program, rule, input string, with []Given, stop Stop) (Tripped, error) {
	of, found := p.Find(rule)
	r := p.RuleOf(of)
	if !found || r < 0 {
		return Tripped{}, fmt.Errorf("no rule or alarm is named %s%s", rule, p.Job.DidYouMean(rule, "rule", "alarm"))
	}
	i, err := movedInput(p, rule, input)
	if err != nil {
		return Tripped{}, err
	}
	m := mover{p: p, rule: r, input: i, with: with, patience: patience{stop: stop}}
	if m.reset, err = p.Command("reset", rule, ""); err == nil {
		m.latched = true
	}
	for _, g := range with {
		if g.input == i {
			return Tripped{}, fmt.Errorf("%s is the input that is moved; it cannot stand at %s as well", g.Name, g.Text)
		}
	}
	chain := p.Inputs[i].Chain
	m.low, m.high = chain.ReadingSpan()
	m.steps = fineness
	if u := chain.Units[0]; u.Dimension() == unit.Counts {
		m.low, m.high = math.Ceil(m.low), math.Floor(m.high)
		m.steps = int(m.high - m.low)
	}
	// Beyond what is healthy there is nothing to compare.
	step := (m.high - m.low) / float64(m.steps)
	for m.steps > 1 && chain.Judge(m.low, 0) != signal.None {
		if err := m.over(); err != nil {
			return Tripped{}, err
		}
		m.low, m.steps = m.low+step, m.steps-1
	}
	for m.steps > 1 && chain.Judge(m.high, 0) != signal.None {
		if err := m.over(); err != nil {
			return Tripped{}, err
		}
		m.high, m.steps = m.high-step, m.steps-1
	}
	t := Tripped{
		Rule:   rule,
		Input:  p.Inputs[i].Name,
		Still:  m.still(),
		Always: true,
		Low:    unit.Quantity{Value: m.low, Unit: chain.Units[0]},
		High:   unit.Quantity{Value: m.high, Unit: chain.Units[0]},
		Step:   unit.Quantity{Value: (m.high - m.low) / float64(m.steps), Unit: chain.Units[0]},
	}
	// It begins at an end at which the rule is off, so that it can be seen to trip.
	for _, upwards := range []bool{true, false} {
		trip, reset, off, err := m.sweep(upwards)
		if err != nil {
			return Tripped{}, err
		}
		if !off {
			continue
		}
		t.Always = false
		if t.Trip == nil {
			t.Trip, t.Reset = trip, reset
		}
		if t.Trip != nil && t.Reset != nil {
			break
		}
	}
	return t, nil
}

// movedInput is the input that a rule's points are looked for on: the one that
// is named, or the only analog one that the rule depends on.
func movedInput(p *logic.Program, rule, input string) (int, error) {
	var analog []string
	for _, name := range p.Job.SignalsOf(p.Job.RuleOf(rule)) {
		if i := p.Index(logic.InputKind, name); i >= 0 && p.Inputs[i].Chain != nil && !slices.Contains(analog, name) {
			analog = append(analog, name)
		}
	}
	switch {
	case input == "" && len(analog) == 1:
		return p.Index(logic.InputKind, analog[0]), nil
	case input == "" && len(analog) == 0:
		return 0, fmt.Errorf("%s depends on no analog input, so it has no trip point", rule)
	case input == "":
		return 0, fmt.Errorf("%s depends on %s; say which of them is moved", rule, sheet.List(analog, "and"))
	}
	i := p.Index(logic.InputKind, input)
	switch {
	case i < 0:
		return 0, fmt.Errorf("no input is named %s%s", input, p.Job.DidYouMean(input, "input"))
	case p.Inputs[i].Chain == nil:
		return 0, fmt.Errorf("%s is a contact, and only an analog input can be moved slowly", input)
	}
	return i, nil
}

// still says where the inputs stand that are not moved and count for the rule.
func (m *mover) still() []string {
	var all []string
	for _, name := range m.p.Job.SignalsOf(m.p.Job.RuleOf(m.p.Rules[m.rule].Name)) {
		i := m.p.Index(logic.InputKind, name)
		given := slices.IndexFunc(m.with, func(g Given) bool { return g.input == i })
		switch in := &m.p.Inputs[i]; {
		case i == m.input:
		case given >= 0:
			all = append(all, name+" "+m.with[given].Text)
		case in.Chain != nil:
			low, high := in.Chain.ReadingSpan()
			v := in.Chain.Carry((low+high)/2, 0, len(in.Chain.Units)-1)
			all = append(all, strings.TrimSpace(name+" "+unit.Short(v)+" "+in.Chain.Engineering().Name()))
		default:
			all = append(all, name+" "+m.p.Job.Inputs[i].StateWord(false))
		}
	}
	return all
}

type mover struct {
	latched     bool // the rule has a latch, which reset resets
	reset       logic.Command
	p           *logic.Program
	rule, input int
	with        []Given
	low, high   float64
	steps       int
	patience

	stepper *logic.Stepper
	now     int64
}

// sweep moves the input from one end to the other and back. off tells whether
// the rule was off at the beginning.
func (m *mover) sweep(upwards bool) (trip, reset *Found, off bool, err error) {
	m.stepper, m.now = logic.NewPatient(m.p), 0
	given := map[int]bool{}
	for _, g := range m.with {
		if g.setting >= 0 {
			m.stepper.Set(g.setting, g.value)
			continue
		}
		given[g.input] = true
		m.stepper.Read(0, g.input, g.value, g.at)
	}
	for i := range m.p.Inputs {
		in := &m.p.Inputs[i]
		switch {
		case i == m.input || given[i]:
		case in.Chain != nil:
			low, high := in.Chain.ReadingSpan()
			m.stepper.Read(0, i, (low+high)/2, 0)
		case in.Inverted:
			m.stepper.Read(0, i, 1, 0)
		default:
			m.stepper.Read(0, i, 0, 0)
		}
	}
	state, err := m.state(m.reading(0, upwards))
	if off = state != logic.On; !off || err != nil {
		return nil, nil, false, err
	}
	take := func(k int, towards bool) {
		if err != nil {
			return
		}
		v := m.reading(k, upwards)
		before := state
		state, err = m.state(v)
		switch {
		case err != nil:
		case before != logic.On && state == logic.On && trip == nil:
			trip = m.found(v, towards)
		case before == logic.On && state != logic.On && trip != nil && reset == nil:
			reset = m.found(v, towards)
		}
	}
	for k := 1; k <= m.steps && err == nil; k++ {
		take(k, upwards)
	}
	for k := m.steps - 1; k >= 0 && err == nil; k-- {
		take(k, !upwards)
	}
	return trip, reset, true, err
}

// reading is the k-th one from the end at which the sweep begins.
func (m *mover) reading(k int, upwards bool) float64 {
	if !upwards {
		k = m.steps - k
	}
	if k == m.steps {
		return m.high
	}
	return m.low + (m.high-m.low)*float64(k)/float64(m.steps)
}

// state is the rule's at a reading.
func (m *mover) state(v float64) (logic.State, error) {
	if err := m.over(); err != nil {
		return logic.Off, err
	}
	m.stepper.Read(m.now, m.input, v, 0)
	if m.latched {
		if _, err := m.stepper.Command(m.reset); err != nil {
			return logic.Off, err
		}
	}
	if _, err := m.stepper.Step(m.now); err != nil {
		return logic.Off, err
	}
	m.now++
	return m.stepper.RuleState(m.rule), nil
}

func (m *mover) found(v float64, upwards bool) *Found {
	chain := m.p.Inputs[m.input].Chain
	stages := chain.Stages(v, 0)
	// Which way the engineering value went with the reading.
	last := len(chain.Units) - 1
	rising := chain.Carry(m.high, 0, last) > chain.Carry(m.low, 0, last)
	return &Found{stages, rising != upwards}
}
