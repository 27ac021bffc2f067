// Package background runs functions whose panics must not end the process: control of a plant runs in it. Code of the service
// starts goroutines with this package alone; a test of it looks for others.
package background

import (
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"
)

// A Panic is the error of a function that panicked.
type Panic struct {
	What  string // the purpose of the function
	Value any    // the value of the panic
	Stack []byte
}

func (p *Panic) Error() string {
	return fmt.Sprintf("an error of the program while %s: %v", p.What, p.Value)
}

// try runs f and returns its error. If f panics, that is a *Panic.
func try(what string, f func() error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			err = &Panic{what, v, debug.Stack()}
		}
	}()
	return f()
}

// Do runs f and returns its error. If f panics, Do logs the stack and returns a *Panic.
func Do(log *slog.Logger, what string, f func() error) error {
	err := try(what, f)
	if p, is := err.(*Panic); is { //nolint:errorlint // one that f has returned was logged before
		log.Error(p.Error(), slog.String("stack", string(p.Stack)))
	}
	return err
}

// Go runs f in a goroutine of its own, and calls each of then with its error, if it returns one or panics.
func Go(log *slog.Logger, what string, f func() error, then ...func(error)) {
	go func() {
		if err := Do(log, what, f); err != nil {
			for _, handle := range then {
				handle(err)
			}
		}
	}()
}

// After runs f in a goroutine of its own once ctx has ended, unless unhook is called before.
func After(ctx context.Context, log *slog.Logger, what string, f func()) (unhook func() bool) {
	return context.AfterFunc(ctx, func() {
		_ = Do(log, what, func() error { f(); return nil }) // which has logged it
	})
}

// A Group waits for functions that it runs. Its zero value is ready.
type Group struct{ all sync.WaitGroup }

// Go runs f as the function Go does. Wait waits for then, too.
func (g *Group) Go(log *slog.Logger, what string, f func() error, then ...func(error)) {
	g.all.Add(1)
	go func() {
		defer g.all.Done()
		if err := Do(log, what, f); err != nil {
			for _, handle := range then {
				handle(err)
			}
		}
	}()
}

// Wait waits until every function has returned.
func (g *Group) Wait() { g.all.Wait() }

// Spread runs tasks on all processors, and returns the first error once all that were begun have returned: after an error, no other
// begins. The error of a task that panics is a *Panic.
func Spread(what string, tasks []func() error) error {
	var (
		all   sync.WaitGroup
		next  atomic.Int64
		once  sync.Once
		first error
	)
	for range min(runtime.GOMAXPROCS(0), len(tasks)) {
		all.Add(1)
		go func() {
			defer all.Done()
			for {
				i := int(next.Add(1)) - 1
				if i >= len(tasks) {
					return
				}
				if err := try(what, tasks[i]); err != nil {
					next.Store(int64(len(tasks)))
					once.Do(func() { first = err })
				}
			}
		}()
	}
	all.Wait()
	return first
}
