package live

import (
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
	return o.Analog() && c.Reason.Cause == logic.ByCall && c.From.Level != o.Low && c.To.Level != o.Low
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

// Replay plays a segment of a capture, from the memory with which it begins, and gives what the journal must say of it.
func Replay(p *logic.Program, memory []logic.Row, stretches [][]byte) (all []store.Entry, err error) {
	s, lost, err := logic.Resume(p, memory)
	if err != nil {
		return nil, err
	}
	if len(lost) > 0 {
		return nil, fmt.Errorf("the memory is that of another job: %s", sentence(lost[0]))
	}
	clock := ClockOf(p)
	r := capture.Run{S: s, Look: func(t int64, changes []logic.Transition) { all = append(all, Entries(s, t, changes, clock)...) }}
	for _, data := range stretches {
		events, err := capture.Read(data)
		if err == nil {
			err = r.Play(events)
		}
		if err != nil {
			return all, err
		}
	}
	return all, nil
}

// A Differing is where a capture, played again, gives something else than the journal says.
type Differing struct{ Journal, Capture *store.Entry }

// Compare holds what a capture gives beside what the journal says from one time to another. What commands, devices and the
// service have said stands in the journal alone.
func Compare(journal, replayed []store.Entry) (same int, differ []Differing) {
	journal = slices.DeleteFunc(slices.Clone(journal), func(e store.Entry) bool { return !decided(e.Kind) })
	for i := range max(len(journal), len(replayed)) {
		switch {
		case i >= len(journal):
			differ = append(differ, Differing{Capture: &replayed[i]})
		case i >= len(replayed):
			differ = append(differ, Differing{Journal: &journal[i]})
		default:
			a, b := journal[i], replayed[i]
			a.Job, a.Number = "", 0
			if a != b {
				differ = append(differ, Differing{&journal[i], &replayed[i]})
				continue
			}
			same++
		}
	}
	return same, differ
}

// decided tells whether a kind of entry is of what the job decides.
func decided(kind string) bool {
	for k := logic.InputKind; k <= logic.OutputKind; k++ {
		if k.String() == kind {
			return true
		}
	}
	return false
}
