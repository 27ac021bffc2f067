package bench_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/recording/csv"
)

// told is an explanation with all its grounds, one a line.
func told(a *bench.Explanation) string {
	var b strings.Builder
	clock := a.Recording.Clock.Format
	fmt.Fprintf(&b, "%s since %s: %s\n", a.Stand.State, clock(a.Since), a.Because)
	var under func(numbers []int, indent string)
	under = func(numbers []int, indent string) {
		for _, i := range numbers {
			g := a.Grounds[i]
			fmt.Fprintf(&b, "%s%s", indent, g.Text)
			for _, more := range []string{g.By, g.Delay} {
				if more != "" {
					b.WriteString("; " + more)
				}
			}
			b.WriteByte('\n')
			under(g.Under, indent+"  ")
		}
	}
	under(a.Reasons, "  ")
	for i, m := range a.Misses { // the last one before, and the first one after
		if i+1 < len(a.Misses) && a.Misses[i+1].To <= a.At || i > 0 && a.Misses[i-1].To > a.At {
			continue
		}
		fmt.Fprintf(&b, "  missed from %s to %s: %s\n", clock(m.From), clock(m.To), m.Until)
	}
	if a.Next != nil {
		fmt.Fprintf(&b, "  next %s at %s: %s\n", a.NextState(), clock(a.Next.Time), a.NextText)
	}
	return b.String()
}

// Why not: the delay, the interlock, the permissive, the bad signal, the latch,
// the pulse, the minimum time, and the output that is looked at.
func TestWhy(t *testing.T) {
	p := compileJob(t, `job "Why"
  settle 1 s
input x
  scale 4..20 mA to 0..16 mg/L
  healthy 3.6..21 mA
input k discrete
  words "open", "shut"
output fan
  minimum off 20 s
  fail off
output lamp
  called by any
  fail off
rule low_x "Low x"
  on when x < 6 mg/L for 5 s
  off when x > 7 mg/L
  interlock when k
  call fan
rule latched
  on when x < 5.5 mg/L
  latch
  call lamp
rule blink
  on when low_x and not k
  pulse 4 s
  permissive when x > 5 mg/L
  call lamp
`)
	r, err := csv.Reader{
		Name: "a.csv",
	}.Read(
		strings.NewReader(
			"time,x [mg/L],k\n0,8,0\n2,5.8,0\n4,6.5,0\n10,5.8,0\n18,5.8,1\n20,5.8,0\n30,5.4,0\n32,5.8,0\n40,-2,0\n44,5.8,0\n50,8,0\n60,8,0\n",
		),
	)
	require.NoError(t, err)
	for _, c := range []struct {
		at   int64
		name string
		want string
	}{
		{12, "fan", `off since +0 s: not called by low_x
  low_x is off: x 5.8 mg/L < 6 mg/L for only 2 s of 5 s, since +10 s
    x 5.8 mg/L < 6 mg/L; 0.2 mg/L; for only 2 s of 5 s, since +10 s
  missed from +2 s to +4 s: x 6.5 mg/L >= 6 mg/L
  next on at +15 s: called by low_x
`},
		{19, "low_x", `off since +18 s: interlocked: k is open
  k is open
  missed from +2 s to +4 s: x 6.5 mg/L >= 6 mg/L
  next on at +20 s: x 5.8 mg/L < 6 mg/L for 5 s, since +10 s
`},
		{30, "fan", `off since +18 s: called by low_x, but its minimum off of 20 s lasts until +38 s
  low_x is on: x 5.4 mg/L < 6 mg/L for 5 s, since +10 s
    x 5.4 mg/L < 6 mg/L; 0.6 mg/L; for 5 s, since +10 s
  missed from +2 s to +4 s: x 6.5 mg/L >= 6 mg/L
  next on at +38 s: called by low_x, once its minimum off of 20 s had passed
`},
		{17, "blink", `on since +15 s: in its pulse of 4 s, since +15 s
  next off at +19 s: its pulse of 4 s has ended
`},
		{30, "blink", `off since +24 s: its pulse has ended, and it waits until this lets go: low_x is on and k is shut
  low_x is on
    low_x is on: x 5.4 mg/L < 6 mg/L for 5 s, since +10 s
      x 5.4 mg/L < 6 mg/L; 0.6 mg/L; for 5 s, since +10 s
  k is shut
`},
		{33, "lamp", `on since +30 s: called by latched
  latched is on: latched until it is reset, since +30 s: x 5.8 mg/L >= 5.5 mg/L
    x 5.8 mg/L >= 5.5 mg/L; 0.3 mg/L
`},
		{41, "fan", `off since +40 s: low_x undecided: fails to off
  low_x is undecided: x is bad: 2 mA is below 3.6 mA: broken loop or no supply
    x is bad: 2 mA is below 3.6 mA: broken loop or no supply
  missed from +2 s to +4 s: x 6.5 mg/L >= 6 mg/L
`},
		{41, "x", `bad since +40 s: 2 mA is below 3.6 mA: broken loop or no supply
  its last reading
  next good at +44 s: a good reading again, 5.8 mg/L
`},
		{55, "latched", `on since +30 s: latched until it is reset, since +30 s: x 8 mg/L >= 5.5 mg/L
  x 8 mg/L >= 5.5 mg/L; 2.5 mg/L
`},
		{52, "fan", `off since +40 s: not called by low_x
  low_x is off: x 8 mg/L >= 6 mg/L
    x 8 mg/L >= 6 mg/L; 2 mg/L
  missed from +2 s to +4 s: x 6.5 mg/L >= 6 mg/L
`},
	} {
		a, err := bench.Why(p, r, bench.Options{}, c.name, r.Start+c.at*1e9)
		require.NoError(t, err)
		assert.Equal(t, c.want, told(a), "%s at %d", c.name, c.at)
	}
	a, err := bench.Why(p, r, bench.Options{Scan: 7e9}, "low_x", r.Start+20e9)
	require.NoError(t, err)
	assert.Equal(t, r.Start+14e9, a.At, "the last time at which a controller looked")
}

// On the hatchery's night the blower is off for three reasons: its delay has not
// run out, its interlock, a bad signal. An analog output answers with its loop.
func TestWhyOnTheNight(t *testing.T) {
	p, night := compileSources(t, hatcherySources(t)), hatcheryRecording(t, "night")
	for _, c := range []struct{ name, at, want string }{
		{"blower", "02:33:00", "standby_blower is off: oxygen 5.965 mg/L < oxygen_low 6 mg/L for only 8 s of 45 s, since 02:32:52"},
		{"blower", "03:30:05", "standby_blower is off: interlocked: mains is off"},
		{"blower", "22:00:02", "standby_blower is undecided: oxygen is bad: 2.398 mA is below 3.6 mA: broken loop or no supply"},
		{"dosing", "02:31:00", "oxygen 6.087 mg/L is 1.713 mg/L below its target oxygen_target 7.8 mg/L: 57.11 % in proportion and 89.56 % of integral give 100 %"},
		{"dosing", "03:30:05", "oxygen_dosing is off: its `while` does not hold: mains is off"},
		{"drum", "02:31:00", "filter_dp 34.29 mbar gives 50 Hz"},
	} {
		at, _, err := night.Window(c.at, "")
		require.NoError(t, err)
		a, err := bench.Why(p, night, bench.Options{}, c.name, at)
		require.NoError(t, err)
		text := told(a)
		assert.Contains(t, text, c.want, "%s at %s", c.name, c.at)
		if c.name == "blower" {
			assert.True(t, strings.HasPrefix(text, "off since"), text)
		}
	}
}
