package bench_test

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/core/sheet"
	"rectura/core/unit"
)

const hatcheryFolder = "../../examples/hatchery"

func hatcherySources(t testing.TB) []sheet.Source {
	sources, err := sheet.ReadSources(os.DirFS(hatcheryFolder))
	require.NoError(t, err)
	return sources
}

func compileSources(t testing.TB, sources []sheet.Source) *logic.Program {
	job, found := sheet.Parse(sources)
	require.False(t, sheet.HasErrors(found), "%v", found)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	return p
}

func hatcheryRecording(t testing.TB, name string) *recording.Recording {
	f, err := os.Open(filepath.Join(hatcheryFolder, "recordings", name+".csv"))
	require.NoError(t, err)
	defer func() { require.NoError(t, f.Close()) }()
	r, err := csv.Reader{Name: name}.Read(f)
	require.NoError(t, err)
	return r
}

func window(t *testing.T, r *recording.Recording, from, to string) [2]int64 {
	a, b, err := r.Window(from, to)
	require.NoError(t, err)
	return [2]int64{a, b}
}

// What the night's inflow teaches catches, in the other recordings, every spell
// in which the pump stood still and nothing else.
func TestTaughtRuleCatchesTheTroubleElsewhere(t *testing.T) {
	sources := hatcherySources(t)
	night := hatcheryRecording(t, "night")
	l, err := bench.Teach(
		compileSources(t, sources),
		night,
		"inflow",
		window(t, night, "22:10", "02:10"),
		window(t, night, "02:20", "02:50"),
		nil,
	)
	require.NoError(t, err)
	require.True(t, l.Separable)
	assert.True(t, l.Falling)
	assert.Greater(t, l.Margin, 20.0)
	name, text, err := l.WriteRule(sources, "pump_stands", "beacon")
	require.NoError(t, err)
	assert.Equal(t, "rules.rct", name)
	assert.Contains(t, text, "# Pure oxygen costs money", "comments are kept")
	p := compileSources(t, bench.Changed(sources, name, text))
	spells := func(name string) []string {
		result, err := bench.Replay(p, hatcheryRecording(t, name), bench.Options{})
		require.NoError(t, err)
		var all []string
		for _, s := range result.Spans(logic.Ref{Kind: logic.RuleKind, Index: int32(p.Index(logic.RuleKind, "pump_stands"))}) {
			if s.State != logic.Off {
				all = append(
					all,
					fmt.Sprintf("%s %s to %s", s.State, result.Recording.Clock.Format(s.From)[:5], result.Recording.Clock.Format(s.To)[:5]),
				)
			}
		}
		return all
	}
	assert.Equal(t, []string{"on 02:14 to 02:40", "on 03:15 to 03:22"}, spells("pump-trip"))
	assert.Empty(t, spells("broken-loop"))
	assert.Empty(t, spells("hopper"))
	assert.Equal(t, []string{"on 02:14 to 02:52"}, spells("night"))

	_, _, err = l.WriteRule(sources, "low_inflow", "beacon")
	assert.ErrorContains(t, err, "low_inflow is already the name of the rule at rules.rct:")
	_, _, err = l.WriteRule(sources, "new", "oxygen")
	assert.ErrorContains(t, err, "a rule calls outputs")
}

// noisy is a recording of one signal, drawn by a function of the second.
func noisy(t *testing.T, columns string, seconds int, row func(s int) string) *recording.Recording {
	var b strings.Builder
	b.WriteString("time," + columns + "\n")
	for s := range seconds {
		fmt.Fprintf(&b, "%d,%s\n", s, row(s))
	}
	return record(t, b.String())
}

