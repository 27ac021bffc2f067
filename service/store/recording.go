package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"math"
	"runtime"
	"time"

	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"

	"rectura/core/recording"
	"rectura/service/background"
)

// A Recording is what the store knows of a recording without its readings.
type Recording struct {
	ID       int64
	File     []byte // the SHA-256 of the file that it was read from; empty where that is not known
	Name     string
	Uploaded time.Time
	Start    int64
	End      int64
	Rows     int
	Bytes    int64 // that its blocks take
	Clock    recording.Clock
	Notes    []string
	Columns  []Column

	Understood string // how the file was read, in words
}

// Samples is the number of readings in all columns.
func (r *Recording) Samples() int {
	n := 0
	for _, c := range r.Columns {
		n += c.Samples
	}
	return n
}

// A Column is a column's name, unit and figures.
type Column struct {
	Name, Unit string
	Samples    int
	Min, Max   float64 // NaN if no reading is good
}

type recordingRow struct {
	ID       int64 `gorm:"primaryKey;autoIncrement"`
	Job      int64
	Name     string
	Uploaded int64
	Start    int64
	End      int64
	Rows     int
	Elapsed  bool
	Offset   int
	Zone     string
	Notes    string

	Understood string
	File       []byte
	Sum        []byte
}

func (recordingRow) TableName() string { return "recordings" }

func (r recordingRow) clock() recording.Clock {
	return recording.Clock{Elapsed: r.Elapsed, Offset: r.Offset, Zone: r.Zone}.Spanning(r.Start, r.End)
}

type columnRow struct {
	ID         int64 `gorm:"primaryKey;autoIncrement"`
	Recording  int64
	Position   int
	Name       string
	Unit       string
	Word       string
	WordLine   int
	WordColumn int

	Readings int // this and the rest: of all its blocks
	Min      sql.NullFloat64
	Max      sql.NullFloat64
	Bytes    int64
	Sum      []byte
}

// count takes a block into the column's figures.
func (c *columnRow) count(b blockRow) {
	c.Readings += b.Readings
	c.Bytes += int64(len(b.Data))
	if !b.Min.Valid {
		return
	}
	if !c.Min.Valid {
		c.Min, c.Max = b.Min, b.Max
	}
	c.Min.Float64, c.Max.Float64 = min(c.Min.Float64, b.Min.Float64), max(c.Max.Float64, b.Max.Float64)
}

func (columnRow) TableName() string { return "columns" }

type blockRow struct {
	ID       int64 `gorm:"primaryKey"`
	Column   int64
	First    int64
	Last     int64
	Readings int
	Min      sql.NullFloat64
	Max      sql.NullFloat64
	AnyBad   bool
	Data     []byte
	Sum      int64
}

func (blockRow) TableName() string { return "blocks" }

var (
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest)) // cannot fail with these
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(1<<20))
)

func nullable(v float64) sql.NullFloat64 {
	return sql.NullFloat64{Float64: v, Valid: !math.IsNaN(v)}
}

