package bench_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/bench"
)

const tried = `job "Try"
input x
  scale 0..4095 counts to 4..20 mA
  scale 4..20 mA to 0..10 mg/L
  healthy 3.6..21 mA
  smooth median 5 samples
  stale after 10 s
input k discrete
  inverted
  debounce 5 s
  words "shut", "open"
setpoint low 6 mg/L
  allow 1..9 mg/L
output o
  minimum off 5 min
  fail on
rule r
  on when x < low hysteresis 0.5 mg/L for 45 s
  permissive when k
  minimum on 10 min
  call o
`

// Delays, minimum times and filters are waited out, and the answer says why it
// is not another.
func TestTry(t *testing.T) {
	p := compileJob(t, tried)
	for given, want := range map[string]string{
		"x=5.9 k=shut":           "r on: x 5.9 mg/L < low 6 mg/L for 45 s; o on: called by r",
		"x=5.9 k=off":            "r off: not permitted: k is open; o off: not called by r",
		"x=6.1 k=1":              "r off: x 6.1 mg/L >= low 6 mg/L; o off: not called by r",
		"x=6.1 low=7mg/L k=on":   "r on: x 6.1 mg/L < low 7 mg/L for 45 s; o on: called by r",
		"x=2mA k=on":             "r undecided: x is bad: 2 mA is below 3.6 mA: broken loop or no supply; o on: r undecided: fails to on",
		"x=bad":                  "r off: not permitted: k is not read yet; o off: not called by r",
		"x=1000counts k=bad":     "r off: not permitted: k is bad: the reading is marked bad; o off: not called by r",
		"x=5.9mg/L,6,7mg/L k=on": "r on: x 5.9 mg/L < low 6 mg/L for 45 s; o on: called by r",
	} {
		rows, err := bench.Combinations(p, strings.Fields(given), 10)
		require.NoError(t, err, given)
		var got []string
		tried, err := bench.Try(p, rows[0])
		require.NoError(t, err)
		for _, s := range tried.States {
			got = append(got, s.Name+" "+s.State+": "+s.Because)
		}
		assert.Equal(t, want, strings.Join(got, "; "), given)
	}
	for given, want := range map[string]string{
		"x":                                `"x" is not NAME=VALUE, such as oxygen=5.9mg/L`,
		"y=5":                              "no input, setpoint or constant is named y",
		"o=on":                             "no input, setpoint or constant is named o",
		"x=5V":                             "x: 5 V is in V (voltage), and the chain of x has counts, mA, mg/L",
		"k=ajar":                           `k: "ajar" is no state of a contact; write on, off or bad`,
		"low=99mg/L":                       "low: low cannot be set to 99 mg/L; it is allowed from 1..9 mg/L",
		"x=1 x=2":                          "x is given twice; several values of one name stand behind each other: x=5,6,7",
		"x=5,5":                            "x is given as 5 mg/L twice; a decimal mark is a point",
		"x=1,2,3 k=on,off low=2mg/L,3mg/L": "these are more than 10 combinations of values; give fewer",
	} {
		_, err := bench.Combinations(p, strings.Fields(given), 10)
		assert.EqualError(t, err, want, given)
	}
}

// Of several numbers, those without a unit are in that of the last.
func TestCombinationsShareAUnit(t *testing.T) {
	p := compileJob(t, tried)
	all, err := bench.Combinations(p, []string{"x=12, 5 mA", "low=4000,5000 ug/L"}, 10)
	require.NoError(t, err)
	var got []string
	for _, row := range all {
		got = append(got, row[0].Text+" "+row[1].Text)
	}
	assert.Equal(t, []string{"12 mA 4000 ug/L", "12 mA 5000 ug/L", "5 mA 4000 ug/L", "5 mA 5000 ug/L"}, got)
}

// What trip finds is what algebra says, to one count, over random chains.
func TestTripIsTheAlgebra(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		counts := rapid.SampledFrom([]int{255, 1023, 4095}).Draw(t, "counts")
		low, high := float64(rapid.IntRange(-50, 50).Draw(t, "low")), float64(rapid.IntRange(60, 500).Draw(t, "high"))
		if rapid.Bool().Draw(t, "falling chain") {
			low, high = high, low
		}
		op := rapid.SampledFrom([]string{"<", "<=", ">", ">="}).Draw(t, "op")
		bottom := min(low, high)
		span := math.Abs(high - low)
		s := math.Round((bottom+span*rapid.Float64Range(0.3, 0.7).Draw(t, "at"))*100) / 100
		d := math.Round(span*rapid.Float64Range(0, 0.1).Draw(t, "deadband")*100) / 100
		h := math.Round(span*rapid.Float64Range(0, 0.15).Draw(t, "hysteresis")*100) / 100
		text := fmt.Sprintf(
			"job \"x\"\ninput x\n  scale 0..%d counts to 4..20 mA\n  scale 4..20 mA to %g..%g mbar\n  smooth average 3 samples\noutput o\n  fail off\nrule r\n  on when x %s %g mbar deadband %g mbar hysteresis %g mbar for 1 min\n  %s\n  call o\n",
			counts,
			low,
			high,
			op,
			s,
			d,
			h,
			rapid.SampledFrom([]string{"minimum on 5 min", "latch", "note \"plain\""}).Draw(t, "clause"),
		)
		p := compileJob(t, text)
		found, err := bench.Trip(p, "r", "", nil, nil)
		require.NoError(t, err)
		require.NotNil(t, found.Trip, text)
		require.NotNil(t, found.Reset, text)

		rising := op[0] == '>'
		trip, reset := s+d, s+d-h
		if !rising {
			trip, reset = s-d, s-d+h
		}
		count := func(v float64) float64 { return (v - low) / (high - low) * float64(counts) }
		require.InDelta(t, count(trip), found.Trip.Stages[0].Value, 1.001, text)
		if !strings.Contains(text, "latch") {
			require.InDelta(t, count(reset), found.Reset.Stages[0].Value, 1.001, text)
		}
		require.Equal(t, !rising, found.Trip.Falling)
		require.Equal(t, rising, found.Reset.Falling)
		// The first reading beyond the point, and the one before is not.
		value, step := found.Trip.Stages[2].Value, span/float64(counts)
		beyond := map[string]bool{"<": value < trip, "<=": value <= trip, ">": value > trip, ">=": value >= trip}[op]
		require.True(t, beyond || math.Abs(value-trip) < 1e-9*span, text)
		require.LessOrEqual(t, math.Abs(value-trip), step*1.001, text)
	})
}

