package store

import (
	"database/sql"
	"fmt"
	"sync/atomic"
)

// A mover moves what SQLite has written to its log into the database's file. Left
// to SQLite, whoever commits when the log is long would wait for that, although
// what stands in the log is safe. It has a connection of its own, and neither
// readers nor the writer wait for it.
type mover struct {
	db     *sql.DB
	work   chan struct{}
	done   chan struct{}
	failed atomic.Pointer[error] // how it went last
}

func startMover(dsn string) (*mover, error) {
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("opening a connection for the log: %w", err)
	}
	db.SetMaxOpenConns(1)
	m := &mover{db: db, work: make(chan struct{}, 1), done: make(chan struct{})}
	go func() {
		defer close(m.done)
		for range m.work {
			_, err := db.Exec("PRAGMA wal_checkpoint(PASSIVE)")
			m.failed.Store(&err)
		}
	}()
	return m, nil
}

// grown tells that the log may be longer.
func (m *mover) grown() {
	select {
	case m.work <- struct{}{}:
	default: // it knows
	}
}

// failure is why the log could not be moved the last time.
func (m *mover) failure() error {
	if err := m.failed.Load(); err != nil && *err != nil {
		return fmt.Errorf("moving the store's log into its file: %w", *err)
	}
	return nil
}

// close waits for what is under way. Nothing may tell it of more.
func (m *mover) close() error {
	close(m.work)
	<-m.done
	return m.db.Close()
}
