package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/core/recording/recordingtest"
	"rectura/core/sheet"
)

func open(t *testing.T, file string) *Store {
	t.Helper()
	s, err := Open(t.Context(), file, Options{})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return s
}

func TestRevisions(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a b%.db")
	s := open(t, file)
	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\n")}, {Name: "b.rct", Text: nil}}
	for i := range 3 {
		r, err := s.AddRevision(t.Context(), Revision{Title: "x", Note: fmt.Sprint(i), Created: int64(i)}, sheets, 0)
		require.NoError(t, err)
		assert.Equal(t, int64(i+1), r.Number)
	}
	all, err := s.Revisions(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"2", "1", "0"}, []string{all[0].Note, all[1].Note, all[2].Note})

	again := open(t, file) // what was kept is there for another process
	r, got, err := again.Revision(t.Context(), 2)
	require.NoError(t, err)
	assert.Equal(t, "1", r.Note)
	assert.Equal(t, "a.rct", got[0].Name)
	assert.Equal(t, sheets[0].Text, got[0].Text)
	_, _, err = s.Revision(t.Context(), 9)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.EqualError(t, err, "revision 9: not found")
}

func TestRecordings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "r.db")
	s := open(t, file)
	var b strings.Builder
	b.WriteString("time,x [mA],k,empty,only_bad\n")
	for i := range 10_000 {
		fmt.Fprintf(&b, "2026-03-02T%02d:%02d:%02d+01:00,%d.5,%s,,bad\n", i/3600, i/60%60, i%60, i, []string{"0", "1", "on", "bad"}[i%4])
	}
	want, err := csv.Reader{}.Read(strings.NewReader(b.String()))
	require.NoError(t, err)
	want.Notes = []string{"a note"}
	now := time.Date(2026, 3, 3, 0, 0, 0, 5, time.UTC)
	id, err := s.AddRecording(t.Context(), "long.csv", want, now)
	require.NoError(t, err)
	_, err = s.AddRecording(t.Context(), "long.csv", want, now)
	assert.ErrorIs(t, err, ErrExists)
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(file)
		return err == nil && bytes.Contains(text, []byte("a note"))
	}, 10*time.Second, time.Millisecond, "it comes to stand in the file itself, while the store is open")
	require.NoError(t, s.Ping(t.Context()))

	known, err := s.Recording(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, now, known.Uploaded)
	assert.Equal(t, []string{"a note"}, known.Notes)
	assert.Equal(t, want.Clock, known.Clock)
	assert.Equal(t, 30_000, known.Samples())
	assert.Equal(t, Column{"x", "mA", 10_000, 0.5, 9999.5}, known.Columns[0])
	assert.Equal(t, 0, known.Columns[2].Samples)
	assert.True(t, math.IsNaN(known.Columns[3].Min))
	assert.Less(t, known.Bytes, int64(30_000), "blocks are compressed")

	got, err := s.Readings(t.Context(), id, math.MinInt64, math.MaxInt64)
	require.NoError(t, err)
	require.Len(t, got.Columns, len(want.Columns))
	for i, c := range want.Columns {
		assert.Equal(t, readings(c), readings(got.Columns[i]), c.Name)
		assert.Equal(t, c.Word, got.Columns[i].Word)
	}
	assert.Same(t, &got.Columns[0].Blocks[0].Times[0], &got.Columns[1].Blocks[0].Times[0], "times are shared again")

	part, err := s.Readings(t.Context(), id, want.Start+5000e9, want.Start+5001e9)
	require.NoError(t, err)
	assert.Len(t, part.Columns[0].Blocks, 1, "only the block that holds the part is read")
	_, err = s.Recording(t.Context(), 99)
	assert.ErrorIs(t, err, ErrNotFound)
}

func readings(c *recording.Column) string {
	var b strings.Builder
	c.Each(func(t int64, v float64) bool {
		fmt.Fprintf(&b, "%d=%v ", t, v)
		return true
	})
	return b.String()
}

// The tables come out the same from every earlier number; a database of a
// newer program is refused; a migration that fails leaves nothing behind.
func TestMigrations(t *testing.T) {
	folder := fstest.MapFS{
		"1.sql": {Data: []byte("CREATE TABLE a (x INTEGER);\n")},
		"2.sql": {Data: []byte("ALTER TABLE a ADD COLUMN y INTEGER;\nCREATE TABLE b (z INTEGER);\n")},
		"3.sql": {Data: []byte("CREATE TABLE c (z INTEGER);\nCREATE TABLE c (z INTEGER);\n")},
	}
	tables := func(s *Store) []string {
		var names []string
		require.NoError(t, s.db.Raw("SELECT sql FROM sqlite_master WHERE name IN ('a', 'b', 'c') ORDER BY name").Scan(&names).Error)
		return names
	}
	var first []string
	for from := range 3 {
		s := open(t, filepath.Join(t.TempDir(), "m.db"))
		require.NoError(t, s.db.Exec("PRAGMA user_version = 0").Error)
		require.NoError(t, s.migrate(context.Background(), folder, []string{"1.sql", "2.sql"}[:from]))
		require.NoError(t, s.migrate(context.Background(), folder, []string{"2.sql", "1.sql"}))
		if from == 0 {
			first = tables(s)
		}
		assert.Equal(t, first, tables(s))
		assert.Len(t, first, 2)
		assert.ErrorContains(t, s.migrate(context.Background(), folder, []string{"1.sql", "2.sql", "3.sql"}), "migration 3.sql")
		assert.Equal(t, first, tables(s))
		require.NoError(t, s.db.Exec("PRAGMA user_version = 7").Error)
		assert.EqualError(t, s.migrate(context.Background(), folder, []string{"1.sql"}), "the tables have version 7, and this program knows 1; use a newer program")
		require.NoError(t, s.db.Exec("PRAGMA user_version = 1").Error)
	}
}

