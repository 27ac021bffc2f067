package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"rectura/core/sheet"
)

// A Start is what is known of the jobs of a plant's file when it is opened.
type Start struct {
	Jobs  []Recalled
	Aside string   // where a damaged file was put; empty where none was
	Wrong []string // further faults, in sentences
}

// OpenSound opens a plant's file and recalls its jobs. A file whose records of how a job is run, of its memory or of its locks are
// damaged is put aside, and another one begins: what is left of each job goes on from there, and the numbers of the journals go on. A
// file that is no database any more is an error.
func OpenSound(ctx context.Context, file string, o PlantOptions, now time.Time) (*Plant, *Start, error) {
	p, err := OpenPlant(ctx, file, o)
	if err != nil {
		return nil, nil, fmt.Errorf("%w%s", err, backups(file))
	}
	s := &Start{}
	if p.head.broken != "" {
		s.Wrong = append(s.Wrong, p.head.broken)
	}
	s.Jobs, err = p.Recall(ctx)
	for i := range s.Jobs {
		if err == nil {
			err = p.recallSince(ctx, &s.Jobs[i])
		}
	}
	unreadable := errors.Is(err, ErrDamaged)
	if err != nil && !unreadable {
		return nil, nil, errors.Join(err, p.Close())
	}
	if !unreadable && !slices.ContainsFunc(s.Jobs, func(j Recalled) bool { return j.Unlocked && j.Damage != j.Armed.Damage }) {
		return p, s, nil
	}
	if unreadable {
		s.Wrong = append(s.Wrong, err.Error())
		s.Jobs = nil
		for _, h := range p.head.kept() {
			s.Jobs = append(s.Jobs, h.recalled(err.Error()))
		}
	}
	heads := p.head.kept()
	if err := p.Close(); err != nil && !errors.Is(err, ErrDamaged) {
		return nil, nil, err
	}
	if s.Aside, err = setAside(file, now); err != nil {
		return nil, nil, err
	}
	if p, err = OpenPlant(ctx, file, o); err != nil {
		return nil, nil, err
	}
	for _, j := range s.Jobs {
		if h := heads[j.Armed.Number]; h != nil { // its numbers go on
			p.ends[h.Number] = &end{row: armedRow{Number: h.Number, JournalFirst: h.Journal + 1, JournalLast: h.Journal, Commits: h.Commits},
				memories: map[string][]byte{}, figures: map[string][]byte{}}
		}
	}
	return p, s, nil
}

// recallSince reads the capture since a running job's memory was kept. Damage of it is one of the job.
func (p *Plant) recallSince(ctx context.Context, j *Recalled) (err error) {
	if j.Armed.Mode == "idle" || j.Damage != "" {
		return nil
	}
	if j.Since, err = p.SinceCheckpoint(ctx, j.Armed.Number); errors.Is(err, ErrDamaged) {
		j.Damage, j.Unlocked = err.Error(), true
		return nil
	}
	return err
}

// recalled returns a job whose head alone is left.
func (h *head) recalled(damage string) Recalled {
	return Recalled{Armed: Armed{Number: h.Number, Name: h.Name, Mode: h.Mode, Revision: h.Revision, Last: h.Last}, Damage: damage, Unlocked: true}
}

// setAside renames a file, with what SQLite has beside it.
func setAside(file string, now time.Time) (string, error) {
	aside := file + ".damaged-" + now.UTC().Format("20060102T150405Z")
	for _, end := range []string{"-wal", "-shm", ""} {
		if err := os.Rename(file+end, aside+end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", fmt.Errorf("putting the damaged file aside: %w", err)
		}
	}
	return aside, nil
}

// backups returns advice about a file that cannot be opened.
func backups(file string) string {
	found, _ := filepath.Glob(file + ".*") // the pattern is a good one
	found = slices.DeleteFunc(found, func(f string) bool { return filepath.Ext(f) == ".next" })
	text := fmt.Sprintf("\nMove the file away (mv %s %s.unreadable), and put a backup in its place, if there is one; without one, armed jobs listen "+
		"until somebody has acknowledged %s.", file, file, sheet.RecordsDamaged)
	if len(found) == 0 {
		return text + " No copy of it lies beside it."
	}
	slices.SortFunc(found, func(a, b string) int { return age(a).Compare(age(b)) })
	return text + " The newest copy beside it is " + found[len(found)-1] + "."
}

func age(file string) time.Time {
	s, err := os.Stat(file)
	if err != nil {
		return time.Time{}
	}
	return s.ModTime()
}

// byNumber is the version of a plant's tables from which on everything is kept by the numbers of jobs.
const byNumber = 3

// KeptByName reports whether a file, if there is one, has the tables of an earlier program, which kept what ran by the names of jobs.
func KeptByName(ctx context.Context, file string) (is bool, err error) {
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	db, err := connect(file, readingOnly, 1)
	if err != nil {
		return false, fmt.Errorf("opening the plant's file %s: %w", file, readable(err))
	}
	s := &Store{read: db}
	defer func() { err = errors.Join(err, s.Close()) }()
	version := 0
	if err := db.WithContext(ctx).Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return false, nil // the error of opening it names the fault
	}
	return version < byNumber, nil
}
