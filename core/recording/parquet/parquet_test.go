package parquet_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	pq "github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/recording"
	"rectura/core/recording/parquet"
)

// file writes rows as a library would that knows nothing of recordings.
func file[T any](t *testing.T, rows []T, options ...pq.WriterOption) []byte {
	t.Helper()
	var b bytes.Buffer
	w := pq.NewGenericWriter[T](&b, options...)
	_, err := w.Write(rows)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func read(data []byte, o recording.Options) (*recording.Recording, error) {
	return parquet.Reader{Name: "r.parquet", Options: o}.Read(bytes.NewReader(data), int64(len(data)))
}

func dump(r *recording.Recording) string {
	var all []string
	for _, c := range r.Columns {
		line := c.Heading()
		c.Each(func(t int64, v float64) bool {
			line += fmt.Sprintf(" %g=%g", float64(t-r.Start)/1e9, v)
			return true
		})
		all = append(all, line)
	}
	return strings.Join(all, "; ")
}

func ptr[T any](v T) *T { return &v }

// Times and readings of every kind of column that others write.
func TestKindsOfColumns(t *testing.T) {
	base := time.Date(2026, 3, 2, 2, 0, 0, 0, time.UTC)
	type kinds struct {
		Time   time.Time `parquet:"time,timestamp(microsecond)"`
		Double *float64  `parquet:"double,optional"`
		Float  float32   `parquet:"float"`
		Int    int32     `parquet:"int"`
		Long   *int64    `parquet:"long,optional"`
		Bool   bool      `parquet:"bool"`
		Text   string    `parquet:"text,dict"`
		Money  int64     `parquet:"money,decimal(2:10)"`
	}
	r, err := read(file(t, []kinds{
		{base, ptr(1.5), 0.5, -3, ptr(int64(7)), true, "on", 1250},
		{base.Add(1500 * time.Millisecond), nil, 0.25, 4, nil, false, "", -5},
		{base.Add(3 * time.Second), ptr(2.5), 0, 5, ptr(int64(8)), true, "bad", 0},
	}), recording.Options{})
	require.NoError(t, err)
	assert.Equal(
		t,
		"bool 0=1 1.5=0 3=1; double 0=1.5 3=2.5; float 0=0.5 1.5=0.25 3=0; int 0=-3 1.5=4 3=5; long 0=7 3=8; money 0=12.5 1.5=-0.05 3=0; text 0=1 3=NaN",
		sorted(dump(r)),
	)
	assert.Equal(t, "2026-03-02T02:00:00Z", r.Clock.Full(r.Start))
	assert.Equal(t, "on", r.Column("text").Word.Text)

	type seconds struct {
		Seconds float64 `parquet:"seconds"`
		A       float64 `parquet:"a"`
	}
	r, err = read(file(t, []seconds{{0.5, 1}, {1.25, 2}}), recording.Options{})
	require.NoError(t, err)
	assert.True(t, r.Clock.Elapsed)
	assert.Equal(t, "a 0=1 0.75=2", dump(r))

	type millis struct {
		A    float64 `parquet:"a"`
		When int64   `parquet:"when"`
	}
	r, err = read(file(t, []millis{{1, 1772416800000}, {2, 1772416800250}}), recording.Options{TimeColumn: "when"})
	require.NoError(t, err)
	assert.Equal(t, "2026-03-02T02:00:00Z", r.Clock.Full(r.Start))
	assert.Equal(t, "a 0=1 0.25=2", dump(r))

	type text struct {
		Date string  `parquet:"date"`
		A    float64 `parquet:"DO R1"`
	}
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	r, err = read(
		file(t, []text{{"01.07.2026 12:00:00", 1}, {"01.07.2026 12:00:05", 2}}),
		recording.Options{Zone: dublin, Map: []recording.Mapping{{Column: "DO R1", Point: "oxygen", Unit: "mA"}}},
	)
	require.NoError(t, err)
	assert.Equal(t, "oxygen [mA] 0=1 5=2", dump(r))
	assert.Equal(t, "2026-07-01T12:00:00+01:00", r.Clock.Full(r.Start))
	assert.Equal(t, "Parquet, wide; times DD.MM.YYYY hh:mm:ss in Europe/Dublin", r.Understood.String())
}

func sorted(s string) string {
	parts := strings.Split(s, "; ")
	for i := range parts {
		for k := i; k > 0 && parts[k] < parts[k-1]; k-- {
			parts[k], parts[k-1] = parts[k-1], parts[k]
		}
	}
	return strings.Join(parts, "; ")
}

type plain struct {
	Time float64  `parquet:"time"`
	A    *float64 `parquet:"a,optional"`
	K    float64  `parquet:"k"`
}

// Many row groups and blocks, times that come twice or go back, a part of it.
func TestRows(t *testing.T) {
	var rows []plain
	for i := range 10_000 {
		r := plain{Time: float64(i), K: float64(i % 2)}
		if i%3 > 0 {
			r.A = ptr(float64(i) / 4)
		}
		rows = append(rows, r)
	}
	r, err := read(file(t, rows, pq.MaxRowsPerRowGroup(3000)), recording.Options{})
	require.NoError(t, err)
	assert.Equal(t, 10_000, r.Rows)
	assert.Equal(t, 6666, r.Column("a").Len())
	v, _ := r.Column("a").Held(9998e9)
	assert.Equal(t, 9998.0/4, v)
	assert.Equal(t, int64(9999e9), r.End)
	r, err = read(file(t, rows, pq.MaxRowsPerRowGroup(3000)), recording.Options{Rows: 10})
	require.NoError(t, err)
	assert.Equal(t, 10, r.Rows)

	twice := []plain{{0, ptr(1.0), 0}, {1, ptr(2.0), 1}, {1, nil, 0}, {2, ptr(3.0), 1}}
	r, err = read(file(t, twice), recording.Options{})
	require.NoError(t, err)
	assert.Equal(t, "a 0=1 1=2 2=3; k 0=0 1=0 2=1", sorted(dump(r)))
	assert.Equal(t, []string{"readings that came again for the same time, of which the later counts: 1"}, r.Notes)

	back := []plain{{5, ptr(1.0), 0}, {4, ptr(2.0), 1}}
	_, err = read(file(t, back), recording.Options{})
	assert.EqualError(t, err, "r.parquet: the time goes back in row 2 of its group, from 5 to 4; sort the rows by time")
	r, err = read(file(t, back), recording.Options{Sort: true})
	require.NoError(t, err)
	assert.Equal(t, "a 0=2 1=1; k 0=1 1=0", sorted(dump(r)))
}

func TestErrors(t *testing.T) {
	type noTime struct {
		Time *float64 `parquet:"time,optional"`
		A    float64  `parquet:"a"`
	}
	type truth struct {
		Time bool    `parquet:"time"`
		A    float64 `parquet:"a"`
	}
	type word struct {
		Time float64 `parquet:"time"`
		A    string  `parquet:"a"`
	}
	type list struct {
		Time float64   `parquet:"time"`
		A    []float64 `parquet:"a"`
	}
	type alone struct {
		Time float64 `parquet:"time"`
	}
	for _, c := range []struct {
		data    []byte
		options recording.Options
		want    string
	}{
		{file(t, []noTime{{ptr(1.0), 1}, {nil, 2}}), recording.Options{}, "r.parquet: row 2 has no time"},
		{file(t, []truth{{true, 1}}), recording.Options{}, "r.parquet: the column time is of a kind that is no time"},
		{file(t, []word{{1, "high"}}), recording.Options{}, `r.parquet: a: "high" is no reading; it is a number, or a word such as on, off or bad`},
		{file(t, []list{{1, []float64{1}}}), recording.Options{}, "r.parquet: the column a is nested; a recording has one reading a row in each column, so write it out flat"},
		{file(t, []alone{{1}}), recording.Options{}, "r.parquet: the file has 1 columns; a recording has a time and at least one point"},
		{file(t, []plain{}), recording.Options{}, "r.parquet: the file has columns and no row in them"},
		{file(t, []plain{{Time: 1}}), recording.Options{TimeColumn: "when"}, "r.parquet: no column is named when, which was to be the time"},
		{file(t, []plain{{Time: 1}}), recording.Options{Map: []recording.Mapping{{Column: "x", Point: "y"}}}, "r.parquet: no column is named x, which was mapped to y; the file has a, k"},
		{file(t, []plain{{Time: 1}}), recording.Options{Map: []recording.Mapping{{Column: "a", Point: "k"}}}, "r.parquet: two columns are named k; rename one"},
	} {
		_, err := read(c.data, c.options)
		assert.EqualError(t, err, c.want)
	}
	whole := file(t, []plain{{Time: 1}, {Time: 2}})
	for cut := 1; cut < len(whole); cut += 7 { // wherever it ends early, it is an error
		_, err := read(whole[:cut], recording.Options{})
		assert.Error(t, err)
	}
	for i := 4; i < len(whole)-12; i += 3 { // a broken byte is an error or another reading, and never a panic
		broken := bytes.Clone(whole)
		broken[i] ^= 0x5a
		_, _ = read(broken, recording.Options{})
	}
}
