package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
)

// A Job is what is kept under a short name: revisions, recordings and drafts. Its
// methods may be called concurrently.
type Job struct {
	ID      int64 `gorm:"primaryKey;autoIncrement"`
	Name    string
	Created int64 // nanoseconds since 1970
	Sum     []byte

	store *Store
}

// MostJobs is how many jobs are kept.
const MostJobs = 500

// jobName is the form of a short name; reserved are those that stand for something
// else in addresses.
var (
	jobName  = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,63}$`)
	reserved = []string{"api", "assets"}
)

// ErrName is the error of a name that cannot be a job's.
var ErrName = errors.New(
	"a job's name is made of small letters, digits, - and _, begins with a letter, is 64 letters long at the most, and is neither api nor assets",
)

// ShortName makes a job's name of any text, such as a folder's name or a title.
func ShortName(text string) string {
	words := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return r < '0' || r > '9' && r < 'a' || r > 'z' })
	name := strings.TrimLeft(strings.Join(words, "-"), "0123456789-")
	switch name = strings.TrimRight(name[:min(len(name), 64)], "-"); {
	case name == "":
		return "job"
	case slices.Contains(reserved, name):
		return name + "-job"
	}
	return name
}

func (j *Job) sum() []byte { return sum(j.ID, j.Name, j.Created) }

func (j *Job) verify() error { return same(j.Sum, j.sum(), "job %s", j.Name) }

// Time is when the job was first kept.
func (j *Job) Time() time.Time { return time.Unix(0, j.Created).UTC() }

// Jobs lists all jobs by name.
func (s *Store) Jobs(ctx context.Context) ([]*Job, error) {
	var all []*Job
	if err := s.read.WithContext(ctx).Order("name").Find(&all).Error; err != nil {
		return nil, fmt.Errorf("listing jobs: %w", readable(err))
	}
	for _, j := range all {
		if err := j.verify(); err != nil {
			return nil, err
		}
		j.store = s
	}
	return all, nil
}

// Job finds a job by its name.
func (s *Store) Job(ctx context.Context, name string) (*Job, error) {
	j := &Job{}
	if err := s.read.WithContext(ctx).First(j, "name = ?", name).Error; err != nil {
		return nil, found(err, "the job %s", name)
	}
	j.store = s
	return j, j.verify()
}

// MakeJob gives the job of a name, and tells whether it was made for that.
func (s *Store) MakeJob(ctx context.Context, name string, now time.Time) (j *Job, made bool, err error) {
	if !jobName.MatchString(name) || slices.Contains(reserved, name) {
		return nil, false, fmt.Errorf("%s: %w", name, ErrName)
	}
	j = &Job{}
	err = s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.First(j, "name = ?", name).Error; !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		var others int64
		if err := tx.Model(&Job{}).Count(&others).Error; err != nil {
			return err
		}
		if others >= MostJobs {
			return fmt.Errorf("%d jobs are kept already, which is the most; delete one: %w", others, ErrFull)
		}
		*j = Job{Name: name, Created: now.UnixNano(), Sum: []byte{}}
		if err := tx.Create(j).Error; err != nil {
			return err
		}
		made, j.Sum = true, j.sum()
		return tx.Model(j).Update("sum", j.Sum).Error
	})
	if err != nil {
		return nil, false, fmt.Errorf("making the job %s: %w", name, err)
	}
	j.store = s
	return j, made, j.verify()
}

// NumberAbove has jobs that are made from now on have numbers above the given one.
func (s *Store) NumberAbove(ctx context.Context, number int64) error {
	err := s.change(ctx, func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE sqlite_sequence SET seq = max(seq, ?) WHERE name = 'jobs'", number)
		if done.Error == nil && done.RowsAffected == 0 {
			return tx.Exec("INSERT INTO sqlite_sequence (name, seq) VALUES ('jobs', ?)", number).Error
		}
		return done.Error
	})
	if err != nil {
		return fmt.Errorf("numbering jobs above %d: %w", number, err)
	}
	return nil
}

// An Overview is what is kept of a job, counted.
type Overview struct {
	Newest                int64 // 0 where there is no revision
	Title                 string
	Revisions, Recordings int
}

// Overview counts what is kept of the job.
func (j *Job) Overview(ctx context.Context) (o Overview, err error) {
	err = j.store.read.WithContext(ctx).Raw(`SELECT
		(SELECT COUNT(*) FROM revisions WHERE job = ?) AS revisions,
		(SELECT COUNT(*) FROM recordings WHERE job = ?) AS recordings,
		COALESCE((SELECT MAX(number) FROM revisions WHERE job = ?), 0) AS newest,
		COALESCE((SELECT title FROM revisions WHERE job = ? ORDER BY number DESC LIMIT 1), '') AS title`, j.ID, j.ID, j.ID, j.ID).Scan(&o).Error
	if err != nil {
		return o, fmt.Errorf("counting what is kept of the job %s: %w", j.Name, readable(err))
	}
	return o, nil
}

// Delete deletes a job with all that is kept of it.
func (j *Job) Delete(ctx context.Context) error {
	err := j.store.change(ctx, func(tx *gorm.DB) error {
		// What is played goes first, since a recording that is played stays.
		if err := tx.Exec("DELETE FROM revisions WHERE job = ?", j.ID).Error; err != nil {
			return err
		}
		return tx.Delete(&Job{}, "id = ?", j.ID).Error
	})
	if err != nil {
		return fmt.Errorf("deleting the job %s: %w", j.Name, err)
	}
	return nil
}

// fillJobs names the job that everything kept before there were several belongs to,
// and works out the checksums, which a job is part of.
func fillJobs(tx *gorm.DB) error {
	var jobs []Job
	if err := tx.Find(&jobs).Error; err != nil {
		return err
	}
	for _, j := range jobs {
		var newest Revision
		err := tx.Order("number DESC").First(&newest, "job = ?", j.ID).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		j.Name, j.Created = ShortName(newest.Title), newest.Created
		j.Sum = j.sum()
		if err := tx.Save(&j).Error; err != nil {
			return err
		}
	}
	// What is not as it was kept stays so, and is named when it is read.
	refill := func(model any, kept []byte, fields func() []any, now func() []byte) error {
		if len(kept) > 0 && !bytes.Equal(kept, sum(fields()...)) {
			return nil
		}
		return tx.Model(model).Update("sum", now()).Error
	}
	var revisions []Revision
	if err := tx.Find(&revisions).Error; err != nil {
		return err
	}
	for _, r := range revisions {
		if err := refill(&r, r.Sum, r.fields, r.sum); err != nil {
			return err
		}
	}
	var recordings []recordingRow
	if err := tx.Find(&recordings).Error; err != nil {
		return err
	}
	for _, r := range recordings {
		if err := refill(&r, r.Sum, r.fields, r.sum); err != nil {
			return err
		}
	}
	var drafts []Draft
	if err := tx.Find(&drafts).Error; err != nil {
		return err
	}
	for _, d := range drafts {
		if err := refill(&d, d.Sum, d.fields, d.sum); err != nil {
			return err
		}
	}
	return nil
}
