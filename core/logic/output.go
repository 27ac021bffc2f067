package logic

// An outputMemory is that of an output.
type outputMemory struct {
	state   State
	turned  int64 // when state last changed, of a discrete one
	everOn  bool
	held    Hold
	level   float64 // of an analog one: its value
	mode    Mode
	hand    float64 // what a person gives an analog one
	lock    string  // who alone gives it back from off; empty for anybody
	ends    int64   // when the hand ends, or never
	tripped bool    // its own interlock has turned it off in the job's fault
	number  int64   // of its last transition, or -1
	settles int64   // until when it alone settles

	// Of a job that listens.
	found      bool // how it stands in the plant is known:
	foundState State
	foundLevel float64
	taken      bool // a person has had it in hand, and the plant does not have it back yet
}

// A decision is what an output is to be, and why.
type decision struct {
	state State
	level float64 // of an analog one
	by    int32   // the caller that an analog one takes its value from, or -1
	cause Cause
	held  Hold  // what holds it where it is
	until int64 // when it must be looked at again, or never
}

// decide decides an output, whether it is on or off or has a value, in the order of
// force: its own interlock, a person's off, the fault of the job, a person's hand,
// its callers or its fail state, its permissive, its minimum times. It changes
// nothing.
func (s *Stepper) decide(i int32) decision {
	o, m := &s.p.Outputs[i], &s.outputs[i]
	d := decision{state: Off, level: o.Low, by: -1, until: never}
	lock := s.lock(o.interlock, m.settles)
	called := s.callers(int(i))
	byHand := false
	switch {
	case lock == lockForces:
		d.cause = ByInterlock
		return d
	case m.mode == HandOff || m.mode == Stood:
		d.cause, byHand = ByHand, true
	case s.circle:
		d.cause = ByCircle
		if !m.tripped {
			d.state, d.level = s.failed(i)
		}
		return d
	case m.mode != Auto:
		d.state, d.level, d.cause, byHand = On, m.hand, ByHand, true
	case called == Undecided:
		d.cause, d.state, d.level = ByFail, m.state, m.level
		if s.settledAt(m.settles) {
			d.state, d.level = s.failed(i)
		}
		return d
	case called == On:
		d.cause, d.state = ByCall, On
		if o.Analog() {
			d.by, d.level = s.chosen(i, -1)
		}
	default:
		d.cause = ByNoCall
	}
	before, want := m.state, d.state
	if o.Analog() { // it has left its low end, or it has not
		before, want = onIf(m.level != o.Low), onIf(d.level != o.Low)
	}
	switch {
	case want == On && before == Off:
		end, running := s.within(m.turned, o.minimumOff)
		switch {
		case lock == lockHolds:
			d.held = BySettling
		case running && m.everOn:
			d.held, d.until = ByMinimumOff, end
		case o.permissive >= 0 && s.truths[o.permissive] != isTrue:
			d.held = ByPermissive
		}
		if d.held != NotHeld {
			d.state, d.level, d.by = Off, o.Low, -1
		}
	case want == Off && before == On && !o.Analog():
		if end, running := s.within(m.turned, o.minimumOn); running && (byHand || !s.callerInterlocked(i)) {
			d.state, d.held, d.until = On, ByMinimumOn, end
		}
	}
	return d
}

func onIf(on bool) State {
	if on {
		return On
	}
	return Off
}

// failed is what an output's fail state makes of it: its state, and the value of an
// analog one.
func (s *Stepper) failed(i int32) (State, float64) {
	switch o := &s.p.Outputs[i]; o.fail {
	case FailOff:
		return Off, o.Low
	case FailOn:
		return On, o.Low
	case FailTo:
		return On, o.failLevel
	}
	return s.outputs[i].state, s.outputs[i].level
}

// fault begins the job's fault: outputs do not come to rest. Those that hold go
// back to what they had before this instant.
func (s *Stepper) fault() {
	s.circle, s.circleAt = true, s.now
	s.newOutputs.fill(len(s.p.Outputs))
	for i := range s.p.Outputs {
		k := s.outputReports[i]
		if k == 0 || s.p.Outputs[i].fail != FailHold {
			continue
		}
		m, t := &s.outputs[i], &s.transitions[k-1]
		t.To = t.From
		m.state, m.level = t.From.State, t.From.Level
		s.touched.add(s.p.number(Ref{OutputKind, int32(i)}))
		s.newConds.addAll(s.p.links.outputConds.of(int32(i)))
		s.newValues.addAll(s.p.links.outputValues.of(int32(i)))
	}
}

// stand is how an output stands.
func (s *Stepper) stand(i int32) Stand {
	return Stand{State: s.outputs[i].state, Level: s.outputs[i].level}
}

// stepOutput gives an output what is decided.
func (s *Stepper) stepOutput(i int32) {
	o, m := &s.p.Outputs[i], &s.outputs[i]
	was, due := *m, s.timers.At(s.outputTimer(i))
	defer s.touchOutput(i, &was, due)
	if m.ends <= s.now {
		m.mode, m.ends = Auto, never
	}
	d := s.decide(i)
	if s.listening {
		d = s.heard(i, d)
	} else {
		m.found, m.foundState, m.foundLevel, m.taken = false, Off, 0, false
	}
	heldBefore := m.held
	m.held = d.held
	if d.cause == ByInterlock {
		if m.mode != Auto {
			m.mode, m.ends = Stood, never // it needs a fresh command
		}
		m.tripped = s.circle
	}
	if o.Analog() {
		d.level = s.takeOver(i, d.by, d.level)
	}
	before := s.stand(i)
	changed := d.level != m.level
	if !o.Analog() {
		if changed = d.state != m.state; changed {
			m.turned, m.everOn = s.now, m.everOn || d.state == On
		}
	}
	m.state, m.level = d.state, d.level
	s.timers.Set(s.outputTimer(i), s.whileSettling(min(d.until, m.ends), m.settles))
	if !changed {
		return
	}
	if conds, values := s.p.links.outputConds.of(i), s.p.links.outputValues.of(i); len(conds) > 0 {
		s.newConds.addAll(conds)
		s.newValues.addAll(values)
		s.again = true
		if !s.circle {
			s.restless = i
		}
	}
	reason := s.outputReason(i, d)
	if heldBefore != NotHeld && (d.cause == ByCall || d.cause == ByNoCall || d.cause == ByHand) {
		s.explainHold(&reason, heldBefore, &o.restraints)
	}
	s.report(Ref{OutputKind, i}, before, Stand{State: d.state, Level: d.level}, reason)
}

// touchOutput notes that something has happened to an output, if it has.
func (s *Stepper) touchOutput(i int32, was *outputMemory, due int64) {
	if s.outputs[i] != *was || s.timers.At(s.outputTimer(i)) != due {
		s.touched.add(s.p.number(Ref{OutputKind, i}))
	}
}

// callerInterlocked tells whether the interlock of one of an output's callers
// forces it off: then a turning off is not held back.
func (s *Stepper) callerInterlocked(output int32) bool {
	for _, i := range s.p.Callers(int(output)) {
		if c := &s.p.Calling[i]; c.Kind == RuleKind && s.lock(s.p.Rules[c.Index].interlock, s.rules[c.Index].settles) == lockForces {
			return true
		}
	}
	return false
}
