package logic

// A Hold is what holds a rule or an output back although its conditions, or its
// callers, would turn it.
type Hold uint8

// The holds.
const (
	NotHeld Hold = iota
	ByMinimumOn
	ByMinimumOff
	ByPermissive
)

// A pulse is where a rule with `pulse` stands.
type pulse uint8

const (
	pulseReady   pulse = iota
	pulseRunning       // on
	pulseWaiting       // off, until the on-condition has been false
)

// A ruleMemory is that of a rule.
type ruleMemory struct {
	shown   State
	decided bool  // on, or off; kept while the rule is undecided
	turned  int64 // when decided last changed
	everOn  bool
	pulse   pulse
	armed   bool // of a latch: its reset has been false since the on-condition is
	held    Hold
	number  int64 // of its last transition, or -1
}

// An outputMemory is that of an output.
type outputMemory struct {
	state   State
	turned  int64 // when state last changed, of a discrete one
	everOn  bool
	held    Hold
	level   float64 // of an analog one: its value,
	takenBy int32   // and the caller that this comes from, or -1
	mode    Mode
	hand    float64 // what a person gives an analog one
	number  int64   // of its last transition, or -1
}

// turn changes the decided state.
func (m *ruleMemory) turn(on bool, now int64) {
	if m.decided != on {
		m.decided, m.turned = on, now
		m.everOn = m.everOn || on
	}
}

// within tells whether less than a minimum has passed since the rule turned,
// and when it will have. A duration of -1 is none.
func (s *Stepper) within(turned int64, minimum int32) (end int64, running bool) {
	if minimum < 0 || s.patient {
		return never, false
	}
	end = after(turned, s.duration(int64(minimum)))
	return end, s.now < end
}

// stepRule evaluates a rule after the conditions that it looks at, in the order
// of force: interlock, latch or pulse, minimum on, on and off, permissive,
// minimum off. Its state as a truth is the value of its node, i.
func (s *Stepper) stepRule(i int32, rule int32) truth {
	r, m := &s.p.Rules[rule], &s.rules[rule]
	look, v, cause := r.turnOn, isFalse, ByTerms
	due := int64(never)
	heldBefore := m.held
	m.held = NotHeld
	trip := s.truths[r.trip]
	// The reset of a latch counts from the instant at which its on-condition
	// has become false, whatever else holds just then: it must turn true after.
	m.armed = trip == isFalse && r.reset >= 0 && (m.armed || s.truths[r.reset] == isFalse)
	if m.pulse == pulseWaiting && trip == isFalse {
		m.pulse = pulseReady
	}
	switch {
	case r.interlock >= 0 && s.truths[r.interlock] != isFalse:
		m.turn(false, s.now)
		cause, look = ByInterlock, r.interlock
		if m.pulse == pulseRunning {
			m.pulse = pulseReady
		}
	case m.pulse == pulseRunning:
		if end := after(m.turned, s.duration(int64(r.pulse))); s.now < end {
			due = end
			break
		}
		m.turn(false, s.now)
		cause, m.pulse = ByPulseEnd, pulseWaiting
		if trip == isFalse {
			m.pulse = pulseReady
		}
	case m.pulse == pulseWaiting:
	case r.latch && m.decided:
		switch {
		case m.armed && s.truths[r.reset] == isTrue:
			m.turn(false, s.now)
			cause, look = ByReset, r.reset
		case s.resets[rule] && trip == isFalse:
			m.turn(false, s.now)
			cause, look = ByPerson, r.trip
		}
	case m.decided:
		look = r.turnOff
		v = s.truths[look]
		if end, running := s.within(m.turned, r.minimumOn); running {
			due = end
			if v == isTrue {
				m.held, v = ByMinimumOn, isFalse
			}
		}
		if v == isTrue {
			m.turn(false, s.now)
		}
	default:
		v = s.truths[look]
		end, running := s.within(m.turned, r.minimumOff)
		running = running && m.everOn
		if running {
			due = end
		}
		switch {
		case r.permissive >= 0 && s.truths[r.permissive] != isTrue:
			m.held, v = ByPermissive, isFalse
		case running:
			m.held, v = ByMinimumOff, isFalse
		case v == isTrue:
			m.turn(true, s.now)
			if r.pulse >= 0 {
				m.pulse = pulseRunning
				due = after(s.now, s.duration(int64(r.pulse)))
			} else if end, running := s.within(s.now, r.minimumOn); running {
				due = end
			}
		}
	}
	s.resets[rule] = false
	if r.alarm >= 0 && v == isUnknown { // it keeps its state
		v = isFalse
	}
	if !m.decided && m.turned == s.now && m.everOn {
		if end, running := s.within(s.now, r.minimumOff); running {
			due = min(due, end)
		}
	}
	s.timers.set(i, due)
	state, value := Off, isFalse
	switch {
	case v == isUnknown:
		state, value = Undecided, isUnknown
	case m.decided:
		state, value = On, isTrue
	}
	if before := s.rules[rule].shown; state != before {
		s.rules[rule].shown = state
		kind := RuleKind
		if r.alarm >= 0 {
			kind = AlarmKind
			s.alarms[r.alarm].Condition(state == On)
			s.newConds.addAll(s.p.Alarms[r.alarm].tests)
		}
		reason := s.ruleReason(r, m.held, look, v, before, cause)
		if before == Undecided && m.held != NotHeld {
			reason.Holds = true
			s.explainHold(&reason, m.held, r.permissive, r.minimumOn, r.minimumOff)
		} else if s.conds[look].changed != s.now && (state == On && heldBefore != ByMinimumOn || state == Off && heldBefore == ByMinimumOn) && before != Undecided {
			s.explainHold(&reason, heldBefore, r.permissive, r.minimumOn, r.minimumOff)
		}
		s.report(kind, rule, before, state, reason)
	}
	return value
}

