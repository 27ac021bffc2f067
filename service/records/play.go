package records

import (
	"context"
	"errors"
	"fmt"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/service/store"
)

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
		return nil, fmt.Errorf("the memory is that of another job: %s %s", lost[0].Name, lost[0].Text)
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
