// Package alarm is the life of one alarm, as IEC 62682:2022 (Management of alarm
// systems for the process industries) draws it: what its condition, the people
// who answer for it, and those who silence it make of it.
package alarm

import "rectura/core/memo"

// A State is where an alarm stands.
type State uint8

// The states. Whether an alarm is shelved, suppressed or out of service is told
// besides: it is still evaluated.
const (
	Normal                 State = iota
	ActiveUnacknowledged         // and annunciated
	ActiveAcknowledged           // somebody knows
	ReturnedUnacknowledged       // its condition is over, and nobody has said that he knows

	states // how many there are
)

func (s State) String() string {
	return [...]string{"normal", "active, unacknowledged", "active, acknowledged", "returned, unacknowledged"}[s]
}

// String says where the alarm stands, and what silences it.
func (a *Alarm) String() string {
	s := a.state.String()
	for _, silence := range []struct {
		is   bool
		name string
	}{{a.shelved, "shelved"}, {a.suppressed, "suppressed"}, {a.outOfService, "out of service"}} {
		if silence.is {
			s += ", " + silence.name
		}
	}
	return s
}

// Forever is the time at which a shelving without an end ends.
const Forever = memo.Never

// An Alarm is one alarm's state. Its zero value is normal. Two that are equal are
// in the same state, silences and their ends included.
type Alarm struct {
	state        State
	shelved      bool
	until        int64 // the end of its shelving
	suppressed   bool
	outOfService bool
	unheard      bool // it came while it was silenced, and still is
	muted        bool // it has returned, and was silenced since
}

// Fields lists all that lasts.
func (a *Alarm) Fields(f *memo.Fields) {
	memo.One(f, 1, states, &a.state)
	f.Bool(2, &a.shelved)
	if a.shelved || !f.Shifting() {
		f.Time(3, &a.until)
	}
	f.Bool(4, &a.suppressed)
	f.Bool(5, &a.outOfService)
	f.Bool(6, &a.unheard)
	f.Bool(7, &a.muted)
}

// State is where the alarm stands.
func (a *Alarm) State() State { return a.state }

// Active tells whether its condition holds.
func (a *Alarm) Active() bool {
	return a.state == ActiveUnacknowledged || a.state == ActiveAcknowledged
}

// Unacknowledged tells whether nobody has acknowledged it since it came.
func (a *Alarm) Unacknowledged() bool {
	return a.state == ActiveUnacknowledged || a.state == ReturnedUnacknowledged
}

// Step lets time pass to an instant, at which its condition holds or does not, and
// it is suppressed by design or is not.
func (a *Alarm) Step(now int64, holds, suppressed bool) {
	a.Pass(now)
	if suppressed {
		a.Suppress(true)
	}
	a.Condition(holds)
	a.Suppress(suppressed)
}

// Condition takes whether the alarm's condition holds. One that comes back is
// unacknowledged again; one that has come and gone while it was silenced leaves
// nothing to acknowledge.
func (a *Alarm) Condition(holds bool) {
	switch {
	case holds && !a.Active():
		a.unheard, a.muted = a.silenced() && a.state == Normal, false
		a.state = ActiveUnacknowledged
	case !holds && a.state == ActiveUnacknowledged && !a.unheard:
		a.state = ReturnedUnacknowledged
	case !holds && a.Active():
		a.state, a.unheard = Normal, false
	}
	a.mute()
}

// mute notes what a silence does: of what is active when it ends, people are told;
// of what has returned by then, they are not.
func (a *Alarm) mute() {
	a.unheard = a.unheard && a.silenced()
	a.muted = a.state == ReturnedUnacknowledged && (a.muted || a.silenced())
}

// Acknowledge is that somebody knows. It tells whether there was something to
// know.
func (a *Alarm) Acknowledge() bool {
	switch a.state {
	case ActiveUnacknowledged:
		a.state, a.unheard = ActiveAcknowledged, false
	case ReturnedUnacknowledged:
		a.state, a.muted = Normal, false
	default:
		return false
	}
	return true
}

// Shelve silences the alarm until a time.
func (a *Alarm) Shelve(until int64) {
	a.shelved, a.until = true, until
	a.mute()
}

// Shelved tells whether it is shelved, and until when.
func (a *Alarm) Shelved() (until int64, shelved bool) { return a.until, a.shelved }

// Unshelve ends a shelving. An alarm that is active then is announced anew.
func (a *Alarm) Unshelve() {
	if a.shelved && a.state == ActiveAcknowledged {
		a.state = ActiveUnacknowledged
	}
	a.shelved, a.until = false, 0
	a.mute()
}

// Pass lets time pass: a shelving ends at its time.
func (a *Alarm) Pass(now int64) {
	if a.shelved && now >= a.until {
		a.Unshelve()
	}
}

// Suppress takes whether it is suppressed by design: its inhibition holds.
func (a *Alarm) Suppress(on bool) {
	a.suppressed = on
	a.mute()
}

// Suppressed tells whether it is suppressed by design.
func (a *Alarm) Suppressed() bool { return a.suppressed }

// TakeOut takes the alarm out of service, or puts it back.
func (a *Alarm) TakeOut(out bool) {
	a.outOfService = out
	a.mute()
}

// OutOfService tells whether it is out of service.
func (a *Alarm) OutOfService() bool { return a.outOfService }

func (a *Alarm) silenced() bool { return a.shelved || a.suppressed || a.outOfService }

// Announced tells whether the alarm is to be seen and heard: it is
// unacknowledged, and neither shelved nor suppressed nor out of service; what had
// returned when its silence ended is not announced any more.
func (a *Alarm) Announced() bool { return a.Unacknowledged() && !a.silenced() && !a.muted }
