package live

import (
	"context"
	"math"

	"rectura/core/logic"
)

// A Fresh is everything of a job at one time, and the number of that time's instant.
type Fresh struct {
	Now
	Instant int64
	Starts  int64 // how often the service has begun to run the job
}

// Stepped returns a channel on which the engine sends after instants. At most one signal waits, and one receiver is served.
func (e *Engine) Stepped() <-chan struct{} { return e.stepped }

// Fresh returns everything of the job as it is now. It costs the engine a pass: callers share what they get.
func (e *Engine) Fresh(ctx context.Context) (Fresh, error) {
	return ask(ctx, e, func() Fresh {
		return Fresh{e.everything(), e.counts.instants, e.armed.Starts}
	})
}

// tellStepped signals that instants were made since it was last called.
func (e *Engine) tellStepped() {
	if e.steps == e.counts.instants {
		return
	}
	e.steps = e.counts.instants
	select {
	case e.stepped <- struct{}{}:
	default: // one waits already
	}
}

// A trip is the next point at which a rule turns, by the value of an input.
type trip struct {
	at   float64 // in the input's engineering unit
	away float64 // from its value
	rule string
}

// nearest notes the points at which a rule turns next, where they are nearer than those that are known. Only comparisons of an input
// itself, in its own unit, are looked at.
func (e *Engine) nearest(trips map[int32]trip, rule string, terms []logic.Term) {
	for i := range terms {
		x := &terms[i]
		if x.Kind != logic.Comparison || x.Input < 0 {
			continue
		}
		if value, good := e.run.S.Value(int(x.Input)); !good || value != x.Left {
			continue
		}
		away := math.Abs(x.Limit - x.Left)
		if was, known := trips[x.Input]; !known || away < was.away {
			trips[x.Input] = trip{x.Limit, away, rule}
		}
	}
}
