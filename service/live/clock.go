package live

import (
	"time"
)

// A Clock tells the time. Nothing else in this package asks for it.
type Clock interface {
	// Now is what the clock on the wall says, in nanoseconds since 1970, and a time that is never set and goes on while the
	// machine sleeps.
	Now() (wall, steady int64)

	// Timer sends once, after a time.
	Timer(d time.Duration) *time.Timer

	// Synchronised tells whether the clock on the wall is kept right by another, and whether that is known.
	Synchronised() (is, known bool)
}

// Machine is the machine's clock.
type Machine struct{}

// Now is the machine's time.
func (Machine) Now() (wall, steady int64) { return time.Now().UnixNano(), steadyNow() }

// Timer is the machine's.
func (Machine) Timer(d time.Duration) *time.Timer { return time.NewTimer(d) }

// Synchronised is what the machine's kernel says.
func (Machine) Synchronised() (is, known bool) { return synchronised() }

const (
	second = int64(time.Second)

	// A difference up to this much is approached, a larger one is made up for at once.
	approached = second

	// So much of the time that passes is how much nearer service time comes to the machine's: 1 ms a second.
	approach = 1000
)

// serviceTime is the time that instants have: what the wall said at the start, carried on by the steady clock, and never
// going back but by a shift.
type serviceTime struct {
	t      int64 // at the steady time
	steady int64
	wall   int64 // then
	behind bool  // the wall was behind what is kept, and has not been set since
}

// startTime begins after what was last kept.
func startTime(wall, steady, last int64) serviceTime {
	return serviceTime{t: max(wall, last+1), steady: steady, wall: wall, behind: wall <= last}
}

// tell carries on to the present, and says by how much the wall was set, if it was: then the caller shifts.
func (s *serviceTime) tell(wall, steady int64) (now, shift int64) {
	passed := max(steady-s.steady, 0)
	jump := wall - s.wall - passed
	s.t += passed
	s.steady, s.wall = steady, wall
	if s.behind && jump > -approached && jump < approached {
		return s.t, 0
	}
	s.behind = false
	switch off := wall - s.t; {
	case off > approached || off < -approached:
		return s.t, off
	default:
		most := passed / approach
		s.t += max(-most, min(off, most))
		return s.t, 0
	}
}
