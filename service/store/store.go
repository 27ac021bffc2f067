// Package store keeps what the service must not lose, in one SQLite file. It is
// the only package that knows tables.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"slices"
	"strings"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	_ "modernc.org/sqlite" // the driver named "sqlite", without cgo
)

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
	ErrOutdated = errors.New("a newer revision was kept")
)

// A Store is an open database. All its methods may be called concurrently.
type Store struct {
	db  *gorm.DB
	log *mover
}

//go:embed migrations/*.sql
var migrations embed.FS

// Open opens or creates the database in a file, and brings its tables to the
// present form.
func Open(ctx context.Context, file string) (*Store, error) {
	pragmas := url.Values{"_pragma": {
		"journal_mode(WAL)", "wal_autocheckpoint(0)", "foreign_keys(1)", "synchronous(FULL)", "busy_timeout(10000)", "trusted_schema(0)",
	}, "_txlock": {"immediate"}}
	dsn := "file:" + (&url.URL{Path: file}).EscapedPath() + "?" + pragmas.Encode()
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: dsn}, &gorm.Config{Logger: logger.Discard})
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", file, err)
	}
	raw, err := db.DB()
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", file, err)
	}
	// One connection: one writer, and readers that never find it busy.
	raw.SetMaxOpenConns(1)
	s := &Store{db: db}
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := s.migrate(ctx, migrations, names); err != nil {
		return nil, errors.Join(fmt.Errorf("opening the store %s: %w", file, err), s.Close())
	}
	if s.log, err = startMover(dsn); err != nil {
		return nil, errors.Join(fmt.Errorf("opening the store %s: %w", file, err), s.Close())
	}
	return s, nil
}

// migrate runs the numbered migrations that the database has not had yet, each
// in a transaction of its own.
func (s *Store) migrate(ctx context.Context, folder fs.FS, names []string) error {
	var done int
	if err := s.db.WithContext(ctx).Raw("PRAGMA user_version").Scan(&done).Error; err != nil {
		return fmt.Errorf("reading the version of the tables: %w", err)
	}
	slices.Sort(names)
	if done > len(names) {
		return fmt.Errorf("the tables have version %d, and this program knows %d; use a newer program", done, len(names))
	}
	for i, name := range names[done:] {
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return fmt.Errorf("reading migration %s: %w", name, err)
		}
		err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			for _, statement := range strings.Split(string(text), ";\n") {
				if strings.TrimSpace(statement) == "" {
					continue
				}
				if err := tx.Exec(statement).Error; err != nil {
					return err
				}
			}
			return tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", done+i+1)).Error
		})
		if err != nil {
			return fmt.Errorf("migration %s: %w", name, err)
		}
	}
	return nil
}

// change does something in one transaction: all of it, or nothing.
func (s *Store) change(ctx context.Context, f func(tx *gorm.DB) error) error {
	err := s.db.WithContext(ctx).Transaction(f)
	s.log.grown()
	return err
}

// Close closes the database.
func (s *Store) Close() error {
	var err error
	if s.log != nil {
		err = s.log.close()
	}
	raw, e := s.db.DB()
	if e != nil {
		return errors.Join(err, fmt.Errorf("closing the store: %w", e))
	}
	return errors.Join(err, raw.Close())
}

// Ping tells whether the database can be used.
func (s *Store) Ping(ctx context.Context) error {
	var one int
	if err := s.db.WithContext(ctx).Raw("SELECT 1").Scan(&one).Error; err != nil {
		return fmt.Errorf("asking the store: %w", err)
	}
	return s.log.failure()
}

// found turns gorm's error for no row into ErrNotFound.
func found(err error, format string, args ...any) error {
	if err == nil {
		return nil
	}
	what := fmt.Sprintf(format, args...)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	return fmt.Errorf("reading %s: %w", what, err)
}
