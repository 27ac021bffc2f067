package bench_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/unit"
)

const valveJob = `job "Valve"
  settle 1 s
input x
  scale 4..20 mA to 0..16 mg/L
  healthy 3.6..21 mA
input k discrete
output valve analog 0..100 %
`

// levelText are the values of an output and the seconds at which it takes them.
func levelText(r *bench.Result, output string) string {
	var b strings.Builder
	p := r.Program
	r.Level(p.Index(logic.OutputKind, output)).Each(func(t int64, v float64) bool {
		b.WriteString(unit.FormatDecimal(t-r.Recording.Origin, 1e9) + ":" + unit.Short(v) + " ")
		return true
	})
	return strings.TrimSpace(b.String())
}

func TestAnalogOutputs(t *testing.T) {
	const steps = "time,x,k\n0,4,0\n10,8,0\n20,12,0\n30,16,1\n40,20,1\n50,2,1\n60,12,1\n70,12,0\n"
	p := compileJob(t, valveJob+"follow f\n  call valve from x 0..10 mg/L to 0..100 %\n")
	input, valve := find(p, "x"), find(p, "valve")
	for name, c := range map[string]struct {
		clauses, callers string
		commands         []bench.Command
		want             string
	}{
		"a call at a value":          {"  fail 30 %\n", "rule r\n  on when x > 5 mg/L for 5 s\n  call valve at 40 %\n", nil, "0:0 25:40 50:30 60:40"},
		"follow, clamped at its end": {"  fail off\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\n", nil, "0:0 10:40 20:80 30:100 50:0 60:80"},
		"follow, reverse and held":   {"  fail hold\n", "follow f\n  call valve from x 4..12 mg/L to 100..20 %\n", nil, "0:100 20:60 30:20 60:60"},
		"while":                      {"  fail off\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\n  while k\n", nil, "0:0 30:100 50:0 60:80 70:0"},
		"the highest of two":         {"  called by highest\n  fail off\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\nrule r\n  on when not k for 1 s\n  call valve at 50 %\n", nil, "0:0 1:50 20:80 30:100 50:0 60:80"},
		"the lowest of two":          {"  called by lowest\n  fail off\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\nrule r\n  on when not k for 1 s\n  call valve at 50 %\n", nil, "0:0 10:40 20:50 30:100 50:0 60:80"},
		"an interlock beats a fail":  {"  interlock when k\n  fail 30 %\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\n", nil, "0:0 10:40 20:80 30:0 70:80"},
		"a permissive":               {"  permissive when k\n  fail off\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\n", nil, "0:0 30:100 50:0 60:80"},
		"by hand, off and back": {"  fail 30 %\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\n", []bench.Command{
			at(15, logic.Command{Do: logic.TakeInHand, Of: valve, Value: 100}), at(45, logic.Command{Do: logic.StandOff, Of: valve}), at(55, logic.Command{Do: logic.GiveBack, Of: valve}),
		}, "0:0 10:40 15:100 45:0 55:30 60:80"},
		"a pinned input": {"  fail off\n", "follow f\n  call valve from x 0..10 mg/L to 0..100 %\n", []bench.Command{
			at(5, logic.Command{Do: logic.PinInput, Of: input, Value: 2}), at(55, logic.Command{Do: logic.UnpinInput, Of: input}),
		}, "0:0 5:20 55:0 60:80"},
	} {
		t.Run(name, func(t *testing.T) {
			p := compileJob(t, valveJob+c.clauses+c.callers)
			r, err := bench.Replay(p, record(t, strings.Replace(steps, "x,", "x [mA],", 1)), bench.Options{Commands: c.commands, EveryChange: true})
			require.NoError(t, err)
			assert.Equal(t, c.want, levelText(r, "valve"))
			changes := 0
			for _, tr := range r.Transitions {
				if tr.Kind == logic.OutputKind {
					changes++
					assert.NotEqual(t, tr.From.Level, tr.To.Level)
				}
			}
			assert.Equal(t, strings.Count(strings.TrimPrefix(c.want, "0:0 "), ":"), changes, "every change is told")
			plain, err := bench.Replay(p, r.Recording, bench.Options{Commands: c.commands})
			require.NoError(t, err)
			assert.NotContains(t, lines(plain), "valve", "unless it was not asked for")
			assert.Equal(t, r.Summary, plain.Summary)
		})
	}
}

// The summary of an analog output is over time.
func TestLevels(t *testing.T) {
	p := compileJob(t, valveJob+"  fail off\nfollow f\n  call valve from x 0..10 mg/L to 0..100 %\n")
	r, err := bench.Replay(p, record(t, "time,x [mA]\n0,4\n30,9\n50,6\n100,6\n"), bench.Options{})
	require.NoError(t, err)
	sum := r.Summary[len(r.Summary)-1]
	assert.Equal(t, bench.Range{Min: 0, Max: 50, Mean: (50*20 + 20*50) / 100.0, Final: 20}, *sum.Range)
	saved := r.WithOutputs()
	again, err := bench.Replay(p, saved, bench.Options{})
	require.NoError(t, err)
	assert.Contains(t, again.Notes, "column valve is an output: the plant did what the rules say")
}
