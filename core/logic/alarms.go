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
	tests   []int32
}

// AlarmIndex finds an alarm by name; -1 if there is none.
func (p *Program) AlarmIndex(name string) int { return p.find("a:" + name) }

// KindOf is whether a rule is one by itself, or that of an alarm.
func (p *Program) KindOf(rule int) Kind {
	if p.Rules[rule].alarm >= 0 {
		return AlarmKind
	}
	return RuleKind
}

// AlarmState is where the alarm of a rule stands; normal for a rule without one.
func (s *Stepper) AlarmState(rule int) alarm.State {
	if a := s.p.Rules[rule].alarm; a >= 0 {
		return s.alarms[a].State()
	}
	return alarm.Normal
}

// What a condAlarm asks.
const (
	alarmAnnounced int32 = iota // it is unacknowledged, and nothing silences it
	alarmUnacknowledged
	alarmShelved
)

// alarm compiles what an alarm calls, after all rules.
func (c *compiler) alarm(i int, d *sheet.Alarm) {
	a := &c.p.Alarms[i]
	if d.Inhibit != nil {
		a.inhibit = c.cond(d.Inhibit.Condition)
	}
	announced := int32(-1)
	for _, call := range d.Calls {
		caller := Caller{Kind: AlarmKind, Index: a.Rule, Name: d.Name, node: c.p.Rules[a.Rule].node}
		if call.Until {
			if announced < 0 {
				announced = c.alarmTest(i, alarmAnnounced)
			}
			caller.Name, caller.node = d.Name+" until acknowledged", announced
		}
		c.callAll(call.Calls, caller)
	}
}

func (c *compiler) alarmTest(alarm int, what int32) int32 {
	i := c.addCond(condNode{op: condAlarm, a: int32(alarm), n: what})
	c.p.Alarms[alarm].tests = append(c.p.Alarms[alarm].tests, i)
	return i
}

// alarmHolds answers what is asked of an alarm. An inhibition that is unknown
// does not silence it.
func (s *Stepper) alarmHolds(n *condNode) truth {
	a := &s.alarms[n.a]
	switch n.n {
	case alarmUnacknowledged:
		return truthOf(a.Unacknowledged())
	case alarmShelved:
		_, shelved := a.Shelved()
		return truthOf(shelved)
	}
	inhibit := s.p.Alarms[n.a].inhibit
	a.Suppress(inhibit >= 0 && s.truths[inhibit] == isTrue)
	return truthOf(a.Announced())
}
