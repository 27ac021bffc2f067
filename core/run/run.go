// Package run drives a job through time. It states the order of an instant once:
// readings are handed over, then commands of people; what timers have fallen due
// counts with them; then the stepper evaluates all of it.
//
// What brings readings and commands is a Feed: a recording on the bench, devices and
// people in a plant. Feeds are asked in the order in which they are given, so those
// of readings stand before those of commands.
package run

import (
	"errors"
	"fmt"

	"rectura/core/logic"
	"rectura/core/memo"
)

// Never is the time of a feed that has nothing more.
const Never = memo.Never

// A Feed has something for a Stepper at certain times, in nanoseconds.
type Feed interface {
	// Next is the time of what it has next; Never when it has come to its end.
	Next() int64

	// Hand hands over what it has up to a time, which is that of the next instant.
	// It may ask the Stepper which inputs are quiet, and pass over their readings.
	Hand(t int64, s *logic.Stepper)
}

// ErrStopped is what a run ends with that was told to stop.
var ErrStopped = errors.New("the run was stopped")

// Until makes every instant up to a time, that included: each for which a feed has
// something, and each at which a timer falls due. look is told of each with its
// transitions, which are overwritten by the next; stop is asked before each and ends
// the run with ErrStopped. Both may be nil. A feed that goes back in time is an error.
func Until(s *logic.Stepper, feeds []Feed, end int64, look func(t int64, changes []logic.Transition), stop func() bool) error {
	return drive(s, feeds, end, look, stop, nil)
}

// Scan is Until for a controller that looks only every period, from a time on: at a
// scan it takes what the feeds have had since the last one. Scans at which nothing is
// new and no timer is due change nothing, and are passed over.
func Scan(
	s *logic.Stepper,
	feeds []Feed,
	from, period, end int64,
	look func(t int64, changes []logic.Transition),
	stop func() bool,
) error {
	if period <= 0 {
		return fmt.Errorf("a scan of %d ns; it must be above 0", period)
	}
	return drive(s, feeds, end, look, stop, func(t int64) int64 {
		wait := (period - (t-from)%period) % period
		if wait > end-t {
			return Never
		}
		return t + wait
	})
}

// drive makes instants at the times that are next, each moved to where it is looked
// at, if at says so.
func drive(s *logic.Stepper, feeds []Feed, end int64, look func(int64, []logic.Transition), stop func() bool, at func(int64) int64) error {
	for {
		t := s.Next()
		for _, f := range feeds {
			t = min(t, f.Next())
		}
		if t > end || t == Never {
			return nil
		}
		if at != nil {
			if t = at(t); t > end || t == Never {
				return nil
			}
		}
		if stop != nil && stop() {
			return ErrStopped
		}
		for _, f := range feeds {
			if f.Next() <= t {
				f.Hand(t, s)
			}
		}
		changes, err := s.Step(t)
		if err != nil {
			return fmt.Errorf("driving the job: %w", err)
		}
		if look != nil {
			look(t, changes)
		}
	}
}

// A Command is one of a person, with its time.
type Command struct {
	At int64
	logic.Command
}

// Commands is a feed of commands in the order of their times. What comes of each is
// told to Answer, if that is not nil.
type Commands struct {
	Rest   []Command // that are still to come
	Answer func(c Command, effect logic.Effect, err error)
}

// Next is the time of the next command.
func (c *Commands) Next() int64 {
	if len(c.Rest) == 0 {
		return Never
	}
	return c.Rest[0].At
}

// Hand hands over the commands up to a time.
func (c *Commands) Hand(t int64, s *logic.Stepper) {
	for ; len(c.Rest) > 0 && c.Rest[0].At <= t; c.Rest = c.Rest[1:] {
		effect, err := s.Command(c.Rest[0].Command)
		if c.Answer != nil {
			c.Answer(c.Rest[0], effect, err)
		}
	}
}
