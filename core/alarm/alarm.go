// Package alarm is the life of one alarm, as IEC 62682:2022 (Management of alarm
// systems for the process industries) draws it: what its condition, the people
// who answer for it, and those who silence it make of it.
package alarm

import "math"

// A State is where an alarm stands.
type State uint8

// The states. Whether an alarm is shelved, suppressed or out of service is told
// besides: it is still evaluated.
const (
	Normal                 State = iota
	ActiveUnacknowledged         // and annunciated
	ActiveAcknowledged           // somebody knows
	ReturnedUnacknowledged       // its condition is over, and nobody has said that he knows
)

func (s State) String() string {
	return [...]string{"normal", "active, unacknowledged", "active, acknowledged", "returned, unacknowledged"}[s]
}

// Forever is the time at which a shelving without an end ends.
const Forever = math.MaxInt64

// An Alarm is one alarm's state. Its zero value is normal.
type Alarm struct {
	state        State
	shelved      bool
	until        int64
	suppressed   bool
	outOfService bool
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

// Condition takes whether the alarm's condition holds. One that comes back is
// unacknowledged again.
func (a *Alarm) Condition(holds bool) {
	switch {
	case holds && !a.Active():
		a.state = ActiveUnacknowledged
	case !holds && a.state == ActiveUnacknowledged:
		a.state = ReturnedUnacknowledged
	case !holds && a.state == ActiveAcknowledged:
		a.state = Normal
	}
}

// Acknowledge is that somebody knows. It tells whether there was something to
// know.
func (a *Alarm) Acknowledge() bool {
	switch a.state {
	case ActiveUnacknowledged:
		a.state = ActiveAcknowledged
	case ReturnedUnacknowledged:
		a.state = Normal
	default:
		return false
	}
	return true
}

// Shelve silences the alarm until a time.
func (a *Alarm) Shelve(until int64) { a.shelved, a.until = true, until }

// Shelved tells whether it is shelved, and until when.
func (a *Alarm) Shelved() (until int64, shelved bool) { return a.until, a.shelved }

// Unshelve ends a shelving. An alarm that is active then is announced anew.
func (a *Alarm) Unshelve() {
	if a.shelved && a.state == ActiveAcknowledged {
		a.state = ActiveUnacknowledged
	}
	a.shelved = false
}

// Pass lets time pass: a shelving ends at its time.
func (a *Alarm) Pass(now int64) {
	if a.shelved && now >= a.until {
		a.Unshelve()
	}
}

// Suppress takes whether it is suppressed by design: its inhibition holds.
func (a *Alarm) Suppress(on bool) { a.suppressed = on }

// TakeOut takes the alarm out of service, or puts it back.
func (a *Alarm) TakeOut(out bool) { a.outOfService = out }

// Announced tells whether the alarm is to be seen and heard: it is
// unacknowledged, and neither shelved nor suppressed nor out of service.
func (a *Alarm) Announced() bool {
	return a.Unacknowledged() && !a.shelved && !a.suppressed && !a.outOfService
}
