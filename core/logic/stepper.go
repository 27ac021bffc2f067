package logic

import (
	"rectura/core/signal"
	"rectura/core/unit"
)

// A truth is three-valued, after Kleene.
type truth uint8

const (
	isFalse truth = iota
	isTrue
	isUnknown
)

func (v truth) not() truth { return [...]truth{isTrue, isFalse, isUnknown}[v] }

// A State is what a transition leads from and to.
type State uint8

// The states of rules and outputs, and the qualities of inputs.
const (
	Off State = iota
	On
	Undecided
	Good
	Bad
)

func (s State) String() string { return [...]string{"off", "on", "undecided", "good", "bad"}[s] }

// A Kind is what a transition is one of.
type Kind uint8

// The kinds of things that change.
const (
	InputKind Kind = iota
	RuleKind
	OutputKind
)

func (k Kind) String() string { return [...]string{"input", "rule", "output"}[k] }

// A Transition is one thing that an instant left in another state, with the
// reason. Its Reason holds slices that the next Step overwrites; Clone it to
// keep it.
type Transition struct {
	Time     int64
	Kind     Kind
	Index    int32 // of the input, rule or output
	From, To State
	Reason   Reason
}

// A Stepper runs a Program one instant at a time. It allocates nothing while
// it runs, once its buffers have grown.
type Stepper struct {
	p        *Program
	analog   []signal.Analog // by input; of discrete ones the zero value
	contacts []signal.Contact
	quality  []State // of each input at the end of the last instant
	fresh    []bool  // the input had no reading before this instant
	settings []float64

	values  []float64
	known   []bool
	truths  []truth
	changed []int64 // when each condition took its present truth
	memory  []bool  // of each comparison: tripped
	since   []int64 // of each `for`: since when its condition has been true
	waiting []bool  // of each `for`: its condition is true
	lapsed  []bool  // of each `for`: its time has run out

	decided []bool // of each rule
	rules   []State
	turned  []int64 // when each rule took its present state
	outputs []State
	timers  timers

	now     int64
	started bool
	start   int64
	dirty   bool // something has been read or set since the last instant
	always  bool // evaluate every instant, also those at which nothing is new; for tests

	transitions []Transition
	terms       []Term
	reasonFrom  int // where the terms of the reason being made begin
	rulesNamed  []int32
}

// NewStepper gives a Stepper that stands before its first instant: every rule
// and output off, every comparison reset, every input not read yet.
func NewStepper(p *Program) *Stepper {
	s := &Stepper{
		p:        p,
		analog:   make([]signal.Analog, len(p.Inputs)),
		contacts: make([]signal.Contact, len(p.Inputs)),
		quality:  make([]State, len(p.Inputs)),
		fresh:    make([]bool, len(p.Inputs)),
		values:   make([]float64, len(p.values)),
		known:    make([]bool, len(p.values)),
		truths:   make([]truth, len(p.conds)),
		changed:  make([]int64, len(p.conds)),
		memory:   make([]bool, len(p.conds)),
		since:    make([]int64, len(p.conds)),
		waiting:  make([]bool, len(p.conds)),
		lapsed:   make([]bool, len(p.conds)),
		decided:  make([]bool, len(p.Rules)),
		rules:    make([]State, len(p.Rules)),
		turned:   make([]int64, len(p.Rules)),
		outputs:  make([]State, len(p.Outputs)),
		timers:   newTimers(len(p.conds) + 1),
	}
	for i, in := range p.Inputs {
		if in.Chain != nil {
			s.analog[i] = signal.NewAnalog(in.Chain)
		} else {
			s.contacts[i] = signal.NewContact(in.Inverted)
		}
		s.quality[i], s.fresh[i] = Bad, true
	}
	for _, c := range p.Settings {
		s.settings = append(s.settings, c.Value.Value)
	}
	return s
}

// Set gives a setpoint or constant another value, in its own unit, from the
// next instant on.
func (s *Stepper) Set(setting int, value float64) {
	s.settings[setting] = value
	s.dirty = true
}

// Read hands an input a reading of the next instant: for an analog one, a
// value at a place of its chain; for a discrete one, 0 or 1. NaN is a bad
// reading.
func (s *Stepper) Read(input int, reading float64, at int) {
	if s.p.Inputs[input].Chain != nil {
		s.dirty = s.analog[input].Read(reading, at) || s.dirty
	} else {
		s.dirty = s.contacts[input].Read(reading) || s.dirty
	}
}

// Next is the time at which the next timer falls due; the end of time if none
// runs. An instant must not be passed over it.
func (s *Stepper) Next() int64 { return s.timers.earliest() }

