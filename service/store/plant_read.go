package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"rectura/core/logic"
	"rectura/core/sheet"
)

// A Recalled job is one that ran, as it was kept at its last cut. What is damaged is left out, and named.
type Recalled struct {
	Armed    Armed
	Memory   []logic.Row
	Since    [][]byte // the capture since that memory was kept; of OpenSound alone
	Bypasses []Bypass
	Figures  []Figures
	Damage   string // empty where all is as it was kept
	Unlocked bool   // locks may be missing
}

// Recall returns the jobs that listen or drive, or that have done so, in the order of their names. It holds them against their sums
// and against the head. The error is that of a file that cannot be read at all.
func (p *Plant) Recall(ctx context.Context) ([]Recalled, error) {
	var all []Recalled
	heads := p.head.kept()
	err := p.read.WithContext(ctx).Transaction(func(tx *gorm.DB) error { // of one cut
		var rows []armedRow
		if err := tx.Order("name").Find(&rows).Error; err != nil {
			return err
		}
		for i := range rows {
			j, err := recall(tx, &rows[i], heads[rows[i].Number])
			if err != nil {
				return err
			}
			delete(heads, rows[i].Number)
			all = append(all, j)
		}
		return nil
	})
	if err != nil {
		return nil, p.unreadable(err, "reading what is armed")
	}
	for _, h := range heads { // jobs that the file does not have
		if h.Mode == "idle" {
			continue
		}
		all = append(all, Recalled{Armed: Armed{Number: h.Number, Name: h.Name, Mode: h.Mode, Revision: h.Revision, Last: h.Last}, Unlocked: true,
			Damage: fmt.Sprintf("nothing is left of the %d entries of its journal, of its memory and its locks", h.Journal)})
	}
	return all, nil
}

// recall reads what is kept of one job.
func recall(tx *gorm.DB, r *armedRow, h *head) (j Recalled, err error) {
	j.Armed = Armed{Number: r.Number, Name: r.Name, Mode: r.Mode, Revision: r.Revision, Since: r.Since, Fault: r.Fault, Damage: r.Damage, Again: r.Again, Last: r.Last,
		Starts: r.Starts}
	var damages []string
	spoilt := func(what string, locks bool) {
		damages = append(damages, what)
		j.Unlocked = j.Unlocked || locks
	}
	if !sound(r.Sum, r.sum()) {
		if spoilt("how it was run is not as it was kept", true); h != nil {
			j.Armed.Name, j.Armed.Mode, j.Armed.Revision, j.Armed.Last = h.Name, h.Mode, h.Revision, h.Last
		}
		r.Sheets, r.Abandoned = nil, nil
	}
	if len(r.Sheets) > 0 {
		if err := json.Unmarshal(r.Sheets, &j.Armed.Sources); err != nil {
			spoilt("its sheets cannot be read", false)
		}
	}
	if len(r.Abandoned) > 0 {
		if err := json.Unmarshal(r.Abandoned, &j.Armed.Left); err != nil {
			spoilt("what it left behind cannot be read", false)
		}
	}
	if err := recallMemory(tx, r, &j, spoilt); err != nil {
		return j, err
	}
	if err := recallPeople(tx, r, &j, spoilt); err != nil {
		return j, err
	}
	if h != nil {
		if text := h.compare(r); text != "" {
			spoilt(text, true)
		} else if err := h.inJournal(tx, r); err != nil {
			if !errors.Is(err, ErrDamaged) {
				return j, err
			}
			spoilt(err.Error(), true)
		}
	}
	if len(damages) > 0 {
		j.Damage = sheet.List(damages, "and")
	} else {
		j.Damage = r.Damage
	}
	return j, nil
}

func recallMemory(tx *gorm.DB, r *armedRow, j *Recalled, spoilt func(string, bool)) error {
	var rows []memoryRow
	if err := tx.Find(&rows, "job = ?", r.Number).Error; err != nil {
		return err
	}
	var all digest
	good := true
	for i := range rows {
		m := &rows[i]
		all.turn(m.Sum)
		good = good && sound(m.Sum, m.sum())
		j.Memory = append(j.Memory, logic.Row{Kind: m.Kind, Name: m.Name, Data: m.Data})
	}
	if !good || !bytes.Equal(all[:], r.Memories) {
		j.Memory = nil
		spoilt("its memory is not as it was kept", true)
	}
	return nil
}

