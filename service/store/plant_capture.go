package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"gorm.io/gorm"

	"rectura/core/logic"
)

// A Segment is a part of a job's capture that begins with the whole memory.
type Segment struct {
	ID           int64
	Revision     int64
	Begins, Ends int64 // service time
	Bytes        int64
	Earlier      bool // it was captured by an earlier form of the program, and cannot be played to the word
}

// A Captured segment has its memory and its stretches, which a capture.Decoder reads.
type Captured struct {
	Segment
	Memory    []logic.Row
	Stretches [][]byte
}

// A Record is a snapshot of a job's records. Later commits do not change it.
type Record struct {
	p   *Records
	tx  *gorm.DB
	job int64
}

// Record calls f with a snapshot of a job's records.
func (p *Records) Record(ctx context.Context, job int64, f func(*Record) error) error {
	return p.read.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return f(&Record{p, tx, job}) })
}

// Segments returns those that touch a stretch of time, in the order in which they were kept.
func (r *Record) Segments(from, to int64) ([]Segment, error) {
	var rows []segmentRow
	err := r.tx.Omit("memory").Where("job = ? AND begins < ? AND ends >= ?", r.job, to, from).Order("id").Find(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("reading the capture: %w", readable(err))
	}
	all := make([]Segment, len(rows))
	for i := range rows {
		all[i] = rows[i].segment()
	}
	return all, nil
}

func (s *segmentRow) segment() Segment {
	return Segment{s.ID, s.Revision, s.Begins, s.Ends, s.Bytes, s.Form != formColumns}
}

// Captured returns a segment.
func (r *Record) Captured(segment int64) (*Captured, error) {
	return r.p.segment(r.tx.Statement.Context, r.tx, segment)
}

// Journal returns entries of the job's journal, the oldest first.
func (r *Record) Journal(f JournalFilter) ([]Entry, error) { return journal(r.tx, r.job, f) }

// SinceCheckpoint returns the stretches of a job's capture that its memory does not hold yet. Damage of the segment is an ErrDamaged.
func (p *Records) SinceCheckpoint(ctx context.Context, job int64) (stretches [][]byte, err error) {
	err = p.Record(ctx, job, func(r *Record) error {
		var row armedRow
		if err := r.tx.Omit("sheets").Take(&row, job).Error; errors.Is(err, gorm.ErrRecordNotFound) {
			return nil
		} else if err != nil {
			return p.unreadable(err, "reading the last checkpoint")
		}
		var s segmentRow
		err := r.tx.Omit("memory").Where("job = ? AND number = ?", job, row.Segment).Take(&s).Error
		switch {
		case errors.Is(err, gorm.ErrRecordNotFound) && row.Segment == 0, err == nil && s.Stretches == row.Checkpoint:
			return nil
		case errors.Is(err, gorm.ErrRecordNotFound):
			return damageOf("the capture since its memory was kept")
		case err != nil:
			return p.unreadable(err, "reading the capture since the last checkpoint")
		}
		c, err := p.segment(ctx, r.tx, s.ID)
		if err != nil {
			return err
		}
		if row.Checkpoint > int64(len(c.Stretches)) {
			return damageOf("the capture since its memory was kept")
		}
		stretches = c.Stretches[row.Checkpoint:]
		return nil
	})
	return stretches, err
}

// segment reads a segment, and holds it against its sums.
func (p *Records) segment(ctx context.Context, tx *gorm.DB, id int64) (*Captured, error) {
	var row segmentRow
	if err := tx.Take(&row, id).Error; err != nil {
		return nil, found(err, "the segment %d", id)
	}
	damaged := damageOf("the segment of the capture from %s on", time.Unix(0, row.Begins).UTC().Format(time.DateTime))
	if !sound(row.Sum, row.sum()) || !sound(row.MemorySum, short(row.Memory)) {
		return nil, damaged
	}
	c := &Captured{Segment: row.segment()}
	text, err := p.decompressed(row.Memory)
	if err == nil {
		err = json.Unmarshal(text, &c.Memory)
	}
	if err != nil {
		return nil, damaged
	}
	var rows []stretchRow
	if err := tx.Where("segment = ?", id).Order("number").Find(&rows).Error; err != nil {
		return nil, p.unreadable(err, fmt.Sprintf("reading the segment %d", id))
	}
	chain := make([]byte, sumSize)
	for i := range rows {
		chain = chained(chain, rows[i].Events)
		events := rows[i].Events
		if row.Form == formLists {
			if events, err = p.decompressed(events); err != nil {
				return nil, damaged
			}
		}
		c.Stretches = append(c.Stretches, events)
		if err := ctx.Err(); err != nil {
			return nil, err
		}
	}
	if int64(len(rows)) != row.Stretches || !bytes.Equal(chain, row.Chain) {
		return nil, damaged
	}
	return c, nil
}