// Step evaluates the instant t, with the readings handed over since the last
// one. Times must not go back. The first instant starts the job. What it
// returns is overwritten by the next Step.
func (s *Stepper) Step(t int64) []Transition {
	s.transitions, s.terms, s.rulesNamed = s.transitions[:0], s.terms[:0], s.rulesNamed[:0]
	s.now = t
	settled := int32(len(s.p.conds))
	if !s.started {
		s.started, s.start = true, t
		s.timers.set(settled, after(t, s.duration(s.p.settle)))
	} else if !s.dirty && t < s.timers.earliest() && !s.always {
		return nil
	}
	s.dirty = false
	if t >= s.timers.due[settled] {
		s.timers.set(settled, never)
	}
	s.stepInputs()
	s.stepValues()
	s.stepConds()
	s.stepRules()
	s.stepOutputs()
	return s.transitions
}

// settled tells whether the settling time had ended at this instant.
func (s *Stepper) settled() bool { return s.timers.due[len(s.p.conds)] == never }

func (s *Stepper) fault(input int32) signal.Fault {
	if s.p.Inputs[input].Chain != nil {
		return s.analog[input].Fault
	}
	return s.contacts[input].Fault
}

// stepInputs notes changes of quality. Leaving "not read yet" is none.
func (s *Stepper) stepInputs() {
	for i := range s.quality {
		f := s.fault(int32(i))
		if f == signal.NotRead {
			continue
		}
		now := Good
		if f != signal.None {
			now = Bad
		}
		if before := s.quality[i]; now != before || s.fresh[i] {
			if !s.fresh[i] {
				s.report(InputKind, int32(i), before, now, s.inputReason(int32(i)))
			}
			s.quality[i], s.fresh[i] = now, false
		}
	}
}

func (s *Stepper) stepValues() {
	for i := range s.p.values {
		n := &s.p.values[i]
		var v float64
		known := true
		switch n.op {
		case valueConst:
			v = n.k
		case valueSetting:
			v = s.settings[n.a]
		case valueInput:
			a := &s.analog[n.a]
			v, known = a.Value, a.Fault == signal.None
		case valueAdd:
			v, known = s.values[n.a]+s.values[n.b], s.known[n.a] && s.known[n.b]
		case valueSub:
			v, known = s.values[n.a]-s.values[n.b], s.known[n.a] && s.known[n.b]
		case valueNegate:
			v, known = -s.values[n.a], s.known[n.a]
		case valueConvert:
			v, known = convert(s.p.conversions[n.b], s.values[n.a]), s.known[n.a]
		}
		s.values[i], s.known[i] = v, known
	}
}

func (s *Stepper) stepConds() {
	for i := range s.p.conds {
		n := &s.p.conds[i]
		var v truth
		switch n.op {
		case condContact:
			switch c := &s.contacts[n.a]; {
			case c.Fault != signal.None:
				v = isUnknown
			case c.On:
				v = isTrue
			}
		case condNot:
			v = s.truths[n.a].not()
		case condAnd:
			v = isTrue
			for _, a := range s.p.args[n.a : n.a+n.b] {
				switch s.truths[a] {
				case isFalse:
					v = isFalse
				case isUnknown:
					if v == isTrue {
						v = isUnknown
					}
				}
			}
		case condOr:
			for _, a := range s.p.args[n.a : n.a+n.b] {
				switch s.truths[a] {
				case isTrue:
					v = isTrue
				case isUnknown:
					if v == isFalse {
						v = isUnknown
					}
				}
			}
		case condFor, condForStrict:
			v = s.stepFor(int32(i), n)
		default:
			v = s.compare(int32(i), n)
		}
		if v != s.truths[i] {
			s.truths[i], s.changed[i] = v, s.now
		}
	}
}

// compare evaluates a comparison with its memory: trip and reset points as the
// sheet language defines them.
func (s *Stepper) compare(i int32, n *condNode) truth {
	for _, v := range [...]int32{n.a, n.b, n.deadband, n.hysteresis} {
		if v >= 0 && !s.known[v] {
			return isUnknown
		}
	}
	x := s.values[n.a]
	trip, reset := s.points(n)
	if s.memory[i] {
		switch n.op {
		case condBelow:
			s.memory[i] = x < reset
		case condAtMost:
			s.memory[i] = x <= reset
		case condAbove:
			s.memory[i] = x > reset
		case condAtLeast:
			s.memory[i] = x >= reset
		}
	} else {
		switch n.op {
		case condBelow:
			s.memory[i] = x < trip
		case condAtMost:
			s.memory[i] = x <= trip
		case condAbove:
			s.memory[i] = x > trip
		case condAtLeast:
			s.memory[i] = x >= trip
		}
	}
	if s.memory[i] {
		return isTrue
	}
	return isFalse
}

