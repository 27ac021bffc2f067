// Package store keeps what the service must not lose of several jobs, in one SQLite file. It is
// the only package that knows tables.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	sqlitedriver "modernc.org/sqlite" // the driver named "sqlite", without cgo
	sqlite3 "modernc.org/sqlite/lib"
)

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
	ErrOutdated = errors.New("a newer revision was kept")
	ErrFull     = errors.New("there is no room left")
	ErrNeeded   = errors.New("it is needed")
)

// Options are what a Store may be told.
type Options struct {
	Log   *slog.Logger // of what goes wrong while nobody waits for it; nil for nothing
	Quota int64        // bytes that the store may take; 0 for as many as the disk has

	rest time.Duration // between two moves of SQLite's log into the file
}

// A Store is an open database. All its methods may be called concurrently.
type Store struct {
	db      *gorm.DB // one connection: the only writer
	read    *gorm.DB // connections that only read, and that no writer holds up
	file    string
	options Options
	log     *mover
}

// readers is how many connections read at once.
const readers = 4

//go:embed migrations/*.sql migrations/plant/*.sql
var migrations embed.FS

// Open opens or creates the database in a file, and brings its tables to the
// present form. What the file's folder holds of it is for the owner alone.
func Open(ctx context.Context, file string, o Options) (*Store, error) {
	s, err := openFile(ctx, file, o, "migrations/*.sql", "none", nil)
	if err != nil {
		return nil, err
	}
	if err := s.clearTemporary(); err != nil {
		return nil, errors.Join(fmt.Errorf("opening the store %s: %w", file, err), s.Close())
	}
	return s, nil
}

// OpenToRead opens the database in a file that another process may write. Its tables must have the present form.
func OpenToRead(file string) (*Store, error) {
	s := &Store{file: file, options: Options{Log: slog.New(slog.DiscardHandler)}}
	var err error
	if s.read, err = connect(file, readingOnly, readers); err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", file, readable(err))
	}
	return s, nil
}

// openFile opens a file with the tables of some migrations, which gives room back as vacuum says. The numbers of jobs are for
// migrations of what was kept by their names.
func openFile(ctx context.Context, file string, o Options, tables, vacuum string, jobs map[string]int64) (s *Store, err error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := private(file); err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", file, err)
	}
	s = &Store{file: file, options: o}
	defer func() {
		if err != nil {
			err = errors.Join(fmt.Errorf("opening the store %s: %w", file, readable(err)), s.Close())
			s = nil
		}
	}()
	writing := url.Values{"_pragma": {
		"auto_vacuum(" + vacuum + ")",
		"journal_mode(WAL)",
		"wal_autocheckpoint(0)",
		"foreign_keys(1)",
		"synchronous(FULL)",
		"busy_timeout(10000)",
		"trusted_schema(0)",
		"cell_size_check(1)",
	}, "_txlock": {"immediate"}}
	if s.db, err = connect(file, writing, 1); err != nil {
		return s, err
	}
	names, err := fs.Glob(migrations, tables)
	if err != nil {
		return s, err
	}
	if err := s.migrate(ctx, migrations, names, jobs); err != nil {
		return s, err
	}
	if s.read, err = connect(file, readingOnly, readers); err != nil {
		return s, err
	}
	if s.log, err = startMover(dsn(file, writing), o.Log, o.rest); err != nil {
		return s, err
	}
	return s, nil
}

// readingOnly are the options of a connection that does not write.
var readingOnly = url.Values{"mode": {"ro"}, "_pragma": {"query_only(1)", "busy_timeout(10000)", "trusted_schema(0)", "cell_size_check(1)"}}

// private makes sure that a file, which need not exist, is for its owner alone, as
// are the files that SQLite puts beside it.
func private(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	for _, name := range []string{file, file + "-wal", file + "-shm"} {
		if err := os.Chmod(name, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func dsn(file string, options url.Values) string {
	return "file:" + (&url.URL{Path: file}).EscapedPath() + "?" + options.Encode()
}

func connect(file string, options url.Values, most int) (*gorm.DB, error) {
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: dsn(file, options)}, &gorm.Config{Logger: logger.Discard})
	if err != nil {
		return nil, err
	}
	raw, err := db.DB()
	if err != nil {
		return nil, err
	}
	raw.SetMaxOpenConns(most)
	raw.SetMaxIdleConns(most)
	return db, nil
}

// fills work out what a migration adds and SQL cannot say.
var fills = map[string]func(tx *gorm.DB, jobs map[string]int64) error{
	"migrations/0005_sums.sql":       func(tx *gorm.DB, _ map[string]int64) error { return fillSums(tx) },
	"migrations/0006_jobs.sql":       func(tx *gorm.DB, _ map[string]int64) error { return fillJobs(tx) },
	"migrations/plant/0003_sums.sql": fillPlant,
}

// migrate runs the numbered migrations that the database has not had yet, each
// in a transaction of its own.
func (s *Store) migrate(ctx context.Context, folder fs.FS, names []string, jobs map[string]int64) error {
	version := func(db *gorm.DB) (done int, err error) {
		return done, db.WithContext(ctx).Raw("PRAGMA user_version").Scan(&done).Error
	}
	slices.Sort(names)
	done, err := version(s.db)
	if err != nil {
		return fmt.Errorf("reading the version of the tables: %w", err)
	}
	if done > len(names) {
		return fmt.Errorf("the tables have version %d, and this program knows %d; use a newer program", done, len(names))
	}
	if done < 0 {
		return fmt.Errorf("the tables have version %d, which no program has made; restore a backup", done)
	}
	if done == len(names) {
		return nil
	}
	// A table that others refer to can only be made anew while that is not looked at;
	// it is looked at before each migration is committed.
	if err := s.db.WithContext(ctx).Exec("PRAGMA foreign_keys = 0").Error; err != nil {
		return err
	}
	for i, name := range names[done:] {
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return fmt.Errorf("reading migration %s: %w", name, err)
		}
		err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			// Another process may have been here meanwhile.
			if now, err := version(tx); err != nil || now > done+i {
				return err
			}
			for _, statement := range strings.Split(string(text), ";\n") {
				if strings.TrimSpace(statement) == "" {
					continue
				}
				if err := tx.Exec(statement).Error; err != nil {
					return err
				}
			}
			if fill := fills[name]; fill != nil {
				if err := fill(tx, jobs); err != nil {
					return err
				}
			}
			var dangling []struct{ Table, Parent string }
			if err := tx.Raw("PRAGMA foreign_key_check").Scan(&dangling).Error; err != nil {
				return err
			}
			if len(dangling) > 0 {
				return fmt.Errorf("a row of %s refers to none of %s: %w", dangling[0].Table, dangling[0].Parent, ErrDamaged)
			}
			return tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", done+i+1)).Error
		})
		if err != nil {
			return fmt.Errorf("migration %s: %w", name, err)
		}
	}
	return s.db.WithContext(ctx).Exec("PRAGMA foreign_keys = 1").Error
}

