package signal_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/signal"
	"rectura/core/unit"
)

// watch hands readings to an input, "0=5 1.5=bad", looks at it whenever it says
// that it must be looked at, up to a time, and lists what rules see change.
func watch(t require.TestingT, c *signal.Chain, readings string, until float64) string {
	a := signal.NewAnalog(c)
	var seen []string
	now := int64(0)
	note := func(changed bool) {
		if !changed {
			return
		}
		state := unit.Short(a.Value)
		if a.Fault != signal.None {
			state = c.Explain(a.Fault, a.Reading, a.At)
		}
		seen = append(seen, unit.FormatDecimal(now, 1e9)+" "+state)
	}
	tickUntil := func(end int64) {
		for due := a.Due(now); due < end; due = a.Due(now) {
			require.Greater(t, due, now, "a look that is due must lie ahead")
			now = due
			note(a.Tick(now))
			require.False(t, a.Tick(now), "looking twice changes nothing")
		}
	}
	for _, word := range strings.Fields(readings) {
		at, value, _ := strings.Cut(word, "=")
		var seconds, v float64
		_, err := fmt.Sscan(at, &seconds)
		require.NoError(t, err)
		if value == "bad" {
			v = math.NaN()
		} else if _, err = fmt.Sscan(value, &v); err != nil {
			require.NoError(t, err)
		}
		end := int64(math.Round(seconds * 1e9))
		tickUntil(end)
		now = end
		note(a.Read(now, v, 0))
	}
	tickUntil(int64(until*1e9) + 1)
	return strings.Join(seen, "; ")
}

func TestHealthInTime(t *testing.T) {
	for _, c := range []struct{ clauses, readings, want string }{
		{"  stale after 5 s\n", "0=1 5=2 9=3", "0 1; 5 2; 9 3; 14 no reading came for 5 s"},
		{"  stale after 5 s\n", "0=1 20=2", "0 1; 5 no reading came for 5 s; 20 2"},
		// 0.9 and 1.5 lie within 1 of each other, 0 does not: the freeze began at 1 s.
		{"  frozen after 10 s within 1 V\n", "0=0 1=0.9 2=1.5 8=1.6 12=0.2", "0 0; 1 0.9; 2 1.5; 8 1.6; 11 the reading has stayed within 1 V for 10 s: frozen; 12 0.2"},
		{"  frozen after 10 s within 0 V\n", "0=4 5=4 9=bad 10=4 15=4", "0 4; 9 the reading is marked bad; 10 4; 20 the reading has stayed within 0 V for 10 s: frozen"},
		{"  unsteady beyond 2 V within 4 s\n", "0=0 1=1 2=3 4=2 5=2.5", "0 0; 1 1; 2 readings spread by more than 2 V within 4 s: floating input or loose wire; 4 2; 5 2.5"},
		{"  unsteady beyond 2 V within 4 s\n", "0=0 3=5", "0 0; 3 readings spread by more than 2 V within 4 s: floating input or loose wire; 4 5"},
		// A bad spell shorter than `bad after` is not seen, and the filter goes on.
		{"  bad after 3 s\n  smooth average 2 samples\n", "0=2 1=4 2=bad 4=6 5=bad 8=bad 9=5", "0 2; 1 3; 4 5; 8 the reading is marked bad; 9 5"},
		{"  bad after 3 s\n", "0=bad 2=1 3=bad", "2 1; 6 the reading is marked bad"},
		{"  good after 3 s\n", "0=1 1=2 4=bad 5=5 6=6 9=7", "3 2; 4 the reading is marked bad; 8 6; 9 7"},
		{"  stale after 3 s\n  bad after 2 s\n", "0=1 4=2 10=3", "0 1; 4 2; 9 no reading came for 3 s; 10 3; 15 no reading came for 3 s"},
		// Readings are thrown away after the start, and after a gap longer than `stale after`.
		{"  stale after 3 s\n  skip first 2 samples\n", "0=9 1=8 2=3 3=4 8=9 9=8 10=5", "2 3; 3 4; 6 no reading came for 3 s; 10 5; 13 no reading came for 3 s"},
		{"  skip first 2 samples\n", "0=9 1=bad 2=3", "1 the reading is marked bad; 2 3"},
		{"  clamp 0..5 V\n", "0=-1 1=3 2=8", "0 0; 1 3; 2 5"},
		{"  round nearest 0.5 V\n", "0=1.2 1=1.3 2=-1.3", "0 1; 1 1.5; 2 -1.5"},
		{"  round down 1 V\n", "0=1.9 1=-0.1", "0 1; 1 -1"},
		{"  smooth average 2 samples\n  clamp 0..5 V\n  round down 2 V\n", "0=8 1=1", "0 4"},
	} {
		assert.Equal(t, c.want, watch(t, chain(t, "  unit V\n"+c.clauses), c.readings, 20), "%s%s", c.clauses, c.readings)
	}
}