// Several inputs, other rules, and what cannot be found.
func TestTripOfSeveral(t *testing.T) {
	p := compileJob(t, tried+`input y
  unit mg/L
  healthy 0..10 mg/L
output q
  called by any
  fail off
rule both
  on when x < low and y < 2 mg/L
  call q
rule moment
  on when y crosses 5 mg/L for 5 s
  pulse 5 s
  call q
rule never
  on when y > 20 mg/L for 5 s
  call q
rule contacts
  on when k
  call q
`)
	give := func(s string) []bench.Given {
		g, err := bench.ParseGiven(p, s)
		require.NoError(t, err)
		return []bench.Given{g}
	}
	found, err := bench.Trip(p, "both", "x", give("y=1"), nil)
	require.NoError(t, err)
	assert.Equal(t, 2456.0, found.Trip.Stages[0].Value)
	assert.Equal(t, []bench.Still{{Name: "y", Text: "1 mg/L"}}, found.Still)
	found, err = bench.Trip(p, "both", "x", nil, nil) // not with y at mid span
	require.NoError(t, err)
	assert.Equal(t, 2456.0, found.Trip.Stages[0].Value)
	assert.Equal(t, []bench.Still{{Name: "y", Text: "0 mg/L"}}, found.Still)
	found, err = bench.Trip(p, "both", "x", give("y=3"), nil)
	require.NoError(t, err)
	assert.Nil(t, found.Trip, "a place that was given stays")
	found, err = bench.Trip(p, "moment", "", nil, nil)
	require.NoError(t, err)
	assert.InDelta(t, 5, found.Trip.Stages[0].Value, 1e-4)
	assert.Nil(t, found.Reset, "its pulse has an end of its own")
	found, err = bench.Trip(p, "never", "", nil, nil)
	require.NoError(t, err)
	assert.Nil(t, found.Trip)
	assert.False(t, found.Always)
	for _, c := range []struct{ rule, input, want string }{
		{"both", "", "both depends on x and y; say which of them is moved"},
		{"both", "k", "k is a contact, and only an analog input can be moved slowly"},
		{"both", "z", "no input is named z"},
		{"contacts", "", "contacts depends on no analog input, so it has no trip point"},
		{"z", "", "no rule, alarm or bands are named z"},
	} {
		_, err := bench.Trip(p, c.rule, c.input, nil, nil)
		assert.EqualError(t, err, c.want)
	}
	_, err = bench.Trip(p, "both", "x", give("x=1"), nil)
	assert.EqualError(t, err, "x is the input that is moved; it cannot stand at 1 mg/L as well")
}

// Where a rule trips only with its other inputs in a certain place, that is found; what
// another rule latched is reset; and counts of 32 bits are found to one of them.
func TestTripFindsThePlace(t *testing.T) {
	p := compileJob(t, `job "x"
input x
  scale 0..4294967295 counts to 0..20 mA
  scale 4..20 mA to 0..10 mg/L
  healthy 4..20 mA
input y
  unit mg/L
  healthy 0..10 mg/L
input k discrete
input door discrete
  inverted
output o
  fail off
rule flooded
  on when x < 2 mg/L for 5 s
  latch
rule r
  on when (x > 5 mg/L hysteresis 0.5 mg/L) and k
  permissive when y > 9.9 mg/L
  interlock when flooded or door
  call o
rule shut
  on when x > 5 mg/L and k and not k
  off after 5 s
`)
	found, err := bench.Trip(p, "r", "x", nil, nil)
	require.NoError(t, err)
	require.NotNil(t, found.Trip)
	require.NotNil(t, found.Reset)
	assert.InDelta(t, 4294967295*0.6, found.Trip.Stages[0].Value, 1)
	assert.InDelta(t, 4294967295*0.56, found.Reset.Stages[0].Value, 1)
	assert.Equal(t, []bench.Still{{Name: "k", Text: "on"}, {Name: "y", Text: "10 mg/L"}, {Name: "door", Text: "off"}}, found.Still)
	found, err = bench.Trip(p, "shut", "", nil, nil)
	require.NoError(t, err)
	assert.Nil(t, found.Trip)
	assert.Contains(t, found.Because, "k is off")
	given, err := bench.ParseGiven(p, "door=on")
	require.NoError(t, err)
	found, err = bench.Trip(p, "r", "x", []bench.Given{given}, nil)
	require.NoError(t, err)
	assert.Nil(t, found.Trip)
	assert.Contains(t, found.Because, "interlocked: door is on")
}
