package recording_test

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
	"rectura/core/recording/recordingtest"
)

// A row is one step of a plain model of a recording.
type row struct {
	t     int64
	cells []recording.Cell
}

// model builds a recording the plain way: a map for each column.
func model(rows []row, columns int) []map[int64]float64 {
	all := make([]map[int64]float64, columns)
	for i := range all {
		all[i] = map[int64]float64{}
	}
	for _, r := range rows {
		for i, c := range r.cells {
			if c.Present {
				all[i][r.t] = c.Value
			}
		}
	}
	return all
}

// However rows come (full, with gaps, of one time, in parts, column by column,
// or out of order), the recording holds what the rows say.
func TestBuilderAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const columns = 3
		b := recording.NewBuilder([]*recording.Column{{Name: "a"}, {Name: "b"}}, recording.Clock{})
		var rows []row
		at := int64(0)
		added := false
		sorted := rapid.IntRange(0, 4).Draw(t, "sorted") == 0
		if sorted {
			b.Sort()
		}
		for range rapid.IntRange(1, 30).Draw(t, "steps") {
			step := rapid.IntRange(0, 5).Draw(t, "step")
			width := 2
			if added {
				width = 3
			}
			gap := rapid.Int64Range(0, 3).Draw(t, "gap")
			draw := func() float64 { return float64(rapid.IntRange(0, 9).Draw(t, "value")) }
			switch {
			case step == 0 && !added:
				b.AddColumn(&recording.Column{Name: "c"})
				added = true
			case step == 1 && !sorted: // a part built by itself
				part := recording.NewBuilder([]*recording.Column{{Name: "a"}, {Name: "b"}, {Name: "c"}}[:width], recording.Clock{})
				for range rapid.IntRange(1, 4).Draw(t, "part") {
					at++
					cells := make([]recording.Cell, width)
					cells[0] = recording.Cell{Value: draw(), Present: true}
					part.Row(at, cells)
					rows = append(rows, row{at, cells})
				}
				r, _ := part.Finish()
				b.Append(r)
			case step == 2 && !sorted: // column by column
				n := rapid.IntRange(1, 4).Draw(t, "rows")
				times, values, missing := make([]int64, n), make([][]float64, width), make([][]bool, width)
				for i := range n {
					at++
					times[i] = at
					rows = append(rows, row{at, make([]recording.Cell, width)})
				}
				for k := range width {
					for i := range n {
						values[k] = append(values[k], draw())
						missing[k] = append(missing[k], rapid.Bool().Draw(t, "missing"))
						rows[len(rows)-n+i].cells[k] = recording.Cell{Value: values[k][i], Present: !missing[k][i]}
					}
				}
				stretches := make([]recording.Stretch, width)
				for k := range stretches {
					stretches[k] = recording.Stretch{Values: values[k], Missing: missing[k]}
					if !slices.Contains(missing[k], true) {
						stretches[k] = recording.Stretch{Blocks: []*recording.Block{recording.NewBlock(times, values[k])}}
					}
				}
				b.Rising(times, stretches)
			case step == 3: // full
				at += gap
				values, cells := make([]float64, width), make([]recording.Cell, width)
				for k := range values {
					values[k] = draw()
					cells[k] = recording.Cell{Value: values[k], Present: true}
				}
				b.FullRow(at, values)
				rows = append(rows, row{at, cells})
			default:
				at += gap
				if sorted {
					at -= rapid.Int64Range(0, 5).Draw(t, "back")
				}
				cells := make([]recording.Cell, rapid.IntRange(1, width).Draw(t, "cells"))
				for k := range cells {
					cells[k] = recording.Cell{Value: draw(), Present: rapid.IntRange(0, 2).Draw(t, "present") > 0}
				}
				b.Row(at, cells)
				rows = append(rows, row{at, cells})
			}
		}
		r, _ := b.Finish()
		if len(rows) == 0 {
			require.Zero(t, r.Rows)
			return
		}
		start, end := int64(math.MaxInt64), int64(math.MinInt64)
		for _, x := range rows {
			start, end = min(start, x.t), max(end, x.t)
		}
		require.Equal(t, start, r.Start)
		require.Equal(t, end, r.End)
		require.Equal(t, len(rows), r.Rows)
		want := model(rows, columns)
		for i, c := range r.Columns {
			got, last := map[int64]float64{}, int64(math.MinInt64)
			c.Each(func(t2 int64, v float64) bool {
				require.Greater(t, t2, last)
				got[t2], last = v, t2
				return true
			})
			require.Equal(t, want[i], got, c.Name)
			for _, block := range c.Blocks {
				require.LessOrEqual(t, block.Len(), recording.BlockSize)
			}
		}
	})
}

