package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rectura/core/logic"
	"rectura/core/sheet"
)

// A Plant is the file of what runs plants: what is armed, its memory, its journal and its capture. It has one writer.
type Plant struct {
	*Store
	packer   *zstd.Encoder
	unpacker *zstd.Decoder
}

// OpenPlant opens or creates it.
func OpenPlant(ctx context.Context, file string, o Options) (*Plant, error) {
	s, err := openFile(ctx, file, o, "migrations/plant/*.sql", "incremental")
	if err != nil {
		return nil, err
	}
	p := &Plant{Store: s}
	p.packer, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err == nil {
		p.unpacker, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostUnpacked))
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("opening the plant's file: %w", err), s.Close())
	}
	return p, nil
}

// Ping tells whether the file can be used.
func (p *Plant) Ping(ctx context.Context) error {
	var one int
	if err := p.read.WithContext(ctx).Raw("SELECT 1 FROM armed LIMIT 1").Scan(&one).Error; err != nil {
		return fmt.Errorf("asking the plant's file: %w", readable(err))
	}
	return p.log.settle(ctx)
}

// An Armed job is one that listens or drives, or that has done so.
type Armed struct {
	Job      string
	Mode     string
	Revision int64
	Since    int64 // nanoseconds since 1970
	Fault    string
	Sources  []sheet.Source
	Last     int64 // service time of the last cut
	Starts   int64 // how often the service has begun to run it
}

// An Entry is a line of a job's journal. Numbers have no gap.
type Entry struct {
	Job, Kind, Name, From, To, Because, Who, Via string

	Number int64
	Time   int64 // nanoseconds since 1970, of the service
}

// TableName is the table of entries.
func (Entry) TableName() string { return "journal" }

// A Bypass is what a person has put in place of what the job would decide by itself.
type Bypass struct {
	Job   string `gorm:"primaryKey"`
	Name  string `gorm:"primaryKey"`
	Kind  string // hand, off, pin, shelving, out of service
	Value string
	Who   string
	Why   string
	Since int64
}

// Figures are what an output has done over the years.
type Figures struct {
	Job    string `gorm:"primaryKey"`
	Name   string `gorm:"primaryKey"`
	OnNs   int64
	Starts int64

	ServicedNs int64 // how long it had been on when somebody last saw to it
}

// A Cut is what has changed of a job since the last one. All of it is kept, or nothing.
type Cut struct {
	Armed    Armed
	Sheets   bool // those of Armed are other ones
	Journal  []Entry
	Whole    bool // Memory is all of it, and begins a segment of the capture, behind Events
	Memory   []logic.Row
	Events   []byte // of the capture since the last cut
	Bypasses []Bypass
	Figures  []Figures
}

type armedRow struct {
	Job, Mode, Fault              string
	Revision, Since, Last, Starts int64
	Sheets                        []byte
}

func (armedRow) TableName() string { return "armed" }

type memoryRow struct {
	Job, Name, Kind string
	Data            []byte
}

func (memoryRow) TableName() string { return "memories" }

type segmentRow struct {
	ID                            int64 `gorm:"primaryKey;autoIncrement"`
	Job                           string
	Revision, Begins, Ends, Bytes int64
	Memory                        []byte
}

func (segmentRow) TableName() string { return "segments" }

type stretchRow struct {
	Segment, Number int64
	Events          []byte
}

func (stretchRow) TableName() string { return "stretches" }

// rowsAtOnce is how many rows one statement writes.
const rowsAtOnce = 100

