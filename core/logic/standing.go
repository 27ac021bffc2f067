package logic

// Standing is how a rule or an output stands after the last instant, and why it
// is not otherwise, as a Transition that leads from its state to the same one. An output of a job
// that listens stands as the rules would have it.
// The Reason names the restraint that holds it back. It is valid until the next Standing or Step.
func (s *Stepper) Standing(r Ref) Transition {
	s.terms, s.rulesNamed = s.terms[:s.told], s.rulesNamed[:s.toldNamed] // however often it is asked, it takes no more room
	i := r.Index
	s.reasonFrom = len(s.terms)
	t := Transition{Time: s.now, Ref: r}
	switch r.Kind {
	case RuleKind, AlarmKind:
		rule := int32(s.p.RuleOf(r))
		t.To.State, t.Reason = s.rules[rule].shown, s.standingRule(rule)
	case OutputKind:
		t.To, t.Reason = s.stand(i), s.standingOutput(i)
		if s.listening { // what it is to be, by that
			d := s.decide(i)
			t.To = Stand{State: d.state, Level: d.level}
		}
	case FollowKind, LoopKind:
		t.To.State, t.Reason = s.standingProportion(r.Kind, i)
	case BandsKind:
		t.To, t.Reason = s.bandShown(i), s.bandReason(i)
	case InputKind:
		t.To.State = Good
		if s.faultOf(i) != 0 {
			t.To.State = Bad
		}
		term := s.input(i)
		term.Kind = ReadingTerm
		s.terms = append(s.terms, term)
		t.Reason = Reason{Cause: ByReading, Terms: s.terms[s.reasonFrom:]}
	}
	t.From = t.To
	return t
}

func (s *Stepper) standingRule(rule int32) Reason {
	r, m := &s.p.Rules[rule], &s.rules[rule]
	from := len(s.terms)
	explained := func(cause Cause, conds ...int32) Reason {
		for _, c := range conds {
			s.explain(c, lasting{})
		}
		return Reason{Cause: cause, Terms: s.terms[from:]}
	}
	switch v := s.judge(rule); {
	case v.cause == ByInterlock:
		return explained(ByInterlock, r.interlock)
	case v.pulse == pulseRunning:
		return Reason{Cause: InPulse, Since: m.turned, HeldFor: s.duration(int64(r.pulse))}
	case v.pulse == pulseWaiting:
		return explained(AfterPulse, r.trip)
	case r.latch && m.decided:
		reason := explained(InLatch, r.trip)
		reason.Since = m.turned
		return reason
	case m.decided:
		look := r.on // on for as long as what turned it on
		if s.truths[r.trip] != isTrue || r.off >= 0 && s.truths[r.on] != isTrue {
			look = r.turnOff // and it has not been turned off
		}
		reason := explained(ByTerms, look)
		s.hold(&reason, v.held, m.turned, &r.restraints)
		return reason
	default:
		var reason Reason
		turnOn := s.truths[r.turnOn]
		switch {
		case turnOn != isFalse || r.off < 0:
			reason = explained(ByTerms, r.turnOn)
		case s.truths[r.on] == isFalse:
			reason = explained(ByTerms, r.on)
		default:
			reason = explained(ByTerms, r.off)
		}
		if turnOn == isTrue || turnOn == isUnknown && v.held != ByMinimumOff {
			s.hold(&reason, v.held, m.turned, &r.restraints)
		}
		return reason
	}
}

// hold says what holds something back now. A minimum time runs from when it was turned.
func (s *Stepper) hold(reason *Reason, held Hold, turned int64, by *restraints) {
	if held == ByStarts {
		turned = s.started
	}
	if held != NotHeld {
		reason.Holds, reason.Since = true, turned
		s.explainHold(reason, held, by)
	}
}

func (s *Stepper) standingOutput(i int32) Reason {
	d := s.decide(i)
	reason := s.outputReason(i, d)
	switch {
	case d.cause == ByFail && !s.settledAt(s.outputs[i].settles):
		reason.Cause = Settling
	case d.cause == ByNoCall:
		reason = Reason{Cause: NotCalled, Callers: s.p.Callers(int(i))}
	}
	s.hold(&reason, d.held, s.outputs[i].turned, &s.p.Outputs[i].restraints)
	return reason
}

// A Delay is how a rule's on-delay stands.
type Delay struct {
	Length  int64 // nanoseconds; 0 for none
	Since   int64 // since when its condition has been true
	Running bool
	Over    bool // it has run out
}

// OnDelay is how the on-delay of a rule stands after the last instant.
func (s *Stepper) OnDelay(rule int) Delay {
	r := &s.p.Rules[rule]
	if r.on == r.trip {
		return Delay{}
	}
	return Delay{s.duration(int64(s.p.conds[r.on].b)), s.conds[r.on].since, s.conds[r.on].waiting, s.conds[r.on].lapsed}
}

// RuleState is the state of a rule after the last instant.
func (s *Stepper) RuleState(rule int) State { return s.rules[rule].shown }

// BandInForce is the number of the band that bands are in; -1 while they are undecided.
func (s *Stepper) BandInForce(bands int) int {
	if stand := s.bandShown(int32(bands)); stand.State == On {
		return int(stand.Band)
	}
	return -1
}

// Setting is the present value of a setpoint or constant, in its own unit.
func (s *Stepper) Setting(setting int) float64 { return s.settings[setting] }

// RulesBehind are the rules that something directly depends on: a rule itself,
// that of an alarm, and those that call an output.
func (p *Program) RulesBehind(r Ref) []int {
	if rule := p.RuleOf(r); rule >= 0 {
		return []int{rule}
	}
	var all []int
	if r.Kind == OutputKind {
		for _, i := range p.Callers(int(r.Index)) {
			if rule := p.RuleOf(p.Calling[i].Ref); rule >= 0 {
				all = append(all, rule)
			}
		}
	}
	return all
}
