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

func open(t testing.TB, file string) *Store {
	t.Helper()
	s, err := Open(t.Context(), file, Options{})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return s
}

// theJob is the only job of a store, which is made if it has none.
func theJob(t testing.TB, s *Store) *Job {
	t.Helper()
	all, err := s.Jobs(t.Context())
	require.NoError(t, err)
	if len(all) > 0 {
		return all[0]
	}
	j, made, err := s.MakeJob(t.Context(), "hatchery", time.Unix(0, 3))
	require.NoError(t, err)
	require.True(t, made)
	return j
}

func TestRevisions(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a b%.db")
	s := open(t, file)
	j := theJob(t, s)
	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\n")}, {Name: "b.rct", Text: nil}}
	for i := range 3 {
		sheets[0].Text = fmt.Appendf(nil, "job \"x\"\n# %d\n", i)
		r, kept, err := j.AddRevision(t.Context(), Revision{Title: "x", Note: fmt.Sprint(i), Created: int64(i)}, sheets, nil, 0)
		require.NoError(t, err)
		assert.True(t, kept)
		assert.Equal(t, int64(i+1), r.Number)
	}
	all, err := j.Revisions(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"2", "1", "0"}, []string{all[0].Note, all[1].Note, all[2].Note})

	again := open(t, file) // what was kept is there for another process
	r, got, err := theJob(t, again).Revision(t.Context(), 2)
	require.NoError(t, err)
	assert.Equal(t, "1", r.Note)
	assert.Equal(t, "a.rct", got[0].Name)
	assert.Equal(t, "job \"x\"\n# 1\n", string(got[0].Text))
	_, _, err = j.Revision(t.Context(), 9)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.EqualError(t, err, "revision 9: not found")
}

