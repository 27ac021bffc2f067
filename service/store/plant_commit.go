package store

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Commit keeps a cut, and returns the number of the last entry of the job's journal.
func (p *Plant) Commit(ctx context.Context, c *Cut) (last int64, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var next *end
	err = p.change(ctx, func(tx *gorm.DB) error {
		before, err := p.endOf(tx, c.Armed.Number)
		if err != nil {
			return err
		}
		next = before.clone()
		return p.commit(tx, c, next)
	})
	if err != nil {
		delete(p.ends, c.Armed.Number) // it is read anew
		return 0, fmt.Errorf("keeping what the job %s does: %w", c.Armed.Name, err)
	}
	p.ends[c.Armed.Number] = next
	p.head.tell(&next.row)
	return next.row.JournalLast, nil
}

func (e *end) clone() *end {
	x := *e
	x.memories, x.figures = maps.Clone(e.memories), maps.Clone(e.figures)
	return &x
}

func (p *Plant) commit(tx *gorm.DB, c *Cut, e *end) error {
	if err := e.commitJournal(tx, c); err != nil {
		return err
	}
	if err := e.commitMemory(tx, c); err != nil {
		return err
	}
	if err := p.commitCapture(tx, c, e); err != nil {
		return err
	}
	if err := e.commitBypasses(tx, c); err != nil {
		return err
	}
	if err := e.commitFigures(tx, c); err != nil {
		return err
	}
	return e.commitArmed(tx, c)
}

// commitArmed writes the row from which the rest of the job can be told to be whole. It comes last.
func (e *end) commitArmed(tx *gorm.DB, c *Cut) error {
	a, r := &c.Armed, &e.row
	r.Number, r.Name, r.Mode, r.Fault, r.Damage, r.Again = a.Number, a.Name, a.Mode, a.Fault, a.Damage, a.Again
	r.Revision, r.Since, r.Last, r.Starts = a.Revision, a.Since, a.Last, a.Starts
	r.Commits++
	var err error
	if r.Abandoned, err = json.Marshal(a.Left); err != nil {
		return err
	}
	if c.Sheets || r.Sheets == nil {
		if r.Sheets, err = json.Marshal(a.Sources); err != nil {
			return err
		}
		kept := revisionRow{Job: a.Number, Number: a.Revision, Sheets: r.Sheets}
		kept.Sum = kept.sum()
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true, Columns: []clause.Column{{Name: "job"}, {Name: "number"}}}).Create(&kept).Error; err != nil {
			return err
		}
	}
	r.Memories, r.Figures = bytes.Clone(e.digests.memories[:]), bytes.Clone(e.digests.figures[:])
	if r.JournalSum == nil {
		r.JournalSum = make([]byte, sumSize)
	}
	r.Sum = r.sum()
	if r.Commits > 1 && !c.Sheets { // which is most of the row
		done := tx.Model(r).Select("*").Omit("sheets").Updates(r)
		if done.Error != nil || done.RowsAffected == 1 {
			return done.Error
		}
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true, Columns: []clause.Column{{Name: "number"}}}).Create(r).Error
}

// size is about how many bytes an entry takes.
func (e *Entry) size() int64 {
	return int64(len(e.Because) + len(e.From) + len(e.To) + len(e.Name) + 120)
}

func (e *end) commitJournal(tx *gorm.DB, c *Cut) error {
	if len(c.Journal) == 0 {
		return nil
	}
	r := &e.row
	if r.JournalSum == nil {
		r.JournalSum = make([]byte, sumSize)
	}
	rows := make([]entryRow, len(c.Journal))
	for i := range c.Journal {
		r.JournalLast++
		x := &c.Journal[i]
		x.Job, x.Number = c.Armed.Number, r.JournalLast
		rows[i] = entryRow{Entry: *x, Before: r.JournalSum}
		rows[i].Sum = rows[i].sum()
		r.JournalSum = rows[i].Sum
		r.JournalBytes += x.size()
	}
	return tx.CreateInBatches(rows, rowsAtOnce).Error
}

