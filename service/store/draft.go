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

// MostDrafts is how many drafts are kept; of more the oldest goes.
const MostDrafts = 200

// A Draft is what its owner has written and not kept as a revision; it may have
// errors.
type Draft struct {
	Owner  string `gorm:"primaryKey"`
	Base   int64
	Saved  int64 // nanoseconds since 1970
	Sheets []byte
	Sum    []byte
}

// Time is when the draft was kept.
func (d Draft) Time() time.Time { return time.Unix(0, d.Saved).UTC() }

// PutDraft keeps a draft in the place of its owner's last one.
func (s *Store) PutDraft(ctx context.Context, d Draft, sheets []sheet.Source) error {
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
		return tx.Exec("DELETE FROM drafts WHERE owner NOT IN (SELECT owner FROM drafts ORDER BY saved DESC LIMIT ?)", MostDrafts).Error
	})
	if err != nil {
		return fmt.Errorf("keeping a draft: %w", err)
	}
	return nil
}

// Draft reads the draft of an owner.
func (s *Store) Draft(ctx context.Context, owner string) (Draft, []sheet.Source, error) {
	var d Draft
	if err := s.read.WithContext(ctx).First(&d, "owner = ?", owner).Error; err != nil {
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
func (s *Store) DeleteDraft(ctx context.Context, owner string) error {
	err := s.change(ctx, func(tx *gorm.DB) error { return tx.Delete(&Draft{}, "owner = ?", owner).Error })
	if err != nil {
		return fmt.Errorf("throwing a draft away: %w", err)
	}
	return nil
}
