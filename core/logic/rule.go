package logic

import "rectura/core/sheet"

// A Hold is what holds a rule or an output back although its conditions, or its
// callers, would turn it.
type Hold uint8

// The holds.
const (
	NotHeld Hold = iota
	ByMinimumOn
	ByMinimumOff
	ByPermissive
	BySettling // its interlock is unknown, and the job settles
	ByStarts   // another output has just turned on, and the job keeps starts apart

	holdKinds // how many there are
)

// A Rule of a Program, as the places of its conditions and durations; -1 for
// one that it does not have.
type Rule struct {
	Name    string
	node    int32 // the condition that is its state
	on      int32 // `on when`, with its delay
	trip    int32 // `on when` without its delay: the on-condition
	off     int32 // `off when`
	turnOn  int32 // what a rule that is off looks at
	turnOff int32 // what a rule that is on looks at

	alarm int32 // whose condition it is, or -1
	latch bool
	reset int32
	pulse int32
	restraints
}

func (c *compiler) rule(r *sheet.Rule) {
	if r.Alarm != nil && r.Alarm.OfInput != nil {
		c.patient = 1
		defer func() { c.patient = 0 }()
	}
	of, _ := c.p.Find(r.Name)
	rule := c.p.RuleOf(of)
	if r.Alarm != nil && r.Alarm.OfInput != nil {
		c.p.Inputs[c.p.Index(InputKind, r.Alarm.OfInput.Name)].badRule = int32(rule)
	}
	c.of = c.p.number(of)
	inner, delay := r.OnCondition()
	on := c.condition(onWhen, inner)
	node := Rule{Name: r.Name, on: on, trip: on, off: -1, alarm: int32(c.p.Index(AlarmKind, r.Name)), latch: r.Latch != nil, reset: -1,
		pulse: c.clause(r.Pulse), restraints: restraints{minimumOn: c.clause(r.MinimumOn), minimumOff: c.clause(r.MinimumOff)}}
	node.permissive, node.interlock = c.guard(&r.Guard)
	if delay != nil {
		c.part(onDelay, printText(delay.String()), func() {
			node.on = c.addCond(condNode{op: condFor, a: on, b: c.duration(delay)})
		})
	}
	node.turnOn = node.on
	var lapsed int32
	c.part(letGo, printText(""), func() { lapsed = c.addCond(condNode{op: condNot, a: on}) })
	node.turnOff = lapsed
	switch {
	case r.OffWhen != nil:
		c.part("off when", c.printOf(r.OffWhen.Condition), func() {
			node.off = c.cond(r.OffWhen.Condition)
			node.turnOff = node.off
			held := c.addCond(condNode{op: condNot, a: node.off})
			node.turnOn = c.addCond(c.terms(condAnd, []int32{node.on, held}))
		})
	case r.OffAfter != nil:
		c.part(offAfter, printText(r.OffAfter.Duration.String()), func() {
			node.turnOff = c.addCond(condNode{op: condForStrict, a: lapsed, b: c.duration(r.OffAfter.Duration)})
		})
	}
	if r.Reset != nil {
		node.reset = c.condition("reset when", r.Reset.Condition)
	}
	c.part("", 0, func() { node.node = c.addCond(condNode{op: condRule, a: int32(rule)}) })
	c.p.Rules[rule] = node
}

// A pulse is where a rule with `pulse` stands.
type pulse uint8

const (
	pulseReady   pulse = iota
	pulseRunning       // on
	pulseWaiting       // off, until the on-condition has been false

	pulses // how many there are
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
	settles int64 // until when it alone settles
}

// turn changes the decided state.
func (m *ruleMemory) turn(on bool, now int64) {
	if m.decided != on {
		m.decided, m.turned = on, now
		m.everOn = m.everOn || on
	}
}

// within tells whether less than a minimum has passed since something turned,
// and when it will have. A duration of -1 is none.
func (s *Stepper) within(turned int64, minimum int32) (end int64, running bool) {
	if minimum < 0 || s.patient {
		return never, false
	}
	end = after(turned, s.duration(int64(minimum)))
	return end, s.now < end
}

// A lock is how an interlock stands.
type lock uint8

const (
	lockFree   lock = iota
	lockHolds       // it is unknown, and the job settles: it turns nothing off and lets nothing turn on
	lockForces      // it is true, or unknown once the job has settled
)

func (s *Stepper) lock(interlock int32, settles int64) lock {
	if interlock < 0 {
		return lockFree
	}
	switch v := s.truths[interlock]; {
	case v == isFalse:
		return lockFree
	case v == isUnknown && !s.settledAt(settles):
		return lockHolds
	}
	return lockForces
}

// A verdict is what a rule is to be, and why.
type verdict struct {
	on        bool
	undecided bool
	pulse     pulse
	cause     Cause
	look      int32 // the condition that decides
	held      Hold  // what holds it where it is
	until     int64 // when it must be looked at again, or never
}

