package logic

import "rectura/core/memo"

// An outputMemory is what lasts of an output. What is decided and what the plant has are two things: they differ while the
// output settles, and while its device is lost.
type outputMemory struct {
	state   State   // as decided
	level   float64 // of an analog one: its value, as decided
	plant   Stand   // as the plant has it: last written, or read back
	turned  int64   // when the plant last changed it, of a discrete one; minimum times run from here
	everOn  bool    // the plant has had it on
	stirred stir    // how its decisions have not reached the plant yet
	away    bool    // its device is lost: nothing that is decided reaches the plant
	held    Hold
	mode    Mode
	hand    float64 // what a person gives an analog one
	lock    string  // who alone gives it back from off; empty for anybody
	ends    int64   // when the hand ends, or never
	unhand  bool    // its hand could not go on; it stays off until the hand's own end
	tripped bool    // its own interlock has turned it off in the job's fault
	cause   Cause   // of an analog one: of its last change
	by      int32   // and the caller that it took its value from then, or -1
	number  int64   // of its last transition, or -1
	settles int64   // until when it alone settles

	// Of a job that listens.
	known bool  // how the plant has it was read back
	taken bool  // a person has had it in hand, and the plant does not have it back yet
	back  Stand // the plant's state before the hand, if it was known
}

// A stir is what has become of an output by decisions that do not reach the plant until it has settled. Whatever it was, its
// minimum times run from then on.
type stir uint8

const (
	still   stir = iota
	stirred      // it was decided otherwise
	stirsOn      // and was decided on, at some time

	stirs // how many there are
)

// A decision is what an output is to be, and why.
type decision struct {
	state State
	level float64 // of an analog one
	by    int32   // the caller that an analog one takes its value from, or -1
	cause Cause
	held  Hold  // what holds it where it is
	until int64 // when it must be looked at again, or never
}

// decide decides an output in the order of force of running.md: its own interlock, a person's off, the fault of the job, a
// person's hand, its callers or its fail state, its permissive, its minimum times. It changes nothing.
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
	s.restrain(i, &d, lock, byHand)
	return d
}

// restrain holds a decision back where the plant's present state may not be left yet: by an interlock that is unknown while
// the job settles, by the minimum times, by the permissive. It judges by what the plant has, so that changes which are only
// decided, within settling or while the device is lost, do not hold each other back.
func (s *Stepper) restrain(i int32, d *decision, lock lock, byHand bool) {
	o, m := &s.p.Outputs[i], &s.outputs[i]
	had, want := m.plant.State, d.state
	if o.Analog() { // it leaves its low end, or it does not
		had, want = onIf(m.plant.Level != o.Low), onIf(d.level != o.Low)
	}
	switch {
	case want == On && had == Off:
		end, running := s.within(m.turned, o.minimumOff)
		next, crowded := s.apart(o)
		switch {
		case lock == lockHolds:
			d.held = BySettling
		case running && m.everOn:
			d.held, d.until = ByMinimumOff, end
		case o.permissive >= 0 && s.truths[o.permissive] != isTrue:
			d.held = ByPermissive
		case crowded:
			d.held, d.until = ByStarts, next
		}
		if d.held != NotHeld {
			d.state, d.level, d.by = Off, o.Low, -1
		}
	case want == Off && had == On && !o.Analog():
		if end, running := s.within(m.turned, o.minimumOn); running && (byHand || !s.callerInterlocked(i)) {
			d.state, d.held, d.until = On, ByMinimumOn, end
		}
	}
}

// apart returns until when an output must wait since another one has just turned on, where the job keeps starts apart.
func (s *Stepper) apart(o *Output) (until int64, waits bool) {
	if s.p.apart < 0 || s.started == memo.Always || o.Analog() {
		return 0, false
	}
	until = after(s.started, s.duration(s.p.apart))
	return until, until > s.now
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
		if !m.away && s.settledAt(m.settles) {
			s.give(int32(i), t.From)
		}
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
		m.mode, m.ends, m.unhand = Auto, never, false
	}
	if m.stirred != still && !s.listening && !m.away && s.settledAt(m.settles) { // the decision made while it settled takes effect now
		if _, waits := s.apart(o); !waits || m.state != On || m.plant.State == On {
			s.give(i, s.stand(i))
			m.turned, m.everOn = s.now, m.everOn || m.stirred == stirsOn
		}
		m.stirred = still
	}
	d := s.decide(i)
	if d.cause == ByInterlock {
		if m.mode == HandOn || m.mode == HandAt {
			s.interlockHand(i)
		}
		m.tripped = s.circle
	}
	if s.listening {
		d = s.listened(i, d)
	} else {
		m.known, m.taken, m.back = false, false, Stand{}
	}
	if o.Analog() {
		s.takeOver(i, &d)
	}
	heldBefore := m.held
	m.held = d.held
	before := s.stand(i)
	m.state, m.level = d.state, d.level
	switch {
	case s.reaches(i, d.cause):
		s.give(i, s.stand(i))
	case !o.Analog() && d.state == On && before.State != On:
		m.stirred = stirsOn
	case !o.same(before, s.stand(i)):
		m.stirred = max(m.stirred, stirred)
	}
	s.timers.Set(s.outputTimer(i), s.whileSettling(min(d.until, m.ends), m.settles))
	if o.same(before, s.stand(i)) {
		return
	}
	s.outputTurned(i)
	reason := s.outputReason(i, d)
	if o.Analog() {
		reason.Turned = d.cause != m.cause || d.by != m.by
		m.cause, m.by = d.cause, d.by
	}
	if d.held == ByStarts {
		s.hold(&reason, d.held, m.turned, &o.restraints)
	} else if heldBefore != NotHeld && (d.cause == ByCall || d.cause == ByNoCall || d.cause == ByHand) {
		s.explainHold(&reason, heldBefore, &o.restraints)
	}
	s.report(Ref{OutputKind, i}, before, Stand{State: d.state, Level: d.level}, reason)
}

// outputTurned has the conditions and values that name an output evaluated again.
func (s *Stepper) outputTurned(i int32) {
	conds, values := s.p.links.outputConds.of(i), s.p.links.outputValues.of(i)
	if len(conds) == 0 {
		return
	}
	s.newConds.addAll(conds)
	s.newValues.addAll(values)
	s.again = true
	if !s.circle {
		s.restless = i
	}
}

// reaches reports whether an output's decision takes effect in the plant at this instant: it has settled and its device is
// there, or a true interlock or a person turns it off. While the job listens, only an output in hand is written.
func (s *Stepper) reaches(i int32, cause Cause) bool {
	m := &s.outputs[i]
	switch {
	case m.away:
		return false
	case s.listening:
		return m.taken
	case s.settledAt(m.settles):
		return true
	}
	return s.p.Outputs[i].isOff(s.stand(i)) && (cause == ByInterlock || m.mode == HandOff || m.mode == Stood)
}

// give makes a stand the plant's from this instant on.
func (s *Stepper) give(i int32, to Stand) {
	o, m := &s.p.Outputs[i], &s.outputs[i]
	if !o.Analog() && to.State != m.plant.State {
		if m.turned = s.now; to.State == On {
			s.started = s.now
		}
	}
	m.everOn = m.everOn || !o.Analog() && to.State == On
	m.plant = Stand{State: to.State, Level: to.Level}
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
