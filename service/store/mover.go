package store

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"rectura/service/background"
)

// A mover moves what SQLite has written to its log into the database's file. Left
// to SQLite, whoever commits when the log is long would wait for that, although
// what stands in the log is safe. It has a connection of its own, and neither
// readers nor the writer wait for it.
type mover struct {
	db   *sql.DB
	log  *slog.Logger
	rest time.Duration // between two moves
	work chan struct{}
	done chan struct{}
	ends chan struct{} // closed when nobody waits any more

	mu     sync.Mutex
	failed error // how it went last
	closed bool
}

// startMover returns a mover that rests for a while after each move.
func startMover(dsn string, log *slog.Logger, rest time.Duration) (*mover, error) {
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("opening a connection for the log: %w", err)
	}
	db.SetMaxOpenConns(1)
	m := &mover{db: db, log: log, rest: rest, work: make(chan struct{}, 1), done: make(chan struct{}), ends: make(chan struct{})}
	background.Go(log, "moving the log", func() error {
		defer close(m.done)
		for range m.work {
			_ = background.Do(log, "moving the log", func() error { // which logs what goes wrong
				m.move(context.Background())
				return nil
			})
			select {
			case <-time.After(m.rest):
			case <-m.ends:
			}
		}
		return nil
	})
	return m, nil
}

// move moves the log, and remembers how that went.
func (m *mover) move(ctx context.Context) {
	_, err := m.db.ExecContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)")
	m.mu.Lock()
	defer m.mu.Unlock()
	if err != nil && m.failed == nil {
		m.log.Error("the store's log could not be moved into its file", slog.Any("error", err))
	}
	if err == nil && m.failed != nil {
		m.log.Info("the store's log could be moved into its file again")
	}
	m.failed = err
}

// grown tells that the log may be longer.
func (m *mover) grown() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.closed {
		return
	}
	select {
	case m.work <- struct{}{}:
	default: // it knows
	}
}

// settle is nil if the log could be moved the last time, or can be now.
func (m *mover) settle(ctx context.Context) error {
	if m.failure() == nil {
		return nil
	}
	m.move(ctx)
	return m.failure()
}

// failure is why the log could not be moved the last time.
func (m *mover) failure() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.failed != nil {
		return fmt.Errorf("moving the store's log into its file: %w", readable(m.failed))
	}
	return nil
}

// close waits for what is under way.
func (m *mover) close() error {
	m.mu.Lock()
	m.closed = true
	close(m.ends)
	close(m.work)
	m.mu.Unlock()
	<-m.done
	return m.db.Close()
}
