package logic_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
)

// Commands are inputs like readings: what a person does, and what holds a
// person back.
func TestCommands(t *testing.T) {
	p := compile(t, points+`rule r
  on when x < low
  latch
  call o
rule f
  on when k
  call fan
output fan
  permissive when y > 1 mg/L
  interlock when y > 8 mg/L
  minimum on 10 s
  minimum off 5 s
  fail off
`)
	s := logic.NewStepper(p)
	clock := func(t int64) string { return fmt.Sprint(t / 1e9) }
	var out strings.Builder
	step := func(at int64) {
		for _, tr := range s.MustStep(at) {
			fmt.Fprintf(
				&out,
				"%s %s %s→%s: %s\n",
				clock(at),
				p.Name(tr.Ref),
				p.StandText(tr.Ref, tr.From),
				p.StandText(tr.Ref, tr.To),
				p.Sentence(tr, clock),
			)
		}
	}
	read := func(seconds int64, name string, v float64) { s.Read(seconds*1e9, p.Index(logic.InputKind, name), v, 0) }
	find := func(name string) logic.Ref {
		r, found := p.Find(name)
		require.True(t, found, name)
		return r
	}
	rule, fan, x := find("r"), find("fan"), find("x")
	do := func(c logic.Command) {
		_, err := s.Command(c)
		require.NoError(t, err)
	}
	for _, at := range []struct {
		second int64
		do     func()
	}{
		{0, func() { read(0, "x", 5); read(0, "y", 2); read(0, "k", 0) }},
		{1, func() { do(logic.Command{Do: logic.ResetRule, Of: rule}) }}, // its condition stands
		{2, func() { read(2, "x", 7) }},
		{3, func() { do(logic.Command{Do: logic.ResetRule, Of: rule}) }},
		{4, func() { do(logic.Command{Do: logic.PinInput, Of: x, Value: 3}) }},
		{5, func() {
			do(logic.Command{Do: logic.SetSetting, Of: find("low"), Value: 2})
			do(logic.Command{Do: logic.ResetRule, Of: rule})
		}},
		{6, func() { do(logic.Command{Do: logic.UnpinInput, Of: x}) }},
		{20, func() { do(logic.Command{Do: logic.TakeInHand, Of: fan, On: true}) }},
		{22, func() { do(logic.Command{Do: logic.StandOff, Of: fan}) }}, // within its minimum on
		{40, func() { do(logic.Command{Do: logic.TakeInHand, Of: fan, On: true}); read(40, "y", 0) }},
		{41, func() { read(41, "y", 2) }},
		{42, func() { read(42, "y", 9) }},
		{50, func() { read(50, "y", 2); read(50, "k", 1) }}, // it stays off until it is commanded anew
		{60, func() { do(logic.Command{Do: logic.GiveBack, Of: fan}) }},
	} {
		for s.Next() < at.second*1e9 {
			step(s.Next())
		}
		at.do()
		step(at.second * 1e9)
	}
	require.Equal(t, logic.Auto, s.Mode(int(fan.Index)))
	assert.Equal(t, `0 r off→on: x 5 mg/L < low 6 mg/L
0 o off→on: called by r
3 r on→off: reset by a person; x 7 mg/L >= low 6 mg/L
3 o on→off: no longer called by r
4 r off→on: x 3 mg/L < low 6 mg/L
4 o off→on: called by r
5 r on→off: reset by a person; x 3 mg/L >= low 2 mg/L
5 o on→off: no longer called by r
20 fan off→on: in hand: on
30 fan on→off: kept off by a person, once its minimum on of 10 s had passed
41 fan off→on: in hand: on, and permitted now: y 2 mg/L > 1 mg/L
42 fan on→off: interlocked: y 9 mg/L > 8 mg/L
50 f off→on: k is on
60 fan off→on: called by f
`, out.String())
}

