// Package pool bounds what requests have computed: how much at once, how long each waits, and how long it goes on.
package pool

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
	"rectura/service/api"
	"rectura/service/api/transport"
	"rectura/service/background"
)

// Causes for which work is given up.
var (
	errClosing = errors.New("the service is closing")
	errTooLong = errors.New("the work took too long")
)

// A Pool does the work that requests start: so much at once, the rest in the
// order in which it came, and none for longer than its limit.
type Pool struct {
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

// mostWaiting is the largest number of requests that wait for a Pool.
const mostWaiting = 256

// usualPatience is how long a request waits for its turn.
const usualPatience = 30 * time.Second

// New returns a pool with a place for each processor.
func New(closing context.Context, log *slog.Logger, limit time.Duration) *Pool {
	return NewOf(closing, log, runtime.GOMAXPROCS(0), limit)
}

// NewOf returns a pool of so many places. It gives work up once closing has ended, or after limit.
func NewOf(closing context.Context, log *slog.Logger, n int, limit time.Duration) *Pool {
	return &Pool{limit: limit, patient: usualPatience, closing: closing, log: log, free: n, places: n}
}

// Begin waits for a place, in which work goes on until its context ends: because
// the client has gone, the service closes, or it has taken too long. The place
// is given back with done.
func (c *Pool) Begin(ctx context.Context) (work context.Context, done func(), err error) {
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

func (c *Pool) enter(ctx context.Context) error {
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
	w := &waiter{transport.RequestName(ctx), time.Now(), make(chan struct{})}
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
		err = GivenUp(errClosing, 0)
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
func (c *Pool) busy(before int) error {
	return transport.Refuse(
		http.StatusServiceUnavailable,
		fmt.Sprintf(
			"The bench is busy: %d computations are under way, and %d wait before this one. Nothing was done; try again in a while.",
			c.places,
			before,
		),
	)
}

func (c *Pool) leave() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.next()
}

// next gives a place that has become free to the first who waits.
func (c *Pool) next() {
	if len(c.waiting) == 0 {
		c.free++
		return
	}
	close(c.waiting[0].turn)
	c.waiting = slices.Delete(c.waiting, 0, 1)
}

// Places returns the number of places.
func (c *Pool) Places() int { return c.places }

// Queue returns how many places are taken, and who waits, in order.
func (c *Pool) Queue() (running int, waiting []api.Waiting) {
	c.mu.Lock()
	defer c.mu.Unlock()
	waiting = []api.Waiting{}
	for i, w := range c.waiting {
		waiting = append(waiting, api.Waiting{Request: w.request, Place: i + 1, Seconds: time.Since(w.since).Seconds()})
	}
	return c.places - c.free, waiting
}

// Stop is asked by what is worked out in core whether to go on.
func Stop(work context.Context) func() error {
	return func() error {
		if work.Err() == nil {
			return nil
		}
		return context.Cause(work)
	}
}

// IsGivenUp reports whether an error is one for which a Pool gave work up.
func IsGivenUp(err error) bool { return errors.Is(err, errTooLong) || errors.Is(err, errClosing) }

// GivenUp says why work was given up, if it was for one of these causes.
func GivenUp(err error, limit time.Duration) error {
	switch {
	case errors.Is(err, errTooLong):
		return transport.Refuse(
			http.StatusServiceUnavailable,
			fmt.Sprintf(
				"This took longer than %s and was given up; nothing was changed. Ask for less: a part of the recording, or fewer other values.",
				unit.FormatDuration(int64(limit)),
			),
		)
	case errors.Is(err, errClosing):
		return transport.Refuse(http.StatusServiceUnavailable, "The service is closing; nothing was changed. Ask again once it is back.")
	}
	return err
}

// Do lets a pool do work, and says in a sentence why it was given up if it was.
func Do[T any](ctx context.Context, c *Pool, f func(work context.Context) (T, error)) (T, error) {
	var none T
	work, done, err := c.Begin(ctx)
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
	return none, GivenUp(err, c.limit)
}
