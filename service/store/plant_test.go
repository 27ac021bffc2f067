package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/store"
)

// fry is the number of a job.
const fry = 7

func openPlant(t *testing.T, folder string) *store.Plant {
	p, err := store.OpenPlant(t.Context(), filepath.Join(folder, "plant.db"), store.PlantOptions{Numbers: map[string]int64{"fry": fry}})
	require.NoError(t, err)
	return p
}

// cut is the one of a number: an entry of the journal, the memory of a rule, a stretch of capture, a lock.
func cut(n int64) *store.Cut {
	return &store.Cut{
		Armed:   store.Armed{Number: fry, Name: "fry", Mode: "armed", Revision: 1, Sources: []sheet.Source{{Name: "a.rct", Text: []byte("job")}}, Last: n},
		Sheets:  n == 1,
		Journal: []store.Entry{{Time: n, Kind: "rule", Name: "low", To: fmt.Sprint(n)}},
		Whole:   n%10 == 1, Checkpoint: true,
		Memory:   []logic.Row{{Kind: "rule", Name: "low", Data: fmt.Append(nil, n)}},
		Events:   [][]byte{fmt.Append(nil, n)},
		Bypasses: []store.Bypass{{Name: "blower", Kind: "lock", Lock: "anna", Since: n}},
		Figures:  []store.Figures{{Name: "blower", OnNs: n, Starts: n}},
	}
}

// recalled is the one job that a file has.
func recalled(t *testing.T, p *store.Plant) store.Recalled {
	t.Helper()
	all, err := p.Recall(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	return all[0]
}

// holds tells up to which cut a file holds everything, and that it holds nothing else.
func holds(t *testing.T, p *store.Plant) int64 {
	t.Helper()
	job := recalled(t, p)
	require.Empty(t, job.Damage)
	n := job.Armed.Last
	entries, err := p.Journal(t.Context(), fry, store.JournalFilter{})
	require.NoError(t, err)
	require.Len(t, entries, int(n))
	for i, e := range entries {
		require.Equal(t, int64(i+1), e.Number, "no gap and no double")
		require.Equal(t, fmt.Sprint(i+1), e.To)
	}
	require.Equal(t, cut(n).Memory, job.Memory)
	require.Equal(t, []store.Bypass{{Job: fry, Name: "blower", Kind: "lock", Lock: "anna", Since: n}}, job.Bypasses)
	require.Equal(t, []store.Figures{{Job: fry, Name: "blower", OnNs: n, Starts: n}}, job.Figures)
	require.NoError(t, p.Record(t.Context(), fry, func(r *store.Record) error {
		segments, err := r.Segments(0, n+1)
		require.NoError(t, err)
		require.Len(t, segments, int((n+9)/10))
		count := 0
		for _, s := range segments {
			c, err := r.Captured(s.ID)
			require.NoError(t, err)
			count += len(c.Stretches)
		}
		require.Equal(t, int(n)-1, count, "the first begins with the memory")
		return nil
	}))
	damaged, err := p.Verify(t.Context())
	require.NoError(t, err)
	require.Empty(t, damaged)
	return n
}

// moved waits until all of the log has been moved into the file: a copy of the two is what a power cut leaves only while
// nobody is moving it.
func moved(t *testing.T, folder string) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "plant.db"))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		var busy, log, done int
		err := db.QueryRow("PRAGMA wal_checkpoint(PASSIVE)").Scan(&busy, &log, &done)
		return err == nil && busy == 0 && log == done
	}, 10*time.Second, time.Millisecond)
	require.NoError(t, db.Close())
}

// copied copies the file and its log.
func copied(t *testing.T, from, to string) {
	for _, end := range []string{"", "-wal"} {
		data, err := os.ReadFile(filepath.Join(from, "plant.db"+end))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(to, "plant.db"+end), data, 0o600))
	}
}

