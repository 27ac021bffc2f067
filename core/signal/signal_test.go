package signal_test

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// chain compiles the clauses of one analog input.
func chain(t require.TestingT, clauses string) *signal.Chain {
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\ninput x\n" + clauses)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	return signal.NewChain(job.Inputs[len(job.Inputs)-1], job.DurationValue)
}

const loop = "  scale 0..4095 counts to 0..20 mA\n  scale 4..20 mA to 0..20 mg/L\n  healthy 3.6..21 mA\n"

func TestChain(t *testing.T) {
	for _, c := range []struct {
		name, clauses string
		at            int
		value         float64
		want          []float64
	}{
		{"rising, two stages", loop, 1, 12, []float64{2457, 12, 10}},
		{"backward from the end", loop, 2, 10, []float64{2457, 12, 10}},
		{"below the lower end", loop, 1, 2.9, []float64{593.775, 2.9, -1.375}},
		{"above the upper end", loop, 0, 4200, []float64{4200, 20.51282051282051, 20.641025641025642}},
		{"falling", "  scale 0..5 V to 10..0 mg/L\n", 0, 1, []float64{1, 8}},
		{"signed counts", "  scale -32768..32767 counts to -10..10 V\n  scale 0..10 V to 0..60 mbar\n", 1, 5, []float64{16383.25, 5, 30}},
		{"a stage in another unit of the dimension", "  scale 0..4095 counts to 0..20 mA\n  scale 0.004..0.02 A to 0..20 mg/L\n", 1, 12, []float64{2457, 12, 10}},
		{"no stage", "  unit pH\n", 0, 7.2, []float64{7.2}},
	} {
		stages := chain(t, c.clauses).Stages(c.value, c.at)
		require.Len(t, stages, len(c.want), c.name)
		for i, want := range c.want {
			assert.InDelta(t, want, stages[i].Value, 1e-9*math.Max(1, math.Abs(want)), "%s, place %d", c.name, i)
		}
	}
}

// Going through a chain and back gives the same, to 1e-9 of the span.
func TestChainBothWays(t *testing.T) {
	c := chain(t, loop)
	rapid.Check(t, func(t *rapid.T) {
		from := rapid.IntRange(0, 2).Draw(t, "from")
		to := rapid.IntRange(0, 2).Draw(t, "to")
		x := rapid.Float64Range(-5000, 5000).Draw(t, "x")
		require.InDelta(t, x, c.Carry(c.Carry(x, from, to), to, from), 4095*1e-9)
	})
}

func TestJudge(t *testing.T) {
	c := chain(t, loop)
	for _, x := range []struct {
		value float64
		at    int
		want  signal.Fault
		words string
	}{
		{12, 1, signal.None, ""},
		{3.6, 1, signal.None, ""}, // the ends are good
		{21, 1, signal.None, ""},
		{2.9, 1, signal.TooLow, "2.9 mA is below 3.6 mA: broken loop or no supply"},
		{3.59999, 1, signal.TooLow, "3.59999 mA is below 3.6 mA: broken loop or no supply"},
		{22, 1, signal.TooHigh, "22 mA is above 21 mA: short circuit or sensor beyond its range"},
		{-1.2, 1, signal.TooLow, "-1.2 mA: reversed polarity"},
		{-0.3, 1, signal.TooLow, "-0.3 mA is below 3.6 mA: broken loop or no supply"}, // a card without a signal
		{0, 0, signal.TooLow, "0 mA is below 3.6 mA: broken loop or no supply"},
		{-1.375, 2, signal.TooLow, "2.9 mA is below 3.6 mA: broken loop or no supply"}, // carried back
		{math.NaN(), 0, signal.Reported, "the reading is marked bad"},
		{math.Inf(1), 2, signal.Infinite, "the reading is infinite"},
	} {
		f := c.Judge(x.value, x.at)
		assert.Equal(t, x.want, f, "%v", x.value)
		assert.Equal(t, x.words, c.Explain(f, x.value, x.at))
	}
	probe := chain(t, "  curve pt100 to degC\n  healthy 60..160 ohm\n")
	for ohms, want := range map[float64]string{20: "20 ohm is below 60 ohm: short circuit", 400: "400 ohm is above 160 ohm: open sensor or broken wire", 100: ""} {
		assert.Equal(t, want, probe.Explain(probe.Judge(ohms, 0), ohms, 0))
	}
	// What stands in the printed table is inside the curve.
	plain := chain(t, "  curve pt100 to degC\n")
	for ohms, want := range map[float64]float64{18.52: -200, 390.48: 850} {
		assert.Equal(t, signal.None, plain.Judge(ohms, 0))
		assert.InDelta(t, want, plain.Carry(ohms, 0, 1), 0.02)
	}
	assert.Equal(t, signal.NoAnswer, plain.Judge(18.5, 0))
	volts := chain(t, "  scale 0..10 V to 0..25 degC\n  healthy 0.2..10 V\n")
	assert.Equal(t, "0.1 V is below 0.2 V", volts.Explain(volts.Judge(0.1, 0), 0.1, 0))
	assert.Equal(t, "not read yet", volts.Explain(signal.NotRead, 0, 0))
}