// change does something in one transaction: all of it, or nothing.
func (s *Store) change(ctx context.Context, f func(tx *gorm.DB) error) error {
	err := s.db.WithContext(ctx).Transaction(f)
	s.log.grown()
	return readable(err)
}

// readable turns what SQLite says into what callers tell apart.
func readable(err error) error {
	var e *sqlitedriver.Error
	if !errors.As(err, &e) {
		return err
	}
	if e.Code() == sqlite3.SQLITE_CONSTRAINT_FOREIGNKEY {
		return fmt.Errorf("what it belongs to has been deleted meanwhile: %w", ErrNotFound)
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_FULL:
		return fmt.Errorf("the disk is full: %w", ErrFull)
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return fmt.Errorf("the database's file is damaged: %w", ErrDamaged)
	case sqlite3.SQLITE_ERROR: // every file that opens has the tables of its migrations
		if text := e.Error(); strings.Contains(text, "no such column") || strings.Contains(text, "no such table") {
			return fmt.Errorf("the database's file is damaged: %s: %w", text, ErrDamaged)
		}
	}
	return err
}

// Close closes the database.
func (s *Store) Close() error {
	var errs []error
	if s.log != nil {
		errs = append(errs, s.log.close())
	}
	for _, db := range []*gorm.DB{s.read, s.db} {
		if db == nil {
			continue
		}
		raw, err := db.DB()
		if err == nil {
			err = raw.Close()
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("closing the store: %w", err))
		}
	}
	return errors.Join(errs...)
}

// Ping tells whether the database can be used.
func (s *Store) Ping(ctx context.Context) error {
	var one int
	if err := s.read.WithContext(ctx).Raw("SELECT 1 FROM jobs LIMIT 1").Scan(&one).Error; err != nil {
		return fmt.Errorf("asking the store: %w", readable(err))
	}
	return s.log.settle(ctx)
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
	return fmt.Errorf("reading %s: %w", what, readable(err))
}

// folder is where temporary files lie.
func (s *Store) folder() string { return filepath.Join(filepath.Dir(s.file), "tmp") }

// clearTemporary throws away what an earlier run has left.
func (s *Store) clearTemporary() error {
	if err := os.RemoveAll(s.folder()); err != nil {
		return err
	}
	return os.MkdirAll(s.folder(), 0o700)
}

// Temporary makes a file for a while, in the data folder. Whoever asks for it
// removes it; what is left is thrown away at the next start.
func (s *Store) Temporary(pattern string) (*os.File, error) {
	f, err := os.CreateTemp(s.folder(), pattern)
	if err != nil {
		return nil, fmt.Errorf("making a temporary file: %w", err)
	}
	return f, nil
}

// spare is how much of the disk the store leaves free, in bytes.
const spare = 64 << 20

// Room tells whether there is room for so many bytes more: ErrFull, with a
// sentence, if there is not.
func (s *Store) Room(ctx context.Context, bytes int64) error {
	var pages, free, size int64
	for pragma, into := range map[string]*int64{"page_count": &pages, "freelist_count": &free, "page_size": &size} {
		if err := s.read.WithContext(ctx).Raw("PRAGMA " + pragma).Scan(into).Error; err != nil {
			return fmt.Errorf("asking how large the store is: %w", readable(err))
		}
	}
	const mib = 1 << 20
	if used := (pages - free) * size; s.options.Quota > 0 && used+bytes > s.options.Quota {
		return fmt.Errorf(
			"the store takes %d MiB of the %d MiB that it may, and %d more are needed; delete recordings or revisions, or give it more: %w",
			used/mib,
			s.options.Quota/mib,
			bytes/mib+1,
			ErrFull,
		)
	}
	left, err := diskFree(filepath.Dir(s.file))
	if err != nil {
		return fmt.Errorf("asking how much room the disk has: %w", err)
	}
	if left+free*size < bytes+spare {
		return fmt.Errorf(
			"the disk has %d MiB left, and %d are needed; delete recordings, or make room: %w",
			left/mib,
			(bytes+spare)/mib,
			ErrFull,
		)
	}
	return nil
}
