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
		return Tripped{}, fmt.Errorf("no rule, alarm or bands are named %s%s", rule, p.Job.DidYouMean(rule, "rule", "alarm", "bands"))
	}
	m, err := newMover(p, rule, input, with, stop)
	if err != nil {
		return Tripped{}, err
	}
	m.stands = func(s *logic.Stepper) int {
		if s.RuleState(r) == logic.On {
			return 1
		}
		return 0
	}
	t := Tripped{Rule: rule, Input: p.Inputs[m.input].Name}
	t.Low, t.High, t.Step = m.span()
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

// newMover is ready to move the input that a rule or bands depend on.
func newMover(p *logic.Program, of, input string, with []Given, stop Stop) (*mover, error) {
	i, err := movedInput(p, of, input)
	if err != nil {
		return nil, err
	}
	m := &mover{p: p, of: of, input: i, with: with, at: make([]stand, len(p.Inputs)), patience: patience{stop: stop}}
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
			return nil, fmt.Errorf("%s is the input that is moved; it cannot stand at %s as well", g.Name, g.Text)
		}
	}
	chain := p.Inputs[i].Chain
	m.low, m.high = chain.ReadingSpan()
	m.steps = fineness
	if u := chain.Units[0]; u.Dimension() == unit.Counts {
		m.low, m.high = math.Ceil(m.low), math.Floor(m.high)
		m.steps = int(m.high - m.low)
	}
	return m, m.trim() // beyond what is healthy there is nothing to compare
}

// span is between which readings the input moves, and by how much at a time.
func (m *mover) span() (low, high, step unit.Quantity) {
	u := m.p.Inputs[m.input].Chain.Units[0]
	return unit.Quantity{
			Value: m.low,
			Unit:  u,
		}, unit.Quantity{
			Value: m.high,
			Unit:  u,
		}, unit.Quantity{
			Value: (m.high - m.low) / float64(m.steps),
			Unit:  u,
		}
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
func movedInput(p *logic.Program, of, input string) (int, error) {
	var analog []string
	for _, name := range p.Job.SignalsOf(of) {
		if i := p.Index(logic.InputKind, name); i >= 0 && p.Inputs[i].Chain != nil && !slices.Contains(analog, name) {
			analog = append(analog, name)
		}
	}
	switch {
	case input == "" && len(analog) == 1:
		return p.Index(logic.InputKind, analog[0]), nil
	case input == "" && len(analog) == 0:
		return 0, fmt.Errorf("%s depends on no analog input, so it has no trip point", of)
	case input == "":
		return 0, fmt.Errorf("%s depends on %s; say which of them is moved", of, sheet.List(analog, "and"))
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
	p         *logic.Program
	of        string // the rule or bands
	input     int
	stands    func(*logic.Stepper) int // how that stands: of a rule, 1 if it is on
	with      []Given
	at        []stand         // where each input stands
	resets    []logic.Command // of all latches
	low, high float64
	steps     int
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
// off at the beginning.
func (m *mover) sweep(upwards bool) (trip, reset *Found, off bool, err error) {
	turnsOn := func(before, is int) bool { return is == 1 && before == 0 }
	turnsOff := func(before, is int) bool { return is == 0 && before == 1 }
	moves := m.moves()
	if _, begun, _, err := m.first(moves[:1], 0, turnsOn, upwards); err != nil || begun != 0 {
		return nil, nil, false, err
	}
	moves, at, _, _, err := m.change(moves, 0, turnsOn, upwards)
	if err != nil || at < 0 {
		return nil, nil, true, err
	}
	trip = m.found(m.reading(moves[at].k, upwards), upwards != moves[at].back)
	moves, at, _, _, err = m.change(moves, at, turnsOff, upwards)
	if err == nil && at >= 0 {
		reset = m.found(m.reading(moves[at].k, upwards), upwards != moves[at].back)
	}
	return trip, reset, true, err
}

// moves are those from one end to the other and back. Where there are more readings than
// fineness, they are as many wider ones.
func (m *mover) moves() []move {
	stride := max(1, m.steps/fineness)
	moves := []move{{}}
	for k := stride; k < m.steps; k += stride {
		moves = append(moves, move{k: k})
	}
	moves = append(moves, move{k: m.steps})
	for k := m.steps - stride; k > 0; k -= stride {
		moves = append(moves, move{k, true})
	}
	return append(moves, move{0, true})
}

// change finds the first move behind a number of them that changes how things stand, and
// gives the moves with those of single readings up to it, and how things stood and stand: within
// a wide move, it goes in ever smaller ones. at is negative if there is none; then was is
// how things stand at the first move of all.
func (m *mover) change(
	moves []move,
	behind int,
	changes func(before, is int) bool,
	upwards bool,
) (all []move, at, was, is int, err error) {
	for {
		if at, was, is, err = m.first(moves, behind, changes, upwards); err != nil || at < 0 {
			return moves, at, was, is, err
		}
		from, to := moves[at-1].k, moves[at].k
		width := max(to-from, from-to)
		if width <= 1 {
			return moves, at, was, is, nil
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

// first plays moves from a cold start up to the first behind a number of them that changes
// how things stand.
func (m *mover) first(moves []move, behind int, changes func(before, is int) bool, upwards bool) (at, was, is int, err error) {
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
	begun := 0
	for i, to := range moves {
		if is, err = m.state(m.reading(to.k, upwards)); err != nil {
			return -1, was, is, err
		}
		switch {
		case i == 0:
			begun = is
		case i > behind && changes(was, is):
			return i, was, is, nil
		}
		was = is
	}
	return -1, begun, is, nil
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

// state is how things stand at a reading.
func (m *mover) state(v float64) (int, error) {
	if err := m.over(); err != nil {
		return 0, err
	}
	m.stepper.Read(m.now, m.input, v, 0)
	for _, reset := range m.resets {
		if _, err := m.stepper.Command(reset); err != nil {
			return 0, err
		}
	}
	if _, err := m.stepper.Step(m.now); err != nil {
		return 0, err
	}
	m.now++
	return m.stands(m.stepper), nil
}

func (m *mover) found(v float64, upwards bool) *Found {
	chain := m.p.Inputs[m.input].Chain
	stages := chain.Stages(v, 0)
	// Which way the engineering value went with the reading.
	last := len(chain.Units) - 1
	rising := chain.Carry(m.high, 0, last) > chain.Carry(m.low, 0, last)
	return &Found{stages, rising != upwards}
}