func (p *Records) decompressed(data []byte) ([]byte, error) {
	out, err := p.unpacker.DecodeAll(data, nil)
	if err != nil {
		return nil, fmt.Errorf("unpacking: %w: %w", ErrDamaged, err)
	}
	return out, nil
}

// A Reach says how far back what is kept of a job reaches, and how much comes a day, by the last day.
type Reach struct {
	JournalFrom, CaptureFrom   int64 // times; 0 for nothing
	JournalBytes, CaptureBytes int64
	CaptureADay, JournalADay   int64 // bytes
}

// Reach returns that of a job.
func (p *Records) Reach(ctx context.Context, job, now int64) (r Reach, err error) {
	const day = int64(24 * time.Hour)
	err = p.read.WithContext(ctx).Raw(`SELECT
		coalesce((SELECT time FROM journal WHERE job = ? ORDER BY number LIMIT 1), 0) AS journal_from,
		coalesce((SELECT min(begins) FROM segments WHERE job = ?), 0) AS capture_from,
		coalesce((SELECT journal_bytes FROM armed WHERE number = ?), 0) AS journal_bytes,
		coalesce((SELECT sum(bytes) FROM segments WHERE job = ?), 0) AS capture_bytes,
		coalesce((SELECT sum(bytes) FROM segments WHERE job = ? AND begins >= ?), 0) AS capture_a_day,
		coalesce((SELECT count(*) FROM journal WHERE job = ? AND time >= ?), 0) AS journal_a_day`, job, job, job, job, job, now-day, job, now-day).
		Scan(&r).Error
	if err != nil {
		return r, p.unreadable(err, "asking how far back records reach")
	}
	if whole := now - r.CaptureFrom; r.CaptureFrom > 0 && whole < day && whole > int64(time.Minute) { // of less than a day
		r.CaptureADay = int64(float64(r.CaptureADay) * float64(day) / float64(whole))
		r.JournalADay = int64(float64(r.JournalADay) * float64(day) / float64(whole))
	}
	r.JournalADay *= 150 // bytes of an entry, about
	return r, nil
}

// entriesAtOnce is the number of entries that one transaction deletes. It bounds the wait of a concurrent commit.
const entriesAtOnce = 5000

// Forget deletes what is older than it is kept for, and the oldest of what is more than is kept, in small transactions, and gives its
// room back. The segment that goes on is kept, and the last entry of a journal.
func (p *Plant) Forget(ctx context.Context, now int64, r Retention) error {
	var jobs []armedRow
	if err := p.read.WithContext(ctx).Select("number").Find(&jobs).Error; err != nil {
		return p.unreadable(err, "reading what is armed")
	}
	for _, j := range jobs {
		for {
			n, err := p.forgetEntries(ctx, j.Number, now, r, int64(len(jobs)))
			if err != nil {
				return fmt.Errorf("deleting old entries of the journal: %w", err)
			}
			if n < entriesAtOnce {
				break
			}
		}
	}
	for {
		gone, err := p.forgetSegment(ctx, now, r)
		if err != nil {
			return fmt.Errorf("deleting old capture: %w", err)
		}
		if !gone {
			return nil
		}
		if err := p.db.WithContext(ctx).Exec("PRAGMA incremental_vacuum(2000)").Error; err != nil {
			return fmt.Errorf("giving room back: %w", readable(err))
		}
	}
}

// forgetEntries deletes the oldest entries of a journal that are too old, or too much, and returns how many.
func (p *Plant) forgetEntries(ctx context.Context, job, now int64, r Retention, jobs int64) (n int, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var next *end
	err = p.change(ctx, func(tx *gorm.DB) error {
		e, err := p.endOf(tx, job)
		if err != nil {
			return err
		}
		next = e.clone()
		var rows []entryRow
		if err := tx.Where("job = ? AND number < ?", job, next.row.JournalLast).Order("number").Limit(entriesAtOnce).Find(&rows).Error; err != nil {
			return err
		}
		for n < len(rows) && (rows[n].Time < now-int64(r.Journal) || r.JournalBytes > 0 && next.row.JournalBytes > r.JournalBytes/jobs) {
			next.row.JournalBytes -= rows[n].size()
			n++
		}
		if n == 0 {
			return nil
		}
		next.row.JournalFirst = rows[n-1].Number + 1
		next.row.Sum = next.row.sum()
		if err := tx.Exec("DELETE FROM journal WHERE job = ? AND number < ?", job, next.row.JournalFirst).Error; err != nil {
			return err
		}
		return tx.Save(&next.row).Error
	})
	if err != nil {
		delete(p.ends, job)
		return 0, err
	}
	p.ends[job] = next
	return n, nil
}