// What a person writes is read for what it is about; what cannot be is one sentence.
func TestCommandWords(t *testing.T) {
	p := compile(
		t,
		points+"constant band 0.4 mg/L\noutput v analog 0..50 Hz\n  fail off\nrule r\n  on when x < low hysteresis band\n  call o\n",
	)
	for _, c := range []struct{ do, name, value, want string }{
		{"set", "low", "5", ""},
		{"set", "low", "5 degC", "low is in mg/L (concentration) and cannot be set to 5 degC, which is degC (temperature)"},
		{"set", "low", "12", "low cannot be set to 12 mg/L; it is allowed from 1..9 mg/L"},
		{"set", "band", "0 mg/L", "band cannot be set to 0 mg/L; as a hysteresis it is above 0"},
		{"set", "x", "5", "x is an input; set is for a setpoint or constant"},
		{"set", "y2", "5", "no setpoint or constant is named y2"},
		{"hand", "o", "half", `o: "half" is no state of an output; write on or off`},
		{"hand", "v", "60 Hz", "v cannot be at 60 Hz; it goes from 0 Hz to 50 Hz"},
		{"hand", "v", "30", ""},
		{"hand", "v", "30 %", "v: it is in Hz (frequency) and cannot be at 30 %, which is % (percent)"},
		{"pin", "x", "bad", "x is pinned to a good value, and NaN is none"},
		{"pin", "k", "maybe", `k: "maybe" is no state of a contact; write on, off or bad`},
		{"reset", "r", "", "r has no latch, so there is nothing to reset"},
		{"reset", "r", "now", `r: reset takes no value, and "now" is one`},
		{"melt", "r", "", `"melt" is no command`},
	} {
		_, err := p.Command(c.do, c.name, c.value)
		if c.want == "" {
			assert.NoError(t, err, c)
		} else {
			assert.EqualError(t, err, c.want, "%v", c)
		}
	}
	s := logic.NewStepper(p)
	for _, c := range []logic.Command{
		{Do: 99}, {Do: logic.ResetRule, Of: logic.Ref{Kind: 99}}, {Do: logic.StandOff, Of: logic.Ref{Kind: logic.OutputKind, Index: 7}},
		{Do: logic.StandOff, Of: logic.Ref{Kind: logic.OutputKind, Index: -1}}, {Do: logic.PinInput, Of: logic.Ref{}, For: -1},
	} {
		_, err := s.Command(c)
		assert.Error(t, err, "%v", c)
	}
}

// A hand, a pin and a shelving end by themselves, like timers; an off with a lock is
// given back by the same name alone. They count from the next instant, at 3 s here.
func TestCommandsEnd(t *testing.T) {
	p := compile(t, points+"rule r\n  on when x < low\n  call o\nalarm a \"Low\"\n  priority low\n  on when x < low\n")
	s := logic.NewStepper(p)
	require.Empty(t, goOn(t, s, "0 x=7 y=1 k=0"))
	do := func(do, name, value string, lasts int64, lock string) error {
		c, _ := p.Command(do, name, value) // a shelving has no end in words
		c.For, c.Lock = lasts, lock
		_, err := s.Command(c)
		return err
	}
	require.NoError(t, do("pin", "x", "5", 20e9, ""))
	require.NoError(t, do("hand", "o", "off", 30e9, ""))
	require.NoError(t, do("shelve", "a", "", 10e9, ""))
	assert.Equal(t, `3s r off→on: x 5 mg/L < low 6 mg/L
3s a normal→active: x 5 mg/L < low 6 mg/L
23s r on→off: x 7 mg/L >= low 6 mg/L
23s a active→normal: x 7 mg/L >= low 6 mg/L
`, goOn(t, s, "10\n45 x=7"))
	assert.Equal(t, logic.Auto, s.Mode(0))
	assert.False(t, s.Pinned(0))
	require.NoError(t, do("off", "o", "", 0, "mara"))
	assert.EqualError(t, do("auto", "o", "", 0, ""), "o is kept off with the lock mara, which alone gives it back")
	require.NoError(t, do("auto", "o", "", 0, "mara"))
}