// Commit keeps a cut, and gives the number of the last entry of the job's journal.
func (p *Plant) Commit(ctx context.Context, c *Cut) (last int64, err error) {
	job := c.Armed.Job
	err = p.change(ctx, func(tx *gorm.DB) error {
		if err := commitArmed(tx, c); err != nil {
			return err
		}
		if err := tx.Raw("SELECT coalesce(max(number), 0) FROM journal WHERE job = ?", job).Scan(&last).Error; err != nil {
			return err
		}
		for i := range c.Journal {
			last++
			c.Journal[i].Job, c.Journal[i].Number = job, last
		}
		if len(c.Journal) > 0 {
			if err := tx.CreateInBatches(c.Journal, rowsAtOnce).Error; err != nil {
				return err
			}
		}
		if err := commitMemory(tx, c); err != nil {
			return err
		}
		if err := p.commitCapture(tx, c); err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM bypasses WHERE job = ?", job).Error; err != nil {
			return err
		}
		if len(c.Bypasses) > 0 {
			if err := tx.CreateInBatches(c.Bypasses, rowsAtOnce).Error; err != nil {
				return err
			}
		}
		if len(c.Figures) > 0 {
			return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(c.Figures, rowsAtOnce).Error
		}
		return nil
	})
	if err != nil {
		return 0, fmt.Errorf("keeping what the job %s does: %w", job, err)
	}
	return last, nil
}

func commitArmed(tx *gorm.DB, c *Cut) error {
	a := &c.Armed
	row := armedRow{a.Job, a.Mode, a.Fault, a.Revision, a.Since, a.Last, a.Starts, nil}
	columns := []string{"mode", "fault", "revision", "since", "last", "starts"}
	if c.Sheets {
		text, err := json.Marshal(a.Sources)
		if err != nil {
			return err
		}
		row.Sheets = text
		columns = append(columns, "sheets")
	} else {
		row.Sheets = []byte("[]") // of a row that is not there yet
	}
	return tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "job"}}, DoUpdates: clause.AssignmentColumns(columns)}).
		Create(&row).Error
}

func commitMemory(tx *gorm.DB, c *Cut) error {
	if c.Whole {
		if err := tx.Exec("DELETE FROM memories WHERE job = ?", c.Armed.Job).Error; err != nil {
			return err
		}
	}
	rows := make([]memoryRow, len(c.Memory))
	for i, r := range c.Memory {
		rows[i] = memoryRow{c.Armed.Job, r.Name, r.Kind, r.Data}
	}
	if len(rows) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true, Columns: []clause.Column{{Name: "job"}, {Name: "name"}}}).
		CreateInBatches(rows, rowsAtOnce).Error
}

// commitCapture goes on with the last segment, and begins another with the whole memory.
func (p *Plant) commitCapture(tx *gorm.DB, c *Cut) error {
	if err := p.commitEvents(tx, c); err != nil || !c.Whole {
		return err
	}
	memory, err := json.Marshal(c.Memory)
	if err != nil {
		return err
	}
	packed := p.compressed(memory)
	a := &c.Armed
	return tx.Create(
		&segmentRow{Job: a.Job, Revision: a.Revision, Begins: a.Last, Ends: a.Last, Bytes: int64(len(packed)), Memory: packed},
	).Error
}

// commitEvents goes on with the last segment.
func (p *Plant) commitEvents(tx *gorm.DB, c *Cut) error {
	if len(c.Events) == 0 {
		return nil
	}
	job := c.Armed.Job
	var s segmentRow
	if err := tx.Select("id").Where("job = ?", job).Order("id DESC").Take(&s).Error; err != nil {
		return fmt.Errorf("the capture that goes on: %w", err)
	}
	var number int64
	if err := tx.Raw("SELECT coalesce(max(number), 0) + 1 FROM stretches WHERE segment = ?", s.ID).Scan(&number).Error; err != nil {
		return err
	}
	packed := p.compressed(c.Events)
	if err := tx.Create(&stretchRow{s.ID, number, packed}).Error; err != nil {
		return err
	}
	return tx.Exec("UPDATE segments SET ends = ?, bytes = bytes + ? WHERE id = ?", c.Armed.Last, len(packed), s.ID).Error
}

// mostUnpacked is how large a stretch of capture, or a memory, may be, in bytes.
const mostUnpacked = 256 << 20

func (p *Plant) compressed(data []byte) []byte { return p.packer.EncodeAll(data, nil) }

func (p *Plant) decompressed(data []byte) ([]byte, error) {
	out, err := p.unpacker.DecodeAll(data, nil)
	if err != nil {
		return nil, fmt.Errorf("unpacking: %w: %w", ErrDamaged, err)
	}
	return out, nil
}

