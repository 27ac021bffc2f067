package bench_test

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
)

// Where nothing changed, a person is told what was compared with what.
func TestCompared(t *testing.T) {
	p := compileJob(t, `job "Egg room"

input bed
  scale 4..20 mA to 0..20 degC
  healthy 3.6..21 mA
  smooth average 3 samples

input lid discrete
input spare discrete
input damp
  unit %

derived cold = bed - 1 degC

setpoint warm 12 degC
  allow 5..15 degC

output fan
  called by any
  fail off

rule cooling
  on when bed > warm hysteresis 0.5 degC and not lid and damp < 40 %
  call fan

rule frost
  on when cold < 1 degC
  call fan
`)
	r, err := bench.Replay(p, record(t, "time,bed,lid\n0,10,1\n10,11,1\n20,2,0\n30,12,1\n"), bench.Options{Set: set("warm=14 degC")})
	require.NoError(t, err)
	all, err := r.Compared()
	require.NoError(t, err)
	var got []string
	for _, c := range all {
		s := fmt.Sprintf("%s %.4g..%.4g %s bad=%t", c.Name, c.Low, c.High, c.Unit.Name(), c.Bad)
		for _, p := range c.Points {
			s += fmt.Sprintf("; %s %s %s %g", p.Rule, p.Role, p.Direction(), p.Value().Value)
		}
		got = append(got, s)
	}
	assert.Equal(t, []string{
		"bed 7.5..10 degC bad=true; cooling trips rising 14; cooling resets falling 13.5",
		"lid 0..1  bad=false",
		fmt.Sprintf("damp %.4g..%.4g %% bad=false; cooling trips falling 40; cooling resets rising 40", math.NaN(), math.NaN()),
		"cold 6.5..9 degC bad=true; frost trips falling 1; frost resets rising 1",
	}, got)
}