// A lag follows the held signal exactly, however it is sampled: readings that
// repeat the held value in between change nothing.
func TestLagIsExact(t *testing.T) {
	c := chain(t, "  unit V\n  smooth lag 10 s\n")
	a := signal.NewAnalog(c)
	a.Read(0, 0, 0)
	a.Read(0, 1, 0)
	for _, at := range []float64{1, 1.5, 7, 30} {
		a.Read(int64(at*1e9), 1, 0)
		assert.InDelta(t, 1-math.Exp(-at/10), a.Value, 1e-12)
	}
	rapid.Check(t, func(t *rapid.T) {
		plain, dense := signal.NewAnalog(c), signal.NewAnalog(c)
		at, v := int64(0), 0.0
		for range rapid.IntRange(1, 20).Draw(t, "readings") {
			gap := rapid.Int64Range(1, 20e9).Draw(t, "gap")
			if extra := rapid.Int64Range(0, gap-1).Draw(t, "extra"); extra > 0 {
				dense.Read(at+extra, v, 0)
			}
			at += gap
			if at == gap { // the first reading starts both
				dense = signal.NewAnalog(c)
			}
			v = rapid.Float64Range(-5, 5).Draw(t, "value")
			plain.Read(at, v, 0)
			dense.Read(at, v, 0)
			require.InDelta(t, plain.Value, dense.Value, 1e-9)
		}
	})
}

// `frozen` and `unsteady` say what their definitions say, worked out the plain
// way over all readings.
func TestWindowsByDefinition(t *testing.T) {
	c := chain(t, "  unit V\n  frozen after 5 s within 1 V\n")
	u := chain(t, "  unit V\n  unsteady beyond 2 V within 5 s\n")
	rapid.Check(t, func(t *rapid.T) {
		frozen, unsteady := signal.NewAnalog(c), signal.NewAnalog(u)
		type reading struct {
			at int64
			v  float64
		}
		var all []reading
		at := int64(0)
		for range rapid.IntRange(1, 40).Draw(t, "readings") {
			at += rapid.Int64Range(1, 4).Draw(t, "gap") * 5e8
			v := float64(rapid.IntRange(0, 8).Draw(t, "value")) / 2
			all = append(all, reading{at, v})
			for now := range 2 { // at the reading, and a moment later
				look := at + int64(now)*1e8
				if now == 0 {
					frozen.Read(at, v, 0)
					unsteady.Read(at, v, 0)
				} else {
					frozen.Tick(look)
					unsteady.Tick(look)
				}
				// Frozen: the held signal has lain within 1 since look − 5 s or before.
				low, high, since := v, v, at
				for i := len(all) - 1; i >= 0; i-- {
					low, high = min(low, all[i].v), max(high, all[i].v)
					if high-low > 1 {
						break
					}
					since = all[i].at
				}
				require.Equal(t, look-since >= 5e9, frozen.Fault == signal.Frozen, "%v at %d", all, look)
				low, high = v, v
				for _, r := range all {
					if r.at > look-5e9 {
						low, high = min(low, r.v), max(high, r.v)
					}
				}
				require.Equal(t, high-low > 2, unsteady.Fault == signal.Unsteady, "%v at %d", all, look)
			}
		}
	})
}

func TestDebounce(t *testing.T) {
	c := signal.NewContact(false, 50e6)
	assert.True(t, c.Read(0, 0), "the first reading counts at once")
	assert.False(t, c.Read(1e9, 1))
	assert.Equal(t, int64(1050e6), c.Due())
	assert.False(t, c.Read(1020e6, 0), "it bounced back")
	assert.Equal(t, int64(signal.Never), c.Due())
	assert.False(t, c.Read(1030e6, 1))
	assert.True(t, c.Tick(c.Due()))
	assert.True(t, c.On)
	assert.False(t, c.Read(2e9, 0))
	assert.True(t, c.Read(2050e6, 0), "a reading at the very end counts too")
	assert.False(t, c.On)
}
