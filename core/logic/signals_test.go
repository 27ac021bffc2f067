package logic_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
)

// Signals that need more than their own reading: derived values, functions of
// several inputs, cold junctions, health in time; and words for contacts.
func TestSignals(t *testing.T) {
	for _, c := range []struct{ name, job, script, want string }{
		{"a derived value is bad while one of its inputs is",
			"derived head = x - y\nrule r\n  on when head > 2 mg/L hysteresis 1 mg/L\n  call o\n",
			"0 x=5 y=4\n1 x=6.5\n2 y=bad\n3 y=6\n4 y=bad\n5 x=1",
			`1s r off→on: head 2.5 mg/L > 2 mg/L
1s o off→on: called by r
2s y good→bad: the reading is marked bad
2s r on→undecided: y is bad: the reading is marked bad
3s y bad→good: a good reading again, 6 mg/L
3s r undecided→off: decided again: head 0.5 mg/L <= 1 mg/L (reset point of head > 2 mg/L hysteresis 1 mg/L)
3s o on→off: no longer called by r
4s y good→bad: the reading is marked bad
4s r off→undecided: y is bad: the reading is marked bad
4s o off→on: r undecided: fails to on
`},
		{"average and median leave bad inputs out, max does not",
			"rule a\n  on when average(x, y) > 5 mg/L for 1 s\n  call o\nrule m\n  on when max(x, y) > 5 mg/L for 1 s\n  call o\n",
			"0 x=4 y=4\n1 x=7\n2 x=7\n3 y=bad\n5 x=1",
			`2s a off→on: average(x, y) 5.5 mg/L > 5 mg/L for 1 s, since 1s
2s m off→on: max(x, y) 7 mg/L > 5 mg/L for 1 s, since 1s
2s o off→on: called by a and m
3s y good→bad: the reading is marked bad
3s m on→undecided: y is bad: the reading is marked bad
5s a on→off: average(x, y) 1 mg/L <= 5 mg/L
`},
		{"a stale input turns bad at its exact time",
			"input z\n  unit mg/L\n  stale after 2500 ms\nrule r\n  on when z > 5 mg/L hysteresis 1 mg/L\n  call o\n",
			"0 z=6\n2 z=6\n10 z=1",
			`0s r off→on: z 6 mg/L > 5 mg/L
0s o off→on: called by r
4.5s z good→bad: no reading came for 2.5 s
4.5s r on→undecided: z is bad: no reading came for 2.5 s
10s z bad→good: a good reading again, 1 mg/L
10s r undecided→off: decided again: z 1 mg/L <= 4 mg/L (reset point of z > 5 mg/L hysteresis 1 mg/L)
10s o on→off: no longer called by r
`},
		{"a thermocouple takes its cold junction's reading of the same instant, and is bad with it",
			"input cold\n  unit degC\n  healthy 0..60 degC\ninput hot\n  curve thermocouple k to degC cold junction cold\nrule r\n  on when hot > 100 degC hysteresis 1 degC\n  call o\n",
			"0 hot=3.1 cold=25\n1 hot=3.1 cold=26\n2 cold=90\n3 hot=3.1\n4 cold=20\n5 hot=3.1",
			`0s r off→on: hot 100.1 degC > 100 degC
0s o off→on: called by r
2s cold good→bad: 90 degC is above 60 degC
3s hot good→bad: the cold junction, cold, is bad
3s r on→undecided: hot is bad: the cold junction, cold, is bad
4s cold bad→good: a good reading again, 20 degC
5s hot bad→good: a good reading again, 95.22 degC
5s r undecided→off: decided again: hot 95.22 degC <= 99 degC (reset point of hot > 100 degC hysteresis 1 degC)
5s o on→off: no longer called by r
`},
		{"debounce, and words for a contact",
			"input door discrete\n  debounce 500 ms\n  words \"open\", \"shut\"\nrule r\n  on when door\n  call o\n",
			"0 door=0\n1 door=1\n1.2 door=0\n2 door=1\n9 door=0\n10 door=0",
			`2.5s r off→on: door is open
2.5s o off→on: called by r
9.5s r on→off: door is shut
9.5s o on→off: no longer called by r
`},
	} {
		assert.Equal(t, c.want, play(t, compile(t, points+c.job), c.script), c.name)
	}
	// What is divided by 0 is unknown.
	got := play(
		t,
		compile(t, points+"rule r\n  on when (x + y) * 2 > 2 * low / 1.5 and x / y > 2\n  call o\n"),
		"0 x=1 y=1\n1 x=4\n2 y=0\n3 y=1",
	)
	assert.Contains(t, got, "1s r off→on: (x + y) * 2 10 mg/L > 2 * low / 1.5 8 mg/L and x / y 4 > 2\n")
	assert.Contains(t, got, "2s r on→off: (x + y) * 2 8 mg/L <= 2 * low / 1.5 8 mg/L\n", "false and unknown is false")
}

