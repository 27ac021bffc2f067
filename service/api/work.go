package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"runtime"
	"slices"
	"sync"
	"time"

	"rectura/core/unit"
	"rectura/service/background"
)

// Causes for which work is given up.
var (
	errClosing = errors.New("the service is closing")
	errTooLong = errors.New("the work took too long")
)

// A crew does the work that requests start: so much at once, the rest in the
// order in which it came, and none for longer than its limit.
type crew struct {
	limit   time.Duration // of one piece of work
	patient time.Duration // how long a request waits for its turn
	closing context.Context
	log     *slog.Logger

	mu      sync.Mutex
	free    int
	places  int
	waiting []*waiter
}

type waiter struct {
	request string // its own name for itself
	since   time.Time
	turn    chan struct{}
}

// mostWaiting is how many requests wait for a crew at the most.
const mostWaiting = 256

// usualPatience is how long a request waits for its turn.
const usualPatience = 30 * time.Second

func newCrew(closing context.Context, log *slog.Logger, limit time.Duration) *crew {
	return newCrewOf(closing, log, runtime.GOMAXPROCS(0), limit)
}

// newCrewOf is a crew of so many places.
func newCrewOf(closing context.Context, log *slog.Logger, n int, limit time.Duration) *crew {
	return &crew{limit: limit, patient: usualPatience, closing: closing, log: log, free: n, places: n}
}

// begin waits for a place, in which work goes on until its context ends: because
// the client has gone, the service closes, or it has taken too long. The place
// is given back with done.
func (c *crew) begin(ctx context.Context) (work context.Context, done func(), err error) {
	if err := c.enter(ctx); err != nil {
		return nil, nil, err
	}
	work, cancel := context.WithTimeoutCause(ctx, c.limit, errTooLong)
	work, stop := context.WithCancelCause(work)
	unhook := background.After(c.closing, c.log, "giving work up", func() { stop(errClosing) })
	return work, func() {
		unhook()
		stop(nil)
		cancel()
		c.leave()
	}, nil
}

func (c *crew) enter(ctx context.Context) error {
	c.mu.Lock()
	if c.free > 0 && len(c.waiting) == 0 {
		c.free--
		c.mu.Unlock()
		return nil
	}
	if len(c.waiting) >= mostWaiting {
		busy := c.busy(len(c.waiting))
		c.mu.Unlock()
		return busy
	}
	w := &waiter{requestName(ctx), time.Now(), make(chan struct{})}
	c.waiting = append(c.waiting, w)
	c.mu.Unlock()
	patience := time.NewTimer(c.patient)
	defer patience.Stop()
	var err error
	select {
	case <-w.turn:
		return nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-c.closing.Done():
		err = givenUp(errClosing, 0)
	case <-patience.C:
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	i := slices.Index(c.waiting, w)
	if i < 0 { // its turn came just now
		if err == nil {
			return nil
		}
		c.next()
		return err
	}
	c.waiting = slices.Delete(c.waiting, i, i+1)
	if err == nil {
		err = c.busy(i)
	}
	return err
}

// busy refuses a request before which so many wait.
func (c *crew) busy(before int) error {
	return refuse(
		http.StatusServiceUnavailable,
		fmt.Sprintf(
			"The bench is busy: %d computations are under way, and %d wait before this one. Nothing was done; try again in a while.",
			c.places,
			before,
		),
	)
}

func (c *crew) leave() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.next()
}

// next gives a place that has become free to the first who waits.
func (c *crew) next() {
	if len(c.waiting) == 0 {
		c.free++
		return
	}
	close(c.waiting[0].turn)
	c.waiting = slices.Delete(c.waiting, 0, 1)
}

// queue tells how many places are taken, and who waits, in order.
func (c *crew) queue() (running int, waiting []Waiting) {
	c.mu.Lock()
	defer c.mu.Unlock()
	waiting = []Waiting{}
	for i, w := range c.waiting {
		waiting = append(waiting, Waiting{Request: w.request, Place: i + 1, Seconds: time.Since(w.since).Seconds()})
	}
	return c.places - c.free, waiting
}

// stop is asked by what is worked out in core whether to go on.
func stop(work context.Context) func() error {
	return func() error {
		if work.Err() == nil {
			return nil
		}
		return context.Cause(work)
	}
}

// givenUp says why work was given up, if it was for one of these causes.
func givenUp(err error, limit time.Duration) error {
	switch {
	case errors.Is(err, errTooLong):
		return refuse(
			http.StatusServiceUnavailable,
			fmt.Sprintf(
				"This took longer than %s and was given up; nothing was changed. Ask for less: a part of the recording, or fewer other values.",
				unit.FormatDuration(int64(limit)),
			),
		)
	case errors.Is(err, errClosing):
		return refuse(http.StatusServiceUnavailable, "The service is closing; nothing was changed. Ask again once it is back.")
	}
	return err
}

// do lets a crew do work, and says in a sentence why it was given up if it was.
func do[T any](ctx context.Context, c *crew, f func(work context.Context) (T, error)) (T, error) {
	var none T
	work, done, err := c.begin(ctx)
	if err != nil {
		return none, err
	}
	defer done()
	v, err := f(work)
	if err == nil {
		return v, nil
	}
	if work.Err() != nil {
		err = context.Cause(work)
	}
	return none, givenUp(err, c.limit)
}

type requestKey struct{}

// requestName is what a request calls itself, so that its client finds its place
// in the queue; empty if it does not.
func requestName(ctx context.Context) string {
	name, _ := ctx.Value(requestKey{}).(string)
	return name
}

// GetBench tells how much the bench has to do.
func (s *Server) GetBench(context.Context, GetBenchRequestObject) (GetBenchResponseObject, error) {
	running, waiting := s.bench.queue()
	return GetBench200JSONResponse{Places: s.bench.places, Running: running, Waiting: waiting}, nil
}