func (e *end) commitMemory(tx *gorm.DB, c *Cut) error {
	if !c.Checkpoint && !c.Whole {
		return nil
	}
	if c.Whole {
		if err := tx.Exec("DELETE FROM memories WHERE job = ?", c.Armed.Number).Error; err != nil {
			return err
		}
		clear(e.memories)
		e.digests.memories = digest{}
	}
	rows := make([]memoryRow, len(c.Memory))
	for i, m := range c.Memory {
		rows[i] = memoryRow{Job: c.Armed.Number, Name: m.Name, Kind: m.Kind, Data: m.Data}
		rows[i].Sum = rows[i].sum()
		e.digests.memories.turn(e.memories[m.Name])
		e.digests.memories.turn(rows[i].Sum)
		e.memories[m.Name] = rows[i].Sum
	}
	if len(rows) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true, Columns: []clause.Column{{Name: "job"}, {Name: "name"}}}).
		CreateInBatches(rows, rowsAtOnce).Error
}

func (e *end) commitBypasses(tx *gorm.DB, c *Cut) error {
	rows := make([]bypassRow, len(c.Bypasses))
	for i, b := range c.Bypasses {
		b.Job = c.Armed.Number
		rows[i] = bypassRow{Bypass: b}
		rows[i].Sum = rows[i].sum()
	}
	now := sumOfBypasses(rows)
	if bytes.Equal(now, e.row.Bypasses) {
		return nil
	}
	e.row.Bypasses = now
	if err := tx.Exec("DELETE FROM bypasses WHERE job = ?", c.Armed.Number).Error; err != nil {
		return err
	}
	return createAll(tx, &rows)
}

func (e *end) commitFigures(tx *gorm.DB, c *Cut) error {
	rows := make([]figuresRow, len(c.Figures))
	for i, f := range c.Figures {
		f.Job = c.Armed.Number
		rows[i] = figuresRow{Figures: f}
		rows[i].Sum = rows[i].sum()
		e.digests.figures.turn(e.figures[f.Name])
		e.digests.figures.turn(rows[i].Sum)
		e.figures[f.Name] = rows[i].Sum
	}
	if len(rows) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true, Columns: []clause.Column{{Name: "job"}, {Name: "name"}}}).
		CreateInBatches(rows, rowsAtOnce).Error
}

// commitCapture goes on with the last segment, and begins another with the whole memory.
func (p *Plant) commitCapture(tx *gorm.DB, c *Cut, e *end) error {
	if err := commitEvents(tx, c, e); err != nil {
		return err
	}
	if c.Checkpoint {
		e.row.Checkpoint = e.segment.Stretches
	}
	if !c.Whole {
		return nil
	}
	memory, err := json.Marshal(c.Memory)
	if err != nil {
		return err
	}
	packed := p.packer.EncodeAll(memory, nil)
	a := &c.Armed
	e.row.Segment++
	e.row.Checkpoint = 0
	s := segmentRow{Job: a.Number, Number: e.row.Segment, Form: formColumns, Revision: a.Revision, Begins: a.Last, Ends: a.Last, Bytes: int64(len(packed)),
		Memory: packed, MemorySum: short(packed), Chain: make([]byte, sumSize)}
	s.Sum = s.sum()
	if err := tx.Create(&s).Error; err != nil {
		return err
	}
	s.Memory = nil
	e.segment = s
	return nil
}

// commitEvents goes on with the last segment.
func commitEvents(tx *gorm.DB, c *Cut, e *end) error {
	if len(c.Events) == 0 {
		return nil
	}
	s := &e.segment
	if s.ID == 0 {
		return fmt.Errorf("the segment %d of the capture that goes on is missing: %w", e.row.Segment, ErrDamaged)
	}
	for _, data := range c.Events {
		s.Stretches++
		if err := tx.Create(&stretchRow{s.ID, s.Stretches, data}).Error; err != nil {
			return err
		}
		s.Bytes += int64(len(data))
		s.Chain = chained(s.Chain, data)
	}
	s.Ends = c.Armed.Last
	s.Sum = s.sum()
	return tx.Model(s).Select("ends", "bytes", "stretches", "chain", "sum").Updates(s).Error
}
