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
			fmt.Fprintf(&out, "%s %s %s→%s: %s\n", clock(at), p.Name(tr.Ref), p.StandText(tr.Ref, tr.From), p.StandText(tr.Ref, tr.To), p.Sentence(tr, clock))
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
30 fan on→off: stood off by a person, once its minimum on of 10 s had passed
41 fan off→on: in hand: on, and permitted now: y 2 mg/L > 1 mg/L
42 fan on→off: interlocked: y 9 mg/L > 8 mg/L
50 f off→on: k is on
60 fan off→on: called by f
`, out.String())
}
