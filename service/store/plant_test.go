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
	"rectura/service/store"
)

func openPlant(t *testing.T, folder string) *store.Plant {
	p, err := store.OpenPlant(t.Context(), filepath.Join(folder, "plant.db"), store.Options{})
	require.NoError(t, err)
	return p
}

// cut is the one of a number: an entry of the journal, the memory of a rule, a stretch of capture.
func cut(n int64) *store.Cut {
	return &store.Cut{
		Armed:   store.Armed{Job: "fry", Mode: "armed", Revision: 1, Last: n},
		Sheets:  n == 1,
		Journal: []store.Entry{{Time: n, Kind: "rule", Name: "low", To: fmt.Sprint(n)}},
		Whole:   n%10 == 1,
		Memory:  []logic.Row{{Kind: "rule", Name: "low", Data: fmt.Append(nil, n)}},
		Events:  fmt.Append(nil, n),
	}
}

// holds tells up to which cut a file holds everything, and that it holds nothing else.
func holds(t *testing.T, p *store.Plant) int64 {
	t.Helper()
	armed, err := p.Armed(t.Context())
	require.NoError(t, err)
	require.Len(t, armed, 1)
	n := armed[0].Last
	entries, err := p.Journal(t.Context(), "fry", store.JournalFilter{})
	require.NoError(t, err)
	require.Len(t, entries, int(n))
	for i, e := range entries {
		require.Equal(t, int64(i+1), e.Number, "no gap and no double")
		require.Equal(t, fmt.Sprint(i+1), e.To)
	}
	memory, err := p.Memory(t.Context(), "fry")
	require.NoError(t, err)
	require.Equal(t, []logic.Row{{Kind: "rule", Name: "low", Data: fmt.Append(nil, n)}}, memory)
	segments, err := p.Segments(t.Context(), "fry", 0, n+1)
	require.NoError(t, err)
	require.Len(t, segments, int((n+9)/10))
	count := 0
	for _, s := range segments {
		_, stretches, err := p.Captured(t.Context(), s.ID)
		require.NoError(t, err)
		count += len(stretches)
	}
	require.Equal(t, int(n)-1, count, "the first begins with the memory")
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
	} {
		entries, err := p.Journal(t.Context(), "fry", filter)
		require.NoError(t, err)
		assert.Len(t, entries, want, "%+v", filter)
	}
	newest, err := p.Journal(t.Context(), "fry", store.JournalFilter{Newest: 3})
	require.NoError(t, err)
	assert.Equal(t, int64(38), newest[0].Number, "the oldest first")
}

// What outputs have done is still there when the tables are those of a newer program.
func TestFiguresOfEarlierTables(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, openPlant(t, folder).Close())
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "plant.db"))
	require.NoError(t, err)
	for _, statement := range []string{
		"ALTER TABLE figures DROP COLUMN serviced_ns", "PRAGMA user_version = 1", "INSERT INTO figures VALUES ('fry', 'blower', 7, 2)",
	} {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	p := openPlant(t, folder)
	all, err := p.Figures(t.Context(), "fry")
	require.NoError(t, errors.Join(err, p.Close()))
	assert.Equal(t, []store.Figures{{Job: "fry", Name: "blower", OnNs: 7, Starts: 2}}, all)
}
