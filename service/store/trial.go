package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// A TrialResult is what came of a trial of a revision when it was last played.
type TrialResult struct {
	Revision int64  `gorm:"primaryKey"`
	Trial    string `gorm:"primaryKey"`
	Played   int64  // nanoseconds since 1970
	Passed   bool
	Result   []byte // JSON
	Sum      []byte
}

// Time is when the trial was played.
func (r TrialResult) Time() time.Time { return time.Unix(0, r.Played).UTC() }

// KeepTrialResults keeps what came of trials of a revision, in place of what came of
// the same trials before.
func (j *Job) KeepTrialResults(ctx context.Context, number int64, results []TrialResult) error {
	if len(results) == 0 {
		return nil
	}
	err := j.store.change(ctx, func(tx *gorm.DB) error {
		var r Revision
		if err := tx.First(&r, "job = ? AND number = ?", j.ID, number).Error; err != nil {
			return found(err, "revision %d", number)
		}
		for _, x := range results {
			x.Revision = r.ID
			x.Sum = x.sum()
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&x).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("keeping the results of trials: %w", err)
	}
	return nil
}

// TrialResults are what came of the trials of a revision that have been played.
func (j *Job) TrialResults(ctx context.Context, number int64) ([]TrialResult, error) {
	var all []TrialResult
	err := j.store.read.WithContext(ctx).
		Order("trial").
		Find(&all, "revision = (SELECT id FROM revisions WHERE job = ? AND number = ?)", j.ID, number).
		Error
	if err != nil {
		return nil, fmt.Errorf("reading the results of trials of revision %d: %w", number, readable(err))
	}
	for _, r := range all {
		if err := same(r.Sum, r.sum(), "revision %d, the result of trial %s", number, r.Trial); err != nil {
			return nil, err
		}
	}
	return all, nil
}
