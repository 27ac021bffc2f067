package store

import (
	"database/sql"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/recording/csv"
	"rectura/core/sheet"
)

// filled is a store with one of everything.
func filled(t *testing.T, file string) *Store {
	t.Helper()
	s := open(t, file)
	j := theJob(t, s)
	r, err := csv.Reader{}.Read(strings.NewReader("time,x [mA],k\n0,4.5,1\n1,5.25,0\n2,bad,1\n"))
	require.NoError(t, err)
	r.Notes = []string{"noted"}
	id, err := j.AddRecording(t.Context(), "a.csv", r, []byte("the sum of its file"), time.Unix(0, 7))
	require.NoError(t, err)
	_, _, err = j.AddRevision(
		t.Context(),
		Revision{Title: "Raceway", Note: "first", Created: 5, Inputs: 1},
		[]sheet.Source{
			{Name: "a.rct", Text: []byte("job \"Raceway\"\n")},
			{Name: "b.rct", Text: []byte("# b\n")},
		},
		[]Play{{Path: "recordings/a.csv", Recording: id}},
		0,
	)
	require.NoError(t, err)
	require.NoError(t, j.KeepTrialResults(t.Context(), 1, []TrialResult{{Trial: "dip", Played: 9, Passed: true, Result: []byte("{}")}}))
	require.NoError(
		t,
		j.PutDraft(t.Context(), Draft{Owner: "somebody", Base: 1, Saved: 5}, []sheet.Source{{Name: "a.rct", Text: []byte("job")}}),
	)
	damaged, err := s.Verify(t.Context())
	require.NoError(t, err)
	require.Empty(t, damaged)
	return s
}

// readAll reads everything that is given out, and gives the first error.
func readAll(t *testing.T, s *Store) error {
	all, err := s.Jobs(t.Context())
	if err != nil {
		return err
	}
	j := all[0]
	_, err = j.Revisions(t.Context())
	if err == nil {
		_, _, err = j.Revision(t.Context(), 1)
	}
	if err == nil {
		_, err = j.Recordings(t.Context())
	}
	if err == nil {
		_, err = j.Readings(t.Context(), 1, math.MinInt64, math.MaxInt64)
	}
	if err == nil {
		_, err = j.TrialResults(t.Context(), 1)
	}
	if err == nil {
		_, _, err = j.Draft(t.Context(), "somebody")
	}
	return err
}

// Whatever of what is kept is not as it was, it is named and not given out.
func TestDamage(t *testing.T) {
	for _, c := range []struct{ change, named string }{
		{"UPDATE revisions SET note = 'other'", "revision 1: it is not as it was kept; restore a backup"},
		{"UPDATE revisions SET title = 'Raceways'", "revision 1"},
		{"UPDATE jobs SET name = 'other'", "job other"},
		{"UPDATE trial_results SET passed = 0", "revision 1, the result of trial dip"},
		{"UPDATE recordings SET file = x'00'", "recording a.csv"},
		{"UPDATE sheets SET text = x'6a6f61' WHERE position = 0", "revision 1, sheet a.rct"},
		{"UPDATE sheets SET name = 'c.rct' WHERE position = 1", "revision 1, sheet c.rct"},
		{"DELETE FROM sheets WHERE position = 1", "revision 1, its sheets"},
		{"UPDATE recordings SET notes = '[]'", "recording a.csv"},
		{"UPDATE recordings SET start = 1", "recording a.csv"},
		{"UPDATE columns SET unit = 'A' WHERE position = 0", "recording a.csv, column x"},
		{"UPDATE columns SET name = 'y' WHERE position = 1", "recording a.csv, column y"},
		{"UPDATE blocks SET max = 9 WHERE id = 1", "recording a.csv, column x, the readings from 0 on"},
		{"UPDATE blocks SET data = substr(data, 1, length(data) - 1) || x'00' WHERE id = 2", "recording a.csv, column k, the readings from 0 on"},
	} {
		t.Run(c.change, func(t *testing.T) {
			s := filled(t, filepath.Join(t.TempDir(), "d.db"))
			require.NoError(t, s.db.Exec(c.change).Error)
			damaged, err := s.Verify(t.Context())
			require.NoError(t, err)
			require.NotEmpty(t, damaged)
			assert.Contains(t, damaged[0].Error(), c.named)
			require.ErrorIs(t, damaged[0], ErrDamaged)
			require.ErrorIs(t, readAll(t, s), ErrDamaged)
		})
	}
	s := filled(t, filepath.Join(t.TempDir(), "d.db"))
	j := theJob(t, s)
	require.NoError(t, s.db.Exec("DELETE FROM blocks WHERE id = 1").Error)
	damaged, err := s.Verify(t.Context())
	require.NoError(t, err)
	require.Len(t, damaged, 1)
	assert.Contains(t, damaged[0].Error(), "readings are missing")
	require.NoError(t, s.db.Exec("UPDATE drafts SET sheets = x'5b5d'").Error)
	_, _, err = j.Draft(t.Context(), "somebody")
	assert.ErrorIs(t, err, ErrDamaged)
}