func recallPeople(tx *gorm.DB, r *armedRow, j *Recalled, spoilt func(string, bool)) error {
	var bypasses []bypassRow
	if err := tx.Order("name").Find(&bypasses, "job = ?", r.Number).Error; err != nil {
		return err
	}
	good := true
	for i := range bypasses {
		b := &bypasses[i]
		good = good && sound(b.Sum, b.sum())
		j.Bypasses = append(j.Bypasses, b.Bypass)
	}
	if !good || !bytes.Equal(sumOfBypasses(bypasses), r.Bypasses) {
		j.Bypasses, j.Memory = nil, nil // which bypasses are in place is not known
		spoilt("its register of bypasses is not as it was kept", true)
	}
	var figures []figuresRow
	if err := tx.Find(&figures, "job = ?", r.Number).Error; err != nil {
		return err
	}
	var all digest
	good = true
	for i := range figures {
		f := &figures[i]
		all.turn(f.Sum)
		good = good && sound(f.Sum, f.sum())
		j.Figures = append(j.Figures, f.Figures)
	}
	if !good || !bytes.Equal(all[:], r.Figures) {
		j.Figures = nil
		spoilt("the figures of its outputs are not as they were kept", false)
	}
	return nil
}

// A JournalFilter says which entries of a journal are meant; what is empty or 0 asks for nothing.
type JournalFilter struct {
	From, To        int64 // times, that of From included
	After           int64 // numbers above it alone
	Kind, Name, Who string
	Newest          int // so many, the newest of them; 0 for all
	Oldest          int // so many, the oldest of them; 0 for all
}

// DamagedKind is the kind of an entry that is not as it was kept.
const DamagedKind = "damaged"

// Journal returns entries of a job's journal, the oldest first. In the place of an entry that is damaged stands one that says so.
func (p *Records) Journal(ctx context.Context, job int64, f JournalFilter) ([]Entry, error) {
	return journal(p.read.WithContext(ctx), job, f)
}

func journal(tx *gorm.DB, job int64, f JournalFilter) ([]Entry, error) {
	q := tx.Where("job = ?", job)
	if f.From != 0 {
		q = q.Where("time >= ?", f.From)
	}
	if f.To != 0 {
		q = q.Where("time < ?", f.To)
	}
	if f.After != 0 {
		q = q.Where("number > ?", f.After)
	}
	for column, is := range map[string]string{"kind": f.Kind, "name": f.Name, "who": f.Who} {
		if is != "" {
			q = q.Where(column+" = ?", is)
		}
	}
	order := "number"
	if f.Newest > 0 {
		order, q = "number DESC", q.Limit(f.Newest)
	} else if f.Oldest > 0 {
		q = q.Limit(f.Oldest)
	}
	var rows []entryRow
	if err := q.Order(order).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the journal: %w", readable(err))
	}
	all := make([]Entry, len(rows))
	for i := range rows {
		at := i
		if f.Newest > 0 {
			at = len(rows) - 1 - i
		}
		if all[at] = rows[i].Entry; !sound(rows[i].Sum, rows[i].sum()) {
			all[at] = Entry{Job: job, Number: rows[i].Number, Time: rows[i].Time, Kind: DamagedKind, Because: "this entry is not as it was kept"}
		}
	}
	return all, nil
}

// Sheets returns the sheets of a revision that was armed, or listened.
func (p *Records) Sheets(ctx context.Context, job, revision int64) ([]sheet.Source, error) {
	var r revisionRow
	if err := p.read.WithContext(ctx).Take(&r, "job = ? AND number = ?", job, revision).Error; err != nil {
		return nil, found(err, "revision %d", revision)
	}
	var all []sheet.Source
	if !sound(r.Sum, r.sum()) || json.Unmarshal(r.Sheets, &all) != nil {
		return nil, fmt.Errorf("the sheets of revision %d: %w", revision, ErrDamaged)
	}
	return all, nil
}

// Needs reports whether what is kept of a job stands on a revision: it is in force, or something was captured by it.
func (p *Records) Needs(ctx context.Context, job, revision int64) (armed, captured bool, err error) {
	var n struct{ Armed, Captured bool }
	err = p.read.WithContext(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM armed WHERE number = ? AND revision = ? AND mode <> 'idle') AS armed,
		EXISTS (SELECT 1 FROM segments WHERE job = ? AND revision = ?) AS captured`, job, revision, job, revision).Scan(&n).Error
	if err != nil {
		return false, false, p.unreadable(err, "asking what stands on a revision")
	}
	return n.Armed, n.Captured, nil
}

// HighestNumber returns the highest number of a job that has records.
func (p *Plant) HighestNumber(ctx context.Context) (n int64, err error) {
	err = p.read.WithContext(ctx).Raw("SELECT max(coalesce((SELECT max(number) FROM armed), 0), coalesce((SELECT max(job) FROM journal), 0))").Scan(&n).Error
	for number := range p.head.kept() {
		n = max(n, number)
	}
	if err != nil {
		return 0, p.unreadable(err, "counting jobs")
	}
	return n, nil
}