// A database of the first tables keeps its recordings when it is opened with
// the present ones.
func TestRecordingsOfTheFirstTables(t *testing.T) {
	file := filepath.Join(t.TempDir(), "old.db")
	raw, err := sql.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	text, err := migrations.ReadFile("migrations/0001_first.sql")
	require.NoError(t, err)
	block := []byte{1, 3, 2} // version 1, decimals, two readings: each number a varint
	for _, n := range []int64{1772413200e9, 1e9 - 1772413200e9} {
		block = binary.AppendVarint(block, n)
	}
	block = append(block, 1, 20, 30) // one place: 1.0, and 1.5 more
	for _, statement := range append(strings.Split(string(text), ";\n"), "PRAGMA user_version = 1",
		"INSERT INTO recordings VALUES (7, 'old.csv', 5, 1772413200000000000, 1772413201000000000, 2, 0, 3600, '[]')",
		"INSERT INTO columns VALUES (3, 7, 0, 'x', '', '', 0, 0)") {
		_, err := raw.Exec(statement)
		require.NoError(t, err, statement)
	}
	_, err = raw.Exec("INSERT INTO blocks VALUES (3, 1772413200000000000, 1772413201000000000, 2, 1, 2.5, 0, ?)", encoder.EncodeAll(block, nil))
	require.NoError(t, err)
	require.NoError(t, raw.Close())

	s := open(t, file)
	kept, err := s.Recording(t.Context(), 7)
	require.NoError(t, err)
	assert.Equal(t, recording.Clock{Offset: 3600}, kept.Clock)
	assert.Empty(t, kept.Understood)
	assert.Equal(t, []Column{{"x", "", 2, 1, 2.5}}, kept.Columns)
	assert.Positive(t, kept.Bytes)
	want, err := csv.Reader{}.Read(strings.NewReader("time,x\n2026-03-02T02:00:00+01:00,1\n2026-03-02T02:00:01+01:00,2.5\n"))
	require.NoError(t, err)
	r, err := s.Readings(t.Context(), 7, math.MinInt64, math.MaxInt64)
	require.NoError(t, err)
	recordingtest.Same(t, want, r)
}

// A recording in a zone is shown in it again, and says how it was read.
func TestZonesAreKept(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "z.db"))
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	r, err := csv.Reader{Options: recording.Options{Zone: dublin}}.Read(strings.NewReader("time;x\n01.07.2026 12:00;1,5\n01.07.2026 12:01;bad\n"))
	require.NoError(t, err)
	id, err := s.AddRecording(t.Context(), "summer.csv", r, time.Unix(0, 5))
	require.NoError(t, err)
	kept, err := s.Recording(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "12:00:00", kept.Clock.Format(kept.Start))
	assert.Equal(t, "CSV, wide, separated by semicolon, decimal comma; times DD.MM.YYYY hh:mm in Europe/Dublin", kept.Understood)
	back, err := s.Readings(t.Context(), id, math.MinInt64, math.MaxInt64)
	require.NoError(t, err)
	recordingtest.Same(t, r, back)
	assert.Equal(t, r.Clock, back.Clock)
	_, err = s.AddRecording(t.Context(), "summer.csv", r, time.Unix(0, 6))
	assert.ErrorIs(t, err, ErrExists)
}

// The newest drafts are kept, whatever is in them.
func TestDrafts(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "rectura.db"))
	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"\xff\n")}}
	for i := range MostDrafts + 1 {
		require.NoError(t, s.PutDraft(t.Context(), Draft{Owner: fmt.Sprintf("owner %d", i), Base: 1, Saved: int64(i)}, sheets))
	}
	_, _, err := s.Draft(t.Context(), "owner 0")
	assert.ErrorIs(t, err, ErrNotFound, "the oldest has gone")
	d, again, err := s.Draft(t.Context(), "owner 1")
	require.NoError(t, err)
	assert.Equal(t, sheets, again)
	assert.Equal(t, int64(1), d.Base)
	require.NoError(t, s.PutDraft(t.Context(), Draft{Owner: "owner 1", Base: 2, Saved: 1000}, nil))
	d, again, err = s.Draft(t.Context(), "owner 1")
	require.NoError(t, err)
	assert.Equal(t, int64(2), d.Base)
	assert.Empty(t, again)
	require.NoError(t, s.DeleteDraft(t.Context(), "owner 1"))
	require.NoError(t, s.DeleteDraft(t.Context(), "owner 1"), "there is none any more")
}

// A revision that was made of another than the newest is refused.
func TestOutdated(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "rectura.db"))
	_, err := s.Newest(t.Context())
	assert.ErrorIs(t, err, ErrNotFound)
	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\n")}}
	for _, base := range []int64{0, 1, 2, 0} {
		_, err := s.AddRevision(t.Context(), Revision{}, sheets, base)
		require.NoError(t, err)
	}
	_, err = s.AddRevision(t.Context(), Revision{}, sheets, 3)
	assert.ErrorIs(t, err, ErrOutdated)
	newest, err := s.Newest(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(4), newest)
}