// Armed are the jobs that listen or drive, or that have done so, in the order of their names.
func (p *Plant) Armed(ctx context.Context) ([]Armed, error) {
	var rows []armedRow
	if err := p.read.WithContext(ctx).Order("job").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading what is armed: %w", readable(err))
	}
	all := make([]Armed, len(rows))
	for i, r := range rows {
		all[i] = Armed{Job: r.Job, Mode: r.Mode, Revision: r.Revision, Since: r.Since, Fault: r.Fault, Last: r.Last, Starts: r.Starts}
		if err := json.Unmarshal(r.Sheets, &all[i].Sources); err != nil {
			return nil, fmt.Errorf("reading the sheets of the armed job %s: %w: %w", r.Job, ErrDamaged, err)
		}
	}
	return all, nil
}

// Memory is what is remembered of a job, as of its last cut.
func (p *Plant) Memory(ctx context.Context, job string) ([]logic.Row, error) {
	var rows []memoryRow
	if err := p.read.WithContext(ctx).Where("job = ?", job).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the memory of the job %s: %w", job, readable(err))
	}
	all := make([]logic.Row, len(rows))
	for i, r := range rows {
		all[i] = logic.Row{Kind: r.Kind, Name: r.Name, Data: r.Data}
	}
	return all, nil
}

// Bypasses are what people have put in place at the last cut.
func (p *Plant) Bypasses(ctx context.Context, job string) ([]Bypass, error) {
	var all []Bypass
	if err := p.read.WithContext(ctx).Where("job = ?", job).Order("name").Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading the bypasses of the job %s: %w", job, readable(err))
	}
	return all, nil
}

// Figures are those of a job's outputs at the last cut.
func (p *Plant) Figures(ctx context.Context, job string) ([]Figures, error) {
	var all []Figures
	if err := p.read.WithContext(ctx).Where("job = ?", job).Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading the figures of the job %s: %w", job, readable(err))
	}
	return all, nil
}

// A JournalFilter says which entries of a journal are meant; what is empty or 0 asks for nothing.
type JournalFilter struct {
	From, To        int64 // times, that of From included
	After           int64 // numbers above it alone
	Kind, Name, Who string
	Newest          int // so many, the newest of them; 0 for all
}

// Journal gives entries of a job's journal, the oldest first.
func (p *Plant) Journal(ctx context.Context, job string, f JournalFilter) ([]Entry, error) {
	q := p.read.WithContext(ctx).Where("job = ?", job)
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
	}
	var all []Entry
	if err := q.Order(order).Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading the journal of the job %s: %w", job, readable(err))
	}
	if f.Newest > 0 {
		for i, j := 0, len(all)-1; i < j; i, j = i+1, j-1 {
			all[i], all[j] = all[j], all[i]
		}
	}
	return all, nil
}

// A Segment is a part of a job's capture that begins with the whole memory.
type Segment struct {
	ID           int64
	Revision     int64
	Begins, Ends int64 // service time
	Bytes        int64
}

// Segments are those of a job that touch a stretch of time, in the order in which they were kept.
func (p *Plant) Segments(ctx context.Context, job string, from, to int64) ([]Segment, error) {
	var rows []segmentRow
	err := p.read.WithContext(ctx).
		Omit("memory").
		Where("job = ? AND begins < ? AND ends >= ?", job, to, from).
		Order("id").
		Find(&rows).
		Error
	if err != nil {
		return nil, fmt.Errorf("reading the capture of the job %s: %w", job, readable(err))
	}
	all := make([]Segment, len(rows))
	for i, r := range rows {
		all[i] = Segment{r.ID, r.Revision, r.Begins, r.Ends, r.Bytes}
	}
	return all, nil
}

