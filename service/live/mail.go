package live

import (
	"context"
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"rectura/service/device"
)

// ErrEnded is the error of a request to an engine that has ended.
var ErrEnded = errors.New("the job is not run any more")

// ErrSilent is the error of a request that an engine does not answer.
var ErrSilent = errors.New("the engine of the job does not answer")

// How much waits for an engine, and for how long.
const (
	patient       = 10 * time.Second
	mostReports   = 4096
	mostCommands  = 64
	mostQuestions = 256
)

// answering is for how many nanoseconds of a pass an engine answers questions. What is left waits for the next pass, behind
// readings, instants and writes.
const answering = 5 * int64(time.Millisecond)

// A mailbox is the queue of an engine: reports of drivers, commands, and questions. Drivers never wait: where there are too many
// reports, only the newest reading of each point is left, and the others are counted.
type mailbox struct {
	mu        sync.Mutex
	reports   []mail
	commands  []func()
	questions []func()
	coalesced int64 // readings that were passed over
	closed    bool
	woken     chan struct{}

	roomForCommands, roomForQuestions chan struct{}
}

func newMailbox() *mailbox {
	return &mailbox{woken: make(chan struct{}, 1), roomForCommands: make(chan struct{}, mostCommands),
		roomForQuestions: make(chan struct{}, mostQuestions)}
}

func (m *mailbox) wake() {
	select {
	case m.woken <- struct{}{}:
	default: // it is awake
	}
}

// A mail is a report with its sender.
type mail struct {
	from *driving
	device.Report
}

// report queues what a driver has found.
func (m *mailbox) report(from *driving, r device.Report) {
	m.mu.Lock()
	if len(m.reports) >= mostReports {
		m.coalesce()
	}
	m.reports = append(m.reports, mail{from, r})
	m.mu.Unlock()
	m.wake()
}

// coalesce leaves the newest reading of each point since its device was last lost or found. Of an output that was written in
// between, no reading is left: it may be older than the write.
func (m *mailbox) coalesce() {
	var left []mail
	open := map[string]int{}
	for _, r := range m.reports {
		i, is := open[r.Device]
		if !is || r.Lost != "" || r.Began || r.Held || left[i].Connection != r.Connection || left[i].Serving != r.Serving {
			open[r.Device] = len(left)
			left = append(left, r)
			continue
		}
		to := &left[i]
		m.coalesced += int64(len(r.Readings))
		for _, x := range r.Readings {
			if k := slices.IndexFunc(to.Readings, func(y device.Reading) bool { return y.Point == x.Point }); k >= 0 {
				to.Readings[k] = x
			} else {
				to.Readings = append(to.Readings, x)
			}
		}
		for _, w := range r.Written {
			to.Readings = slices.DeleteFunc(to.Readings, func(y device.Reading) bool { return y.Point == w.Point })
		}
		to.Written, to.Late = append(to.Written, r.Written...), append(to.Late, r.Late...)
	}
	m.reports = left
}

// take takes all reports out of the queue.
func (m *mailbox) take() []mail {
	m.mu.Lock()
	defer m.mu.Unlock()
	reports := m.reports
	m.reports = nil
	return reports
}

// next takes the oldest command, or question, out of its queue; nil if none waits.
func (m *mailbox) next(question bool) (do func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	queue := &m.commands
	if question {
		queue = &m.questions
	}
	if len(*queue) == 0 {
		return nil
	}
	do, *queue = (*queue)[0], (*queue)[1:]
	return do
}

func (m *mailbox) waits() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.commands)+len(m.questions) > 0
}

func (m *mailbox) passedOver() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.coalesced
}

func (m *mailbox) close() {
	m.mu.Lock()
	m.closed = true
	m.mu.Unlock()
}

// post queues a function for the engine's goroutine.
func (m *mailbox) post(command bool, f func()) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.closed {
		return false
	}
	if command {
		m.commands = append(m.commands, f)
	} else {
		m.questions = append(m.questions, f)
	}
	m.wake()
	return true
}

// ask has a question answered in the engine's goroutine, between two instants, and returns the answer.
func ask[T any](ctx context.Context, e *Engine, f func() T) (T, error) {
	return request(ctx, e, false, f)
}

// tell has a command carried out in the engine's goroutine, before all questions, and returns the answer.
func tell[T any](ctx context.Context, e *Engine, f func() T) (T, error) {
	return request(ctx, e, true, f)
}

func request[T any](ctx context.Context, e *Engine, command bool, f func() T) (T, error) {
	var none T
	limit := e.clock.Timer(patient)
	defer limit.Stop()
	room := e.mail.roomForQuestions
	if command {
		room = e.mail.roomForCommands
	}
	select {
	case room <- struct{}{}:
		defer func() { <-room }()
	case <-limit.C:
		return none, ErrSilent
	case <-ctx.Done():
		return none, ctx.Err()
	}
	got := make(chan T, 1)
	var taken atomic.Bool // claimed by the engine, or abandoned by the caller: an abandoned request never runs
	if !e.mail.post(command, func() {
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
	select { // the engine is at it
	case v, done := <-got:
		return given(v, done)
	case <-e.done:
		return none, ErrEnded
	case <-ctx.Done():
		return none, ctx.Err()
	}
}

// given returns what an engine has answered, unless an error of the program has kept it from that.
func given[T any](v T, done bool) (T, error) {
	if !done {
		return v, errors.New("an error in the engine; the log of the service has it")
	}
	return v, nil
}