func TestRecordings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "r.db")
	s := open(t, file)
	j := theJob(t, s)
	var b strings.Builder
	b.WriteString("time,x [mA],k,empty,only_bad\n")
	for i := range 10_000 {
		fmt.Fprintf(&b, "2026-03-02T%02d:%02d:%02d+01:00,%d.5,%s,,bad\n", i/3600, i/60%60, i%60, i, []string{"0", "1", "on", "bad"}[i%4])
	}
	want, err := csv.Reader{}.Read(strings.NewReader(b.String()))
	require.NoError(t, err)
	want.Notes = []string{"a note"}
	now := time.Date(2026, 3, 3, 0, 0, 0, 5, time.UTC)
	id, err := j.AddRecording(t.Context(), "long.csv", want, nil, now)
	require.NoError(t, err)
	_, err = j.AddRecording(t.Context(), "long.csv", want, nil, now)
	assert.ErrorIs(t, err, ErrExists)
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(file)
		return err == nil && bytes.Contains(text, []byte("a note"))
	}, 10*time.Second, time.Millisecond, "it comes to stand in the file itself, while the store is open")
	require.NoError(t, s.Ping(t.Context()))

	known, err := j.Recording(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, now, known.Uploaded)
	assert.Equal(t, []string{"a note"}, known.Notes)
	assert.Equal(t, want.Clock, known.Clock)
	assert.Equal(t, 30_000, known.Samples())
	assert.Equal(t, Column{"x", "mA", 10_000, 0.5, 9999.5}, known.Columns[0])
	assert.Equal(t, 0, known.Columns[2].Samples)
	assert.True(t, math.IsNaN(known.Columns[3].Min))
	assert.Less(t, known.Bytes, int64(30_000), "blocks are compressed")

	got, err := j.Readings(t.Context(), id, math.MinInt64, math.MaxInt64)
	require.NoError(t, err)
	require.Len(t, got.Columns, len(want.Columns))
	for i, c := range want.Columns {
		assert.Equal(t, readings(c), readings(got.Columns[i]), c.Name)
		assert.Equal(t, c.Word, got.Columns[i].Word)
	}
	assert.Same(t, &got.Columns[0].Blocks[0].Times[0], &got.Columns[1].Blocks[0].Times[0], "times are shared again")

	part, err := j.Readings(t.Context(), id, want.Start+5000e9, want.Start+5001e9)
	require.NoError(t, err)
	assert.Len(t, part.Columns[0].Blocks, 1, "only the block that holds the part is read")
	_, err = j.Recording(t.Context(), 99)
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
		require.NoError(t, s.migrate(context.Background(), folder, []string{"1.sql", "2.sql"}[:from], nil))
		require.NoError(t, s.migrate(context.Background(), folder, []string{"2.sql", "1.sql"}, nil))
		if from == 0 {
			first = tables(s)
		}
		assert.Equal(t, first, tables(s))
		assert.Len(t, first, 2)
		assert.ErrorContains(t, s.migrate(context.Background(), folder, []string{"1.sql", "2.sql", "3.sql"}, nil), "migration 3.sql")
		assert.Equal(t, first, tables(s))
		require.NoError(t, s.db.Exec("PRAGMA user_version = 7").Error)
		assert.EqualError(
			t,
			s.migrate(context.Background(), folder, []string{"1.sql"}, nil),
			"the tables have version 7, and this program knows 1; use a newer program",
		)
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
	_, err = raw.Exec(
		"INSERT INTO blocks VALUES (3, 1772413200000000000, 1772413201000000000, 2, 1, 2.5, 0, ?)",
		encoder.EncodeAll(block, nil),
	)
	require.NoError(t, err)
	require.NoError(t, raw.Close())

	s := open(t, file)
	j := theJob(t, s)
	kept, err := j.Recording(t.Context(), 7)
	require.NoError(t, err)
	assert.Equal(t, recording.Clock{Offset: 3600}, kept.Clock)
	assert.Empty(t, kept.Understood)
	assert.Equal(t, []Column{{"x", "", 2, 1, 2.5}}, kept.Columns)
	assert.Positive(t, kept.Bytes)
	want, err := csv.Reader{}.Read(strings.NewReader("time,x\n2026-03-02T02:00:00+01:00,1\n2026-03-02T02:00:01+01:00,2.5\n"))
	require.NoError(t, err)
	r, err := j.Readings(t.Context(), 7, math.MinInt64, math.MaxInt64)
	require.NoError(t, err)
	recordingtest.Same(t, want, r)
}

// A recording in a zone is shown in it again, and says how it was read.
func TestZonesAreKept(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "z.db"))
	j := theJob(t, s)
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	r, err := csv.Reader{
		Options: recording.Options{Zone: dublin},
	}.Read(
		strings.NewReader("time;x\n01.07.2026 12:00;1,5\n01.07.2026 12:01;bad\n"),
	)
	require.NoError(t, err)
	id, err := j.AddRecording(t.Context(), "summer.csv", r, nil, time.Unix(0, 5))
	require.NoError(t, err)
	kept, err := j.Recording(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "12:00:00", kept.Clock.Format(kept.Start))
	assert.Equal(t, "CSV, wide, separated by semicolon, decimal comma; times DD.MM.YYYY hh:mm in Europe/Dublin", kept.Understood)
	back, err := j.Readings(t.Context(), id, math.MinInt64, math.MaxInt64)
	require.NoError(t, err)
	recordingtest.Same(t, r, back)
	assert.Equal(t, r.Clock, back.Clock)
	_, err = j.AddRecording(t.Context(), "summer.csv", r, nil, time.Unix(0, 6))
	assert.ErrorIs(t, err, ErrExists)
}