// points are the trip and the reset point of a comparison: trip = S ± deadband,
// reset = trip ∓ hysteresis, or S where no hysteresis is written.
func (s *Stepper) points(n *condNode) (trip, reset float64) {
	trip = s.values[n.b]
	reset = trip
	rising := n.op == condAbove || n.op == condAtLeast
	if n.deadband >= 0 {
		if d := s.values[n.deadband]; rising {
			trip += d
		} else {
			trip -= d
		}
	}
	if n.hysteresis >= 0 {
		if h := s.values[n.hysteresis]; rising {
			reset = trip - h
		} else {
			reset = trip + h
		}
	}
	return trip, reset
}

// stepFor evaluates `X for D`: true once X has been true from some t0 on and
// still is at t0 + D, readings of that very instant included.
func (s *Stepper) stepFor(i int32, n *condNode) truth {
	due, v := int64(never), isFalse
	switch s.truths[n.a] {
	case isTrue:
		if !s.waiting[i] {
			s.waiting[i], s.since[i] = true, s.now
		}
		end := after(s.since[i], s.duration(int64(n.b)))
		if s.now >= end {
			s.lapsed[i] = true
		}
		if s.lapsed[i] {
			v = isTrue
		} else {
			due = end
		}
	case isFalse:
		s.waiting[i], s.lapsed[i] = false, false
	case isUnknown:
		v = isUnknown
		if !s.lapsed[i] || n.op == condForStrict {
			s.waiting[i], s.lapsed[i] = false, false
		}
	}
	s.timers.set(i, due)
	return v
}

func (s *Stepper) duration(i int64) int64 {
	d := s.p.durations[i]
	if d.setting < 0 {
		return d.nanoseconds
	}
	q := s.p.Settings[d.setting].Value
	if s.settings[d.setting] == q.Value {
		return s.p.Job.Setpoints[d.setting].Value.Nanoseconds() // exactly as written
	}
	q.Value, q.Text = s.settings[d.setting], ""
	ns, err := unit.DurationOf(q)
	if err != nil {
		return 0 // not above 0: runs out at once; Set's callers check before
	}
	return ns
}

func (s *Stepper) stepRules() {
	for i := range s.p.Rules {
		r := &s.p.Rules[i]
		look := r.turnOn
		if s.decided[i] {
			look = r.turnOff
		}
		v := s.truths[look]
		if v == isTrue {
			s.decided[i] = !s.decided[i]
		}
		state := Off
		switch {
		case v == isUnknown:
			state = Undecided
		case s.decided[i]:
			state = On
		}
		if before := s.rules[i]; state != before {
			s.rules[i], s.turned[i] = state, s.now
			s.report(RuleKind, int32(i), before, state, s.ruleReason(r, look, v, before))
		}
	}
}

func (s *Stepper) stepOutputs() {
	for i := range s.p.Outputs {
		state := s.callers(i)
		undecided := state == Undecided
		if undecided {
			state = s.outputs[i]
			if s.settled() {
				switch s.p.Outputs[i].fail {
				case FailOff:
					state = Off
				case FailOn:
					state = On
				}
			}
		}
		if before := s.outputs[i]; state != before {
			s.outputs[i] = state
			s.report(OutputKind, int32(i), before, state, s.outputReason(i, state, undecided))
		}
	}
}

// callers combines the states of the rules that call an output.
func (s *Stepper) callers(output int) State {
	callers := s.p.Callers(output)
	if len(callers) == 0 {
		return Off
	}
	decisive, rest := On, Off // called by any
	if s.p.Outputs[output].all {
		decisive, rest = Off, On
	}
	state := rest
	for _, r := range callers {
		switch s.rules[r] {
		case decisive:
			return decisive
		case Undecided:
			state = Undecided
		}
	}
	return state
}

// OutputUndecided tells whether an output's callers could not decide it at the
// last instant.
func (s *Stepper) OutputUndecided(output int) bool { return s.callers(output) == Undecided }

// Value is the value of an analog input that rules saw at the last instant,
// and whether it is good.
func (s *Stepper) Value(input int) (value float64, good bool) {
	a := &s.analog[input]
	return a.Value, a.Fault == signal.None
}

func (s *Stepper) report(kind Kind, index int32, from, to State, because Reason) {
	s.transitions = append(s.transitions, Transition{s.now, kind, index, from, to, because})
}
