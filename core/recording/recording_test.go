package recording_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
)

// A sample is one reading, the plain way.
type sample struct {
	t int64
	v float64
}

// rows draws rows for columns that miss some of them, more than a block long,
// and the samples that must come out.
func rows(t *rapid.T, b *recording.Builder, columns int) (want [][]sample, repeated int) {
	want = make([][]sample, columns)
	at := int64(0)
	n := rapid.SampledFrom([]int{1, 10, recording.BlockSize - 1, recording.BlockSize, recording.BlockSize + 1, 3*recording.BlockSize + 17}).
		Draw(t, "rows")
	missing := rapid.SliceOfN(rapid.SampledFrom([]int{0, 0, 1, 50, 99}), columns, columns).Draw(t, "missing %")
	seed := rapid.Uint32().Draw(t, "seed")
	random := func(n int) int { // a cheap generator for the many rows
		seed = seed*1664525 + 1013904223
		return int(seed>>8) % n
	}
	for range n {
		if random(20) > 0 {
			at += int64(1 + random(3))
		}
		cells := make([]recording.Cell, columns)
		for i := range cells {
			if random(100) < missing[i] {
				continue
			}
			v := float64(random(1000)) / 8
			if i == 0 {
				v = float64(random(2)) // a contact
			}
			if random(200) == 0 {
				v = math.NaN()
			}
			cells[i] = recording.Cell{Value: v, Present: true}
			if k := len(want[i]); k > 0 && want[i][k-1].t == at {
				want[i][k-1].v = v
				repeated++
			} else {
				want[i] = append(want[i], sample{at, v})
			}
		}
		b.Row(at, cells)
	}
	return want, repeated
}

func samples(c *recording.Column) []sample {
	var all []sample
	c.Each(func(t int64, v float64) bool {
		all = append(all, sample{t, v})
		return true
	})
	return all
}

func requireSame(t require.TestingT, want, got []sample) {
	require.Len(t, got, len(want))
	for i := range want {
		if want[i].t != got[i].t ||
			math.Float64bits(want[i].v) != math.Float64bits(got[i].v) && !(math.IsNaN(want[i].v) && math.IsNaN(got[i].v)) {
			require.Equal(t, want[i], got[i], "reading %d", i)
		}
	}
}

// Whatever the rows, a recording holds exactly their readings, in blocks whose
// figures are right, before and after encoding.
func TestBuilder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		columns := []*recording.Column{{Name: "a"}, {Name: "b"}, {Name: "c"}}
		b := recording.NewBuilder(columns, recording.Clock{})
		want, repeated := rows(t, b, len(columns))
		r, again := b.Finish()
		require.Equal(t, repeated, again)
		var together recording.Decoder
		var shared *int64
		for i, c := range r.Columns {
			requireSame(t, want[i], samples(c))
			require.Equal(t, len(want[i]), c.Len())
			for _, block := range c.Blocks {
				require.LessOrEqual(t, block.Len(), recording.BlockSize)
				low, high, bad := math.Inf(1), math.Inf(-1), false
				for k := range block.Len() {
					v := block.At(k)
					if bad = bad || math.IsNaN(v); !math.IsNaN(v) {
						low, high = min(low, v), max(high, v)
					}
				}
				require.Equal(t, bad, block.AnyBad)
				if low <= high {
					require.Equal(t, []float64{low, high}, []float64{block.Min, block.Max})
				} else {
					require.True(t, math.IsNaN(block.Min) && math.IsNaN(block.Max))
				}
				data := block.AppendEncoding(nil, nil)
				decoded, err := recording.DecodeBlock(data)
				require.NoError(t, err)
				requireSame(
					t,
					samples(&recording.Column{Blocks: []*recording.Block{block}}),
					samples(&recording.Column{Blocks: []*recording.Block{decoded}}),
				)
				// With others before it, a block is the same; with one of the same times, it shares them.
				for i := range 2 {
					again, err := together.Block(data)
					require.NoError(t, err)
					requireSame(
						t,
						samples(&recording.Column{Blocks: []*recording.Block{decoded}}),
						samples(&recording.Column{Blocks: []*recording.Block{again}}),
					)
					require.Equal(t, []bool{decoded.AnyBad, decoded.Values == nil}, []bool{again.AnyBad, again.Values == nil})
					if i == 1 {
						require.Same(t, shared, &again.Times[0])
					}
					shared = &again.Times[0]
				}
			}
		}
		requireCut(t, r, want)
		requireExtents(t, r.Columns[1], want[1], r.Start, r.End)
	})
}