// A bit of the file that is turned over is told, wherever it stands: by a checksum,
// by SQLite, or because the file is no database any more. It is never served as
// if it had been kept so.
func TestFlippedBits(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "b.db")
	s, err := Open(t.Context(), file, Options{})
	require.NoError(t, err)
	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"Raceway\"\n" + strings.Repeat("# a comment that is kept\n", 400))}}
	_, _, err = theJob(t, s).AddRevision(t.Context(), Revision{Title: "Raceway", Created: 5}, sheets, nil, 0)
	require.NoError(t, err)
	require.NoError(t, s.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error)
	require.NoError(t, s.Close())
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	silent, told := 0, 0
	for k := range 150 {
		at := (k*7919 + 13) % len(whole)
		broken := append([]byte{}, whole...)
		broken[at] ^= 1 << (k % 8)
		other := filepath.Join(folder, fmt.Sprintf("c%d.db", k))
		require.NoError(t, os.WriteFile(other, broken, 0o600))
		s, err := Open(t.Context(), other, Options{})
		if err != nil {
			told++
			continue
		}
		j, err := s.Job(t.Context(), "hatchery")
		var r Revision
		var got []sheet.Source
		if err == nil {
			r, got, err = j.Revision(t.Context(), 1)
		}
		switch {
		case err != nil:
			told++
		case r.Title != "Raceway" || r.Created != 5 || len(got) != 1 || got[0].Name != "a.rct" || string(got[0].Text) != string(sheets[0].Text):
			silent++
		}
		require.NoError(t, s.Close())
	}
	assert.Zero(t, silent)
	assert.Greater(t, told, 20)
}

// What was kept by earlier tables has checksums after it is opened; a schema
// number that no program has made is a sentence.
func TestSumsOfEarlierTables(t *testing.T) {
	file := filepath.Join(t.TempDir(), "old.db")
	raw, err := sql.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	for _, name := range []string{"0001_first", "0002_zone", "0003_blocks", "0004_drafts"} {
		text, err := migrations.ReadFile("migrations/" + name + ".sql")
		require.NoError(t, err)
		for _, statement := range strings.Split(string(text), ";\n") {
			_, err := raw.Exec(statement)
			require.NoError(t, err, statement)
		}
	}
	for _, statement := range []string{"PRAGMA user_version = 4", "INSERT INTO revisions VALUES (3, 'Raceway', 'note', 5, 1, 1, 1, 0)", "INSERT INTO sheets VALUES (3, 0, 'a.rct', x'6a6f62')"} {
		_, err := raw.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, raw.Close())
	s := open(t, file)
	j := theJob(t, s)
	_, sheets, err := j.Revision(t.Context(), 3)
	require.NoError(t, err)
	assert.Equal(t, "job", string(sheets[0].Text))
	require.NoError(t, s.db.Exec("UPDATE sheets SET text = x'6a6f63'").Error)
	_, _, err = j.Revision(t.Context(), 3)
	require.ErrorIs(t, err, ErrDamaged)

	require.NoError(t, s.db.Exec("PRAGMA user_version = -3").Error)
	_, err = Open(t.Context(), file, Options{})
	assert.ErrorContains(t, err, "the tables have version -3, which no program has made; restore a backup")
	require.NoError(t, s.db.Exec("PRAGMA user_version = 6").Error)
}

// The store's files are for their owner alone whatever they were before; temporary
// files are gone at the next start; what has no room is refused with a sentence;
// what is deleted is gone, but for the newest revision.
func TestHousekeeping(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "h.db")
	require.NoError(t, os.WriteFile(file, nil, 0o666))
	require.NoError(t, os.Chmod(file, 0o666))
	s := filled(t, file)
	j := theJob(t, s)
	for _, name := range []string{file, file + "-wal", file + "-shm"} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}
	f, err := s.Temporary("*.parquet")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	assert.Equal(t, filepath.Join(folder, "tmp"), filepath.Dir(f.Name()))

	r, _, err := j.AddRevision(t.Context(), Revision{Title: "second"}, []sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\n")}}, nil, 1)
	require.NoError(t, err)
	assert.EqualError(t, j.DeleteRevision(t.Context(), r.Number), "deleting revision 2: it is the newest one: it is needed")
	require.NoError(t, j.DeleteRevision(t.Context(), 1))
	assert.ErrorIs(t, j.DeleteRevision(t.Context(), 1), ErrNotFound)
	_, _, err = j.Revision(t.Context(), 1)
	assert.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, j.DeleteRecording(t.Context(), 1), "nothing plays it any more")
	assert.ErrorIs(t, j.DeleteRecording(t.Context(), 1), ErrNotFound)
	var left int
	require.NoError(
		t,
		s.db.Raw("SELECT (SELECT COUNT(*) FROM blocks) + (SELECT COUNT(*) FROM columns) + (SELECT COUNT(*) FROM sheets WHERE revision = 1)").
			Scan(&left).
			Error,
	)
	assert.Zero(t, left)

	s.options.Quota = 1 << 20
	require.NoError(t, s.Room(t.Context(), 1000))
	err = s.Room(t.Context(), 2<<20)
	assert.ErrorIs(t, err, ErrFull)
	assert.ErrorContains(t, err, "of the 1 MiB that it may, and 3 more are needed; delete recordings or revisions, or give it more")
	s.options.Quota = 0
	assert.ErrorContains(t, s.Room(t.Context(), 1<<60), "the disk has")

	again, err := Open(t.Context(), file, Options{})
	require.NoError(t, err)
	_, err = os.Stat(f.Name())
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, again.Close())
}

// A page is read while a recording is being kept.
func TestReadersDoNotWait(t *testing.T) {
	s := filled(t, filepath.Join(t.TempDir(), "r.db"))
	j := theJob(t, s)
	tx := s.db.Begin()
	require.NoError(t, tx.Exec("UPDATE recordings SET name = 'being-kept.csv'").Error)
	all, err := j.Recordings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "a.csv", all[0].Name)
	require.NoError(t, s.Ping(t.Context()))
	require.NoError(t, tx.Rollback().Error)
}