func TestTeach(t *testing.T) {
	p := compileJob(t, "job \"Teach\"\n\ninput x\n  unit mg/L\n\noutput o\n  fail off\n\nrule r\n  on when x > 50 mg/L for 1 s\n  call o\n")
	// A triangle of noise, the same every time, between -1 and 1.
	noise := func(s int) float64 { return math.Abs(float64(s*7%40)-20)/10 - 1 }
	both := func(normal, trouble, width float64) *bench.Lesson {
		r := noisy(t, "x", 600, func(s int) string {
			level := normal
			if s >= 300 {
				level = trouble
			}
			return unit.Short(level + width*noise(s))
		})
		l, err := bench.Teach(p, r, "x", [2]int64{0, 299e9}, [2]int64{300e9, 599e9}, nil)
		require.NoError(t, err)
		return l
	}
	l := both(8, 5, 0.1)
	assert.True(t, l.Separable)
	assert.True(t, l.Falling)
	assert.InDelta(t, 6.5, l.Trip, 0.21)
	assert.Greater(t, l.Reset, l.Trip)
	assert.Less(t, l.Reset, 7.9)
	assert.InDelta(t, 7.9, l.Normal.Low, 0.02)
	assert.InDelta(t, 5.1, l.Trouble.High, 0.02)
	assert.Equal(t, int64(10e9), l.OnDelay)

	l = both(5, 8, 0.1)
	assert.False(t, l.Falling)
	assert.Less(t, l.Reset, l.Trip)

	// The hysteresis is at least six noise widths, or it is said why not.
	short := 0
	for _, width := range []float64{0.01, 0.1, 0.2, 0.25, 0.3, 0.35, 0.4, 0.45, 0.5, 0.55, 0.6} {
		for _, trouble := range []float64{5, 11} {
			l = both(8, trouble, width)
			if !l.Separable {
				continue
			}
			noise := max(l.Normal.Noise, l.Trouble.Noise)
			inside := l.Hysteresis() <= math.Abs(l.Normal.Low-l.Trip)+1e-9
			if trouble > 8 {
				inside = l.Hysteresis() <= math.Abs(l.Normal.High-l.Trip)+1e-9
			}
			assert.True(t, inside, "the reset point is not in the normal window: %v", l)
			if l.Hysteresis() < 6*noise*0.99 {
				short++
				assert.Contains(t, l.Advice, "noise widths and not 6, since the windows lie only ", "%v", l)
			} else {
				assert.Empty(t, l.Advice)
			}
		}
	}
	assert.Positive(t, short)

	// Windows that overlap, which a filter parts, and ones that nothing does.
	l = both(6, 5, 1)
	assert.False(t, l.Separable)
	assert.Regexp(t, "^`smooth average \\d+ samples` would part them: normal ", l.Advice)
	l = both(6, 6, 1)
	assert.False(t, l.Separable)
	assert.Equal(
		t,
		"no filter and no delay would part them; look for another signal, or for windows that are all normal and all trouble",
		l.Advice,
	)
	_, err := l.Declarations("r2", "")
	assert.EqualError(t, err, "the windows cannot be told apart, so there is no rule to write")

	_, err = bench.Teach(p, noisy(t, "x", 10, func(int) string { return "1" }), "x", [2]int64{0, 5e9}, [2]int64{6e9, 9e9}, nil)
	assert.EqualError(t, err, "the normal window has 6 good readings of x; at least 20 are needed")
	_, err = bench.Teach(p, noisy(t, "y", 10, func(int) string { return "1" }), "x", [2]int64{0, 5e9}, [2]int64{6e9, 9e9}, nil)
	assert.EqualError(t, err, "the recording has no column x")
}

// A switch that makes below 4.2 and breaks above 5.7, recorded beside the
// signal: both points are found.
func TestTeachLikeASwitch(t *testing.T) {
	p := compileJob(t, "job \"Teach\"\n\ninput x\n  unit mg/L\n\noutput o\n  fail off\n\nrule r\n  on when x > 50 mg/L for 1 s\n  call o\n")
	on := false
	r := noisy(t, "x,float_switch", 2000, func(s int) string {
		x := 5 + 2*math.Sin(float64(s)/60)
		switch {
		case x < 4.2:
			on = true
		case x > 5.7:
			on = false
		}
		return fmt.Sprintf("%.4f,%t", x, on)
	})
	l, err := bench.TeachLike(p, r, "x", "float_switch", nil)
	require.NoError(t, err)
	assert.InDelta(t, 4.2, l.Trip, 0.03)
	assert.InDelta(t, 5.7, l.Reset, 0.03)
	assert.True(t, l.Falling)
	text, err := l.Declarations("like_the_switch", "o")
	require.NoError(t, err)
	assert.Contains(t, text, "  on when x < like_the_switch_point hysteresis 1.5")

	assert.Equal(t, []int{5, 5}, []int{l.Makes, l.Breaks})

	// A switch that has nothing to do with the signal.
	other := noisy(t, "x,lamp", 2000, func(s int) string { return fmt.Sprintf("%.4f,%t", 5+2*math.Sin(float64(s)/60), s/170%2 == 1) })
	l, err = bench.TeachLike(p, other, "x", "lamp", nil)
	require.NoError(t, err)
	assert.False(t, l.Separable)
	assert.Regexp(
		t,
		`^lamp turned on 6 times, with x at 4\.\d+ to [67]\.\d+ mg/L, and off 5 times, at 3\.\d+ to 4\.\d+ mg/L; no trip and reset point of x would turn it on and off then$`,
		l.Advice,
	)
	_, err = l.Declarations("r2", "")
	assert.Error(t, err)

	_, err = bench.TeachLike(p, r, "x", "x", nil)
	assert.ErrorContains(t, err, "a switch has two states")
	_, err = bench.TeachLike(p, noisy(t, "x,k", 30, func(int) string { return "1,0" }), "x", "k", nil)
	assert.EqualError(t, err, "k turned on 0 times and off 0 times in the recording; to find both points it must do each at least once")
}

