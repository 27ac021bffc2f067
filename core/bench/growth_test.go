package bench_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
)

// A plantOf has inputs, with rules on each, and a recording of them.
type plantOf struct {
	inputs, rules, rows, turns int  // turns: how often each signal passes its rules' points
	own                        bool // every input has times of its own
}

func (s plantOf) job(b *testing.B) *logic.Program {
	var text strings.Builder
	text.WriteString("job \"growth\"\n")
	for i := range s.inputs {
		fmt.Fprintf(&text, "input s%d\n  scale 4..20 mA to 0..20 mbar\n  healthy 3.6..21 mA\noutput o%d\n  called by any\n  fail off\n", i, i)
		for k := range s.rules {
			fmt.Fprintf(
				&text,
				"rule r%d_%d\n  on when s%d < %g mbar hysteresis 0.5 mbar for 2 s\n  call o%d\n",
				i,
				k,
				i,
				8+float64(k)/float64(s.rules),
				i,
			)
		}
	}
	return compileJob(b, text.String())
}

func (s plantOf) recording(b *testing.B) *recording.Recording {
	columns := make([]*recording.Column, s.inputs)
	for i := range columns {
		columns[i] = &recording.Column{Name: fmt.Sprintf("s%d", i)}
	}
	build := recording.NewBuilder(columns, recording.Clock{Elapsed: true})
	for k := range s.rows {
		var some []recording.Reading
		for i := range columns {
			v := 13 + 0.5*math.Sin(float64(k*7+i))
			if s.turns > 0 && k*2*s.turns/s.rows%2 == 1 {
				v = 5
			}
			if s.own {
				build.Sparse(int64(k)*1e9+int64(i)*1e5, []recording.Reading{{Column: i, Value: v}})
			} else {
				some = append(some, recording.Reading{Column: i, Value: v})
			}
		}
		if !s.own {
			build.Sparse(int64(k)*1e9, some)
		}
	}
	r, _ := build.Finish()
	r.Clock.Elapsed = true
	return r
}

// took is how long a replay takes, the median of some.
func (s plantOf) took(b *testing.B) float64 {
	p, r := s.job(b), s.recording(b)
	var all []time.Duration
	for range 5 {
		began := time.Now()
		_, err := bench.Replay(p, r, bench.Options{})
		require.NoError(b, err)
		all = append(all, time.Since(began))
	}
	slices.Sort(all)
	return all[len(all)/2].Seconds()
}

// BenchmarkGrowth gives with what power of the readings, the inputs, the rules and the transitions a
// replay's time grows. More than 1.1 is a cost that grows faster than what is asked for.
func BenchmarkGrowth(b *testing.B) {
	base := plantOf{inputs: 16, rules: 1, rows: 20_000, turns: 10}
	for _, c := range []struct {
		name string
		by   float64
		from plantOf
		to   plantOf
	}{
		{"readings", 8, base, plantOf{16, 1, 160_000, 10, false}},
		{"inputs-of-shared-times", 8, base, plantOf{128, 1, 20_000, 10, false}},
		{"inputs-of-own-times", 8, plantOf{16, 1, 5000, 10, true}, plantOf{128, 1, 5000, 10, true}},
		{"rules", 8, plantOf{4, 8, 20_000, 200, false}, plantOf{4, 64, 20_000, 200, false}},
		{"transitions", 8, plantOf{16, 1, 20_000, 100, false}, plantOf{16, 1, 20_000, 800, false}},
	} {
		b.Run(c.name, func(b *testing.B) {
			var small, large float64
			for b.Loop() {
				small += c.from.took(b)
				large += c.to.took(b)
			}
			b.ReportMetric(math.Log(large/small)/math.Log(c.by), "power")
			b.ReportMetric(0, "ns/op")
		})
	}
}