// AddRecording keeps a recording under a name that is not taken yet
// (ErrExists), with the SHA-256 of its file, and returns its number.
func (j *Job) AddRecording(ctx context.Context, name string, r *recording.Recording, file []byte, now time.Time) (int64, error) {
	s := j.store
	notes, err := json.Marshal(append([]string{}, r.Notes...))
	if err != nil {
		return 0, fmt.Errorf("keeping recording %s: %w", name, err)
	}
	row := recordingRow{
		Job:        j.ID,
		File:       append([]byte{}, file...),
		Name:       name,
		Uploaded:   now.UnixNano(),
		Start:      r.Start,
		End:        r.End,
		Rows:       r.Rows,
		Elapsed:    r.Clock.Elapsed,
		Offset:     r.Clock.Offset,
		Zone:       r.Clock.Zone,
		Notes:      string(notes),
		Understood: r.Understood.String(),
	}
	size := int64(0)
	for _, c := range r.Columns {
		size += 4 * int64(c.Len()) // about what a reading takes
	}
	if err := s.Room(ctx, size); err != nil {
		return 0, fmt.Errorf("keeping recording %s: %w", name, err)
	}
	err = s.change(ctx, func(tx *gorm.DB) error {
		var taken int64
		if err := tx.Model(&recordingRow{}).Where("job = ? AND name = ?", j.ID, name).Count(&taken).Error; err != nil {
			return err
		}
		if taken > 0 {
			return ErrExists
		}
		row.Sum = []byte{}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		row.Sum = row.sum() // which its number belongs to
		if err := tx.Model(&row).Update("sum", row.Sum).Error; err != nil {
			return err
		}
		columns := make([]columnRow, len(r.Columns))
		for i, c := range r.Columns {
			columns[i] = columnRow{Recording: row.ID, Position: i, Name: c.Name, Unit: c.Unit, Sum: []byte{}}
			if c.Word != nil {
				columns[i].Word, columns[i].WordLine, columns[i].WordColumn = c.Word.Text, c.Word.Line, c.Word.Column
			}
			if err := tx.Create(&columns[i]).Error; err != nil {
				return fmt.Errorf("column %s: %w", c.Name, err)
			}
		}
		if err := addBlocks(tx, s.options.Log, columns, r.Columns); err != nil {
			return err
		}
		for i := range columns {
			columns[i].Sum = columns[i].sum()
			if err := tx.Save(&columns[i]).Error; err != nil {
				return fmt.Errorf("column %s: %w", columns[i].Name, err)
			}
		}
		return nil
	})
	if err != nil {
		return 0, fmt.Errorf("keeping recording %s: %w", name, err)
	}
	return row.ID, nil
}

// addBlocks packs blocks on all processors and writes them meanwhile, in the
// order of time: so the columns that share their times are packed together.
func addBlocks(tx *gorm.DB, log *slog.Logger, columns []columnRow, of []*recording.Column) error {
	most := 0
	for _, c := range of {
		most = max(most, len(c.Blocks))
	}
	type packed struct {
		rows []blockRow
		err  error
	}
	all := make(chan chan packed, runtime.GOMAXPROCS(0)) // in order; bounds what is under way
	ctx, stop := context.WithCancel(tx.Statement.Context)
	defer stop()
	background.Go(log, "packing recordings", func() error {
		defer close(all)
		for k := range most {
			one := make(chan packed, 1)
			select {
			case all <- one:
				background.Go(log, "packing a recording", func() error {
					one <- packed{rows: pack(columns, of, k)}
					return nil
				}, func(err error) { one <- packed{err: err} })
			case <-ctx.Done():
				return nil
			}
		}
		return nil
	})
	position := map[int64]int{}
	for i, c := range columns {
		position[c.ID] = i
	}
	for some := range all {
		made := <-some
		if made.err != nil {
			return made.err
		}
		rows := made.rows
		if err := tx.CreateInBatches(rows, 100).Error; err != nil {
			return err
		}
		for _, b := range rows {
			columns[position[b.Column]].count(b)
		}
	}
	return ctx.Err()
}

// pack makes the rows of the k-th block of every column that has so many.
func pack(columns []columnRow, of []*recording.Column, k int) []blockRow {
	var rows []blockRow
	var last []int64
	var times, data []byte
	for i, c := range of {
		if k >= len(c.Blocks) {
			continue
		}
		b := c.Blocks[k]
		if len(last) != b.Len() || &last[0] != &b.Times[0] {
			last, times = b.Times, recording.EncodeTimes(b.Times)
		}
		data = b.AppendEncoding(data[:0], times)
		row := blockRow{Column: columns[i].ID, First: b.Times[0], Last: b.Times[b.Len()-1], Readings: b.Len(),
			Min: nullable(b.Min), Max: nullable(b.Max), AnyBad: b.AnyBad, Data: encoder.EncodeAll(data, make([]byte, 0, len(data)+64))}
		row.Sum = row.sum()
		rows = append(rows, row)
	}
	return rows
}

