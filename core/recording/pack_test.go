package recording

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Numbers of every width come back, one that fills a word included; data that
// is cut anywhere does not.
func TestNumbersArePacked(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		number := rapid.Custom(func(t *rapid.T) int64 {
			return rapid.Int64().Draw(t, "number") >> rapid.IntRange(0, 63).Draw(t, "shift")
		})
		want := rapid.SliceOfN(number, 0, 200).Draw(t, "numbers")
		data := appendNumbers([]byte{7}, want)[1:]
		got := make([]int64, len(want))
		rest, ok := readNumbers(append(data, 9), got)
		assert.True(t, ok)
		assert.Equal(t, []byte{9}, rest)
		assert.Equal(t, want, got)
		if len(data) > 0 {
			_, ok = readNumbers(data[:rapid.IntRange(0, len(data)-1).Draw(t, "cut")], got)
			assert.False(t, ok)
		}
	})
}
