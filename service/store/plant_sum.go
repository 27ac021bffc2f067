package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"

	"gorm.io/gorm"
)

// sumSize is the number of bytes of a SHA-256 that each row carries: a guard against damage, not against forgery.
const sumSize = 16

func short(fields ...any) []byte { return sum(fields...)[:sumSize] }

func (r *armedRow) sum() []byte {
	return short(r.Number, r.Name, r.Mode, r.Fault, r.Damage, int64(r.Again), r.Revision, r.Since, r.Last, r.Starts, r.Sheets, r.Abandoned, r.Commits, r.JournalFirst,
		r.JournalLast, r.JournalBytes, r.JournalSum, r.Segment, r.Checkpoint, r.Memories, r.Bypasses, r.Figures)
}

func (r *memoryRow) sum() []byte { return short(r.Job, r.Name, r.Kind, r.Data) }

func (r *entryRow) sum() []byte {
	return short(r.Job, r.Number, r.Time, r.Kind, r.Name, r.From, r.To, r.Because, r.Who, r.Via, r.Before)
}

func (r *bypassRow) sum() []byte {
	return short(r.Job, r.Name, r.Kind, r.Value, r.Lock, r.Who, r.Why, r.Since)
}

func (r *figuresRow) sum() []byte { return short(r.Job, r.Name, r.OnNs, r.Starts, r.ServicedNs) }

func (r *segmentRow) sum() []byte {
	return short(r.Job, r.Number, r.Form, r.Revision, r.Begins, r.Ends, r.Bytes, r.Stretches, r.MemorySum, r.Chain)
}

func (r *revisionRow) sum() []byte { return short(r.Job, r.Number, r.Sheets) }

// chained returns the chain of a segment with one stretch more.
func chained(chain, events []byte) []byte { return short(chain, events) }

// A digest is the exclusive or of sums: of a set of rows, in any order.
type digest [sumSize]byte

func (d *digest) turn(sum []byte) {
	for i := range min(len(sum), sumSize) {
		d[i] ^= sum[i]
	}
}

// sound reports whether a row has the sum that it was kept with.
func sound(kept, now []byte) bool { return len(kept) == sumSize && bytes.Equal(kept, now) }

// An end is what the next commit of a job goes on from.
type end struct {
	row      armedRow
	memories map[string][]byte // sums, by name
	figures  map[string][]byte
	segment  segmentRow // the last one, without its memory
	digests  struct{ memories, figures digest }
}

// endOf returns that of a job, which it reads if it is not known.
func (p *Plant) endOf(tx *gorm.DB, job int64) (*end, error) {
	if e := p.ends[job]; e != nil {
		return e, nil
	}
	e := &end{row: armedRow{Number: job, JournalFirst: 1}, memories: map[string][]byte{}, figures: map[string][]byte{}}
	if err := tx.Take(&e.row, job).Error; err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	var memories []memoryRow
	if err := tx.Select("name", "sum").Find(&memories, "job = ?", job).Error; err != nil {
		return nil, err
	}
	for _, r := range memories {
		e.memories[r.Name] = r.Sum
		e.digests.memories.turn(r.Sum)
	}
	err := tx.Omit("memory").Where("job = ? AND number = ?", job, e.row.Segment).Take(&e.segment).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	var figures []figuresRow
	if err := tx.Select("name", "sum").Find(&figures, "job = ?", job).Error; err != nil {
		return nil, err
	}
	for _, r := range figures {
		e.figures[r.Name] = r.Sum
		e.digests.figures.turn(r.Sum)
	}
	return e, nil
}

// fillPlant gives what an earlier program kept by the names of jobs to the jobs' numbers. A name that no job has any more gets a number
// beyond all others.
func fillPlant(tx *gorm.DB, numbers map[string]int64) error {
	var names []string
	if err := tx.Raw("SELECT job FROM armed_before UNION SELECT job FROM journal_before UNION SELECT job FROM segments_before ORDER BY 1").
		Scan(&names).Error; err != nil {
		return err
	}
	next := int64(1)
	for _, n := range numbers {
		next = max(next, n+1)
	}
	for _, name := range names {
		number, known := numbers[name]
		if !known {
			number, next = next, next+1
		}
		for _, fill := range []func(*gorm.DB, string, int64) error{fillJournal, fillSegments, fillState} {
			if err := fill(tx, name, number); err != nil {
				return fmt.Errorf("the job %s: %w", name, err)
			}
		}
	}
	for _, table := range []string{"stretches", "segments", "figures", "journal", "bypasses", "memories", "armed"} {
		if err := tx.Exec("DROP TABLE " + table + "_before").Error; err != nil {
			return err
		}
	}
	return nil
}

