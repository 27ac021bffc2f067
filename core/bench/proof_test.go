package bench_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording/csv"
)

// A contact that does not follow its output in time raises the output's own alarm, whether it does not come or stays
// behind; one that follows late but in time does not, and one whose state is not known changes nothing.
func TestProof(t *testing.T) {
	p := compileJob(t, `job "Transfer channel"
input demand discrete
input flow_switch discrete
output transfer_pump
  fail off
  proven by flow_switch within 5 s
output horn
  fail off
rule move_fish
  on when demand
  call transfer_pump
rule warn
  on when transfer_pump.unproven
  call horn
`)
	r, err := csv.Reader{
		Name: "r.csv",
	}.Read(
		strings.NewReader("time,demand,flow_switch\n0,0,0\n10,1,0\n13,1,1\n20,0,1\n24,0,0\n30,1,0\n60,0,0\n70,0,1\n80,0,bad\n90,0,0\n"),
	)
	require.NoError(t, err)
	result, err := bench.Replay(p, r, bench.Options{})
	require.NoError(t, err)
	var got []string
	for _, x := range result.Transitions {
		if x.Kind == logic.AlarmKind || p.Name(x.Ref) == "horn" {
			_, to := p.States(x)
			got = append(got, fmt.Sprintf("%g %s %s: %s", float64(x.Time)/1e9, p.Name(x.Ref), to, p.Sentence(x, r.Clock.Format)))
		}
	}
	assert.Equal(t, []string{
		"35 transfer_pump.unproven active: transfer_pump is on and flow_switch is off, for 5 s, since +30 s",
		"35 horn on: called by warn",
		"60 transfer_pump.unproven normal: transfer_pump is off and flow_switch is off",
		"60 horn off: no longer called by warn",
		"75 transfer_pump.unproven active: transfer_pump is off and flow_switch is on, for 5 s, since +70 s",
		"75 horn on: called by warn",
		"90 transfer_pump.unproven normal: transfer_pump is off and flow_switch is off",
		"90 horn off: no longer called by warn",
	}, got)
}
