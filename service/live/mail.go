package live

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"rectura/service/device"
)

// ErrEnded is the error of whoever asks an engine that has ended.
var ErrEnded = errors.New("the job is not run any more")

// ErrSilent is the error of whoever asks an engine that does not answer.
var ErrSilent = errors.New("the engine of the job does not answer")

// How much waits for an engine at the most, and for how long.
const (
	patient     = 10 * time.Second
	mostReports = 4096
	mostAsks    = 256
)

// A mailbox holds what has come for an engine. Devices never wait for it: where there is too much, only the newest of each
// point is left, and what was passed over is counted.
type mailbox struct {
	mu      sync.Mutex
	reports []mail
	asks    []func()
	passed  int64 // reports that were gathered
	closed  bool
	woken   chan struct{}
	room    chan struct{} // of asks
}

func newMailbox() *mailbox {
	return &mailbox{woken: make(chan struct{}, 1), room: make(chan struct{}, mostAsks)}
}

func (m *mailbox) wake() {
	select {
	case m.woken <- struct{}{}:
	default: // it is awake
	}
}

// A mail is a report, and who sends it.
type mail struct {
	from *driving
	device.Report
}

// report takes what a driver has found.
func (m *mailbox) report(from *driving, r device.Report) {
	m.mu.Lock()
	if len(m.reports) >= mostReports {
		m.gather()
	}
	m.reports = append(m.reports, mail{from, r})
	m.mu.Unlock()
	m.wake()
}

// gather leaves the newest of each point since its device was last lost or found.
func (m *mailbox) gather() {
	var left []mail
	open := map[string]int{}
	for _, r := range m.reports {
		i, is := open[r.Device]
		if !is || r.Lost != "" || r.Began {
			open[r.Device] = len(left)
			left = append(left, r)
			continue
		}
		to := &left[i]
		m.passed += int64(len(r.Readings))
		for _, x := range r.Readings {
			found := false
			for k := range to.Readings {
				if to.Readings[k].Point == x.Point {
					to.Readings[k], found = x, true
				}
			}
			if !found {
				to.Readings = append(to.Readings, x)
			}
		}
		to.Written = append(to.Written, r.Written...)
	}
	m.reports = left
}

func (m *mailbox) take() ([]mail, []func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	reports, asks := m.reports, m.asks
	m.reports, m.asks = nil, nil
	return reports, asks
}

func (m *mailbox) close() {
	m.mu.Lock()
	m.closed = true
	m.mu.Unlock()
}

// post has a function done in the engine's goroutine.
func (m *mailbox) post(f func()) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.closed {
		return false
	}
	m.asks = append(m.asks, f)
	m.wake()
	return true
}

// ask has a function done in the engine's goroutine, between two instants, and waits for what it gives.
func ask[T any](ctx context.Context, e *Engine, f func() T) (T, error) {
	var none T
	limit := e.clock.Timer(patient)
	defer limit.Stop()
	select {
	case e.mail.room <- struct{}{}:
		defer func() { <-e.mail.room }()
	case <-limit.C:
		return none, ErrSilent
	case <-ctx.Done():
		return none, ctx.Err()
	}
	got := make(chan T, 1)
	var taken atomic.Bool // by the engine, or by whoever has given it up: what is told not to be done is not done later
	if !e.mail.post(func() {
		if !taken.CompareAndSwap(false, true) {
			return
		}
		defer close(got)
		got <- f()
	}) {
		return none, ErrEnded
	}
	var err error
	select {
	case v, done := <-got:
		return given(v, done)
	case <-e.done:
		err = ErrEnded
	case <-limit.C:
		err = ErrSilent
	case <-ctx.Done():
		err = ctx.Err()
	}
	if taken.CompareAndSwap(false, true) {
		return none, err
	}
	select { // it is being done
	case v, done := <-got:
		return given(v, done)
	case <-e.done:
		return none, ErrEnded
	case <-ctx.Done():
		return none, ctx.Err()
	}
}

// given is what an engine gives, unless an error of ours has kept it from that.
func given[T any](v T, done bool) (T, error) {
	if !done {
		return v, errors.New("an error in the engine; the log of the service has it")
	}
	return v, nil
}
