package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"rectura/core/logic"
	"rectura/core/sheet"
)

// A Plant is the file of the running jobs: their modes, memories, journals and captures. It is the one writer; Records read beside it. Everything in it
// belongs to a job by its number, and carries a sum.
type Plant struct {
	*Records
	packer *zstd.Encoder
	head   *headFile

	mu   sync.Mutex
	ends map[int64]*end // of each job's records, as of the last commit
}

// PlantOptions are those of a Plant.
type PlantOptions struct {
	Options
	Numbers map[string]int64 // of jobs, by name: what an earlier program kept by name belongs to them
}

// plantRests is the pause between two moves of SQLite's log into the plant's file: what is written again and again is moved once.
const plantRests = 3 * time.Second

// OpenPlant opens or creates the file. It does not look at what is kept: Recall does.
func OpenPlant(ctx context.Context, file string, o PlantOptions) (*Plant, error) {
	o.rest = plantRests
	s, err := openFile(ctx, file, o.Options, "migrations/plant/*.sql", "incremental", o.Numbers)
	if err != nil {
		return nil, err
	}
	p := &Plant{ends: map[int64]*end{}}
	p.packer, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err == nil {
		p.Records, err = newRecords(s)
	}
	if err == nil {
		p.head, err = openHead(filepath.Dir(file), s.options.Log)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("opening the plant's file: %w", err), s.Close())
	}
	return p, nil
}

// Close writes the head down for good, and closes the file.
func (p *Plant) Close() error { return errors.Join(p.head.close(), p.Store.Close()) }

// An Armed job is one that listens or drives, or that has done so.
type Armed struct {
	Number   int64  // of the job
	Name     string // of the job, as it was when it was last kept
	Mode     string
	Revision int64
	Since    int64 // nanoseconds since 1970
	Fault    string
	Damage   string // the damage of its records, until a person acknowledges it
	Again    Again  // whether it is armed again, since it listens only because of that
	Sources  []sheet.Source
	Left     *Left // nil for nothing
	Last     int64 // service time of the last cut
	Starts   int64 // how often the service has begun to run it
}

// Again is whether a listening job was armed before its records were damaged, and returns to that.
type Again int64

// The ways in which it is armed again.
const (
	NotAgain          Again = iota
	AgainByItself           // once it has listened
	AgainAcknowledged       // and once a person has acknowledged the damage
)

// Left are the wires of a former revision that still have to be written to their fail states.
type Left struct {
	Sources []sheet.Source // of that revision
	Wires   []LeftWire
}

// A LeftWire is an output of it.
type LeftWire struct {
	Output string
	Value  float64 // on the wire
	Off    bool
	To     string // in words
}

// An Entry is a line of a job's journal. Numbers have no gap.
type Entry struct {
	Kind, Name, From, To, Because, Who, Via string

	Job    int64
	Number int64
	Time   int64 // nanoseconds since 1970, of the service
}

// A Bypass is what a person has put in place of what the job would decide by itself.
type Bypass struct {
	Job   int64  `gorm:"primaryKey"`
	Name  string `gorm:"primaryKey"`
	Kind  string // hand, off, lock, pin, shelving, out of service
	Value string
	Lock  string // who alone gives it back; empty for anybody
	Who   string
	Why   string
	Since int64
}

// Figures are what an output has done over the years.
type Figures struct {
	Job    int64  `gorm:"primaryKey"`
	Name   string `gorm:"primaryKey"`
	OnNs   int64
	Starts int64

	ServicedNs int64 // how long it had been on when somebody last saw to it
}

// A Cut is what has changed of a job since the last one. All of it is kept, or nothing.
type Cut struct {
	Armed      Armed
	Sheets     bool // those of Armed are other ones
	Journal    []Entry
	Events     [][]byte // stretches of the capture since the last cut
	Checkpoint bool     // Memory is the memory behind Events, as far as it has changed since the last checkpoint
	Whole      bool     // a checkpoint whose Memory is complete, and which begins a segment
	Memory     []logic.Row
	Bypasses   []Bypass
	Figures    []Figures
}

type armedRow struct {
	Number                        int64 `gorm:"primaryKey"`
	Name, Mode, Fault, Damage     string
	Again                         Again
	Revision, Since, Last, Starts int64
	Sheets                        []byte
	Abandoned                     []byte
	Commits                       int64
	JournalFirst, JournalLast     int64
	JournalBytes                  int64
	JournalSum                    []byte
	Segment                       int64
	Checkpoint                    int64 // the number of the segment's stretches that the memory holds already
	Memories, Bypasses, Figures   []byte
	Sum                           []byte
}

func (armedRow) TableName() string { return "armed" }

type memoryRow struct {
	Job        int64
	Name, Kind string
	Data, Sum  []byte
}

func (memoryRow) TableName() string { return "memories" }

type entryRow struct {
	Entry
	Before, Sum []byte
}

func (entryRow) TableName() string { return "journal" }

type bypassRow struct {
	Bypass
	Sum []byte
}

func (bypassRow) TableName() string { return "bypasses" }

type figuresRow struct {
	Figures
	Sum []byte
}

func (figuresRow) TableName() string { return "figures" }

type segmentRow struct {
	ID                                       int64 `gorm:"primaryKey;autoIncrement"`
	Job, Number, Form                        int64
	Revision, Begins, Ends, Bytes, Stretches int64
	Memory, MemorySum                        []byte
	Chain                                    []byte
	Sum                                      []byte
}

func (segmentRow) TableName() string { return "segments" }

type stretchRow struct {
	Segment, Number int64
	Events          []byte
}

func (stretchRow) TableName() string { return "stretches" }

type revisionRow struct {
	Job, Number int64
	Sheets, Sum []byte
}

func (revisionRow) TableName() string { return "revisions" }

// rowsAtOnce is the number of rows in one statement.
const rowsAtOnce = 100

// mostUnpacked limits the memory of a segment, and a stretch of an earlier form, in bytes.
const mostUnpacked = 256 << 20

// The forms in which segments are captured. A later program plays the earlier one otherwise, and leaves it out.
const (
	formLists   = 1 // lists of events, compressed
	formColumns = 2 // columns of events
)

// A Retention is how long what runs is kept, and how much of it.
type Retention struct {
	Journal, Capture time.Duration
	JournalBytes     int64 // of the journal
	Bytes            int64 // of the capture
	Free             int64 // bytes that it leaves on the disk
}

// DefaultRetention is what is kept unless somebody says otherwise.
var DefaultRetention = Retention{Journal: 400 * 24 * time.Hour, Capture: 30 * 24 * time.Hour, JournalBytes: 4 << 30, Bytes: 10 << 30, Free: 1 << 30}