// The power fails while a cut is written: of its log any part has reached the disk. What was committed before is there, whole,
// and the cut itself whole or not at all.
func TestPowerCutWhileACutIsWritten(t *testing.T) {
	folder := t.TempDir()
	p := openPlant(t, folder)
	t.Cleanup(func() { assert.NoError(t, p.Close()) })
	first := cut(1)
	first.Events = nil
	_, err := p.Commit(context.Background(), first)
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(1, 14))
	for n := int64(2); n <= 40; n++ {
		moved(t, folder)
		before := t.TempDir()
		copied(t, folder, before)
		last, err := p.Commit(context.Background(), cut(n))
		require.NoError(t, err)
		require.Equal(t, n, last)
		whole, err := os.ReadFile(filepath.Join(folder, "plant.db-wal"))
		require.NoError(t, err)
		old, err := os.ReadFile(filepath.Join(before, "plant.db-wal"))
		require.NoError(t, err)
		for range 3 {
			torn := t.TempDir()
			copied(t, before, torn)
			k := random.IntN(len(whole) + 1)
			part := append(append([]byte{}, whole[:k]...), old[min(k, len(old)):]...)
			require.NoError(t, os.WriteFile(filepath.Join(torn, "plant.db-wal"), part, 0o600))
			again := openPlant(t, torn)
			assert.Contains(t, []int64{n - 1, n}, holds(t, again), "torn after %d of %d bytes", k, len(whole))
			require.NoError(t, again.Close())
		}
	}
	assert.Equal(t, int64(40), holds(t, p))

	for filter, want := range map[store.JournalFilter]int{
		{From: 10, To: 20}: 10, {After: 35}: 5, {Newest: 3}: 3, {Kind: "output"}: 0, {Name: "low", Kind: "rule", Newest: 100}: 40, {Who: "anna"}: 0,
		{Oldest: 4, After: 10}: 4,
	} {
		entries, err := p.Journal(t.Context(), fry, filter)
		require.NoError(t, err)
		assert.Len(t, entries, want, "%+v", filter)
	}
	newest, err := p.Journal(t.Context(), fry, store.JournalFilter{Newest: 3})
	require.NoError(t, err)
	assert.Equal(t, int64(38), newest[0].Number, "the oldest first")
}

// filled is a folder with a plant's file of so many cuts.
func filled(t *testing.T, cuts int64) string {
	folder := t.TempDir()
	p := openPlant(t, folder)
	for n := int64(1); n <= cuts; n++ {
		c := cut(n)
		if n == 1 {
			c.Events = nil
		}
		_, err := p.Commit(t.Context(), c)
		require.NoError(t, err)
	}
	require.NoError(t, p.Close())
	return folder
}

// The migration moves records from the names of jobs to their numbers. Records of an unknown name get a new number.
func TestPlantOfEarlierTables(t *testing.T) {
	folder := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "plant.db"))
	require.NoError(t, err)
	for _, file := range []string{"0001_plant.sql", "0002_service.sql"} {
		text, err := os.ReadFile(filepath.Join("migrations", "plant", file))
		require.NoError(t, err)
		_, err = db.Exec(string(text))
		require.NoError(t, err)
	}
	for _, statement := range []string{
		"PRAGMA user_version = 2",
		"INSERT INTO armed VALUES ('fry', 'armed', 3, 5, '', '[]', 9, 2), ('old', 'listening', 1, 5, '', '[]', 9, 1)",
		"INSERT INTO memories VALUES ('fry', 'low', 'rule', '1')",
		"INSERT INTO bypasses VALUES ('fry', 'blower', 'lock', 'off', 'anna', 'belt', 4)",
		"INSERT INTO figures VALUES ('fry', 'blower', 7, 2, 1)",
		"INSERT INTO journal VALUES ('fry', 1, 5, 'rule', 'low', 'off', 'on', '', '', 'engine'), ('old', 1, 6, 'rule', 'low', 'off', 'on', '', '', 'engine')",
	} {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	p := openPlant(t, folder)
	t.Cleanup(func() { assert.NoError(t, p.Close()) })
	all, err := p.Recall(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []int64{fry, fry + 1}, []int64{all[0].Armed.Number, all[1].Armed.Number})
	job := all[0]
	assert.Empty(t, job.Damage)
	assert.Equal(t, "armed", job.Armed.Mode)
	assert.Equal(t, []store.Figures{{Job: fry, Name: "blower", OnNs: 7, Starts: 2, ServicedNs: 1}}, job.Figures)
	assert.Equal(t, "anna", job.Bypasses[0].Who)
	entries, err := p.Journal(t.Context(), fry+1, store.JournalFilter{})
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	highest, err := p.HighestNumber(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, fry+1, highest)
	damaged, err := p.Verify(t.Context())
	require.NoError(t, err)
	assert.Empty(t, damaged)
}

