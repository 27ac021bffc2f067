package recording_test

import (
	"math"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
)

// Numbers and times are read as the standard library reads them.
func TestNumbersLikeTheStandardLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.StringMatching(`[-+]?[0-9]{0,18}(\.[0-9]{0,18})?([eE][-+]?[0-9]{1,3})?`),
			rapid.Map(rapid.Float64(), func(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) })).Draw(t, "number")
		want, err := strconv.ParseFloat(text, 64)
		got, ok := recording.ParseNumber([]byte(text), '.')
		if err != nil && !math.IsInf(want, 0) {
			require.False(t, ok, text)
			return
		}
		require.True(t, ok, text)
		require.Equal(t, math.Float64bits(want), math.Float64bits(got), text)
	})
	rapid.Check(t, func(t *rapid.T) {
		at := time.Unix(rapid.Int64Range(-1e9, 7e9).Draw(t, "s"), rapid.Int64Range(0, 999_999_999).Draw(t, "ns")).UTC()
		r := recording.Times{}
		got, err := r.Read([]byte(at.Format(time.RFC3339Nano)))
		require.NoError(t, err)
		require.Equal(t, at.UnixNano(), got)
		elapsed := recording.Times{}
		ns := rapid.Int64Range(-1e17, 1e17-1).Draw(t, "elapsed")
		got, err = elapsed.Read([]byte(strconv.FormatFloat(0, 'f', -1, 64)))
		require.NoError(t, err)
		require.Zero(t, got)
		text := strconv.FormatInt(ns/1e9, 10) + "." + strconv.FormatInt(1e9+max(ns%1e9, -(ns%1e9)), 10)[1:]
		if ns < 0 && ns > -1e9 {
			text = "-" + text
		}
		got, err = elapsed.Read([]byte(text))
		require.NoError(t, err, text)
		require.Equal(t, ns, got, text)
	})
}
