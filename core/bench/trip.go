package bench

import (
	"fmt"
	"math"
	"slices"

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
	Still       []Still       // where the other inputs that the rule depends on stand
	Step        unit.Quantity // by which the reading moved
	Low, High   unit.Quantity // between which it did
	Always      bool          // the rule is on at both ends
	Because     string        // where it never trips: how it stands at the end
}

// A Still is where an input stands while another is moved.
type Still struct{ Name, Text string }

func (s Still) String() string { return s.Name + " " + s.Text }

// A Found is the first reading beyond a point, at every stage, and how the
// engineering value moved.
type Found struct {
	Stages  []unit.Quantity
	Falling bool
}

// fineness is how many steps a span is moved over where readings are not counts, and how
// many are made one by one where they are.
const fineness = 100_000

// Trip moves an input slowly from one end of its span to the other and back, a
// count at a time, or by 1/100,000 of the span where readings are not counts,
// and finds the first readings at which a rule trips and resets. Delays, minimum
// times and filters are waited out at each step, and every latch is reset as soon as
// it can be. Inputs that are not given stand still: discrete ones off and analog ones
// at mid span, or, if the rule does not trip so, where it is found to trip.
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
	m := mover{p: p, rule: r, input: i, with: with, at: make([]stand, len(p.Inputs)), patience: patience{stop: stop}}
	for k := range p.Rules {
		if reset, err := p.Command("reset", p.Rules[k].Name, ""); err == nil { // the rule has a latch
			m.resets = append(m.resets, reset)
		}
	}
	for k := range p.Inputs {
		m.at[k] = stands(p, k)[0]
	}
	for _, g := range with {
		if g.setting < 0 {
			m.at[g.input] = stand{g.value, g.at}
		}
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
	if err := m.trim(); err != nil {
		return Tripped{}, err
	}
	t := Tripped{
		Rule:  rule,
		Input: p.Inputs[i].Name,
		Low:   unit.Quantity{Value: m.low, Unit: chain.Units[0]},
		High:  unit.Quantity{Value: m.high, Unit: chain.Units[0]},
		Step:  unit.Quantity{Value: (m.high - m.low) / float64(m.steps), Unit: chain.Units[0]},
	}
	if err := m.find(&t); err != nil || t.Trip != nil {
		t.Still = m.still()
		return t, err
	}
	by := slices.Clone(m.at)
	found, err = m.place()
	if err != nil {
		return Tripped{}, err
	}
	if found {
		err = m.find(&t)
	} else {
		m.at = by
		err = m.find(&t) // so that it stands where it is said to
		t.Because = p.Sentence(m.stepper.Standing(of), nil)
	}
	t.Still = m.still()
	return t, err
}

// find sweeps until the rule was seen to trip and to reset. It begins at an end at which
// the rule is off.
func (m *mover) find(t *Tripped) error {
	t.Always = true
	for _, upwards := range []bool{true, false} {
		trip, reset, off, err := m.sweep(upwards)
		if err != nil {
			return err
		}
		if !off {
			continue
		}
		t.Always = false
		if t.Trip == nil {
			t.Trip, t.Reset = trip, reset
		}
		if t.Trip != nil && t.Reset != nil {
			return nil
		}
	}
	return nil
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

type mover struct {
	p           *logic.Program
	rule, input int
	with        []Given
	at          []stand         // where each input stands
	resets      []logic.Command // of all latches
	low, high   float64
	steps       int
	patience

	stepper *logic.Stepper
	now     int64
}

// trim takes bad readings off both ends of the span that is moved over.
func (m *mover) trim() error {
	chain, step := m.p.Inputs[m.input].Chain, (m.high-m.low)/float64(m.steps)
	stride := max(1, m.steps/fineness)
	for _, end := range []struct {
		reading *float64
		inwards float64
	}{{&m.low, step}, {&m.high, -step}} {
		bad := func(k int) bool { return chain.Judge(*end.reading+float64(k)*end.inwards, 0) != signal.None }
		good := 0
		for ; good < m.steps-1 && bad(good); good += stride {
			if err := m.over(); err != nil {
				return err
			}
		}
		good = min(good, m.steps-1)
		for good > 0 && !bad(good-1) {
			good--
		}
		*end.reading += float64(good) * end.inwards
		m.steps -= good
	}
	return nil
}

// A move is to the k-th reading from the end at which a sweep begins, towards the other
// end or back.
type move struct {
	k    int
	back bool
}

// sweep moves the input from one end to the other and back. off tells whether the rule was
// off at the beginning. Where there are more readings than fineness, it moves in as many
// wider steps, and then in ever smaller ones within that in which the rule changed.
func (m *mover) sweep(upwards bool) (trip, reset *Found, off bool, err error) {
	stride := max(1, m.steps/fineness)
	moves := []move{{}}
	for k := stride; k < m.steps; k += stride {
		moves = append(moves, move{k: k})
	}
	moves = append(moves, move{k: m.steps})
	for k := m.steps - stride; k > 0; k -= stride {
		moves = append(moves, move{k, true})
	}
	moves = append(moves, move{0, true})
	moves, at, off, err := m.change(moves, 0, true, upwards)
	if err != nil || !off || at < 0 {
		return nil, nil, off, err
	}
	trip = m.found(m.reading(moves[at].k, upwards), upwards != moves[at].back)
	moves, at, _, err = m.change(moves, at, false, upwards)
	if err == nil && at >= 0 {
		reset = m.found(m.reading(moves[at].k, upwards), upwards != moves[at].back)
	}
	return trip, reset, true, err
}

// change finds the first move behind a number of them at which the rule turns on, or off,
// and gives the moves with those of single readings up to it. at is negative if there is
// none; off tells whether the rule is off at the first move of all.
func (m *mover) change(moves []move, behind int, on, upwards bool) (all []move, at int, off bool, err error) {
	for {
		if at, off, err = m.first(moves, behind, on, upwards); err != nil || at < 0 {
			return moves, at, off, err
		}
		from, to := moves[at-1].k, moves[at].k
		width := max(to-from, from-to)
		if width <= 1 {
			return moves, at, off, nil
		}
		step := max(1, width/coarse)
		finer := slices.Clone(moves[:at])
		for d := step; d < width; d += step {
			k := from + d
			if to < from {
				k = from - d
			}
			finer = append(finer, move{k, moves[at].back})
		}
		moves = append(finer, moves[at:]...)
		behind = max(behind, at-1)
	}
}

// first plays moves from a cold start up to the first behind a number of them at which
// the rule turns on, or off.
func (m *mover) first(moves []move, behind int, on, upwards bool) (at int, off bool, err error) {
	m.stepper, m.now = logic.NewPatient(m.p), 0
	for _, g := range m.with {
		if g.setting >= 0 {
			m.stepper.Set(g.setting, g.value)
		}
	}
	for i := range m.p.Inputs {
		if i != m.input {
			m.stepper.Read(0, i, m.at[i].value, m.at[i].at)
		}
	}
	before := false
	for i, to := range moves {
		state, err := m.state(m.reading(to.k, upwards))
		if err != nil {
			return -1, off, err
		}
		is := state == logic.On
		switch {
		case i == 0 && is:
			return -1, false, nil
		case i > behind && is == on && before != on:
			return i, true, nil
		}
		before = is
	}
	return -1, true, nil
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
	for _, reset := range m.resets {
		if _, err := m.stepper.Command(reset); err != nil {
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