// Whatever becomes of a row, it is noticed: either the job says that its records are damaged, and what is damaged is not used; or the
// journal and the capture say so in its place.
func TestEveryRowCounts(t *testing.T) {
	for _, x := range []struct {
		change          string
		damage          string // that the job says
		locks, verifies bool   // locks may be missing; Verify finds it
	}{
		{"UPDATE armed SET mode = 'idle'", "how it was run is not as it was kept", true, true},
		{"UPDATE armed SET revision = 2", "how it was run is not as it was kept", true, true},
		{"UPDATE memories SET data = x'00'", "its memory is not as it was kept", true, true},
		{"DELETE FROM memories", "its memory is not as it was kept", true, true},
		{"UPDATE bypasses SET lock = ''", "its register of bypasses is not as it was kept", true, true},
		{"DELETE FROM bypasses", "its register of bypasses is not as it was kept", true, true},
		{"UPDATE figures SET starts = 0", "the figures of its outputs are not as they were kept", false, true},
		{"DELETE FROM armed", "nothing is left", true, true},
		{"DELETE FROM journal WHERE number = 12", "entry 12 of its journal is not the one that was kept", true, true},
		{"UPDATE journal SET because = 'x' WHERE number = 5", "", false, true},
		{"DELETE FROM journal WHERE number = 5", "", false, true},
		{"DELETE FROM stretches WHERE segment = 1 AND number = 2", "", false, true},
		{"UPDATE segments SET memory = x'00' WHERE id = 1", "", false, true},
		{"DELETE FROM segments WHERE number = 1", "", false, false}, // old ones are deleted: that is no damage
	} {
		t.Run(x.change, func(t *testing.T) {
			folder := filled(t, 12)
			db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "plant.db"))
			require.NoError(t, err)
			_, err = db.Exec(x.change)
			require.NoError(t, errors.Join(err, db.Close()))
			p := openPlant(t, folder)
			t.Cleanup(func() { assert.NoError(t, p.Close()) })
			job := recalled(t, p)
			assert.Contains(t, job.Damage, x.damage)
			assert.Equal(t, x.damage == "", job.Damage == "", job.Damage)
			assert.Equal(t, x.locks, job.Unlocked)
			assert.Equal(t, "armed", job.Armed.Mode, "the head knows how it was run")
			damaged, err := p.Verify(t.Context())
			require.NoError(t, err)
			assert.Equal(t, x.verifies, len(damaged) > 0, "%v", damaged)
		})
	}
}