// The newest drafts are kept, whatever is in them.
func TestDrafts(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "bench.db"))
	j := theJob(t, s)
	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"\xff\n")}}
	for i := range MostDrafts + 1 {
		require.NoError(t, j.PutDraft(t.Context(), Draft{Owner: fmt.Sprintf("owner %d", i), Base: 1, Saved: int64(i)}, sheets))
	}
	_, _, err := j.Draft(t.Context(), "owner 0")
	assert.ErrorIs(t, err, ErrNotFound, "the oldest has gone")
	d, again, err := j.Draft(t.Context(), "owner 1")
	require.NoError(t, err)
	assert.Equal(t, sheets, again)
	assert.Equal(t, int64(1), d.Base)
	require.NoError(t, j.PutDraft(t.Context(), Draft{Owner: "owner 1", Base: 2, Saved: 1000}, nil))
	d, again, err = j.Draft(t.Context(), "owner 1")
	require.NoError(t, err)
	assert.Equal(t, int64(2), d.Base)
	assert.Empty(t, again)
	require.NoError(t, j.DeleteDraft(t.Context(), "owner 1"))
	require.NoError(t, j.DeleteDraft(t.Context(), "owner 1"), "there is none any more")
}

// A revision that was made of another than the newest is refused.
func TestOutdated(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "bench.db"))
	j := theJob(t, s)
	_, err := j.Newest(t.Context())
	assert.ErrorIs(t, err, ErrNotFound)
	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\n")}}
	for n, base := range []int64{0, 1, 2, 0} {
		_, _, err := j.AddRevision(t.Context(), Revision{}, append([]sheet.Source{{Name: fmt.Sprint(n)}}, sheets...), nil, base)
		require.NoError(t, err)
	}
	_, _, err = j.AddRevision(t.Context(), Revision{}, sheets, nil, 3)
	assert.ErrorIs(t, err, ErrOutdated)
	newest, err := j.Newest(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(4), newest)
}

// What was kept when there was one job belongs to one that is named after its title;
// what had been damaged before is not made good by that.
func TestOneJobBecomesSeveral(t *testing.T) {
	file := filepath.Join(t.TempDir(), "old.db")
	raw, err := sql.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	for _, name := range []string{"0001_first", "0002_zone", "0003_blocks", "0004_drafts", "0005_sums"} {
		text, err := migrations.ReadFile("migrations/" + name + ".sql")
		require.NoError(t, err)
		for _, statement := range strings.Split(string(text), ";\n") {
			_, err := raw.Exec(statement)
			require.NoError(t, err, statement)
		}
	}
	rows := []sheetRow{{Name: "a.rct", Text: []byte("job")}}
	for _, r := range []Revision{{Number: 2, Title: "Old", Created: 5}, {Number: 4, Title: "Fennick trout, 2nd hatchery", Created: 9}, {Number: 5, Title: "Damaged", Created: 9}} {
		r.Content = content(rows)
		kept := sum(r.fields()...)
		if r.Number == 5 {
			r.Title = "9 Fennick trout hatchery"
		}
		_, err := raw.Exec("INSERT INTO revisions VALUES (?, ?, '', ?, 0, 0, 0, 0, ?, ?)", r.Number, r.Title, r.Created, r.Content, kept)
		require.NoError(t, err)
		_, err = raw.Exec("INSERT INTO sheets VALUES (?, 0, 'a.rct', x'6a6f62', ?)", r.Number, rows[0].sum())
		require.NoError(t, err)
	}
	_, err = raw.Exec("PRAGMA user_version = 5")
	require.NoError(t, err)
	require.NoError(t, raw.Close())

	s := open(t, file)
	j, err := s.Job(t.Context(), "fennick-trout-hatchery")
	require.NoError(t, err)
	for _, number := range []int64{2, 4} {
		r, sheets, err := j.Revision(t.Context(), number)
		require.NoError(t, err)
		assert.Equal(t, number, r.Number)
		assert.Equal(t, "job", string(sheets[0].Text))
	}
	_, _, err = j.Revision(t.Context(), 5)
	require.ErrorIs(t, err, ErrDamaged)
	var enforced int
	require.NoError(t, s.db.Raw("PRAGMA foreign_keys").Scan(&enforced).Error)
	assert.Equal(t, 1, enforced)

	for text, want := range map[string]string{"Fennick Trout": "fennick-trout", "../my job!": "my-job", "…": "job", strings.Repeat("x", 90): strings.Repeat("x", 64), "hut_2": "hut-2", "API": "api-job"} {
		assert.Equal(t, want, ShortName(text))
	}
	_, _, err = s.MakeJob(t.Context(), "../up", time.Now())
	assert.ErrorIs(t, err, ErrName)
}