// A long recording's readings of one time make a row; one that comes again is
// the later one.
func TestLongBuilder(t *testing.T) {
	b := recording.NewLongBuilder(recording.Options{Map: []recording.Mapping{{Column: "DO", Point: "oxygen", Unit: "mA"}}})
	add := func(t0 int64, r recording.LongReading) {
		_, err := b.Reading(t0, r)
		require.NoError(t, err)
	}
	add(0, recording.LongReading{Point: "DO", Value: 10, Present: true})
	add(0, recording.LongReading{Point: "k", Value: 1, Present: true})
	add(0, recording.LongReading{Point: "DO", Value: 11, Present: true})
	add(5, recording.LongReading{Point: "k"})
	add(9, recording.LongReading{Point: "DO", Value: 3, Quality: "BAD"})
	builder, err := b.Done("r.csv")
	require.NoError(t, err)
	r, repeated := builder.Finish()
	assert.Equal(t, 1, repeated)
	assert.Equal(t, "oxygen [mA]", r.Columns[0].Heading())
	v, read := r.Column("oxygen").Held(8)
	assert.True(t, read)
	assert.Equal(t, 11.0, v)
	v, _ = r.Column("oxygen").Held(9)
	assert.True(t, math.IsNaN(v))
	assert.Equal(t, int64(9), r.End)
	assert.Equal(t, 1, r.Column("k").Len())
}

// A block of decimals is kept small, and every block comes back bit for bit.
func TestBlocksOfDecimals(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 200).Draw(t, "n")
		places := rapid.IntRange(0, 8).Draw(t, "places")
		times, values := make([]int64, n), make([]float64, n)
		for i := range values {
			times[i] = int64(i) * 1e9
			switch rapid.IntRange(0, 60).Draw(t, "kind") {
			case 0:
				values[i] = rapid.Float64().Draw(t, "any")
			case 1:
				values[i] = rapid.SampledFrom([]float64{math.NaN(), math.Inf(1), math.Copysign(0, -1), 1e300}).Draw(t, "odd")
			default:
				values[i] = float64(rapid.IntRange(-100000, 100000).Draw(t, "units")) / math.Pow10(places)
			}
		}
		b := recording.NewBlock(times, values)
		data := b.AppendEncoding(nil, nil)
		back, err := recording.DecodeBlock(data)
		require.NoError(t, err)
		want, got := &recording.Recording{
			Columns: []*recording.Column{{Blocks: []*recording.Block{b}}},
		}, &recording.Recording{
			Columns: []*recording.Column{{Blocks: []*recording.Block{back}}},
		}
		recordingtest.Same(t, want, got)
	})
	times, values := make([]int64, 4000), make([]float64, 4000)
	for i := range values {
		times[i], values[i] = int64(i)*1e9, float64(1198+i%7)/100
	}
	data := recording.NewBlock(times, values).AppendEncoding(nil, nil)
	assert.Less(t, len(data), 4000*3)
	for cut := range 40 {
		_, err := recording.DecodeBlock(data[:len(data)-1-cut])
		assert.Error(t, err)
	}
}

func TestHistogram(t *testing.T) {
	b := recording.NewBuilder([]*recording.Column{{Name: "a"}}, recording.Clock{})
	for i, v := range []float64{0, 1, 2, 3, 4, 4, 4, math.NaN(), math.Inf(1)} {
		b.FullRow(int64(i), []float64{v})
	}
	r, _ := b.Finish()
	low, high, counts, bad := r.Columns[0].Histogram(4)
	assert.Equal(t, 0.0, low)
	assert.Equal(t, 4.0, high)
	assert.Equal(t, []int{1, 1, 1, 4}, counts)
	assert.Equal(t, 2, bad)
	low, high, counts, bad = (&recording.Column{}).Histogram(2)
	assert.Equal(t, []any{0.0, 0.0, []int{0, 0}, 0}, []any{low, high, counts, bad})
}
