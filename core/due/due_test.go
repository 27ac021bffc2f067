package due_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/due"
)

// What falls due first is known, whatever was set before.
func TestQueue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const n = 8
		queue, plain := due.New(n), make([]int64, n)
		for i := range plain {
			plain[i] = due.Never
		}
		for range rapid.IntRange(1, 100).Draw(t, "operations") {
			i := rapid.IntRange(0, n-1).Draw(t, "number")
			at := rapid.SampledFrom([]int64{due.Never, 0, 1, 2, 3, 5, 8, 13, 21}).Draw(t, "at")
			queue.Set(int32(i), at)
			plain[i] = at
			require.Equal(t, at, queue.At(int32(i)))
			require.Equal(t, slices.Min(plain), queue.Earliest())
			if queue.Earliest() != due.Never {
				require.Equal(t, queue.Earliest(), plain[queue.First()])
			}
		}
	})
}