func fillJournal(tx *gorm.DB, name string, number int64) error {
	before := make([]byte, sumSize)
	for last := int64(math.MinInt64); ; {
		var rows []entryRow
		err := tx.Raw(`SELECT ? AS job, number, time, kind, name, "from", "to", because, who, via FROM journal_before
			WHERE job = ? AND number > ? ORDER BY number LIMIT ?`, number, name, last, batch).Scan(&rows).Error
		if err != nil || len(rows) == 0 {
			return err
		}
		for i := range rows {
			rows[i].Before = before
			rows[i].Sum = rows[i].sum()
			before, last = rows[i].Sum, rows[i].Number
		}
		if err := tx.CreateInBatches(rows, rowsAtOnce).Error; err != nil {
			return err
		}
	}
}

func fillSegments(tx *gorm.DB, name string, number int64) error {
	var rows []segmentRow
	err := tx.Raw("SELECT id, ? AS job, revision, begins, ends, bytes, memory FROM segments_before WHERE job = ? ORDER BY id", number, name).
		Scan(&rows).Error
	if err != nil {
		return err
	}
	for i := range rows {
		s := &rows[i]
		s.Number, s.Form, s.Chain, s.MemorySum = int64(i+1), formLists, make([]byte, sumSize), short(s.Memory)
		var stretches []stretchRow
		if err := tx.Raw("SELECT segment, number, events FROM stretches_before WHERE segment = ? ORDER BY number", s.ID).Scan(&stretches).Error; err != nil {
			return err
		}
		for k := range stretches {
			stretches[k].Number = int64(k + 1)
			s.Chain = chained(s.Chain, stretches[k].Events)
		}
		s.Stretches = int64(len(stretches))
		s.Sum = s.sum()
		if err := tx.Create(s).Error; err != nil {
			return err
		}
		if len(stretches) > 0 {
			if err := tx.CreateInBatches(stretches, rowsAtOnce).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

func fillState(tx *gorm.DB, name string, number int64) error {
	e := &end{}
	err := tx.Raw("SELECT ? AS number, job AS name, mode, revision, since, fault, sheets, last, starts FROM armed_before WHERE job = ?", number, name).
		Scan(&e.row).Error
	if err != nil || e.row.Name == "" {
		return err
	}
	var memories []memoryRow
	if err := tx.Raw("SELECT ? AS job, name, kind, data FROM memories_before WHERE job = ?", number, name).Scan(&memories).Error; err != nil {
		return err
	}
	for i := range memories {
		memories[i].Sum = memories[i].sum()
		e.digests.memories.turn(memories[i].Sum)
	}
	var bypasses []bypassRow
	if err := tx.Raw("SELECT ? AS job, name, kind, value, who, why, since FROM bypasses_before WHERE job = ? ORDER BY name", number, name).
		Scan(&bypasses).Error; err != nil {
		return err
	}
	for i := range bypasses {
		bypasses[i].Sum = bypasses[i].sum()
	}
	var figures []figuresRow
	if err := tx.Raw("SELECT ? AS job, name, on_ns, starts, serviced_ns FROM figures_before WHERE job = ?", number, name).Scan(&figures).Error; err != nil {
		return err
	}
	for i := range figures {
		figures[i].Sum = figures[i].sum()
		e.digests.figures.turn(figures[i].Sum)
	}
	var ends struct {
		First, Last, Bytes int64
		Sum                []byte
	}
	err = tx.Raw(`SELECT coalesce(min(number), 1) AS first, coalesce(max(number), 0) AS last,
		coalesce(sum(length(because) + length("from") + length("to") + 120), 0) AS bytes,
		coalesce((SELECT sum FROM journal WHERE job = ? ORDER BY number DESC LIMIT 1), zeroblob(16)) AS sum FROM journal WHERE job = ?`, number, number).
		Scan(&ends).Error
	if err != nil {
		return err
	}
	r := &e.row
	r.JournalFirst, r.JournalLast, r.JournalBytes, r.JournalSum = ends.First, ends.Last, ends.Bytes, ends.Sum
	if err := tx.Raw("SELECT coalesce(max(number), 0) FROM segments WHERE job = ?", number).Scan(&r.Segment).Error; err != nil {
		return err
	}
	if err := tx.Raw("SELECT coalesce(max(stretches), 0) FROM segments WHERE job = ? AND number = ?", number, r.Segment).Scan(&r.Checkpoint).Error; err != nil {
		return err
	}
	r.Abandoned = []byte("null")
	r.Memories, r.Figures, r.Bypasses = e.digests.memories[:], e.digests.figures[:], sumOfBypasses(bypasses)
	r.Sum = r.sum()
	if err := tx.Create(r).Error; err != nil {
		return err
	}
	for _, rows := range []any{&memories, &bypasses, &figures} {
		if err := createAll(tx, rows); err != nil {
			return err
		}
	}
	return nil
}

// createAll creates rows, if there are any.
func createAll(tx *gorm.DB, rows any) error {
	err := tx.CreateInBatches(rows, rowsAtOnce).Error
	if errors.Is(err, gorm.ErrEmptySlice) {
		return nil
	}
	return err
}

func sumOfBypasses(rows []bypassRow) []byte {
	var all []any
	for i := range rows {
		all = append(all, rows[i].Sum)
	}
	return short(all...)
}

// Verify reads all records and returns the damages. Its own error is one that kept it from going on.
func (p *Plant) Verify(ctx context.Context) (damaged []error, err error) {
	var said []string
	if err := p.read.WithContext(ctx).Raw("PRAGMA integrity_check").Scan(&said).Error; err != nil {
		if err = readable(err); errors.Is(err, ErrDamaged) {
			return []error{err}, nil
		}
		return nil, fmt.Errorf("verifying the plant's file: %w", err)
	}
	if len(said) != 1 || said[0] != "ok" {
		damaged = append(damaged, fmt.Errorf("the plant's file: %s: %w", said[0], ErrDamaged))
	}
	note := func(d *damage) {
		if d != nil {
			damaged = append(damaged, d)
		}
	}
	jobs, err := p.Recall(ctx)
	if err != nil {
		if errors.Is(err, ErrDamaged) {
			return append(damaged, err), nil
		}
		return damaged, err
	}
	for i := range jobs {
		if j := &jobs[i]; j.Damage != "" && j.Armed.Damage == "" {
			damaged = append(damaged, fmt.Errorf("the job %s: %s: %w", j.Armed.Name, j.Damage, ErrDamaged))
		}
		d, err := p.verifyJournal(ctx, &jobs[i].Armed)
		if note(d); errors.Is(err, ErrDamaged) { // pages that cannot be read
			damaged = append(damaged, err)
		} else if err != nil {
			return damaged, err
		}
		some, err := p.verifyCapture(ctx, &jobs[i].Armed)
		if damaged = append(damaged, some...); errors.Is(err, ErrDamaged) {
			damaged = append(damaged, err)
		} else if err != nil {
			return damaged, err
		}
	}
	return damaged, nil
}

// A damage is what is not as it was kept.
type damage struct{ what string }

func (d *damage) Error() string { return d.what + ": " + ErrDamaged.Error() }

// Is makes it an ErrDamaged.
func (d *damage) Is(target error) bool { return target == ErrDamaged }

func damageOf(format string, args ...any) *damage { return &damage{fmt.Sprintf(format, args...)} }

// verifyJournal follows the chain of a journal, and returns the first break.
func (p *Plant) verifyJournal(ctx context.Context, a *Armed) (*damage, error) {
	var row armedRow
	err := p.read.WithContext(ctx).Omit("sheets").Take(&row, a.Number).Error
	if errors.Is(err, gorm.ErrRecordNotFound) { // deleted meanwhile, or lost, which Recall has told
		return nil, nil
	}
	if err != nil {
		return nil, p.unreadable(err, "verifying the journal of the job "+a.Name)
	}
	next, before := row.JournalFirst, []byte(nil)
	for {
		var rows []entryRow
		if err := p.read.WithContext(ctx).Where("job = ? AND number >= ?", a.Number, next).Order("number").Limit(batch).Find(&rows).Error; err != nil {
			return nil, p.unreadable(err, "verifying the journal of the job "+a.Name)
		}
		for i := range rows {
			r := &rows[i]
			if r.Number != next {
				return damageOf("the journal of the job %s lacks the entries %d to %d", a.Name, next, r.Number-1), nil
			}
			if !sound(r.Sum, r.sum()) || before != nil && !bytes.Equal(before, r.Before) {
				return damageOf("entry %d of the journal of the job %s", r.Number, a.Name), nil
			}
			next, before = r.Number+1, r.Sum
		}
		if len(rows) < batch {
			break
		}
	}
	if next <= row.JournalLast {
		return damageOf("the journal of the job %s ends at entry %d, and had %d", a.Name, next-1, row.JournalLast), nil
	}
	return nil, nil
}

// verifyCapture goes through the segments of a job.
func (p *Plant) verifyCapture(ctx context.Context, a *Armed) (damaged []error, err error) {
	var rows []segmentRow
	if err := p.read.WithContext(ctx).Where("job = ?", a.Number).Order("number").Omit("memory").Find(&rows).Error; err != nil {
		return nil, p.unreadable(err, "verifying the capture of the job "+a.Name)
	}
	for i := range rows {
		if i > 0 && rows[i].Number != rows[i-1].Number+1 {
			damaged = append(damaged, damageOf("the capture of the job %s lacks the segments %d to %d", a.Name, rows[i-1].Number+1, rows[i].Number-1))
		}
		if err := ctx.Err(); err != nil {
			return damaged, err
		}
		if _, err := p.segment(ctx, p.read.WithContext(ctx), rows[i].ID); errors.Is(err, ErrDamaged) {
			damaged = append(damaged, err)
		} else if err != nil && !errors.Is(err, ErrNotFound) { // deleted meanwhile
			return damaged, err
		}
	}
	return damaged, nil
}

// unreadable makes an error of the database one that callers tell apart.
func (p *Records) unreadable(err error, doing string) error {
	return fmt.Errorf("%s: %w", doing, readable(err))
}
