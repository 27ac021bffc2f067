package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"math"

	"gorm.io/gorm"
)

// ErrDamaged is the error of something that is not as it was kept. It is never
// given out.
var ErrDamaged = errors.New("it is not as it was kept; restore a backup")

// sum is a checksum of fields, each with its length, so that no two lists of
// fields give the same text.
func sum(fields ...any) []byte {
	h := sha256.New()
	for _, f := range fields {
		var text []byte
		switch f := f.(type) {
		case []byte:
			text = f
		default:
			text = fmt.Append(nil, f)
		}
		_ = binary.Write(h, binary.BigEndian, uint64(len(text))) // a hash takes everything
		h.Write(text)
	}
	return h.Sum(nil)
}

func (r *Revision) sum() []byte { return sum(append([]any{r.Job}, r.fields()...)...) }

func (r *Revision) fields() []any {
	return []any{r.Number, r.Title, r.Note, r.Created, r.Inputs, r.Outputs, r.Rules, r.Warnings, r.Content}
}

func (r *sheetRow) sum() []byte { return sum(r.Position, r.Name, r.Text) }

func (r *recordingRow) sum() []byte { return sum(append([]any{r.Job, r.File}, r.fields()...)...) }

func (r *recordingRow) fields() []any {
	return []any{r.ID, r.Name, r.Uploaded, r.Start, r.End, r.Rows, r.Elapsed, r.Offset, r.Zone, r.Notes, r.Understood}
}

func (c *columnRow) sum() []byte {
	return sum(
		c.ID,
		c.Recording,
		c.Position,
		c.Name,
		c.Unit,
		c.Word,
		c.WordLine,
		c.WordColumn,
		c.Readings,
		c.Min.Valid,
		bits(c.Min),
		c.Max.Valid,
		bits(c.Max),
		c.Bytes,
	)
}

func (d *Draft) sum() []byte { return sum(append([]any{d.Job}, d.fields()...)...) }

func (d *Draft) fields() []any { return []any{d.Owner, d.Base, d.Saved, d.Sheets} }

func (r *TrialResult) sum() []byte { return sum(r.Revision, r.Trial, r.Played, r.Passed, r.Result) }