func requireCut(t *rapid.T, r *recording.Recording, want [][]sample) {
	from := rapid.Int64Range(r.Start, r.End).Draw(t, "from")
	to := rapid.Int64Range(from, r.End).Draw(t, "to")
	cut, err := r.Cut(from, to)
	any := false
	for i := range want {
		var inside []sample
		for _, s := range want[i] {
			if s.t >= from && s.t <= to {
				inside = append(inside, s)
			}
		}
		any = any || len(inside) > 0
		if err == nil {
			requireSame(t, inside, samples(cut.Columns[i]))
		}
	}
	if !any && (from > r.Start || to < r.End) {
		require.ErrorContains(t, err, "no reading lies between")
	} else {
		require.NoError(t, err)
		require.Equal(t, r.Origin, cut.Origin)
	}
}

// No spike is averaged away: every good reading is within the extent of its
// stretch, and every end of an extent is a reading.
func requireExtents(t *rapid.T, c *recording.Column, want []sample, from, to int64) {
	n := rapid.IntRange(1, 50).Draw(t, "pixels")
	all := c.Extents(from, to, n)
	require.Len(t, all, n)
	count := 0
	for _, e := range all {
		count += e.Readings
	}
	if to == from {
		return
	}
	require.Equal(t, len(want), count)
	stretch := func(s sample) int { return min(int(float64(s.t-from)/(float64(to-from)/float64(n))), n-1) }
	for i, s := range want {
		e := all[stretch(s)]
		if i == len(want)-1 || stretch(want[i+1]) != stretch(s) {
			require.True(t, e.Last == s.v || math.IsNaN(e.Last) && math.IsNaN(s.v), "it ends with %v, not %v", s, e)
		}
		if math.IsNaN(s.v) {
			require.True(t, e.Bad)
			continue
		}
		require.True(t, e.Min <= s.v && s.v <= e.Max, "%v not in %v", s, e)
	}
}

func TestHeld(t *testing.T) {
	b := recording.NewBuilder([]*recording.Column{{Name: "a"}}, recording.Clock{})
	for i := range 10_000 {
		b.Row(int64(10+2*i), []recording.Cell{{Value: float64(i), Present: true}})
	}
	r, _ := b.Finish()
	_, read := r.Columns[0].Held(9)
	assert.False(t, read)
	for at, want := range map[int64]float64{10: 0, 11: 0, 12: 1, 10 + 2*4095: 4095, 11 + 2*4095: 4095, 10 + 2*4096: 4096, 1 << 40: 9999} {
		v, read := r.Columns[0].Held(at)
		assert.True(t, read)
		assert.Equal(t, want, v, at)
	}
}

func FuzzDecodeBlock(f *testing.F) {
	for _, values := range [][]float64{{1, 2, 3}, {0, 1, math.NaN()}, {1, 0, 1}} {
		f.Add(recording.NewBlock([]int64{5, 7, 100}, values).AppendEncoding(nil, nil))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := recording.DecodeBlock(data)
		if err != nil {
			return
		}
		again := b.AppendEncoding(nil, nil)
		c, err := recording.DecodeBlock(again)
		require.NoError(t, err)
		require.Equal(t, b.Times, c.Times)
	})
}

func TestClock(t *testing.T) {
	utc, east, elapsed := recording.Clock{}, recording.Clock{Offset: 3600}, recording.Clock{Elapsed: true}
	at := int64(1772417645_000_000_000) // 2026-03-02T02:14:05Z
	assert.Equal(t, "02:14:05", utc.Format(at))
	assert.Equal(t, "03:14:05.25", east.Format(at+250e6))
	assert.Equal(t, "02:14:05.000", utc.FormatMillis(at))
	assert.Equal(t, "2026-03-02T03:14:05+01:00", east.Full(at))
	assert.Equal(t, "2 March 2026", utc.Date(at))
	assert.Equal(t, "+845 s", elapsed.Format(845e9))
	assert.Equal(t, "+0.5 s", elapsed.Format(5e8))
	assert.Equal(t, "+845.000 s", elapsed.FormatMillis(845e9))

	r := &recording.Recording{Origin: at, Start: at, End: at + 86400e9}
	for text, want := range map[string]int64{
		"02:14:05": 0, "02:14:10": 5e9, "02:15": 55e9, "02:14:05.5": 5e8, "01:00": 81955e9, // the next day's
		"+75 s": 75e9, "+ 1 h 30 min": 5400e9, "+0 s": 0, "2026-03-02T04:14:06+02:00": 1e9,
	} {
		got, err := r.ParseIn(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got-at, text)
	}
	for text, want := range map[string]string{"noon": "is no time; write a time of day", "+5 mA": "is not a duration", "25:00": "is no time"} {
		_, err := r.ParseIn(text)
		assert.ErrorContains(t, err, want)
	}
	r.Clock.Elapsed = true
	_, err := r.ParseIn("02:14")
	assert.ErrorContains(t, err, "has elapsed seconds; write an offset from its start")
	_, _, err = r.Window("+75 s", "+10 s")
	assert.ErrorContains(t, err, "ends before it begins")
}
