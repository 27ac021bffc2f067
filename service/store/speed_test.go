package store

import (
	"bytes"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording/csv"
	"rectura/core/sheet"
)

// BenchmarkStored replays a week of eight wandering signals at 1 Hz from the store, and cold from its CSV
// file. 10 times as fast is wanted.
func BenchmarkStored(b *testing.B) {
	const columns, rows = 8, 7 * 24 * 3600
	var text, rules bytes.Buffer
	rules.WriteString("job \"Week\"\n")
	text.WriteString("time")
	values := make([]float64, columns)
	for i := range values {
		values[i] = 12
		fmt.Fprintf(&text, ",sig%d", i)
		fmt.Fprintf(
			&rules,
			"input sig%d\n  scale 4..20 mA to 0..20 mg/L\nrule low%d\n  on when sig%d < 6 mg/L hysteresis 0.4 mg/L for 45 s\n  call out%d\noutput out%d\n",
			i,
			i,
			i,
			i,
			i,
		)
	}
	rng := rand.New(rand.NewPCG(7, 1))
	t := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	for range rows {
		text.WriteString("\n" + t.Format(time.RFC3339))
		for i := range values {
			values[i] = min(max(values[i]+rng.Float64()*0.2-0.1, 4), 20)
			fmt.Fprintf(&text, ",%.4f", values[i])
		}
		t = t.Add(time.Second)
	}
	_, p, found := logic.Check([]sheet.Source{{Name: "a.rct", Text: rules.Bytes()}})
	require.NotNil(b, p, "%v", found)
	read := func() (changes int) {
		r, err := csv.Reader{Name: "week.csv"}.Read(bytes.NewReader(text.Bytes()))
		require.NoError(b, err)
		result, err := bench.Replay(p, r, bench.Options{})
		require.NoError(b, err)
		return result.Changes
	}
	s := open(b, filepath.Join(b.TempDir(), "week.db"))
	r, err := csv.Reader{Name: "week.csv"}.Read(bytes.NewReader(text.Bytes()))
	require.NoError(b, err)
	j := theJob(b, s)
	id, err := j.AddRecording(b.Context(), "week.csv", r, nil, time.Now())
	require.NoError(b, err)
	var cold, stored, played time.Duration
	for b.Loop() {
		began := time.Now()
		changes := read()
		cold += time.Since(began)
		began = time.Now()
		r, err := j.Readings(b.Context(), id, math.MinInt64, math.MaxInt64)
		require.NoError(b, err)
		from := time.Now()
		result, err := bench.Replay(p, r, bench.Options{})
		require.NoError(b, err)
		stored += time.Since(began)
		played += time.Since(from)
		require.Equal(b, changes, result.Changes)
	}
	b.ReportMetric(cold.Seconds()/stored.Seconds(), "times-cold-csv")
	b.ReportMetric(cold.Seconds()/played.Seconds(), "in-memory-times-cold-csv")
	b.ReportMetric(0, "ns/op")
}