func (p *Plant) forgetSegment(ctx context.Context, now int64, r Retention) (gone bool, err error) {
	var total int64
	if err := p.read.WithContext(ctx).Raw("SELECT coalesce(sum(bytes), 0) FROM segments").Scan(&total).Error; err != nil {
		return false, readable(err)
	}
	var s segmentRow
	err = p.read.WithContext(ctx).
		Omit("memory").
		Where("id NOT IN (SELECT max(id) FROM segments GROUP BY job)").Order("id").Take(&s).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return false, nil
	}
	if err != nil {
		return false, readable(err)
	}
	left, err := diskFree(filepath.Dir(p.file))
	if err != nil {
		return false, err
	}
	if s.Ends >= now-int64(r.Capture) && total <= r.Bytes && left >= r.Free {
		return false, nil
	}
	return true, p.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM stretches WHERE segment = ?", s.ID).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM segments WHERE id = ?", s.ID).Error
	})
}

// Delete deletes what is kept of a job. Unless it is purged, it is first copied into a file of its own beside this one, whose name is
// returned.
func (p *Plant) Delete(ctx context.Context, job int64, name string, now time.Time, purge bool) (file string, err error) {
	var n int64
	if err := p.read.WithContext(ctx).Model(&armedRow{}).Where("number = ?", job).Count(&n).Error; err != nil {
		return "", p.unreadable(err, "looking for the job "+name)
	}
	if n == 0 {
		return "", nil
	}
	if !purge {
		file = filepath.Join(filepath.Dir(p.file), fmt.Sprintf("deleted-%s-%s.db", name, now.UTC().Format("20060102T150405Z")))
		if err := p.copyJob(ctx, job, file); err != nil {
			return "", fmt.Errorf("keeping what the job %s did in a file of its own: %w", name, err)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for {
		var gone int64
		err = p.change(ctx, func(tx *gorm.DB) error {
			done := tx.Exec("DELETE FROM stretches WHERE (segment, number) IN (SELECT segment, number FROM stretches WHERE segment IN "+
				"(SELECT id FROM segments WHERE job = ?) LIMIT ?)", job, entriesAtOnce)
			gone = done.RowsAffected
			return done.Error
		})
		if err != nil || gone < entriesAtOnce {
			break
		}
	}
	if err == nil {
		err = p.change(ctx, func(tx *gorm.DB) error {
			for table, column := range plantTables {
				if err := tx.Exec("DELETE FROM "+table+" WHERE "+column+" = ?", job).Error; err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err != nil {
		return file, fmt.Errorf("deleting what is kept of the job %s: %w", name, err)
	}
	delete(p.ends, job)
	p.head.forget(job)
	return file, nil
}

// plantTables are those with rows of a job, and the column of its number.
var plantTables = map[string]string{"armed": "number", "memories": "job", "bypasses": "job", "journal": "job", "segments": "job", "figures": "job",
	"revisions": "job"}

// copyJob copies the rows of a job into a new file with the same tables.
func (p *Plant) copyJob(ctx context.Context, job int64, file string) error {
	made, err := openFile(ctx, file, p.options, "migrations/plant/*.sql", "none", nil)
	if err != nil {
		return err
	}
	if err := made.Close(); err != nil {
		return err
	}
	return p.db.WithContext(ctx).Connection(func(tx *gorm.DB) error {
		if err := tx.Exec("ATTACH DATABASE ? AS gone", file).Error; err != nil {
			return err
		}
		err := tx.Transaction(func(tx *gorm.DB) error {
			for _, table := range []string{"armed", "memories", "bypasses", "journal", "segments", "figures", "revisions"} {
				if err := tx.Exec("INSERT INTO gone."+table+" SELECT * FROM main."+table+" WHERE "+plantTables[table]+" = ?", job).Error; err != nil {
					return err
				}
			}
			return tx.Exec("INSERT INTO gone.stretches SELECT * FROM main.stretches WHERE segment IN (SELECT id FROM main.segments WHERE job = ?)", job).Error
		})
		return errors.Join(err, tx.Exec("DETACH DATABASE gone").Error)
	})
}
