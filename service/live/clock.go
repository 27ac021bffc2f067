package live

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"rectura/service/background"
)

// A Clock tells the time. Nothing else in this package asks for it. Its methods may be called concurrently.
type Clock interface {
	// Now returns what the wall clock says, in nanoseconds since 1970, and a steady time, which is never set and runs on while
	// the machine sleeps.
	Now() (wall, steady int64)

	// Stopped returns for how many nanoseconds in all the whole process did not run, stops shorter than hiccup left out.
	Stopped() int64

	// Timer sends once, after d.
	Timer(d time.Duration) *time.Timer

	// Synchronised reports whether another clock keeps the wall clock right, and whether that is known.
	Synchronised() (is, known bool)
}

// hiccup is the shortest stop of the process, or of an engine, that postpones anything.
const hiccup = 250 * int64(time.Millisecond)

// ticks is the interval at which the process notes that it runs.
const ticks = 50 * time.Millisecond

// A Machine is the machine's clock.
type Machine struct {
	mu      sync.Mutex
	seen    int64 // when the process last ran, steady
	stopped int64
}

// NewMachine returns the machine's clock, which watches until ctx ends whether the process is stopped.
func NewMachine(ctx context.Context, log *slog.Logger) *Machine {
	m := &Machine{seen: steadyNow()}
	background.Go(log, "watching the clock", func() error {
		t := time.NewTicker(ticks)
		defer t.Stop()
		for {
			select {
			case <-ctx.Done():
				return nil
			case <-t.C:
				m.Stopped()
			}
		}
	})
	return m
}

// Now returns the machine's time.
func (*Machine) Now() (wall, steady int64) { return time.Now().UnixNano(), steadyNow() }

// Stopped returns how long the process has not run in all: whoever calls it runs, and so does the ticker.
func (m *Machine) Stopped() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := steadyNow()
	if gap := now - m.seen; gap > hiccup {
		m.stopped += gap
	}
	m.seen = max(m.seen, now)
	return m.stopped
}

// Timer returns one of the machine's.
func (*Machine) Timer(d time.Duration) *time.Timer { return time.NewTimer(d) }

// Synchronised returns what the machine's kernel says.
func (*Machine) Synchronised() (is, known bool) { return synchronised() }

const (
	second = int64(time.Second)

	// A difference up to this much is approached, a larger one is made up for at once.
	approached = second

	// Of the time that passes, this share is how much nearer service time comes to the machine's: 1 ms a second.
	approach = 1000
)

// serviceTime is the time that instants have: what the wall clock said at the start, carried on by the steady clock. It goes
// back by a shift alone.
type serviceTime struct {
	t      int64 // at the steady time
	steady int64
	wall   int64 // then
	behind bool  // the wall clock was behind what is kept, and has not been set since
}

// startTime begins after what was last kept.
func startTime(wall, steady, last int64) serviceTime {
	return serviceTime{t: max(wall, last+1), steady: steady, wall: wall, behind: wall <= last}
}

// tell carries on to the present. It returns by how much the wall clock was set, if it was; then the caller shifts.
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