func bits(v sql.NullFloat64) uint64 {
	if !v.Valid {
		return 0
	}
	return math.Float64bits(v.Float64)
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func (b *blockRow) sum() int64 {
	head := make([]byte, 0, 64)
	for _, v := range []uint64{uint64(b.Column), uint64(b.First), uint64(b.Last), uint64(b.Readings), bits(b.Min), bits(b.Max)} {
		head = binary.BigEndian.AppendUint64(head, v)
	}
	for _, flag := range []bool{b.Min.Valid, b.Max.Valid, b.AnyBad} {
		bit := byte(0)
		if flag {
			bit = 1
		}
		head = append(head, bit)
	}
	return int64(crc32.Update(crc32.Checksum(head, castagnoli), castagnoli, b.Data))
}

func same(kept, now []byte, what string, args ...any) error {
	if !bytes.Equal(kept, now) {
		return fmt.Errorf(what+": %w", append(args, ErrDamaged)...)
	}
	return nil
}

func (r *Revision) verify() error { return same(r.Sum, r.sum(), "revision %d", r.Number) }

// verifySheets makes sure that sheets are those that a revision was kept with.
func (r *Revision) verifySheets(rows []sheetRow) error {
	for _, row := range rows {
		if err := same(row.Sum, row.sum(), "revision %d, sheet %s", r.Number, row.Name); err != nil {
			return err
		}
	}
	return same(r.Content, content(rows), "revision %d, its sheets", r.Number)
}

// content is the checksum of all sheets of a revision.
func content(rows []sheetRow) []byte {
	var all []any
	for _, row := range rows {
		all = append(all, row.Name, row.Text)
	}
	return sum(all...)
}

func (r *recordingRow) verify() error { return same(r.Sum, r.sum(), "recording %s", r.Name) }

func (r *recordingRow) verifyColumn(c *columnRow) error {
	return same(c.Sum, c.sum(), "recording %s, column %s", r.Name, c.Name)
}

func (b *blockRow) verify(recording, column string) error {
	if b.Sum != b.sum() {
		return fmt.Errorf("recording %s, column %s, the readings from %d on: %w", recording, column, b.First, ErrDamaged)
	}
	return nil
}

// batch is how many rows are gone through at once.
const batch = 200

// fillSums works out the checksums of what was kept before there were any. Those of
// revisions and recordings, of which jobs are a part, follow with the jobs.
func fillSums(tx *gorm.DB) error {
	var revisions []int64
	if err := tx.Raw("SELECT number FROM revisions").Scan(&revisions).Error; err != nil {
		return err
	}
	for _, r := range revisions {
		var rows []sheetRow
		if err := tx.Order("position").Find(&rows, "revision = ?", r).Error; err != nil {
			return err
		}
		for _, row := range rows {
			row.Sum = row.sum()
			if err := tx.Model(&row).Update("sum", row.Sum).Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("UPDATE revisions SET content = ? WHERE number = ?", content(rows), r).Error; err != nil {
			return err
		}
	}
	var columns []columnRow
	if err := tx.Find(&columns).Error; err != nil {
		return err
	}
	for _, c := range columns {
		if err := tx.Model(&c).Update("sum", c.sum()).Error; err != nil {
			return err
		}
	}
	var blocks []blockRow
	for last := int64(0); ; {
		if err := tx.Order("id").Limit(batch).Find(&blocks, "id > ?", last).Error; err != nil {
			return err
		}
		if len(blocks) == 0 {
			break
		}
		for _, b := range blocks {
			if err := tx.Model(&b).Update("sum", b.sum()).Error; err != nil {
				return err
			}
		}
		last = blocks[len(blocks)-1].ID
	}
	return tx.Exec("DELETE FROM drafts").Error // of which none is old enough to be missed
}

// Verify goes through everything that is kept, and names what is damaged. An error
// is only that it could not go on.
func (s *Store) Verify(ctx context.Context) (damaged []error, err error) {
	note := func(err error) {
		if err != nil {
			damaged = append(damaged, err)
		}
	}
	jobs, err := s.Jobs(ctx)
	if errors.Is(err, ErrDamaged) {
		return []error{err}, nil
	}
	if err != nil {
		return nil, err
	}
	for _, job := range jobs {
		some, err := job.verifyRevisions(ctx)
		if damaged = append(damaged, some...); err != nil {
			return damaged, err
		}
	}
	var recordings []recordingRow
	if err := s.read.WithContext(ctx).Order("id").Find(&recordings).Error; err != nil {
		return damaged, fmt.Errorf("verifying recordings: %w", err)
	}
	for _, r := range recordings {
		note(r.verify())
		columns, err := s.columnRows(ctx, r)
		if err != nil {
			return damaged, err
		}
		for _, c := range columns {
			note(r.verifyColumn(&c))
			some, err := s.verifyBlocks(ctx, &r, &c)
			if damaged = append(damaged, some...); err != nil {
				return damaged, err
			}
		}
	}
	return damaged, nil
}

func (j *Job) verifyRevisions(ctx context.Context) (damaged []error, err error) {
	var revisions []Revision
	if err := j.store.read.WithContext(ctx).Order("number").Find(&revisions, "job = ?", j.ID).Error; err != nil {
		return nil, fmt.Errorf("verifying revisions: %w", err)
	}
	for _, r := range revisions {
		_, _, err := j.Revision(ctx, r.Number)
		if err == nil {
			_, err = j.TrialResults(ctx, r.Number)
		}
		switch {
		case errors.Is(err, ErrDamaged):
			damaged = append(damaged, fmt.Errorf("job %s: %w", j.Name, err))
		case err != nil && !errors.Is(err, ErrNotFound):
			return damaged, err
		}
	}
	return damaged, nil
}

func (s *Store) verifyBlocks(ctx context.Context, r *recordingRow, c *columnRow) (damaged []error, err error) {
	var blocks []blockRow
	readings := 0
	for last := int64(math.MinInt64); ; {
		err := s.read.WithContext(ctx).Order("first").Limit(batch).Find(&blocks, `"column" = ? AND first > ?`, c.ID, last).Error
		if err != nil {
			return damaged, fmt.Errorf("verifying recording %s, column %s: %w", r.Name, c.Name, err)
		}
		if len(blocks) == 0 {
			break
		}
		for _, b := range blocks {
			readings += b.Readings
			if err := b.verify(r.Name, c.Name); err != nil {
				damaged = append(damaged, err)
			}
		}
		last = blocks[len(blocks)-1].First
	}
	if readings != c.Readings && len(damaged) == 0 {
		damaged = append(damaged, fmt.Errorf("recording %s, column %s, of which readings are missing: %w", r.Name, c.Name, ErrDamaged))
	}
	return damaged, nil
}