// A delay of an input that is a setpoint counts with its new value, from its
// beginning.
func TestInputDelayIsChangedWhileItRuns(t *testing.T) {
	p := compile(
		t,
		"job \"x\"\nsetpoint patience 10 s\n  allow 1..60 s\ninput z\n  unit mg/L\n  stale after patience\noutput o\n  fail on\nrule r\n  on when z > 5 mg/L hysteresis 1 mg/L\n  call o\n",
	)
	s := logic.NewStepper(p)
	s.Read(0, 0, 6, 0)
	s.MustStep(0)
	require.Equal(t, int64(5e9), s.Next(), "settling ends")
	s.MustStep(5e9)
	require.Equal(t, int64(10e9), s.Next())
	s.Set(0, 30)
	require.Empty(t, s.MustStep(6e9))
	require.Equal(t, int64(30e9), s.Next())
	s.Set(0, 2)
	made := s.MustStep(7e9)
	require.NotEmpty(t, made)
	assert.Equal(t, logic.Bad, made[0].To.State)
}

// Points of a derived value stand in its own unit.
func TestPointsOfDerived(t *testing.T) {
	p := compile(t, points+"derived head = x - y\nrule r\n  on when head > low * 0.5 hysteresis 1 mg/L\n  call o\n")
	all := p.Points(p.Rules[0].Name, nil)
	require.Len(t, all, 2)
	assert.Equal(t, "head", all[0].Name)
	assert.Equal(t, 3.0, all[0].Value().Value)
	assert.Equal(t, "mg/L", all[0].Value().Unit.Name())
	assert.Equal(t, 2.0, all[1].Value().Value)
	assert.Contains(t, p.String(), "derived head = v2 in mg/L\n")
}

// Beside an input, a quantity may be in the unit of any of its stages.
func TestQuantitiesOfAnyStage(t *testing.T) {
	const input = "input w\n  scale 0..4000 counts to 0..20 mA\n  scale 4..20 mA to 16..0 mg/L\n"
	for cond, want := range map[string]float64{
		"w < 8 mA":                          12,
		"8 mA > w":                          12,
		"w < 2000 counts hysteresis 1 mg/L": 10,
		"w < 12 mg/L":                       12,
	} {
		p := compile(t, points+input+"rule r\n  on when "+cond+"\n  call o\n")
		all := p.Points(p.Rules[0].Name, nil)
		require.NotEmpty(t, all, cond)
		assert.InDelta(t, want, all[0].Value().Value, 1e-12, cond)
	}
	p := compile(
		t,
		points+input+"rule r\n  on when w between 2000 counts and 8 mA hysteresis 0.5 mg/L\n  call o\nrule s\n  on when w crosses 12 mA\n  pulse 1 s\n  call o\n",
	)
	assert.Contains(t, p.String(), "between v")
	assert.Len(t, p.Points(p.Rules[0].Name, nil), 4)
}