// judge decides a rule in the order of force: interlock, latch or pulse, minimum
// on, on and off, permissive, minimum off. It changes nothing.
func (s *Stepper) judge(rule int32) verdict {
	r, m := &s.p.Rules[rule], &s.rules[rule]
	v := verdict{on: m.decided, pulse: m.pulse, cause: ByTerms, look: r.turnOn, until: never}
	trip := s.truths[r.trip]
	if m.pulse == pulseWaiting && trip == isFalse {
		v.pulse = pulseReady
	}
	lock := s.lock(r.interlock, m.settles)
	switch {
	case lock == lockForces:
		v.on, v.cause, v.look = false, ByInterlock, r.interlock
		if m.pulse == pulseRunning {
			v.pulse = pulseReady
			if s.truths[r.interlock] == isUnknown && trip != isFalse {
				v.pulse = pulseWaiting
			}
		}
	case v.pulse == pulseRunning:
		if v.until = after(m.turned, s.duration(int64(r.pulse))); s.now < v.until {
			break
		}
		v.on, v.cause, v.pulse, v.until = false, ByPulseEnd, pulseWaiting, never
		if trip == isFalse {
			v.pulse = pulseReady
		}
	case v.pulse == pulseWaiting:
	case r.latch && m.decided:
		switch {
		case s.armed(rule) && s.truths[r.reset] == isTrue:
			v.on, v.cause, v.look = false, ByReset, r.reset
		case s.resets[rule] && trip == isFalse:
			v.on, v.cause, v.look = false, ByPerson, r.trip
		}
	case m.decided:
		v.look = r.turnOff
		end, running := s.within(m.turned, r.minimumOn)
		if running {
			v.until = end
		}
		switch off := s.truths[v.look]; {
		case off == isUnknown:
			v.undecided = true
		case off == isTrue && running:
			v.held = ByMinimumOn
		case off == isTrue:
			v.on = false
		}
	default:
		end, running := s.within(m.turned, r.minimumOff)
		if running = running && m.everOn; running {
			v.until = end
		}
		switch on := s.truths[v.look]; {
		case lock == lockHolds:
			v.held = BySettling
		case r.permissive >= 0 && s.truths[r.permissive] != isTrue:
			v.held = ByPermissive
		case running:
			v.held = ByMinimumOff
		case on == isUnknown:
			v.undecided = true
		case on == isTrue:
			v.on = true
			if r.pulse >= 0 {
				v.pulse, v.until = pulseRunning, after(s.now, s.duration(int64(r.pulse)))
			} else if end, running := s.within(s.now, r.minimumOn); running {
				v.until = end
			}
		}
	}
	v.undecided = v.undecided && r.alarm < 0 // an alarm keeps its state
	return v
}

// armed tells whether a latch's reset has been false since its on-condition has
// become false: it must turn true after.
func (s *Stepper) armed(rule int32) bool {
	r, m := &s.p.Rules[rule], &s.rules[rule]
	return s.truths[r.trip] == isFalse && r.reset >= 0 && (m.armed || s.truths[r.reset] == isFalse)
}

// stepRule evaluates a rule after the conditions that it looks at. Its state as a
// truth is the value of its node, i.
func (s *Stepper) stepRule(i int32, rule int32) truth {
	r, m := &s.p.Rules[rule], &s.rules[rule]
	m.armed = s.armed(rule)
	v := s.judge(rule)
	heldBefore := m.held
	m.pulse, m.held = v.pulse, v.held
	m.turn(v.on, s.now)
	if !m.decided && m.everOn {
		if end, running := s.within(m.turned, r.minimumOff); running {
			v.until = min(v.until, end)
		}
	}
	s.timers.Set(i, s.whileSettling(v.until, m.settles))
	state, value := Off, isFalse
	switch {
	case v.undecided:
		state, value = Undecided, isUnknown
	case m.decided:
		state, value = On, isTrue
	}
	if before := m.shown; state != before {
		m.shown = state
		if r.alarm >= 0 {
			s.newConds.addAll(s.p.Alarms[r.alarm].tests)
		}
		reason := s.ruleReason(r, v, before)
		if before == Undecided && m.held != NotHeld {
			s.hold(&reason, m.held, m.turned, &r.restraints)
		} else if s.conds[v.look].changed != s.now && (state == On && heldBefore != ByMinimumOn || state == Off && heldBefore == ByMinimumOn) && before != Undecided {
			s.explainHold(&reason, heldBefore, &r.restraints)
		}
		s.report(s.p.RefOf(int(rule)), Stand{State: before}, Stand{State: state}, reason)
	}
	return value
}

// explainHold says what held back until now, or does still.
func (s *Stepper) explainHold(reason *Reason, held Hold, by *restraints) {
	reason.Held = held
	switch held {
	case ByPermissive, BySettling:
		from := len(s.terms)
		s.reasonFrom = from
		if held == ByPermissive {
			s.explain(by.permissive, lasting{})
		} else {
			s.explain(by.interlock, lasting{})
		}
		reason.Permit = s.terms[from:]
	case ByMinimumOn:
		reason.HeldFor = s.duration(int64(by.minimumOn))
	case ByMinimumOff:
		reason.HeldFor = s.duration(int64(by.minimumOff))
	case ByStarts:
		reason.HeldFor = s.duration(int64(s.p.apart))
	}
}
