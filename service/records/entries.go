// Package records plays what ran again: what the journal must say of a capture, and why something was as it was. It is the part of
// running a job that needs no plant.
package records

import (
	"slices"
	"time"

	"rectura/core/logic"
	"rectura/service/store"
)

// Entries returns the journal entries of an instant: each transition, with its sentence as it is said then, and each state
// of an alarm. What an analog output goes through while it follows a value stands in the capture, not in the journal.
func Entries(s *logic.Stepper, t int64, changes []logic.Transition, clock logic.Clock) (all []store.Entry) {
	p := s.Program()
	because := map[int32]string{}
	for _, c := range changes {
		e := store.Entry{Time: t, Kind: c.Kind.String(), Name: p.Name(c.Ref), Because: p.Sentence(c, clock), Via: "engine"}
		e.From, e.To = p.States(c)
		switch c.Kind {
		case logic.AlarmKind: // which has more states than its condition
			because[c.Index] = e.Because
			continue
		case logic.OutputKind:
			if Follows(p, c) {
				continue
			}
		}
		all = append(all, e)
	}
	// Contacts stand first, as in an instant.
	var contacts []store.Entry
	for _, c := range s.ContactChanges() {
		in := p.Job.Inputs[c.Input]
		contacts = append(contacts, store.Entry{Time: t, Kind: logic.InputKind.String(), Name: in.Name, From: in.StateWord(!c.On), To: in.StateWord(c.On),
			Via: "engine"})
	}
	all = append(contacts, all...)
	// Alarms stand before outputs, as in an instant.
	at := slices.IndexFunc(all, func(e store.Entry) bool { return e.Kind == logic.OutputKind.String() })
	if at < 0 {
		at = len(all)
	}
	var alarms []store.Entry
	for _, c := range s.AlarmChanges() {
		alarms = append(alarms, store.Entry{Time: t, Kind: logic.AlarmKind.String(), Name: p.Alarms[c.Alarm].Name, From: c.From.String(),
			To: c.To.String(), Because: because[c.Alarm], Via: "engine"})
	}
	return slices.Insert(all, at, alarms...)
}

// Follows reports whether an analog output only follows a value.
func Follows(p *logic.Program, c logic.Transition) bool {
	o := &p.Outputs[c.Index]
	return o.Analog() && !c.Reason.Turned && c.From.Level != o.Low && c.To.Level != o.Low
}

// ZoneOf returns the time zone of a job, or else UTC.
func ZoneOf(p *logic.Program) *time.Location {
	if p.Job.Timezone != "" {
		if z, err := time.LoadLocation(p.Job.Timezone); err == nil {
			return z
		}
	}
	return time.UTC
}

// ClockOf returns how the times of a job's sentences are written: in its time zone.
func ClockOf(p *logic.Program) logic.Clock {
	zone := ZoneOf(p)
	return func(t int64) string { return time.Unix(0, t).In(zone).Format("15:04:05") }
}
