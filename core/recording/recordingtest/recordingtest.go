// Package recordingtest makes random recordings for tests of readers and
// writers, and compares two.
package recordingtest

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
)

// Recording draws a recording of some columns, with gaps, bad readings and
// contacts, on any clock.
func Recording(t *rapid.T) *recording.Recording {
	var columns []*recording.Column
	odd := rapid.StringOfN(rapid.SampledFrom([]rune("a;,\t\"'\x01\x1b\x7f\u0085=#\\{}µ ")), 1, 6, -1).
		Filter(func(s string) bool { return strings.TrimSpace(s) == s && s != "" }).
		Draw(t, "odd")
	for _, name := range []string{"oxygen", "hatch_open", "DO, \"R1\"", "x" + odd}[:rapid.IntRange(1, 4).Draw(t, "columns")] {
		c := &recording.Column{Name: name}
		if name != "hatch_open" {
			c.Unit = rapid.SampledFrom([]string{"", "mA", "mg/L"}).Draw(t, "unit")
		}
		columns = append(columns, c)
	}
	clock := rapid.SampledFrom([]recording.Clock{{}, {Elapsed: true}, {Offset: 3600}}).Draw(t, "clock")
	b := recording.NewBuilder(columns, clock)
	at := rapid.Int64Range(0, 2e9).Draw(t, "start")
	if !clock.Elapsed {
		at += 1_770_000_000_000_000_000
	}
	rows := rapid.IntRange(1, 30).Draw(t, "rows")
	for range rows {
		cells := make([]recording.Cell, len(columns))
		for i, c := range columns {
			if rapid.IntRange(0, 4).Draw(t, "silent") == 0 {
				continue
			}
			v := float64(rapid.IntRange(0, 1).Draw(t, "bit"))
			if c.Name != "hatch_open" {
				v = rapid.OneOf(rapid.Float64(), rapid.Float64Range(-100, 100), rapid.SampledFrom([]float64{0, math.Copysign(0, -1), math.NaN(), math.Inf(1), math.Inf(-1)})).
					Draw(t, "value")
			}
			cells[i] = recording.Cell{Value: v, Present: true}
		}
		b.Row(at, cells)
		at += rapid.SampledFrom([]int64{1, 1_000_000, 1e9, 3600e9}).Draw(t, "gap")
	}
	r, _ := b.Finish()
	return r
}

// Same makes sure that two recordings have the same columns with the same
// readings, bit for bit, and the same ends; the order of columns and what a
// NaN holds do not count.
func Same(t require.TestingT, want, got *recording.Recording) {
	require.Equal(t, want.Start, got.Start)
	require.Equal(t, want.End, got.End)
	require.Equal(t, want.Clock.Elapsed, got.Clock.Elapsed)
	require.Equal(t, list(want), list(got))
}

type reading struct {
	column string
	t      int64
	bits   uint64
}

func list(r *recording.Recording) []reading {
	var all []reading
	for _, c := range r.Columns {
		c.Each(func(t int64, v float64) bool {
			bits := math.Float64bits(v)
			if math.IsNaN(v) {
				bits = math.Float64bits(math.NaN())
			}
			all = append(all, reading{c.Heading(), t, bits})
			return true
		})
	}
	slices.SortStableFunc(all, func(a, b reading) int { return cmp.Compare(a.column, b.column) })
	return all
}
