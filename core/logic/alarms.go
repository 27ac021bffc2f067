package logic

import (
	"rectura/core/alarm"
	"rectura/core/sheet"
)

// An Alarm of a Program. Its condition is that of a rule.
type Alarm struct {
	Name    string
	Rule    int   // the number of its rule
	inhibit int32 // a condition, or -1
	inHand  int32 // of the alarm of an output's hand: the input that it looks at; -1 of any other
	node    int32 // of its step
	tests   []int32
}

// Alarm is where an alarm stands after the last instant.
func (s *Stepper) Alarm(index int) alarm.Alarm { return s.alarms[index] }

// What a condAlarm asks.
const (
	alarmAnnounced int32 = iota // it is unacknowledged, and nothing silences it
	alarmUnacknowledged
	alarmShelved
)

// alarm compiles what an alarm calls, after all rules.
func (c *compiler) alarm(i int, d *sheet.Alarm) {
	a := &c.p.Alarms[i]
	c.begins(AlarmKind, i)
	if d.Inhibit != nil {
		a.inhibit = c.condition("inhibit when", d.Inhibit.Condition)
	}
	c.part("step", 0, func() { a.node = c.addCond(condNode{op: condAlarm, a: int32(i)}) })
	announced := int32(-1)
	for _, call := range d.Calls {
		caller := Caller{Ref: Ref{AlarmKind, int32(i)}, Name: d.Name, node: c.p.Rules[a.Rule].node}
		if call.Until {
			if announced < 0 {
				c.part("announced", 0, func() { announced = c.alarmTest(i, alarmAnnounced) })
			}
			caller.Name, caller.node = d.Name+" until acknowledged", announced
		}
		c.callAll(call.Calls, caller)
	}
}

func (c *compiler) alarmTest(alarm int, what int32) int32 {
	i := c.addCond(condNode{op: condAlarmTest, a: int32(alarm), n: what})
	c.p.Alarms[alarm].tests = append(c.p.Alarms[alarm].tests, i)
	return i
}

// An alarm has a step of its own: what its condition, its inhibition, time and
// people make of it, from what it was when the last instant ended. So whatever is
// evaluated again counts as it ended.

// present is what an alarm is as far as this instant has come. An inhibition that
// is unknown does not silence it.
func (s *Stepper) present(index int32) alarm.Alarm {
	a := &s.p.Alarms[index]
	now := s.alarms[index]
	now.Step(s.now, s.rules[a.Rule].shown == On, a.inhibit >= 0 && s.truths[a.inhibit] == isTrue)
	return now
}

// stepAlarm has what is asked of an alarm answered anew, and has its state noted at
// the end of the instant.
func (s *Stepper) stepAlarm(index int32) {
	s.stirred = append(s.stirred, index)
	for _, test := range s.p.Alarms[index].tests {
		if s.alarmHolds(&s.p.conds[test]) == s.truths[test] {
			continue
		}
		s.newConds.add(test)
		s.again = s.again || test < s.p.Alarms[index].node
	}
}

// markAlarm has the step of an alarm done, and what is asked of it answered.
func (s *Stepper) markAlarm(index int32) {
	s.newConds.add(s.p.Alarms[index].node)
	s.newConds.addAll(s.p.Alarms[index].tests)
}

// alarmHolds answers what is asked of an alarm.
func (s *Stepper) alarmHolds(n *condNode) truth {
	a := s.present(n.a)
	switch n.n {
	case alarmUnacknowledged:
		return truthOf(a.Unacknowledged())
	case alarmShelved:
		_, shelved := a.Shelved()
		return truthOf(shelved)
	}
	return truthOf(a.Announced())
}

// announce notes what this instant has made of alarms.
func (s *Stepper) announce() {
	for _, i := range s.stirred {
		before, now := s.alarms[i], s.present(i)
		s.alarms[i] = now
		until, shelved := now.Shelved()
		if !shelved {
			until = never
		}
		s.timers.Set(s.p.Alarms[i].node, until)
		if now != before {
			s.tell(i, before, now)
		}
	}
	s.stirred = s.stirred[:0]
}

// An AlarmChange is what an instant has made of an alarm: of its state, and of what
// silences it.
type AlarmChange struct {
	Time     int64
	Alarm    int32
	From, To alarm.Alarm
}

// tell keeps one change an instant of each alarm, from where it was to where it
// came.
func (s *Stepper) tell(i int32, from, to alarm.Alarm) {
	for k := range s.alarmChanges {
		if c := &s.alarmChanges[k]; c.Alarm == i {
			c.To = to
			return
		}
	}
	s.alarmChanges = append(s.alarmChanges, AlarmChange{s.now, i, from, to})
}

// AlarmChanges are what the last instant has made of alarms. They are overwritten
// by the next Step.
func (s *Stepper) AlarmChanges() []AlarmChange { return s.alarmChanges }
