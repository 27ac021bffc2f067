package store

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"gorm.io/gorm"

	"rectura/service/background"
)

// The files of heads: the first is written with every commit, and outlasts the end of the process; the second is written through to
// the disk a moment later, and outlasts the loss of power.
const (
	headName   = "plant.head"
	syncedName = "plant.head.synced"
)

// How often heads are written through, and are told to the log.
const (
	headSynced = time.Second
	headTold   = time.Hour
)

// A head is the end of a job's chain, as of a commit.
type head struct {
	Number   int64  `json:"number"`
	Name     string `json:"name"`
	Mode     string `json:"mode"`
	Revision int64  `json:"revision"`
	Last     int64  `json:"last"`
	Commits  int64  `json:"commits"`
	Journal  int64  `json:"journal"` // the number of the last entry
	Sum      string `json:"sum"`     // its sum
}

// A headFile keeps heads beside the plant's file, so that the loss of that file, or of its end, is noticed.
type headFile struct {
	folder string
	log    *slog.Logger
	work   chan struct{}
	ending chan struct{}
	done   chan struct{}
	broken string // the damage of a head file at opening

	mu     sync.Mutex
	heads  map[int64]*head
	failed bool
}

// openHead reads what there is. A file that is damaged is named, and the other one is used; of two, what is newer.
func openHead(folder string, log *slog.Logger) (*headFile, error) {
	f := &headFile{folder: folder, log: log, work: make(chan struct{}, 1), ending: make(chan struct{}), done: make(chan struct{}), heads: map[int64]*head{}}
	for _, name := range []string{headName, syncedName} {
		data, err := os.ReadFile(filepath.Join(folder, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("reading the head of the chain: %w", err)
		}
		heads, err := readHeads(data)
		if err != nil {
			f.broken = fmt.Sprintf("%s: %v", name, err)
			continue
		}
		for _, h := range heads {
			if before := f.heads[h.Number]; before == nil || before.Commits < h.Commits {
				f.heads[h.Number] = h
			}
		}
	}
	background.Go(log, "writing the head of the chain", func() error {
		defer close(f.done)
		f.sync()
		return nil
	})
	return f, nil
}

// readHeads reads a file of heads: a line each, as JSON, and a last one with the sum of all before it.
func readHeads(data []byte) ([]*head, error) {
	at := bytes.LastIndexByte(bytes.TrimSuffix(data, []byte("\n")), '\n') + 1
	if want := hex.EncodeToString(short(data[:at])); string(bytes.TrimSpace(data[at:])) != want {
		return nil, ErrDamaged
	}
	var all []*head
	for line := range bytes.Lines(data[:at]) {
		h := &head{}
		if err := json.Unmarshal(line, h); err != nil {
			return nil, ErrDamaged
		}
		all = append(all, h)
	}
	return all, nil
}

func writeHeads(heads map[int64]*head) []byte {
	var b bytes.Buffer
	for _, h := range heads {
		line, err := json.Marshal(h)
		if err != nil {
			panic(err) // it is made of numbers and text
		}
		b.Write(line)
		b.WriteByte('\n')
	}
	b.WriteString(hex.EncodeToString(short(b.Bytes())))
	b.WriteByte('\n')
	return b.Bytes()
}

// kept returns the heads, by job.
func (f *headFile) kept() map[int64]*head {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := map[int64]*head{}
	for n, h := range f.heads {
		x := *h
		all[n] = &x
	}
	return all
}

// tell takes what was committed.
func (f *headFile) tell(r *armedRow) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.heads[r.Number] = &head{r.Number, r.Name, r.Mode, r.Revision, r.Last, r.Commits, r.JournalLast, hex.EncodeToString(r.JournalSum)}
	f.write()
}

// forget drops the head of a job that was deleted.
func (f *headFile) forget(job int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.heads, job)
	f.write()
}

// write writes the first file. That it cannot, as on a full disk, holds nothing up.
func (f *headFile) write() {
	err := replace(filepath.Join(f.folder, headName), writeHeads(f.heads), false)
	if err != nil && !f.failed {
		f.log.Error("the head of the chain cannot be written", slog.Any("error", err))
	}
	f.failed = err != nil
	select {
	case f.work <- struct{}{}:
	default: // it is being written through
	}
}

// replace puts data in the place of a file.
func replace(file string, data []byte, through bool) error {
	next := file + ".next"
	f, err := os.OpenFile(next, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil && through {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(next, file)
}

// sync writes the second file from time to time, and tells the log.
func (f *headFile) sync() {
	told := time.Now().Add(-headTold)
	for {
		select {
		case <-f.ending:
			return
		case <-f.work:
		}
		if err := f.through(); err != nil {
			f.log.Error("the head of the chain cannot be written through", slog.Any("error", err))
		}
		if time.Since(told) >= headTold {
			told = time.Now()
			for _, h := range f.kept() {
				f.log.Info("the head of the chain", slog.String("job", h.Name), slog.Int64("commits", h.Commits), slog.Int64("journal", h.Journal),
					slog.String("sum", h.Sum))
			}
		}
		select {
		case <-f.ending:
			return
		case <-time.After(headSynced):
		}
	}
}

func (f *headFile) through() error {
	f.mu.Lock()
	data := writeHeads(f.heads)
	f.mu.Unlock()
	if err := replace(filepath.Join(f.folder, syncedName), data, true); err != nil {
		return err
	}
	d, err := os.Open(f.folder)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// close writes the heads through.
func (f *headFile) close() error {
	close(f.ending)
	<-f.done
	if len(f.heads) == 0 {
		return nil
	}
	return f.through()
}

// compare returns a sentence about the commits that the file lacks; empty if it has all.
func (h *head) compare(r *armedRow) string {
	if r.Commits < h.Commits {
		return fmt.Sprintf("its records end at commit %d, and had %d: what was done since is lost", r.Commits, h.Commits)
	}
	return ""
}

// inJournal reports whether the entry that the head names is the one that is kept.
func (h *head) inJournal(tx *gorm.DB, r *armedRow) error {
	if h.Journal == 0 || h.Journal < r.JournalFirst {
		return nil
	}
	var e entryRow
	err := tx.Take(&e, "job = ? AND number = ?", h.Number, h.Journal).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return err
	}
	if err != nil || hex.EncodeToString(e.Sum) != h.Sum || !sound(e.Sum, e.sum()) {
		return damageOf("entry %d of its journal is not the one that was kept", h.Journal)
	}
	return nil
}