func quantity(t *testing.T, s string) unit.Quantity {
	q, err := unit.ParseQuantity(s)
	require.NoError(t, err)
	return q
}

func TestCalibrate(t *testing.T) {
	sources := hatcherySources(t)
	pairs := func(all ...string) []bench.Reading {
		var readings []bench.Reading
		for i := 0; i < len(all); i += 2 {
			readings = append(readings, bench.Reading{Measured: quantity(t, all[i]), Reference: quantity(t, all[i+1])})
		}
		return readings
	}
	c, err := bench.Calibrate(sources, "oxygen", pairs("9.40 mg/L", "9.10 mg/L", "0.12mg/L", "0 ug/L"), "calibrated 2026-05-03")
	require.NoError(t, err)
	assert.Equal(t, "correct 0.12 mg/L to 0 mg/L, 9.4 mg/L to 9.1 mg/L", c.Clause)
	assert.InDelta(t, 0.3, c.Points[0].AsFound, 1e-9)
	assert.InDelta(t, 1.5, c.Percent(c.Points[0].AsFound), 1e-9)
	assert.InDelta(t, 0, c.Points[0].AsLeft, 1e-9)
	assert.Contains(
		t,
		c.Text,
		"  scale 4..20 mA to 0..20 mg/L\n  correct 0.12 mg/L to 0 mg/L, 9.4 mg/L to 9.1 mg/L  # calibrated 2026-05-03\n  healthy",
	)
	assert.Contains(t, c.Text, "# Counts are those of the 12-bit card", "comments are kept")

	// Again, over the first one: what is measured now has it in it.
	again := bench.Changed(sources, c.Sheet, c.Text)
	c2, err := bench.Calibrate(again, "oxygen", pairs("9.10 mg/L", "9.20 mg/L"), "")
	require.NoError(t, err)
	assert.Equal(t, "correct 9.4 mg/L to 9.2 mg/L", c2.Clause)
	assert.InDelta(t, -0.1, c2.Points[0].AsFound, 1e-9)
	assert.InDelta(t, 0, c2.Points[0].AsLeft, 1e-9)
	assert.Equal(t, 1, strings.Count(c2.Text, "correct "))

	// What the transmitter shows, without the correction.
	raw, err := bench.ParseReading(" 9.40 mg/L as read ", "9.20")
	require.NoError(t, err)
	c3, err := bench.Calibrate(again, "oxygen", []bench.Reading{raw}, "")
	require.NoError(t, err)
	assert.Equal(t, c2.Clause, c3.Clause)
	assert.InDelta(t, -0.1, c3.Points[0].AsFound, 1e-9)
	first, err := bench.Calibrate(sources, "oxygen", []bench.Reading{raw}, "")
	require.NoError(t, err, "without a correction, all is as read")
	assert.Equal(t, c2.Clause, first.Clause)
	corrected := compileSources(t, again)
	chain := corrected.Inputs[corrected.Index(logic.InputKind, "oxygen")].Chain
	assert.Equal(t, []string{"counts", "mA", "mg/L as read", "mg/L"}, chain.PlaceNames())
	for text, want := range map[string]int{"9.4 mg/L as read": 2, "9400 ug/L as read": 2, "9.4 mg/L": 3, "12 mA": 1} {
		_, at, err := chain.ParseReading("oxygen", text)
		require.NoError(t, err, text)
		assert.Equal(t, want, at, text)
	}
	_, _, err = chain.ParseReading("oxygen", "12 mA as read")
	assert.ErrorContains(
		t,
		err,
		"12 mA as read: only a value before a correction in its own unit is as read, and the chain of oxygen has counts, mA, mg/L as read, mg/L",
	)
	plain := compileSources(t, sources)
	_, _, err = plain.Inputs[0].Chain.ParseReading("oxygen", "9.4 mg/L as read")
	assert.EqualError(
		t,
		err,
		"9.4 mg/L as read: only a value before a correction in its own unit is as read, and the chain of oxygen has counts, mA, mg/L",
	)
	for unitName, want := range map[string]float64{"mg/L": 9.4, "mg/L as read": 9.1} {
		r, err := bench.Replay(corrected, record(t, "time,oxygen ["+unitName+"]\n0,9.4\n9,9.4\n"), bench.Options{})
		require.NoError(t, err)
		trace, err := r.Trace(corrected.Index(logic.InputKind, "oxygen"))
		require.NoError(t, err)
		v, _ := trace.Held(9e9)
		assert.InDelta(t, want, v, 1e-9, unitName)
	}

	// A reading at another stage, and an input that is in engineering units.
	c, err = bench.Calibrate(sources, "inflow", pairs("12 mA", "41 L/s"), "")
	require.NoError(t, err)
	assert.Equal(t, "correct 40 L/s to 41 L/s", c.Clause)
	c, err = bench.Calibrate(sources, "ph", pairs("7.1 pH", "7 pH", "4.2 pH", "4 pH"), "")
	require.NoError(t, err)
	assert.Contains(t, c.Text, "  correct 4.2 pH to 4 pH, 7.1 pH to 7 pH\n  unit pH\n")

	for _, x := range []struct {
		input string
		pairs []bench.Reading
		want  string
	}{
		{"oxygen", pairs("9 mg/L", "9 mg/L", "9.2 mg/L", "9.3 mg/L"), "9 mg/L and 9.2 mg/L are too close together to define a line, 1 % of the span; take readings at least 5 % apart"},
		{"oxygen", pairs("4 mg/L", "9 mg/L", "9 mg/L", "4 mg/L"), "9 mg/L for 4 mg/L contradicts 4 mg/L for 9 mg/L: a higher reading must be a higher value"},
		{"oxygen", pairs("2 mA", "9 mg/L"), "2 mA is a bad reading: 2 mA is below 3.6 mA: broken loop or no supply; calibrate with good ones"},
		{"oxygen", pairs("9 V", "9 mg/L"), "9 V is in V (voltage), which is no unit of the chain of oxygen"},
		{"oxygen", pairs("9 mg/L", "9 V"), "the reference 9 V is in V (voltage), but oxygen is in mg/L (concentration)"},
		{"mains", pairs("1", "1"), "mains is a discrete input and cannot be calibrated"},
		{"nothing", pairs("1", "1"), "no input is named nothing"},
	} {
		_, err := bench.Calibrate(sources, x.input, x.pairs, "")
		assert.EqualError(t, err, x.want)
	}
}

