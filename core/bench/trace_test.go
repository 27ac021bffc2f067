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
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
)

func points(c *recording.Column) string {
	var all []string
	c.Each(func(t int64, v float64) bool {
		all = append(all, fmt.Sprintf("%g=%.5g", float64(t)/1e9, v))
		return true
	})
	return strings.Join(all, " ")
}

// A trace has the value at every reading, and where it turns bad or good in
// between.
func TestTraces(t *testing.T) {
	p := compileJob(t, `job "Traces"

input x
  unit mg/L
  stale after 2500 ms
  smooth average 2 samples

input cold
  unit degC
  healthy 0..60 degC

input hot
  curve thermocouple k to degC cold junction cold

input door discrete
  debounce 500 ms

derived twice = x * 2

output o
  fail off

rule r
  on when (twice > 5 mg/L and door and hot > 0 degC) for 1 s
  call o
`)
	r := record(t, "time,x,cold,hot,door\n0,4,25,0,0\n1,6,,0,1\n2,8,90,0,\n6,1,20,0,0\n7,3,,0,0\n20,,,,\n")
	want := map[string]string{
		"x":    "0=4 1=5 2=7 4.5=NaN 6=1 7=2 9.5=NaN",
		"cold": "0=25 2=NaN 6=20",
		"hot":  "0=25 1=25 2=NaN 6=20 7=20",
		"door": "0=0 1=0 1.5=1 6=1 6.5=0 7=0",
	}
	for name, points0 := range want {
		c, err := bench.Trace(p, r, p.Index(logic.InputKind, name), nil)
		require.NoError(t, err)
		assert.Equal(t, points0, points(c), name)
	}
	derived, err := bench.TraceDerived(p, r, p.Index(logic.DerivedKind, "twice"), nil)
	require.NoError(t, err)
	assert.Equal(t, "mg/L", derived.Unit)
	v, _ := derived.Held(2e9)
	assert.Equal(t, 14.0, v)
	v, _ = derived.Held(5e9)
	assert.True(t, math.IsNaN(v))
	none, err := bench.Trace(p, record(t, "time,x\n0,1\n"), p.Index(logic.InputKind, "cold"), nil)
	require.NoError(t, err)
	assert.Nil(t, none)
}

// What a trace shows at a reading is what the rules saw there, for random jobs
// with every clause of signals.
func TestTracesAreWhatRulesSee(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(sheettest.Job(t))}})
		require.False(t, sheet.HasErrors(found), "%v", found)
		p, err := logic.Compile(job)
		require.NoError(t, err)
		var b strings.Builder
		b.WriteString("time," + strings.Join(sheettest.Analog, " [mg/L],") + " [mg/L]\n")
		at := 0.0
		for range rapid.IntRange(1, 40).Draw(t, "rows") {
			fmt.Fprintf(&b, "%g", at)
			for range sheettest.Analog {
				cell := rapid.SampledFrom([]string{"", "bad", "1.5", "2", "4.25", "6", "8.5", "9"}).Draw(t, "cell")
				b.WriteString("," + cell)
			}
			b.WriteByte('\n')
			at += rapid.SampledFrom([]float64{0.5, 1, 2.5, 30, 90}).Draw(t, "gap")
		}
		r := record(t, b.String())
		traces := make([]*recording.Column, len(sheettest.Analog))
		for i, name := range sheettest.Analog {
			traces[i], err = bench.Trace(p, r, p.Index(logic.InputKind, name), nil)
			require.NoError(t, err)
		}
		for i := range sheettest.Analog {
			input := p.Index(logic.InputKind, sheettest.Analog[i])
			seen := map[int64]float64{}
			s := logic.NewStepper(p)
			r.Columns[i].Each(func(at int64, v float64) bool {
				for s.Next() < at {
					_, err := s.Step(s.Next())
					require.NoError(t, err)
				}
				last := len(p.Inputs[input].Chain.Units) - 1
				s.Read(at, input, v, last)
				_, err := s.Step(at)
				require.NoError(t, err)
				value, good := s.Value(input)
				if !good {
					value = math.NaN()
				}
				seen[at] = value
				return true
			})
			for at, want := range seen {
				got, _ := traces[i].Held(at)
				if math.IsNaN(want) {
					require.True(t, math.IsNaN(got), "%s at %d: %g", sheettest.Analog[i], at, got)
					continue
				}
				require.Equal(t, want, got, "%s at %d", sheettest.Analog[i], at)
			}
		}
	})
}
