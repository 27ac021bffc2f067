package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rectura/core/sheet"
)

// MostDrafts is how many drafts are kept of a job; of more the oldest goes.
const MostDrafts = 200

// A Draft is what its owner has written and not kept as a revision; it may have
// errors.
type Draft struct {
	Job    int64  `gorm:"primaryKey"`
	Owner  string `gorm:"primaryKey"`
	Base   int64
	Saved  int64 // nanoseconds since 1970
	Sheets []byte
	Sum    []byte
}

// Time is when the draft was kept.
func (d Draft) Time() time.Time { return time.Unix(0, d.Saved).UTC() }

// PutDraft keeps a draft in the place of its owner's last one.
func (j *Job) PutDraft(ctx context.Context, d Draft, sheets []sheet.Source) error {
	s := j.store
	d.Job = j.ID
	var err error
	if d.Sheets, err = json.Marshal(sheets); err != nil {
		return fmt.Errorf("keeping a draft: %w", err)
	}
	d.Sum = d.sum()
	if err := s.Room(ctx, int64(len(d.Sheets))); err != nil {
		return fmt.Errorf("keeping a draft: %w", err)
	}
	err = s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&d).Error; err != nil {
			return err
		}
		return tx.Exec(
			"DELETE FROM drafts WHERE job = ? AND owner NOT IN (SELECT owner FROM drafts WHERE job = ? ORDER BY saved DESC LIMIT ?)",
			j.ID,
			j.ID,
			MostDrafts,
		).Error
	})
	if err != nil {
		return fmt.Errorf("keeping a draft: %w", err)
	}
	return nil
}

// Draft reads the draft of an owner.
func (j *Job) Draft(ctx context.Context, owner string) (Draft, []sheet.Source, error) {
	var d Draft
	if err := j.store.read.WithContext(ctx).First(&d, "job = ? AND owner = ?", j.ID, owner).Error; err != nil {
		return d, nil, found(err, "the draft of %s", owner)
	}
	if err := same(d.Sum, d.sum(), "the draft of %s", owner); err != nil {
		return d, nil, err
	}
	var sheets []sheet.Source
	if err := json.Unmarshal(d.Sheets, &sheets); err != nil {
		return d, nil, fmt.Errorf("reading the draft of %s: %w", owner, err)
	}
	return d, sheets, nil
}

// DeleteDraft throws the draft of an owner away, if there is one.
func (j *Job) DeleteDraft(ctx context.Context, owner string) error {
	err := j.store.change(ctx, func(tx *gorm.DB) error { return tx.Delete(&Draft{}, "job = ? AND owner = ?", j.ID, owner).Error })
	if err != nil {
		return fmt.Errorf("throwing a draft away: %w", err)
	}
	return nil
}
