package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"rectura/core/sheet"
)

// A Revision is one kept version of the job.
type Revision struct {
	Number   int64 `gorm:"primaryKey;autoIncrement"`
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

// AddRevision keeps sheets as the next revision and returns it with its number.
// If base is not 0, that must be the newest one still; else ErrOutdated.
func (s *Store) AddRevision(ctx context.Context, r Revision, sheets []sheet.Source, base int64) (Revision, error) {
	r.Number = 0
	size := int64(0)
	for _, sh := range sheets {
		size += int64(len(sh.Text))
	}
	if err := s.Room(ctx, size); err != nil {
		return Revision{}, fmt.Errorf("keeping a revision: %w", err)
	}
	err := s.change(ctx, func(tx *gorm.DB) error {
		var newest int64
		if err := tx.Model(&Revision{}).Select("COALESCE(MAX(number), 0)").Scan(&newest).Error; err != nil {
			return err
		}
		if base != 0 && base != newest {
			return ErrOutdated
		}
		rows := make([]sheetRow, len(sheets))
		for i, sh := range sheets {
			rows[i] = sheetRow{Position: i, Name: sh.Name, Text: append([]byte{}, sh.Text...)} // an empty sheet is not null
			rows[i].Sum = rows[i].sum()
		}
		r.Content, r.Sum = content(rows), []byte{}
		if err := tx.Create(&r).Error; err != nil {
			return err
		}
		r.Sum = r.sum() // which its number belongs to
		if err := tx.Model(&r).Update("sum", r.Sum).Error; err != nil {
			return err
		}
		for i := range rows {
			rows[i].Revision = r.Number
		}
		return tx.Create(rows).Error
	})
	if err != nil {
		return Revision{}, fmt.Errorf("keeping a revision: %w", err)
	}
	return r, nil
}

// Newest is the number of the newest revision; ErrNotFound if there is none.
func (s *Store) Newest(ctx context.Context) (int64, error) {
	var r Revision
	err := s.read.WithContext(ctx).Order("number DESC").First(&r).Error
	return r.Number, found(err, "the newest revision")
}

// Revisions lists all revisions, the newest first.
func (s *Store) Revisions(ctx context.Context) ([]Revision, error) {
	var all []Revision
	if err := s.read.WithContext(ctx).Order("number DESC").Find(&all).Error; err != nil {
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
func (s *Store) DeleteRevision(ctx context.Context, number int64) error {
	err := s.change(ctx, func(tx *gorm.DB) error {
		var newest int64
		if err := tx.Model(&Revision{}).Select("COALESCE(MAX(number), 0)").Scan(&newest).Error; err != nil {
			return err
		}
		if number == newest {
			return fmt.Errorf("it is the newest one: %w", ErrNeeded)
		}
		done := tx.Delete(&Revision{}, "number = ?", number)
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
func (s *Store) Revision(ctx context.Context, number int64) (Revision, []sheet.Source, error) {
	var r Revision
	if err := s.read.WithContext(ctx).First(&r, "number = ?", number).Error; err != nil {
		return r, nil, found(err, "revision %d", number)
	}
	var rows []sheetRow
	if err := s.read.WithContext(ctx).Order("position").Find(&rows, "revision = ?", number).Error; err != nil {
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
