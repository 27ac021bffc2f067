package recording

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Outside finds what looking at every reading finds, of numbers and of bits.
func TestOutside(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		of := rapid.SampledFrom([]*rapid.Generator[float64]{
			rapid.SampledFrom([]float64{0, 1, math.NaN()}),
			rapid.SampledFrom([]float64{0, 1, 2, 3, 3, 3, 3, 3, 3, math.NaN(), math.Inf(1)}),
			rapid.Just(3.0),
		}).Draw(t, "of")
		values := rapid.SliceOfN(of, 1, 300).Draw(t, "values")
		for range rapid.IntRange(0, 200).Draw(t, "more") {
			values = append(values, values[0])
		}
		times := make([]int64, len(values))
		for i := range times {
			times[i] = int64(i)
		}
		b := NewBlock(times, append([]float64(nil), values...))
		low, high := rapid.Float64Range(-1, 4).Draw(t, "low"), rapid.Float64Range(-1, 4).Draw(t, "high")
		from := rapid.IntRange(0, len(values)-1).Draw(t, "from")
		want := from
		for want < len(values) && b.At(want) > low && b.At(want) < high {
			want++
		}
		require.Equal(t, want, b.Outside(from, low, high))
	})
}
