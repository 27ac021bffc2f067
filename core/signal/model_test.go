package signal_test

import (
	"fmt"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/signal"
)

// A model of an input, written for clarity alone: it knows all readings up to
// now and works everything out anew, at every half second.
type model struct {
	stale, frozen, unsteady, badAfter, goodAfter float64 // seconds; 0 for none
	within, beyond                               float64
	skip, samples                                int
	average                                      bool

	readings []sample // up to now
	good     []bool   // what was measured at every half second up to now
	shown    string   // not read, bad, or good
	value    float64
	filter   []float64
}

type sample struct {
	at, value float64 // NaN is bad
	skipped   bool
	handed    bool // on to the filter
}

// measured tells whether the signal is good at a time, whatever is shown.
func (m *model) measured(now float64) bool {
	last := m.readings[len(m.readings)-1]
	if math.IsNaN(last.value) || m.stale > 0 && now-last.at >= m.stale {
		return false
	}
	// The good readings since the last bad one.
	var run []sample
	for i := len(m.readings) - 1; i >= 0 && !math.IsNaN(m.readings[i].value); i-- {
		run = append([]sample{m.readings[i]}, run...)
	}
	spread := func(some []sample) float64 {
		low, high := math.Inf(1), math.Inf(-1)
		for _, s := range some {
			low, high = min(low, s.value), max(high, s.value)
		}
		return high - low
	}
	if m.frozen > 0 {
		since := len(run) - 1
		for since > 0 && spread(run[since-1:]) <= m.within {
			since--
		}
		if now-run[since].at >= m.frozen {
			return false
		}
	}
	if m.unsteady > 0 {
		recent := run[len(run)-1:]
		for i := range run {
			if run[i].at > now-m.unsteady {
				recent = run[i:]
				break
			}
		}
		if spread(recent) > m.beyond {
			return false
		}
	}
	return true
}

// step goes on by half a second, with a reading or without.
func (m *model) step(now float64, reading *float64) {
	if reading != nil {
		skipped := false
		if m.skip > 0 {
			// Count the readings since the start or the last gap.
			since := 0
			for i, r := range m.readings {
				if i > 0 && m.stale > 0 && r.at-m.readings[i-1].at > m.stale {
					since = i
				}
			}
			if n := len(m.readings); n > 0 && m.stale > 0 && now-m.readings[n-1].at > m.stale {
				since = n
			}
			skipped = len(m.readings)-since < m.skip
		}
		m.readings = append(m.readings, sample{at: now, value: *reading, skipped: skipped})
	}
	if len(m.readings) == 0 {
		return
	}
	good := m.measured(now)
	last := &m.readings[len(m.readings)-1]
	m.good = append(m.good, good)
	lasted := 0.0
	for i := len(m.good) - 2; i >= 0 && m.good[i] == good; i-- {
		lasted += 0.5
	}
	switch {
	case !good && (m.shown == "bad" || lasted >= m.badAfter):
		m.shown, m.filter = "bad", nil
	case good && !last.skipped && !last.handed && (m.shown == "good" || lasted >= m.goodAfter):
		m.shown, last.handed = "good", true
		m.filter = append(m.filter, last.value)
		m.filter = m.filter[max(0, len(m.filter)-max(m.samples, 1)):]
		m.value = m.filtered()
	}
}

func (m *model) filtered() float64 {
	if m.samples == 0 {
		return m.filter[len(m.filter)-1]
	}
	if m.average {
		sum := 0.0
		for _, v := range m.filter {
			sum += v
		}
		return sum / float64(len(m.filter))
	}
	sorted := slices.Sorted(slices.Values(m.filter))
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}

// An input does what the model says, for any of the clauses together.
func TestAnalogAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := &model{shown: "not read"}
		clauses := "  unit V\n"
		seconds := func(name string) float64 { return float64(rapid.IntRange(1, 12).Draw(t, name)) / 2 }
		use := func(name string) bool { return rapid.IntRange(0, 2).Draw(t, name) == 0 }
		if use("stale") {
			m.stale = seconds("stale after")
			clauses += fmt.Sprintf("  stale after %g s\n", m.stale)
		}
		if use("frozen") {
			m.frozen, m.within = seconds("frozen after"), float64(rapid.IntRange(0, 2).Draw(t, "within"))
			clauses += fmt.Sprintf("  frozen after %g s within %g V\n", m.frozen, m.within)
		}
		if use("unsteady") {
			m.unsteady, m.beyond = seconds("unsteady within"), float64(rapid.IntRange(1, 3).Draw(t, "beyond"))
			clauses += fmt.Sprintf("  unsteady beyond %g V within %g s\n", m.beyond, m.unsteady)
		}
		if use("bad after") {
			m.badAfter = seconds("bad after D")
			clauses += fmt.Sprintf("  bad after %g s\n", m.badAfter)
		}
		if use("good after") {
			m.goodAfter = seconds("good after D")
			clauses += fmt.Sprintf("  good after %g s\n", m.goodAfter)
		}
		if use("skip") {
			m.skip = rapid.IntRange(1, 3).Draw(t, "skip N")
			clauses += fmt.Sprintf("  skip first %d samples\n", m.skip)
		}
		if use("smooth") {
			m.samples, m.average = rapid.IntRange(2, 4).Draw(t, "samples"), rapid.Bool().Draw(t, "average")
			clauses += fmt.Sprintf("  smooth %s %d samples\n", map[bool]string{true: "average", false: "median"}[m.average], m.samples)
		}
		a := signal.NewAnalog(chain(t, clauses))
		story := clauses
		for half := range rapid.IntRange(1, 60).Draw(t, "halves") {
			now := float64(half) / 2
			var reading *float64
			if rapid.IntRange(0, 2).Draw(t, "silent") > 0 {
				v := float64(rapid.IntRange(0, 5).Draw(t, "value"))
				if rapid.IntRange(0, 7).Draw(t, "bad") == 0 {
					v = math.NaN()
				}
				reading = &v
			}
			at := int64(half) * 5e8
			before := at - 1
			if due := a.Due(before); due <= before {
				t.Fatalf("%sat %g s a look is due that is past: %d", story, now, due)
			}
			m.step(now, reading)
			if reading != nil {
				a.Read(at, *reading, 0)
				story += fmt.Sprintf("%g=%g ", now, *reading)
			} else {
				// Only where the input asked to be looked at may it change.
				asked := a.Due(before) <= at
				changed := a.Tick(at)
				require.False(t, changed && !asked, "%sat %g s it changed and had not asked to be looked at", story, now)
			}
			shown := "good"
			switch a.Fault {
			case signal.None:
			case signal.NotRead:
				shown = "not read"
			default:
				shown = "bad"
			}
			require.Equal(t, m.shown, shown, "%sat %g s", story, now)
			if shown == "good" {
				require.InDelta(t, m.value, a.Value, 1e-12, "%sat %g s", story, now)
			}
		}
	})
}
