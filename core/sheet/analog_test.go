package sheet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// plant is a job with everything that is analog; wrong twins of its lines are
// tried one at a time.
const plant = `job "Raceway"
input oxygen
  unit mg/L
input daylight
  unit lx
input mains discrete
setpoint target 8 mg/L
  allow 5..10 mg/L
constant wide 60 %
output dosing analog 0..100 %
  called by highest
  scale 0..100 % to 4..20 mA
  scale 4..20 mA to 0..4095 counts
  permissive when mains
  fail 5 %
output lights analog 0..10 V
  fail hold
output horn
  fail off
follow trim
  call lights from daylight 0..1000 lx to 10..0 V
  while mains
loop hold_oxygen
  keep oxygen at target
  acting reverse
  proportional band 4 mg/L
  integral 120 s
  derivative 0 s
  every 1 s
  while mains
  call dosing
rule boost
  on when oxygen < 5 mg/L hysteresis 0.5 mg/L
  call dosing at wide, horn
rule stuck
  on when dosing > 90 % for 10 min
  off when dosing changes
  call horn
trial t
  play "a.csv"
  at +5 s hand dosing 40 %
  expect dosing between 0 % and 50 % always
`

func TestAnalogOutputs(t *testing.T) {
	text := strings.Replace(plant, "output horn\n", "output horn\n  called by any\n", 1)
	job, found := parse(text)
	require.Empty(t, found)
	assert.Equal(t, text, unspaced(job.Files[0].String()), "it is laid out already")
	for _, c := range []struct{ right, wrong, want string }{
		{"output lights analog 0..10 V", "output lights analog 10..0 V", `16:22: error: the range of "analog" goes from the lower to the higher end; write 0..10 [syntax]`},
		{"output lights analog 0..10 V", "output lights analog", "16:21: error: the end of the line where a number must stand [syntax]"},
		{"called by highest", "called by any", "11:13: error: any where how callers are combined must stand: highest, lowest [syntax]"},
		{"  called by highest\n", "", "10:8: error: boost and hold_oxygen call the output dosing; say how they are combined: `called by highest` or `called by lowest` [called-by]"},
		{"scale 4..20 mA to", "scale 4..20 V to", "13:3: error: this stage begins in V (voltage), but what comes before it is in mA (current); stages must join [chain]"},
		{"  permissive when mains\n", "  minimum on 5 s\n", "14:3: error: a minimum time is for what is on or off, and dosing is analog; put it on the rule that calls it [exclusive-clauses]"},
		{"  permissive when mains\n", "  flash 5 s\n", "14:3: error: flash is no clause of an analog output; it takes tag, terminal, note, drives, refresh, called by, scale, permissive when, interlock, minimum on, minimum off, fail and service after [syntax]"},
		{"fail 5 %", "fail on", "15:8: error: on where the fail state must stand: a value such as 0 %, off (the low end) or hold [syntax]"},
		{"fail 5 %", "fail 5 mA", "15:8: error: 5 mA is in mA (current), and the output dosing is in % (percent) [unit-mismatch]"},
		{"fail 5 %", "fail 101 %", "15:8: error: 101 % is outside the range of dosing, 0..100 % [output-range]"},
		{"  fail 5 %\n", "", "10:8: warning: the output dosing has no fail state, so it goes to 0 % when its callers cannot decide; write a value such as `fail 0 %`, or `fail hold` [no-fail]"},
		// follow
		{"  call lights from daylight 0..1000 lx to 10..0 V\n", "", "21:8: error: trim calls nothing; add a line such as: call LIGHTS from DAYLIGHT 0..1000 lx to 100..0 % [missing-clause]"},
		{"from daylight", "daylight", "22:15: error: daylight where \"from\" must stand, before the value that the output follows: call LIGHTS from DAYLIGHT 0..1000 lx to 100..0 % [syntax]"},
		{"call lights from", "call horn from", "22:8: error: horn is on or off; a follow calls an analog output: output horn analog 0..100 % [wrong-kind]"},
		{"from daylight 0", "from mains 0", "22:20: error: mains is a discrete input and has no value to compare or add [wrong-kind]"},
		{"daylight 0..1000 lx", "daylight 0..1000 mA", "22:29: error: a range in mA (current) beside daylight, which is in lx (illuminance) [unit-mismatch]"},
		{"to 10..0 V", "to 10..0 %", "22:43: error: a range in % (percent) for the output lights, which is in V (voltage) [unit-mismatch]"},
		{"to 10..0 V", "to 12..0 V", "22:43: error: 12..0 V goes beyond the range of lights, 0..10 V [output-range]"},
		{"0..1000 lx to 10..0 V", "0..0 lx to 10..0 V", "22:29: error: the range 0..0 lx has no width; a line needs two different points [chain]"},
		// loop
		{"  keep oxygen at target\n", "", "24:6: error: the loop hold_oxygen is not complete; add a line such as: keep OXYGEN at 8 mg/L [missing-clause]"},
		{"keep oxygen at target", "keep oxygen", "25:14: error: the end of the line where \"at\" must stand, before the target: keep OXYGEN at 8 mg/L [syntax]"},
		{"keep oxygen at target", "keep oxygen at 8 lx", "25:18: error: oxygen is in mg/L (concentration) and 8 lx is in lx (illuminance); they cannot be compared [unit-mismatch]"},
		{"acting reverse", "acting backwards", "26:10: error: backwards where which way the output acts must stand: reverse, direct [syntax]"},
		{"proportional band 4 mg/L", "proportional band 0 mg/L", "27:21: error: 0 mg/L is not above 0 [syntax]"},
		{"proportional band 4 mg/L", "proportional band 4 %", "27:21: error: a proportional band in % (percent) beside oxygen, which is in mg/L (concentration); it is how far the value must move to drive the output over its whole range [unit-mismatch]"},
		{"  integral 120 s\n", "", "24:6: error: the loop hold_oxygen is not complete; add a line such as: integral 120 s, or, without one, where the output stands on target: bias 50 % [missing-clause]"},
		{"integral 120 s\n", "integral 120 s\n  bias 50 %\n", "29:3: error: `bias` beside `integral`: the integral finds where the output must stand; take one of the two out [exclusive-clauses]"},
		{"integral 120 s\n", "bias 50 mA\n", "28:8: error: 50 mA is in mA (current), and the output dosing is in % (percent) [unit-mismatch]"},
		{"integral 120 s\n", "bias 150 %\n", "28:8: error: 150 % is outside the range of dosing, 0..100 % [output-range]"},
		{"integral 120 s", "integral 0 s", "28:12: error: \"0 s\" is not above 0 [syntax]"},
		{"every 1 s", "every 1 lx", "30:9: error: 1 lx is no time; a duration has a unit such as s or min [syntax]"},
		{"  call dosing\n", "  call dosing at 40 %\n", "32:18: error: a loop works out the value of dosing itself; take `at 40 %` out [wrong-kind]"},
		{"  call dosing\n", "  call dosing, lights\n", "32:16: error: a loop calls one output; let lights follow dosing instead [wrong-kind]"},
		{"  call dosing\n", "  call horn\n", "32:8: error: horn is on or off; a loop calls an analog output: output horn analog 0..100 % [wrong-kind]"},
		// calls, conditions and trials
		{"call dosing at wide", "call dosing", "35:8: error: dosing is an analog output; say the value that it is to have: call dosing at 100 % [wrong-kind]"},
		{"dosing at wide", "dosing at target", "35:18: error: target is in mg/L (concentration), and the output dosing is in % (percent) [unit-mismatch]"},
		{"dosing at wide", "dosing at oxygen / 8 mg/L * wide", "35:18: error: oxygen / 8 mg/L * wide depends on a signal; an output that follows one is written with `follow` [wrong-kind]"},
		{"dosing at wide", "dosing at wide + 50 %", "35:18: error: wide + 50 % is outside the range of dosing, 0..100 % [output-range]"},
		{"at wide, horn", "at wide, horn at 5 %", "35:32: error: horn is on or off and takes no value; write: call horn [wrong-kind]"},
		{"dosing > 90 %", "dosing", "37:11: error: dosing is an analog output and is not on or off; compare its value: dosing > 0 % [wrong-kind]"},
		{"dosing > 90 %", "dosing > 90 mA", "37:20: error: dosing is in % (percent) and 90 mA is in mA (current); they cannot be compared [unit-mismatch]"},
		{"dosing changes", "dosing turns on", "38:12: error: dosing is an analog output; what turns on is a discrete input, a rule or an output [wrong-kind]"},
		{"hand dosing 40 %", "hand dosing on", "42:23: error: dosing is an analog output; in hand it has a value, such as 100 % [wrong-kind]"},
		{"hand dosing 40 %", "hand dosing 40 mA", "42:23: error: dosing is in % (percent) and cannot be 40 mA, which is in mA (current) [unit-mismatch]"},
		{"hand dosing 40 %", "hand dosing 140 %", "42:23: error: 140 % is outside the range of dosing, 0..100 % [output-range]"},
		{"dosing between 0 % and 50 % always", "dosing on always", "43:10: error: dosing is an analog output; what is on or off is a rule, an alarm, a discrete output or a discrete input; write dosing between A and B [wrong-kind]"},
		{"between 0 % and 50 % always", "between 0 V and 50 % always", "43:25: error: dosing is in % (percent), and its limits are in V (voltage) and in % (percent) [unit-mismatch]"},
	} {
		require.Contains(t, text, c.right)
		_, found := parse(strings.Replace(text, c.right, c.wrong, 1))
		var got []string
		for _, f := range found {
			got = append(got, f.String())
		}
		assert.Contains(t, got, "a.rct:"+c.want)
		assert.LessOrEqual(t, len(got), 2, "one mistake, and at most what follows from it: %v", got)
	}
}

// unspaced is a sheet without blank lines.
func unspaced(s string) string { return strings.ReplaceAll(s, "\n\n", "\n") }
