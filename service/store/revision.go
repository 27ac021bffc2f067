package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"rectura/core/sheet"
)

// A Revision is one kept version of a job.
type Revision struct {
	ID       int64 `gorm:"primaryKey;autoIncrement"`
	Job      int64
	Number   int64 // from 1 on, in its job
	Title    string
	Note     string
	Created  int64 // nanoseconds since 1970
	Inputs   int
	Outputs  int
	Rules    int
	Warnings int

	Content []byte // the checksum of its sheets
	Sum     []byte // of all that
}

// Time is when the revision was kept.
func (r Revision) Time() time.Time { return time.Unix(0, r.Created).UTC() }

// A sheetRow is one sheet of a revision.
type sheetRow struct {
	Revision int64 `gorm:"primaryKey"`
	Position int   `gorm:"primaryKey"`
	Name     string
	Text     []byte
	Sum      []byte
}

func (sheetRow) TableName() string { return "sheets" }

// A Play is the recording that trials play under a path.
type Play struct {
	Revision  int64  `gorm:"primaryKey"`
	Path      string `gorm:"primaryKey"`
	Recording int64
}

// AddRevision keeps sheets as the next revision, with the recordings that its trials
// play, and returns it with its number. What is the newest one already is not kept
// again, which kept tells. If base is not 0, that must be the newest one still; else
// ErrOutdated.
func (j *Job) AddRevision(
	ctx context.Context,
	r Revision,
	sheets []sheet.Source,
	plays []Play,
	base int64,
) (_ Revision, kept bool, err error) {
	s := j.store
	size := int64(0)
	for _, sh := range sheets {
		size += int64(len(sh.Text))
	}
	if err := s.Room(ctx, size); err != nil {
		return Revision{}, false, fmt.Errorf("keeping a revision: %w", err)
	}
	err = s.change(ctx, func(tx *gorm.DB) error {
		newest := Revision{}
		if err := tx.Order("number DESC").First(&newest, "job = ?", j.ID).Error; err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		if base != 0 && base != newest.Number {
			return ErrOutdated
		}
		rows := make([]sheetRow, len(sheets))
		for i, sh := range sheets {
			rows[i] = sheetRow{Position: i, Name: sh.Name, Text: append([]byte{}, sh.Text...)} // an empty sheet is not null
			rows[i].Sum = rows[i].sum()
		}
		r.ID, r.Job, r.Number, r.Content, r.Sum = 0, j.ID, newest.Number+1, content(rows), []byte{}
		if same, err := playsAre(tx, newest.ID, plays); err != nil || same && bytes.Equal(newest.Content, r.Content) {
			r, kept = newest, false
			return err
		}
		kept = true
		if err := tx.Create(&r).Error; err != nil {
			return err
		}
		r.Sum = r.sum()
		if err := tx.Model(&r).Update("sum", r.Sum).Error; err != nil {
			return err
		}
		for i := range rows {
			rows[i].Revision = r.ID
		}
		if err := tx.Create(rows).Error; err != nil || len(plays) == 0 {
			return err
		}
		own := slices.Clone(plays)
		for i := range own {
			own[i].Revision = r.ID
		}
		return tx.Create(own).Error
	})
	if err != nil {
		return Revision{}, false, fmt.Errorf("keeping a revision: %w", err)
	}
	return r, kept, nil
}

// playsAre tells whether the trials of a revision play just these recordings.
func playsAre(tx *gorm.DB, revision int64, plays []Play) (bool, error) {
	var kept []Play
	if err := tx.Find(&kept, "revision = ?", revision).Error; err != nil {
		return false, err
	}
	now := map[string]int64{}
	for _, p := range plays {
		now[p.Path] = p.Recording
	}
	for _, p := range kept {
		if now[p.Path] != p.Recording {
			return false, nil
		}
	}
	return len(kept) == len(now), nil
}

// Plays are the recordings that the trials of a revision play, by path.
func (j *Job) Plays(ctx context.Context, number int64) (map[string]int64, error) {
	var kept []Play
	err := j.store.read.WithContext(ctx).Find(&kept, "revision = (SELECT id FROM revisions WHERE job = ? AND number = ?)", j.ID, number).Error
	if err != nil {
		return nil, fmt.Errorf("reading what revision %d plays: %w", number, readable(err))
	}
	plays := map[string]int64{}
	for _, p := range kept {
		plays[p.Path] = p.Recording
	}
	return plays, nil
}

// Newest is the number of the newest revision; ErrNotFound if there is none.
func (j *Job) Newest(ctx context.Context) (int64, error) {
	var r Revision
	err := j.store.read.WithContext(ctx).Order("number DESC").First(&r, "job = ?", j.ID).Error
	return r.Number, found(err, "the newest revision")
}

// Revisions lists all revisions, the newest first.
func (j *Job) Revisions(ctx context.Context) ([]Revision, error) {
	var all []Revision
	if err := j.store.read.WithContext(ctx).Order("number DESC").Find(&all, "job = ?", j.ID).Error; err != nil {
		return nil, fmt.Errorf("listing revisions: %w", readable(err))
	}
	for _, r := range all {
		if err := r.verify(); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// DeleteRevision deletes a revision; not the newest one (ErrNeeded).
func (j *Job) DeleteRevision(ctx context.Context, number int64) error {
	err := j.store.change(ctx, func(tx *gorm.DB) error {
		var newest int64
		if err := tx.Model(&Revision{}).Where("job = ?", j.ID).Select("COALESCE(MAX(number), 0)").Scan(&newest).Error; err != nil {
			return err
		}
		if number == newest {
			return fmt.Errorf("it is the newest one: %w", ErrNeeded)
		}
		done := tx.Delete(&Revision{}, "job = ? AND number = ?", j.ID, number)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return done.Error
	})
	if err != nil {
		return fmt.Errorf("deleting revision %d: %w", number, err)
	}
	return nil
}

// Revision reads one revision with its sheets.
func (j *Job) Revision(ctx context.Context, number int64) (Revision, []sheet.Source, error) {
	var r Revision
	if err := j.store.read.WithContext(ctx).First(&r, "job = ? AND number = ?", j.ID, number).Error; err != nil {
		return r, nil, found(err, "revision %d", number)
	}
	var rows []sheetRow
	if err := j.store.read.WithContext(ctx).Order("position").Find(&rows, "revision = ?", r.ID).Error; err != nil {
		return r, nil, fmt.Errorf("reading the sheets of revision %d: %w", number, readable(err))
	}
	if err := errors.Join(r.verify(), r.verifySheets(rows)); err != nil {
		return r, nil, err
	}
	sheets := make([]sheet.Source, len(rows))
	for i, row := range rows {
		sheets[i] = sheet.Source{Name: row.Name, Text: row.Text}
	}
	return r, sheets, nil
}
