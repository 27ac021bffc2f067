package logic

import (
	"rectura/core/signal"
	"rectura/core/unit"
)

// stepConds computes conditions and rules.
func (s *Stepper) stepConds() {
	for word := range s.newConds {
		for i, some := s.newConds.take(word); some; i, some = s.newConds.take(word) {
			if s.idle != nil && s.idle[i] {
				continue
			}
			s.turnCond(i, s.cond(i))
			s.touched.add(s.p.owners[i])
		}
	}
}

// turnCond gives a condition its truth, and marks what is made of it if that is
// another.
func (s *Stepper) turnCond(i int32, v truth) {
	if v == s.truths[i] {
		return
	}
	s.truths[i], s.conds[i].changed = v, s.now
	if s.watched != nil && v == isTrue && s.watched[i] == never {
		s.watched[i] = s.now
	}
	s.newConds.addAll(s.p.links.condConds.of(i))
	s.newOutputs.addAll(s.p.links.condOutputs.of(i))
}

func (s *Stepper) cond(i int32) truth {
	n := &s.p.conds[i]
	switch n.op {
	case condContact:
		if s.faultOf(n.a) != signal.None {
			return isUnknown
		}
		return truthOf(s.contactOn(n.a))
	case condGood:
		f := s.faultOf(n.a)
		if f == signal.NotRead && n.n == 1 {
			s.timers.Set(i, s.whileSettling(never, s.inputs[n.a].settles))
			return truthOf(!s.settledAt(s.inputs[n.a].settles))
		}
		return truthOf(f == signal.None)
	case condKnown:
		if !s.known[n.a] {
			return isFalse
		}
		return isTrue
	case condRule:
		return s.stepRule(i, n.a)
	case condMessage:
		s.messages = append(s.messages, i)
		return isFalse
	case condFollow:
		return s.stepFollow(n.a)
	case condLoop:
		return s.stepLoop(i, n.a)
	case condAlarm:
		s.stepAlarm(n.a)
		return isFalse
	case condAlarmTest:
		return s.alarmHolds(n)
	case condBands:
		return s.stepBands(i, n.a)
	case condBand:
		return s.bandHolds(n.a, n.b, n.n == 1)
	case condQuorum:
		return s.quorum(n)
	case condNot:
		return s.truths[n.a].not()
	case condAnd:
		return s.combine(n, isFalse, isTrue)
	case condOr:
		return s.combine(n, isTrue, isFalse)
	case condFor, condForStrict:
		return s.stepFor(i, n)
	case condOutput:
		return truthOf(s.outputs[n.a].state == On)
	case condBetween, condOutside:
		return s.between(i, n)
	case condNear:
		return s.near(n)
	case condTurnsOn, condTurnsOff, condTurns, condChanges, condCrosses:
		return s.moment(i, n)
	case condRising, condFalling:
		return s.slope(i, n)
	case condDaytime:
		return s.daytime(i, n)
	}
	return s.compare(i, n)
}

// combine decides the terms of `and` and `or`: one decisive term is enough,
// else one unknown leaves it unknown, else it is the rest.
func (s *Stepper) combine(n *condNode, decisive, rest truth) truth {
	v := rest
	for _, a := range s.p.args[n.a : n.a+n.b] {
		switch s.truths[a] {
		case decisive:
			return decisive
		case isUnknown:
			v = isUnknown
		}
	}
	return v
}

// quorum tells whether at least n terms are true, as far as that can be told.
func (s *Stepper) quorum(n *condNode) truth {
	var yes, maybe int32
	for _, a := range s.p.args[n.a : n.a+n.b] {
		switch s.truths[a] {
		case isTrue:
			yes++
		case isUnknown:
			maybe++
		}
	}
	switch {
	case yes >= n.n:
		return isTrue
	case yes+maybe < n.n:
		return isFalse
	}
	return isUnknown
}

// compare evaluates a comparison with its memory: trip and reset points as the
// sheet language defines them.
func (s *Stepper) compare(i int32, n *condNode) truth {
	if !s.known[n.a] || !s.known[n.b] || n.deadband >= 0 && !s.known[n.deadband] || n.hysteresis >= 0 && !s.known[n.hysteresis] {
		return isUnknown
	}
	x := s.values[n.a]
	trip, reset := s.points(n)
	if s.conds[i].tripped {
		switch n.op {
		case condBelow:
			s.conds[i].tripped = x < reset
		case condAtMost:
			s.conds[i].tripped = x <= reset
		case condAbove:
			s.conds[i].tripped = x > reset
		case condAtLeast:
			s.conds[i].tripped = x >= reset
		}
		if !s.conds[i].tripped {
			s.conds[i].since = s.now
		}
	} else {
		switch n.op {
		case condBelow:
			s.conds[i].tripped = x < trip
		case condAtMost:
			s.conds[i].tripped = x <= trip
		case condAbove:
			s.conds[i].tripped = x > trip
		case condAtLeast:
			s.conds[i].tripped = x >= trip
		}
	}
	return truthOf(s.conds[i].tripped)
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
		if !s.conds[i].waiting {
			s.conds[i].waiting, s.conds[i].since = true, s.now
		}
		end := after(s.conds[i].since, s.duration(int64(n.b)))
		if s.now >= end || s.patient {
			s.conds[i].lapsed = true
		}
		if s.conds[i].lapsed {
			v = isTrue
		} else {
			due = end
		}
	case isFalse:
		s.conds[i].waiting, s.conds[i].lapsed = false, false
	case isUnknown:
		v = isUnknown
		if !s.conds[i].lapsed || n.op == condForStrict {
			s.conds[i].waiting, s.conds[i].lapsed = false, false
		}
	}
	s.timers.Set(i, due)
	return v
}

func (s *Stepper) duration(i int64) int64 {
	d := s.p.durations[i]
	if d.setting < 0 {
		return d.nanoseconds
	}
	return s.settingDuration(d.setting)
}

// settingDuration is a setpoint or constant of time, in nanoseconds.
func (s *Stepper) settingDuration(setting int32) int64 {
	q := s.p.Settings[setting].Value
	if s.settings[setting] == q.Value {
		return s.p.Job.Setpoints[setting].Value.Nanoseconds() // exactly as written
	}
	q.Value, q.Text = s.settings[setting], ""
	ns, err := unit.DurationOf(q)
	if err != nil {
		return 0 // not above 0: runs out at once; Set's callers check before
	}
	return ns
}
