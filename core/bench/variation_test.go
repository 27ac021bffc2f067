package bench_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/bench"
	"rectura/core/logic"
)

const adjustable = `job "x"
input x
  unit mbar
  healthy 0..20 mbar
setpoint low 5 mbar
  allow 1..9 mbar
setpoint pause 4 s
output o
  called by any
  fail off
rule r
  on when x < low deadband 0.5 mbar hysteresis 1 mbar for 2 s
  call o
rule twice
  on when (x > 15 mbar for 3 s) or (x < 1 mbar for pause)
  call o
rule named
  on when x > 12 mbar for pause
  off when x < 11 mbar hysteresis 0.5 mbar
  call o
bands b of x
  deep: below 3 mbar call o
  fine: else
  hysteresis 0.5 mbar
  for 1 s
alarm a
  on when x between 2 mbar and 4 mbar hysteresis 0.25 mbar for 5 s
  priority low
  advice "Look."
`

func TestClauseNumbers(t *testing.T) {
	p := compileJob(t, adjustable)
	var all []string
	for _, n := range bench.ClauseNumbers(p.Job) {
		all = append(all, n.Name+" "+n.Text)
	}
	assert.Equal(t, []string{"r.for 2 s", "r.hysteresis 1 mbar", "r.deadband 0.5 mbar", "named.hysteresis 0.5 mbar",
		"b.for 1 s", "b.hysteresis 0.5 mbar", "a.for 5 s", "a.hysteresis 0.25 mbar"}, all)
	r := record(t, "time,x\n0,6\n9,6\n")
	for text, want := range map[string]string{
		"o.for=3 s":            "o is no rule, alarm or bands",
		".for=3 s":             `".for" names no rule; write it as low_inflow.for`,
		"q.for=3 s":            "no rule, alarm or bands are named q",
		"r.minimum=3 s":        `r.minimum: of a rule, for, hysteresis or deadband can be set, and not "minimum"`,
		"b.deadband=1 mbar":    "b has no `deadband`",
		"twice.for=3 s":        "twice has `for` 2 times; put setpoints in the place of the numbers, and set these",
		"named.for=3 s":        "`for` of named is pause; set that",
		"r.for=3 mbar":         "that cannot be set so: 3 mbar is no time",
		"r.hysteresis=-1 mbar": "that cannot be set so: a hysteresis of -1 mbar; it is never below 0",
		"r.hysteresis=1 V":     "that cannot be set so: ",
	} {
		_, err := bench.Replay(p, r, bench.Options{Set: set(text)})
		assert.ErrorContains(t, err, want, text)
		_, err = bench.Why(p, r, bench.Options{Set: set(text)}, "o", r.End)
		assert.ErrorContains(t, err, want, text)
	}
}

// A number of a clause that is set is as if it were written.
func TestSetClausesAreAsWritten(t *testing.T) {
	p := compileJob(t, adjustable)
	rapid.Check(t, func(t *rapid.T) {
		written, values := adjustable, []string{}
		change := func(name, from string, to float64, unitName string) {
			text := fmt.Sprintf("%g %s", to, unitName)
			head := strings.Index(written, " "+name[:1]+"\n") // of the rule r, the bands b, the alarm a: its text follows
			if name[0] == 'b' {
				head = strings.Index(written, "bands b")
			}
			word, _, _ := strings.Cut(from, " ")
			written = written[:head] + strings.Replace(written[head:], from, word+" "+text, 1)
			if rapid.Bool().Draw(t, "without unit") {
				text = fmt.Sprintf("%g", to)
			}
			values = append(values, name+"="+text)
		}
		tenths := func(low, high int) float64 { return float64(rapid.IntRange(low, high).Draw(t, "tenths")) / 10 }
		change("r.for", "for 2 s", tenths(1, 60), "s")
		change("r.hysteresis", "hysteresis 1 mbar", tenths(1, 40), "mbar")
		change("r.deadband", "deadband 0.5 mbar", tenths(1, 9), "mbar")
		change("b.for", "for 1 s", tenths(1, 60), "s")
		change("a.hysteresis", "hysteresis 0.25 mbar", tenths(1, 9), "mbar")
		rows := "time,x\n"
		for i := range 40 {
			rows += fmt.Sprintf("%d,%g\n", i, tenths(0, 160))
		}
		r := record(t, rows)
		some, err := bench.Variations(p, values, 1)
		require.NoError(t, err)
		got, err := bench.Replay(p, r, bench.Options{Set: some[0].Set()})
		require.NoError(t, err)
		want, err := bench.Replay(compileJob(t, written), r, bench.Options{})
		require.NoError(t, err)
		require.Equal(t, sentences(want), sentences(got))
	})
}

func sentences(r *bench.Result) []string {
	var all []string
	for _, t := range r.Transitions {
		from, to := r.Program.States(t)
		all = append(all, fmt.Sprint(t.Time, " ", r.Program.Name(t.Ref), from, to, r.Program.Sentence(t, logic.Clock(r.Recording.Clock.Format))))
	}
	return all
}

func TestVariations(t *testing.T) {
	p := compileJob(t, adjustable)
	some, err := bench.Variations(p, []string{"low = 5, 6,7mbar", "r.for=1 min 30 s,2 s", "pause=3"}, 6)
	require.NoError(t, err)
	var got []string
	for _, v := range some {
		s := ""
		for _, w := range v.With {
			s += w.Name + " " + w.Text + "; "
		}
		got = append(got, s)
	}
	assert.Equal(t, []string{"low 5 mbar; r.for 1 min 30 s; pause 3 s; ", "low 5 mbar; r.for 2 s; pause 3 s; "}, got[:2])
	assert.Len(t, got, 6)
	none, err := bench.Variations(p, nil, 1)
	require.NoError(t, err)
	assert.Len(t, none, 1)
	for want, given := range map[string][]string{
		"low is given twice; several values of one name":        {"low=5", "low=6"},
		"these are more than 5 combinations of values":          {"low=5,6,7", "pause=3,4"},
		"low is set to 5 mbar twice; a decimal mark is a point": {"low=5,5 mbar"},
		`"low" is not NAME=VALUE`:                               {"low"},
		`low: "" does not begin with a number`:                  {"low=5,,6"},
	} {
		_, err := bench.Variations(p, given, 5)
		assert.ErrorContains(t, err, want)
	}
	_, err = bench.Variations(p, []string{"low=5,6"}, 1)
	assert.EqualError(t, err, "low is set to several values, and only one can be played here")
}