// Each job has its own numbers, names and drafts. What is the newest already is not
// kept again; what a trial plays stays.
func TestJobs(t *testing.T) {
	s := filled(t, filepath.Join(t.TempDir(), "j.db"))
	first := theJob(t, s)
	other, made, err := s.MakeJob(t.Context(), "hut", time.Unix(0, 4))
	require.NoError(t, err)
	require.True(t, made)
	again, made, err := s.MakeJob(t.Context(), "hut", time.Unix(0, 5))
	require.NoError(t, err)
	require.False(t, made)
	assert.Equal(t, other, again)
	r, err := csv.Reader{}.Read(strings.NewReader("time,x\n0,1\n"))
	require.NoError(t, err)
	id, err := other.AddRecording(t.Context(), "a.csv", r, nil, time.Unix(0, 7))
	require.NoError(t, err)
	_, err = first.Recording(t.Context(), id)
	require.ErrorIs(t, err, ErrNotFound)
	_, err = first.Readings(t.Context(), id, 0, 9)
	require.ErrorIs(t, err, ErrNotFound)
	require.ErrorIs(t, first.DeleteRecording(t.Context(), id), ErrNotFound)
	_, _, err = other.Draft(t.Context(), "somebody")
	require.ErrorIs(t, err, ErrNotFound)

	sheets := []sheet.Source{{Name: "a.rct", Text: []byte("job \"Hut\"\n")}}
	for _, c := range []struct {
		plays  []Play
		number int64
		kept   bool
	}{{nil, 1, true}, {nil, 1, false}, {[]Play{{Path: "a.csv", Recording: id}}, 2, true}, {[]Play{{Path: "a.csv", Recording: id}}, 2, false}, {[]Play{{Path: "b.csv", Recording: id}}, 3, true}} {
		r, kept, err := other.AddRevision(t.Context(), Revision{Title: "Hut"}, sheets, c.plays, 0)
		require.NoError(t, err)
		assert.Equal(t, []any{c.number, c.kept}, []any{r.Number, kept})
	}
	plays, err := other.Plays(t.Context(), 3)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"b.csv": id}, plays)
	assert.EqualError(
		t,
		other.DeleteRecording(t.Context(), id),
		"deleting recording 2: trials of 2 revisions play it, the newest of which is 3: it is needed",
	)
	require.NoError(t, other.RenameRecording(t.Context(), id, "b.csv"))
	known, err := other.Recording(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "b.csv", known.Name)
	_, err = other.AddRecording(t.Context(), "c.csv", r, nil, time.Unix(0, 7))
	require.NoError(t, err)
	require.ErrorIs(t, other.RenameRecording(t.Context(), id, "c.csv"), ErrExists)
	require.ErrorIs(t, other.RenameRecording(t.Context(), 1, "d.csv"), ErrNotFound)

	o, err := other.Overview(t.Context())
	require.NoError(t, err)
	assert.Equal(t, Overview{Newest: 3, Title: "Hut", Revisions: 3, Recordings: 2}, o)
	require.NoError(t, other.Delete(t.Context()))
	_, err = other.AddRecording(t.Context(), "late.csv", r, nil, time.Unix(0, 7))
	require.ErrorIs(t, err, ErrNotFound, "what was on its way when the job was deleted")
	_, err = s.Job(t.Context(), "hut")
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, readAll(t, s), "the other job has all of its own")
}
