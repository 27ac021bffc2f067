package bench_test

import (
	"bufio"
	"bytes"
	stdcsv "encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/recording/csv"
)

const weekColumns = 8

// writeWeek writes rows at 1 Hz of eight wandering signals in mA.
func writeWeek(w io.Writer, rows int) error {
	rng := rand.New(rand.NewPCG(7, 1))
	b := bufio.NewWriter(w)
	b.WriteString("time")
	values := make([]float64, weekColumns)
	for i := range values {
		fmt.Fprintf(b, ",sig%d", i)
		values[i] = 12
	}
	b.WriteByte('\n')
	t := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	for range rows {
		b.WriteString(t.Format(time.RFC3339))
		for i := range values {
			values[i] = min(max(values[i]+rng.Float64()*0.2-0.1, 4), 20)
			b.WriteByte(',')
			b.WriteString(strconv.FormatFloat(values[i], 'f', 4, 64))
		}
		b.WriteByte('\n')
		t = t.Add(time.Second)
	}
	return b.Flush()
}

// weekJob has sixteen rules on those signals: every kind of clause.
func weekJob(t testing.TB) *logic.Program {
	var b strings.Builder
	b.WriteString("job \"Week\"\n\n")
	for i := range weekColumns {
		fmt.Fprintf(
			&b,
			"input sig%d\n  scale 4..20 mA to 0..20 mg/L\n  healthy 3.6..21 mA\n\noutput out%d\n  called by any\n  fail off\n\n",
			i,
			i,
		)
	}
	for i := range weekColumns {
		fmt.Fprintf(&b, "rule low%d\n  on when sig%d < 6 mg/L for 45 s\n  off when sig%d > 6.4 mg/L for 2 min\n  call out%d\n\n", i, i, i, i)
		fmt.Fprintf(
			&b,
			"rule high%d\n  on when sig%d > 14 mg/L hysteresis 0.5 mg/L and sig%d < 19 mg/L\n  call out%d\n\n",
			i,
			i,
			(i+1)%weekColumns,
			i,
		)
	}
	return compileJob(t, b.String())
}

// plainRead is what encoding/csv, time.Parse and ParseFloat take by themselves.
func plainRead(in io.Reader) (rows int, err error) {
	r := stdcsv.NewReader(in)
	r.ReuseRecord = true
	if _, err := r.Read(); err != nil {
		return 0, err
	}
	for {
		record, err := r.Read()
		if err == io.EOF {
			return rows, nil
		}
		if err != nil {
			return rows, err
		}
		if _, err := time.Parse(time.RFC3339, record[0]); err != nil {
			return rows, err
		}
		for _, cell := range record[1:] {
			if _, err := strconv.ParseFloat(cell, 64); err != nil {
				return rows, err
			}
		}
		rows++
	}
}

func columnBytes(r *recording.Recording) uint64 {
	var n uint64
	times := map[*int64]bool{}
	for _, c := range r.Columns {
		for _, b := range c.Blocks {
			n += uint64(len(b.Values)+len(b.On)+len(b.Broken)) * 8
			if !times[&b.Times[0]] {
				times[&b.Times[0]] = true
				n += uint64(len(b.Times)) * 8
			}
		}
	}
	return n
}

// What reading allocates in all, garbage included, is more than it ever holds
// at once; even that stays within six times the columns.
func TestReadingMemory(t *testing.T) {
	var text bytes.Buffer
	require.NoError(t, writeWeek(&text, 50_000))
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	r, err := csv.Reader{Name: "week.csv"}.Read(&text)
	runtime.ReadMemStats(&after)
	require.NoError(t, err)
	require.Equal(t, 50_000*weekColumns, r.Samples())
	require.Less(t, after.TotalAlloc-before.TotalAlloc, 6*columnBytes(r))
}

// BenchmarkWeek reads a week at 1 Hz with eight columns from a file and plays
// sixteen rules, beside reading it twice with the standard library. The ratio
// must stay below 1.
func BenchmarkWeek(b *testing.B) {
	name := filepath.Join(b.TempDir(), "week.csv")
	f, err := os.Create(name)
	require.NoError(b, err)
	require.NoError(b, writeWeek(f, 7*24*3600))
	require.NoError(b, f.Close())
	p := weekJob(b)
	var ours, plain time.Duration
	var peak float64
	for b.Loop() {
		runtime.GC()
		began := time.Now()
		f, err := os.Open(name)
		require.NoError(b, err)
		r, err := csv.Reader{Name: name}.Read(f)
		require.NoError(b, err)
		require.NoError(b, f.Close())
		result, err := bench.Replay(p, r, bench.Options{})
		require.NoError(b, err)
		require.NotEmpty(b, result.Transitions)
		ours += time.Since(began)
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		peak = max(peak, float64(m.HeapSys-m.HeapReleased)/float64(columnBytes(r)))

		began = time.Now()
		for range 2 {
			f, err := os.Open(name)
			require.NoError(b, err)
			rows, err := plainRead(f)
			require.NoError(b, err)
			require.NoError(b, f.Close())
			require.Equal(b, 7*24*3600, rows)
		}
		plain += time.Since(began)
	}
	b.ReportMetric(ours.Seconds()/plain.Seconds(), "of-two-plain-reads")
	b.ReportMetric(peak, "heap/columns")
	b.ReportMetric(0, "ns/op")
}