func TestPlace(t *testing.T) {
	c := chain(t, loop)
	for name, want := range map[string]int{"counts": 0, "mA": 1, "A": 1, "mg/L": 2, "ug/L": 2, "V": -1} {
		at, ok := c.Place(unit.MustLookup(name))
		assert.Equal(t, want >= 0, ok, name)
		if ok {
			assert.Equal(t, want, at, name)
		}
	}
}

// run hands readings to an input and returns what rules see of each; NaN for bad.
func run(c *signal.Chain, readings ...float64) []float64 {
	a := signal.NewAnalog(c)
	var seen []float64
	for i, r := range readings {
		a.Read(int64(i)*1e9, r, 0)
		if a.Fault != signal.None {
			seen = append(seen, math.NaN())
		} else {
			seen = append(seen, a.Value)
		}
	}
	return seen
}

func TestFilters(t *testing.T) {
	bad := math.NaN()
	for _, c := range []struct {
		clauses        string
		readings, want []float64
	}{
		{"  unit V\n  smooth average 3 samples\n", []float64{3, 6, 9, 12, 15}, []float64{3, 4.5, 6, 9, 12}},
		{"  unit V\n  smooth median 3 samples\n", []float64{5, 1, 9, 2, 2}, []float64{5, 3, 5, 2, 2}},
		{"  unit V\n  smooth median 4 samples\n", []float64{4, 1, 3, 2, 9}, []float64{4, 2.5, 3, 2.5, 2.5}},
		// A bad reading does not enter the filter, which starts anew after it.
		{"  unit V\n  smooth average 3 samples\n", []float64{3, 6, bad, 9, 12}, []float64{3, 4.5, bad, 9, 10.5}},
		// A change is handed on when it is at least the amount away from the last handed on.
		{"  unit V\n  ignore changes under 1 V\n", []float64{5, 5.5, 5.99, 6, 6.5, 5.01, 5}, []float64{5, 5, 5, 6, 6, 6, 5}},
		{"  unit V\n  ignore changes under 1 V\n", []float64{5, bad, 5.5, 6}, []float64{5, bad, 5.5, 5.5}},
		{"  unit degF\n  ignore changes under 1 degC\n", []float64{50, 51.7, 51.9}, []float64{50, 50, 51.9}},
		{"  unit V\n  smooth average 2 samples\n  ignore changes under 1 V\n", []float64{4, 6, 6, 8}, []float64{4, 5, 6, 7}},
	} {
		assert.Equal(t, text(c.want), text(run(chain(t, c.clauses), c.readings...)), c.clauses)
	}
}

func text(values []float64) []string {
	all := make([]string, len(values))
	for i, v := range values {
		all[i] = unit.Short(v)
	}
	return all
}

// The filters give what their definition gives, worked out the plain way.
func TestFiltersByDefinition(t *testing.T) {
	average := chain(t, "  unit V\n  smooth average 4 samples\n")
	median := chain(t, "  unit V\n  smooth median 4 samples\n")
	rapid.Check(t, func(t *rapid.T) {
		readings := rapid.SliceOfN(rapid.Float64Range(-10, 10), 1, 30).Draw(t, "readings")
		means, medians := run(average, readings...), run(median, readings...)
		for i := range readings {
			window := slices.Clone(readings[max(0, i-3) : i+1])
			sum := 0.0
			for _, v := range window {
				sum += v
			}
			require.InDelta(t, sum/float64(len(window)), means[i], 1e-12)
			slices.Sort(window)
			n := len(window)
			require.InDelta(t, (window[(n-1)/2]+window[n/2])/2, medians[i], 1e-12)
		}
	})
}

func TestContact(t *testing.T) {
	for _, inverted := range []bool{false, true} {
		c := signal.NewContact(inverted, 0)
		assert.Equal(t, signal.NotRead, c.Fault)
		assert.True(t, c.Read(0, 1))
		assert.Equal(t, !inverted, c.On)
		assert.False(t, c.Read(0, 1), "nothing new")
		assert.True(t, c.Read(0, math.NaN()))
		assert.Equal(t, signal.Reported, c.Fault)
		assert.True(t, c.Read(0, 0))
		assert.Equal(t, inverted, c.On)
	}
}
