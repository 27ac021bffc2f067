package live

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/service/store"
)

// Entries are what the journal says of an instant: each transition, with its sentence as it is said then, and each state
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
			if follows(p, c) {
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

// follows tells whether an analog output only follows a value.
func follows(p *logic.Program, c logic.Transition) bool {
	o := &p.Outputs[c.Index]
	return o.Analog() && !c.Reason.Turned && c.From.Level != o.Low && c.To.Level != o.Low
}

// note has the journal say what happens besides the job.
func (e *Engine) note(kind, name, from, to, because, who string) {
	e.keeping.entry(store.Entry{Time: e.next(), Kind: kind, Name: name, From: from, To: to, Because: because, Who: who, Via: "engine"})
}

// lates are how late the last instants were handled, in nanoseconds.
type lates struct {
	last  [1024]int64
	n     int
	count int64 // of those that were later than they may be
}

func (l *lates) add(late int64) {
	l.last[l.n%len(l.last)] = late
	l.n++
	if late > lateness {
		l.count++
	}
}

// quantile is how late the given share of the last instants were at the most, in milliseconds.
func (l *lates) quantile(share float64) float64 {
	some := slices.Clone(l.last[:min(l.n, len(l.last))])
	if len(some) == 0 {
		return 0
	}
	slices.Sort(some)
	return float64(some[int(math.Ceil(share*float64(len(some))))-1]) / 1e6
}

// Replay plays a segment of a capture, from the memory with which it begins, up to a time, and returns what the journal must say of it.
// It stops when ctx ends.
func Replay(ctx context.Context, p *logic.Program, c *store.Captured, to int64) (all []store.Entry, err error) {
	clock := ClockOf(p)
	_, err = Play(ctx, p, c, to, func(s *logic.Stepper, t int64, changes []logic.Transition) {
		all = append(all, Entries(s, t, changes, clock)...)
	})
	return all, err
}

// errReached ends the playing of a capture at its time.
var errReached = errors.New("the time is reached")

// Play plays a segment of a capture up to a time, and returns the stepper as it was then. Look is called with every instant.
func Play(ctx context.Context, p *logic.Program, c *store.Captured, to int64, look func(s *logic.Stepper, t int64, changes []logic.Transition)) (
	*logic.Stepper, error) {
	s, lost, err := logic.Resume(p, c.Memory)
	if err != nil {
		return nil, err
	}
	if len(lost) > 0 {
		return nil, fmt.Errorf("the memory is that of another job: %s", sentence(lost[0]))
	}
	r := capture.Run{S: s, Look: func(t int64, changes []logic.Transition) { look(s, t, changes) }}
	var d capture.Decoder
	reached := false
	for _, data := range c.Stretches {
		n := 0
		err := d.Read(data, func(events []capture.Event) error {
			if events[0].T > to {
				return errReached
			}
			if n++; n%256 == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			return r.Enter(events)
		})
		if reached = errors.Is(err, errReached); reached {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	if reached { // and what fell due until then
		if err := r.Enter([]capture.Event{{Kind: capture.Pass, T: to}}); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// decided reports whether a kind of entry is of what the job decides.
func decided(kind string) bool {
	for k := logic.InputKind; k <= logic.OutputKind; k++ {
		if k.String() == kind {
			return true
		}
	}
	return false
}