// Captured gives the memory with which a segment begins, and its events, as many bytes as they were kept in.
func (p *Plant) Captured(ctx context.Context, segment int64) (memory []logic.Row, stretches [][]byte, err error) {
	var row segmentRow
	if err := p.read.WithContext(ctx).Take(&row, segment).Error; err != nil {
		return nil, nil, found(err, "the segment %d", segment)
	}
	text, err := p.decompressed(row.Memory)
	if err == nil {
		err = json.Unmarshal(text, &memory)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the memory of the segment %d: %w", segment, err)
	}
	var rows []stretchRow
	if err := p.read.WithContext(ctx).Where("segment = ?", segment).Order("number").Find(&rows).Error; err != nil {
		return nil, nil, fmt.Errorf("reading the segment %d: %w", segment, readable(err))
	}
	for _, r := range rows {
		events, err := p.decompressed(r.Events)
		if err != nil {
			return nil, nil, fmt.Errorf("stretch %d of the segment %d: %w", r.Number, segment, err)
		}
		stretches = append(stretches, events)
	}
	return memory, stretches, nil
}

// Verify goes through everything that is kept of what runs, and names what is damaged. An error is only that it could not go on.
func (p *Plant) Verify(ctx context.Context) (damaged []error, err error) {
	var said []string
	if err := p.read.WithContext(ctx).Raw("PRAGMA quick_check").Scan(&said).Error; err != nil {
		return nil, fmt.Errorf("verifying the plant's file: %w", readable(err))
	}
	if len(said) != 1 || said[0] != "ok" {
		damaged = append(damaged, fmt.Errorf("the plant's file: %s: %w", said[0], ErrDamaged))
	}
	armed, err := p.Armed(ctx)
	if errors.Is(err, ErrDamaged) {
		return append(damaged, err), nil
	}
	if err != nil {
		return damaged, err
	}
	for _, a := range armed {
		var gap int64
		err := p.read.WithContext(ctx).
			Raw("SELECT coalesce(max(number) - min(number) + 1 - count(*), 0) FROM journal WHERE job = ?", a.Job).
			Scan(&gap).
			Error
		if err != nil {
			return damaged, fmt.Errorf("verifying the journal of the job %s: %w", a.Job, readable(err))
		}
		if gap != 0 {
			damaged = append(damaged, fmt.Errorf("the journal of the job %s lacks %d entries: %w", a.Job, gap, ErrDamaged))
		}
		segments, err := p.Segments(ctx, a.Job, math.MinInt64, math.MaxInt64)
		if err != nil {
			return damaged, err
		}
		for _, s := range segments {
			if _, _, err := p.Captured(ctx, s.ID); errors.Is(err, ErrDamaged) {
				damaged = append(damaged, err)
			} else if err != nil {
				return damaged, err
			}
		}
	}
	return damaged, nil
}

// A Retention is how long what runs is kept, and how much of it.
type Retention struct {
	Journal, Capture time.Duration
	Bytes            int64 // of the capture
	Free             int64 // bytes that it leaves on the disk
}

// DefaultRetention is what is kept unless somebody says otherwise.
var DefaultRetention = Retention{Journal: 400 * 24 * time.Hour, Capture: 30 * 24 * time.Hour, Bytes: 10 << 30, Free: 1 << 30}

// entriesAtOnce is how many entries one transaction deletes: whoever commits meanwhile waits for no more.
const entriesAtOnce = 5000

// Forget deletes what is older than it is kept for, and the oldest segments of what is more than is kept, each in a
// transaction of its own, and gives their room back. The segment that goes on is kept.
func (p *Plant) Forget(ctx context.Context, now int64, r Retention) error {
	for {
		var n int64
		err := p.change(ctx, func(tx *gorm.DB) error {
			done := tx.Exec("DELETE FROM journal WHERE (job, number) IN (SELECT job, number FROM journal WHERE time < ? "+
				"AND number < (SELECT max(number) FROM journal j WHERE j.job = journal.job) LIMIT ?)", now-int64(r.Journal), entriesAtOnce)
			n = done.RowsAffected
			return done.Error
		})
		if err != nil {
			return fmt.Errorf("deleting old entries of the journal: %w", err)
		}
		if n < entriesAtOnce {
			break
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
