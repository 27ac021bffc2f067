package bench_test

import (
	"errors"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/bench"
)

// Bands change over, up and down, at the first reading beyond each limit and its
// reset point, however many counts there are, delays waited out.
func TestTripBands(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		counts := rapid.SampledFrom([]int{255, 4095, math.MaxInt32}).Draw(t, "counts")
		low := rapid.IntRange(2, 8).Draw(t, "low")
		gap := rapid.IntRange(1, 5).Draw(t, "gap")
		h := float64(rapid.IntRange(0, gap*10-1).Draw(t, "hysteresis")) / 10
		ladder := rapid.SampledFrom([]string{"", "  cumulative\n"}).Draw(t, "ladder")
		p := compileJob(t, fmt.Sprintf(`job "x"
input x
  scale 0..%d counts to 0..20 mbar
input k discrete
output o
  fail off
bands b of x
  bottom: below %d mbar
  middle: below %d mbar call o
  top: else
  hysteresis %g mbar
  for 20 s
%s`, counts, low, low+gap, h, ladder))
		found, err := bench.TripBands(p, "b", "", nil, nil)
		require.NoError(t, err)
		require.Len(t, found.Changes, 4)
		step := 20.0 / float64(counts)
		for i, want := range []struct {
			from, to string
			at       float64
			falling  bool
		}{
			{"bottom", "middle", float64(low) + h, false}, {"middle", "top", float64(low+gap) + h, false},
			{"top", "middle", float64(low + gap), true}, {"middle", "bottom", float64(low), true},
		} {
			c := found.Changes[i]
			require.Equal(t, want.from+" to "+want.to, c.From+" to "+c.To)
			require.Equal(t, want.falling, c.Falling)
			require.InDelta(t, want.at, c.Stages[1].Value, step*1.001)
		}
		assert.Empty(t, found.Still)
	})
}

// A limit that another input gives, what is given, and what is no such thing.
func TestTripBandsOfSeveral(t *testing.T) {
	p := compileJob(t, `job "x"
input x
  unit mbar
  healthy 0..10 mbar
input limit
  unit mbar
  healthy 0..10 mbar
output o
  fail off
derived twice = x * 2
bands b of twice
  low: below limit call o
  high: else
`)
	_, err := bench.TripBands(p, "b", "", nil, nil)
	assert.EqualError(t, err, "b depends on x and limit; say which of them is moved")
	g, err := bench.ParseGiven(p, "limit=8mbar")
	require.NoError(t, err)
	found, err := bench.TripBands(p, "b", "x", []bench.Given{g}, nil)
	require.NoError(t, err)
	require.Len(t, found.Changes, 2)
	assert.InDelta(t, 4, found.Changes[0].Stages[0].Value, 1e-3)
	assert.Equal(t, []bench.Still{{Name: "limit", Text: "8 mbar"}}, found.Still)
	found, err = bench.TripBands(p, "b", "limit", nil, nil)
	require.NoError(t, err)
	assert.Empty(t, found.Changes, "twice x, in the middle of its span, is above every limit")
	_, err = bench.TripBands(p, "a", "", nil, nil)
	assert.EqualError(t, err, "no bands are named a")
	enough := errors.New("enough")
	_, err = bench.TripBands(p, "b", "x", []bench.Given{g}, func() error { return enough })
	assert.ErrorIs(t, err, enough)
}