// explainHold says what held back until now, or does still.
func (s *Stepper) explainHold(reason *Reason, held Hold, permissive, minimumOn, minimumOff int32) {
	reason.Held = held
	switch held {
	case ByPermissive:
		from := len(s.terms)
		s.reasonFrom = from
		s.explain(permissive, 0, 0, false)
		reason.Permit = s.terms[from:]
	case ByMinimumOn:
		reason.HeldFor = s.duration(int64(minimumOn))
	case ByMinimumOff:
		reason.HeldFor = s.duration(int64(minimumOff))
	}
}

// stepOutput decides an output, in the order of force: its own interlock, its
// callers or its fail state, permissive, minimum times.
func (s *Stepper) stepOutput(i int32) {
	o, m := &s.p.Outputs[i], &s.outputs[i]
	called := s.callers(int(i))
	before := s.outputs[i].state
	state, cause := called, ByCall
	due := int64(never)
	heldBefore := m.held
	m.held = NotHeld
	switch mode := s.outputs[i].mode; {
	case o.interlock >= 0 && s.truths[o.interlock] != isFalse:
		state, cause = Off, ByInterlock
		if mode != Auto {
			s.outputs[i].mode = Stood // it needs a fresh command
		}
	case s.circle:
		state, cause = o.fail.of(before), ByCircle
	case mode != Auto:
		state, cause = Off, ByHand
		if mode == HandOn {
			state = On
		}
		state, due = s.heldOutput(i, state, before, true)
	case called == Undecided:
		state, cause = before, ByFail
		if s.settled() {
			state = o.fail.of(before)
		}
	default:
		state, due = s.heldOutput(i, called, before, false)
	}
	if state != before {
		m.turned, m.everOn = s.now, m.everOn || state == On
		s.outputs[i].state = state
		if named := s.p.links.outputConds.of(i); len(named) > 0 {
			s.newConds.addAll(named)
			s.again = true
			if !s.circle {
				s.restless = i
			}
		}
		reason := s.outputReason(int(i), state, cause)
		if heldBefore != NotHeld && (cause == ByCall || cause == ByHand) {
			s.explainHold(&reason, heldBefore, o.permissive, o.minimumOn, o.minimumOff)
		}
		s.report(OutputKind, i, before, state, reason)
	}
	s.timers.set(s.outputTimer(i), due)
}

// heldOutput is the state that an output takes when it is to have another: its
// permissive and its minimum times may hold it where it was, until when.
func (s *Stepper) heldOutput(i int32, want, before State, byHand bool) (state State, due int64) {
	o, m := &s.p.Outputs[i], &s.outputs[i]
	switch {
	case want == On && before == Off:
		end, running := s.within(m.turned, o.minimumOff)
		switch {
		case running && m.everOn:
			m.held = ByMinimumOff
			return Off, end
		case o.permissive >= 0 && s.truths[o.permissive] != isTrue:
			m.held = ByPermissive
			return Off, never
		}
	case want == Off && before == On:
		if end, running := s.within(m.turned, o.minimumOn); running && (byHand || !s.callerInterlocked(i)) {
			m.held = ByMinimumOn
			return On, end
		}
	}
	return want, never
}

// callerInterlocked tells whether the interlock of one of an output's callers
// is true or unknown: then a turning off is not held back.
func (s *Stepper) callerInterlocked(output int32) bool {
	for _, i := range s.p.Callers(int(output)) {
		c := &s.p.Calling[i]
		if c.Kind != RuleKind {
			continue
		}
		if lock := s.p.Rules[c.Index].interlock; lock >= 0 && s.truths[lock] != isFalse {
			return true
		}
	}
	return false
}