// Recordings lists all recordings by name, without their readings.
func (j *Job) Recordings(ctx context.Context) ([]*Recording, error) {
	var rows []recordingRow
	if err := j.store.read.WithContext(ctx).Order("name").Find(&rows, "job = ?", j.ID).Error; err != nil {
		return nil, fmt.Errorf("listing recordings: %w", err)
	}
	all := make([]*Recording, len(rows))
	for i, row := range rows {
		err := row.verify()
		if err == nil {
			all[i], err = j.store.describe(ctx, row)
		}
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Recording is one recording without its readings.
func (j *Job) Recording(ctx context.Context, id int64) (*Recording, error) {
	row, err := j.recordingRow(ctx, id)
	if err != nil {
		return nil, err
	}
	return j.store.describe(ctx, row)
}

func (j *Job) recordingRow(ctx context.Context, id int64) (recordingRow, error) {
	var row recordingRow
	if err := j.store.read.WithContext(ctx).First(&row, "job = ? AND id = ?", j.ID, id).Error; err != nil {
		return row, found(err, "recording %d", id)
	}
	return row, row.verify()
}

// describe adds the figures of a recording's columns.
func (s *Store) describe(ctx context.Context, row recordingRow) (*Recording, error) {
	r := &Recording{
		ID:         row.ID,
		File:       row.File,
		Name:       row.Name,
		Uploaded:   time.Unix(0, row.Uploaded).UTC(),
		Start:      row.Start,
		End:        row.End,
		Rows:       row.Rows,
		Clock:      row.clock(),
		Understood: row.Understood,
	}
	if err := json.Unmarshal([]byte(row.Notes), &r.Notes); err != nil {
		return nil, fmt.Errorf("reading the notes of recording %s: %w", row.Name, err)
	}
	columns, err := s.columns(ctx, row)
	if err != nil {
		return nil, err
	}
	for _, c := range columns {
		column := Column{c.Name, c.Unit, c.Readings, math.NaN(), math.NaN()}
		if c.Min.Valid && c.Max.Valid {
			column.Min, column.Max = c.Min.Float64, c.Max.Float64
		}
		r.Columns = append(r.Columns, column)
		r.Bytes += c.Bytes
	}
	return r, nil
}

func (s *Store) columns(ctx context.Context, row recordingRow) ([]columnRow, error) {
	columns, err := s.columnRows(ctx, row)
	for i := range columns {
		if err := row.verifyColumn(&columns[i]); err != nil {
			return nil, err
		}
	}
	return columns, err
}

func (s *Store) columnRows(ctx context.Context, row recordingRow) ([]columnRow, error) {
	var columns []columnRow
	if err := s.read.WithContext(ctx).Order("position").Find(&columns, "recording = ?", row.ID).Error; err != nil {
		return nil, fmt.Errorf("reading the columns of recording %s: %w", row.Name, readable(err))
	}
	return columns, nil
}

// Readings reads a recording with the blocks that have readings from one time
// to another. Columns that were sampled together share their times again.
func (j *Job) Readings(ctx context.Context, id, from, to int64) (*recording.Recording, error) {
	s := j.store
	row, err := j.recordingRow(ctx, id)
	if err != nil {
		return nil, err
	}
	r := &recording.Recording{Origin: row.Start, Start: row.Start, End: row.End, Rows: row.Rows, Clock: row.clock()}
	if err := json.Unmarshal([]byte(row.Notes), &r.Notes); err != nil {
		return nil, fmt.Errorf("reading the notes of recording %s: %w", row.Name, err)
	}
	columns, err := s.columns(ctx, row)
	if err != nil {
		return nil, err
	}
	together := map[int64][]func(d *recording.Decoder) error{} // what unpacks the blocks that begin at a time
	for _, c := range columns {
		column := &recording.Column{Name: c.Name, Unit: c.Unit}
		if c.Word != "" {
			column.Word = &recording.Word{Text: c.Word, Line: c.WordLine, Column: c.WordColumn}
		}
		var blocks []blockRow
		if err := s.read.WithContext(ctx).Order("first").Find(&blocks, `"column" = ? AND last >= ? AND first <= ?`, c.ID, from, to).Error; err != nil {
			return nil, fmt.Errorf("reading column %s of recording %s: %w", c.Name, row.Name, readable(err))
		}
		column.Blocks = make([]*recording.Block, len(blocks))
		for i, b := range blocks {
			together[b.First] = append(together[b.First], func(d *recording.Decoder) (err error) {
				column.Blocks[i], err = b.unpack(d, row.Name, c.Name)
				return err
			})
		}
		r.Columns = append(r.Columns, column)
	}
	if err := unpack(ctx, together); err != nil {
		return nil, err
	}
	return r, nil
}

// unpack unpacks blocks on all processors; those that begin at the same time one after the other, for
// most often they share their times.
func unpack(ctx context.Context, together map[int64][]func(d *recording.Decoder) error) error {
	tasks := make([]func() error, 0, len(together))
	for _, some := range together {
		tasks = append(tasks, func() error {
			var d recording.Decoder
			for _, one := range some {
				if err := ctx.Err(); err != nil {
					return err
				}
				if err := one(&d); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return background.Spread("unpacking a recording", tasks)
}

// unpack verifies a block of a column and unpacks it.
func (b *blockRow) unpack(d *recording.Decoder, of, column string) (*recording.Block, error) {
	if err := b.verify(of, column); err != nil {
		return nil, err
	}
	data, err := decoder.DecodeAll(b.Data, nil)
	if err != nil {
		return nil, fmt.Errorf("reading column %s of recording %s: %w", column, of, err)
	}
	block, err := d.Block(data)
	if err != nil {
		return nil, fmt.Errorf("reading column %s of recording %s: %w", column, of, err)
	}
	return block, nil
}

// RenameRecording gives a recording another name, which is not taken yet (ErrExists).
func (j *Job) RenameRecording(ctx context.Context, id int64, name string) error {
	err := j.store.change(ctx, func(tx *gorm.DB) error {
		var row recordingRow
		if err := tx.First(&row, "job = ? AND id = ?", j.ID, id).Error; err != nil {
			return found(err, "recording %d", id)
		}
		if err := row.verify(); err != nil || row.Name == name {
			return err
		}
		var taken int64
		if err := tx.Model(&recordingRow{}).Where("job = ? AND name = ?", j.ID, name).Count(&taken).Error; err != nil {
			return err
		}
		if taken > 0 {
			return ErrExists
		}
		row.Name = name
		row.Sum = row.sum()
		return tx.Model(&row).Select("name", "sum").Updates(&row).Error
	})
	if err != nil {
		return fmt.Errorf("renaming recording %d: %w", id, err)
	}
	return nil
}

// DeleteRecording deletes a recording with its readings; not one that a trial of a
// kept revision plays (ErrNeeded).
func (j *Job) DeleteRecording(ctx context.Context, id int64) error {
	err := j.store.change(ctx, func(tx *gorm.DB) error {
		var by []int64
		if err := tx.Raw("SELECT number FROM revisions JOIN plays ON plays.revision = revisions.id WHERE job = ? AND recording = ? ORDER BY number", j.ID, id).Scan(&by).Error; err != nil {
			return err
		}
		if n := len(by); n == 1 {
			return fmt.Errorf("a trial of revision %d plays it: %w", by[0], ErrNeeded)
		} else if n > 1 {
			return fmt.Errorf("trials of %d revisions play it, the newest of which is %d: %w", n, by[n-1], ErrNeeded)
		}
		done := tx.Delete(&recordingRow{}, "job = ? AND id = ?", j.ID, id)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return done.Error
	})
	if err != nil {
		return fmt.Errorf("deleting recording %d: %w", id, err)
	}
	return nil
}