// A file that was lost, cut off, or put back from a copy does not pass for sound: what it lacks is known from the head beside it. It is
// put aside, and the numbers of the journal go on.
func TestPlantIsLost(t *testing.T) {
	for name, spoil := range map[string]func(t *testing.T, folder, older string){
		"lost": func(t *testing.T, folder, _ string) { require.NoError(t, os.Remove(filepath.Join(folder, "plant.db"))) },
		"empty": func(t *testing.T, folder, _ string) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "plant.db"), nil, 0o600))
		},
		"an older copy": func(t *testing.T, folder, older string) {
			data, err := os.ReadFile(filepath.Join(older, "plant.db"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(folder, "plant.db"), data, 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			folder := filled(t, 12)
			spoil(t, folder, filled(t, 5))
			p, start, err := store.OpenSound(t.Context(), filepath.Join(folder, "plant.db"), store.PlantOptions{}, time.Unix(0, 0))
			require.NoError(t, err)
			require.Len(t, start.Jobs, 1)
			job := start.Jobs[0]
			assert.NotEmpty(t, job.Damage)
			assert.True(t, job.Unlocked)
			assert.Equal(t, "armed", job.Armed.Mode)
			assert.FileExists(t, start.Aside)
			next := cut(20)
			next.Sheets, next.Whole, next.Events = true, true, nil
			last, err := p.Commit(t.Context(), next)
			require.NoError(t, err)
			assert.EqualValues(t, 13, last, "the journal had 12 entries")
			require.NoError(t, p.Close())
			again, start, err := store.OpenSound(t.Context(), filepath.Join(folder, "plant.db"), store.PlantOptions{}, time.Unix(0, 0))
			require.NoError(t, err)
			assert.Empty(t, start.Aside)
			assert.Empty(t, start.Jobs[0].Damage, "what is kept since is sound")
			require.NoError(t, again.Close())
		})
	}
}

// Bits of the file turn. It may not open any more, which a sentence says; otherwise what is recalled is what was kept, or is damaged.
func TestTurnedBits(t *testing.T) {
	folder := filled(t, 60)
	whole, err := os.ReadFile(filepath.Join(folder, "plant.db"))
	require.NoError(t, err)
	head, err := os.ReadFile(filepath.Join(folder, "plant.head"))
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(5, 18))
	opened, damagedJobs := 0, 0
	for range 150 {
		spoilt := t.TempDir()
		data := append([]byte{}, whole...)
		for range 1 + random.IntN(3) {
			data[random.IntN(len(data))] ^= 1 << random.IntN(8)
		}
		require.NoError(t, os.WriteFile(filepath.Join(spoilt, "plant.db"), data, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(spoilt, "plant.head"), head, 0o600))
		p, start, err := store.OpenSound(t.Context(), filepath.Join(spoilt, "plant.db"), store.PlantOptions{}, time.Unix(0, 0))
		if err != nil {
			assert.Contains(t, err.Error(), "put a backup in its place")
			continue
		}
		opened++
		require.Len(t, start.Jobs, 1)
		job := start.Jobs[0]
		if job.Damage != "" {
			damagedJobs++
		} else {
			assert.Equal(t, cut(60).Memory, job.Memory)
			assert.Equal(t, "anna", job.Bypasses[0].Lock)
		}
		assert.Equal(t, "armed", job.Armed.Mode)
		require.NoError(t, p.Close())
	}
	assert.Greater(t, opened, 50)
	assert.Greater(t, damagedJobs, 0)
}

// Delete puts a job's records into a file of their own. A later job of the same name has none of them.
func TestDeletePlant(t *testing.T) {
	folder := filled(t, 12)
	p := openPlant(t, folder)
	t.Cleanup(func() { assert.NoError(t, p.Close()) })
	file, err := p.Delete(t.Context(), fry, "fry", time.Unix(0, 0), false)
	require.NoError(t, err)
	assert.Equal(t, "deleted-fry-19700101T000000Z.db", filepath.Base(file))
	all, err := p.Recall(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
	damaged, err := p.Verify(t.Context())
	require.NoError(t, err)
	assert.Empty(t, damaged)

	aside := t.TempDir()
	require.NoError(t, os.Rename(file, filepath.Join(aside, "plant.db")))
	q := openPlant(t, aside)
	assert.EqualValues(t, 12, holds(t, q))
	require.NoError(t, q.Close())

	_, err = p.Commit(t.Context(), &store.Cut{Armed: store.Armed{Number: fry + 1, Name: "fry", Mode: "listening", Revision: 1}, Sheets: true})
	require.NoError(t, err)
	assert.Empty(t, recalled(t, p).Bypasses)
	entries, err := p.Journal(t.Context(), fry+1, store.JournalFilter{})
	require.NoError(t, err)
	assert.Empty(t, entries)
}