// Beside what the rules would have done stands what the plant did, and where
// the two first part; a logger's delay of a row is no difference.
func TestPlant(t *testing.T) {
	p := compileJob(t, "job \"Plant\"\n\ninput k discrete\n\noutput o\n  fail off\n\nrule r\n  on when k\n  call o\n")
	for _, c := range []struct{ text, want string }{
		{"time,k,o\n0,0,0\n10,1,0\n11,1,1\n12,1,1\n20,0,1\n21,0,0\n22,0,0\n", "column o is an output: the plant did what the rules say"},
		{"time,k,o\n0,0,0\n1,0,0\n2,1,0\n3,1,0\n4,1,0\n5,1,0\n6,1,1\n", "column o is an output: the plant first did otherwise at +2 s, off where the rules say on; readings after that come from a plant that was driven otherwise"},
		{"time,k,o\n0,0,bad\n1,0,bad\n2,1,bad\n3,1,bad\n4,1,bad\n", "column o is an output: the plant did what the rules say"},
	} {
		r, err := bench.Replay(p, record(t, c.text), bench.Options{})
		require.NoError(t, err)
		assert.Equal(t, []string{c.want}, append(r.Warnings, r.Notes...), c.text)
	}
	r, err := bench.Replay(p, record(t, "time,k,o\n0,0,1\n5,1,1\n8,0,1\n9,0,1\n"), bench.Options{})
	require.NoError(t, err)
	out := r.WithOutputs()
	var b strings.Builder
	require.NoError(t, csv.Write(&b, out))
	assert.Equal(t, "time,k,o.plant,o\n0,0,1,0\n5,1,1,1\n8,0,1,0\n9,0,1,\n", b.String())
	_, err = bench.Replay(p, record(t, "time,k,o\n0,0,0.5\n"), bench.Options{})
	assert.EqualError(t, err, "column o, at +0 s: 0.5 is neither 0 nor 1, and o is a discrete output")
}
