package logic_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Conditions that last an instant, ranges, rates, times of day, and outputs
// that rules look at: when they come true, and how that is told.
func TestReasonsOfMoments(t *testing.T) {
	for _, c := range []struct{ name, rules, script, want string }{
		{"a contact turns: the first reading is none, and a bad one between counts for nothing",
			"rule r\n  on when k turns on\n  off after 5 s\n  call o\n",
			"0 k=1\n1 k=bad\n2 k=1\n3 k=0\n10 k=1\n20 k=0\n21 k=bad\n22 k=1",
			`1s k good→bad: the reading is marked bad
1s r off→undecided: k is bad: the reading is marked bad
2s k bad→good: a good reading again
2s r undecided→off: decided again: k has not just turned on
10s r off→on: k turned on
10s o off→on: called by r
15s r on→off: k has not turned on for 5 s, since 10s
15s o on→off: no longer called by r
21s k good→bad: the reading is marked bad
21s r off→undecided: k is bad: the reading is marked bad
21s o off→on: r undecided: fails to on
22s k bad→good: a good reading again
22s r undecided→on: decided again: k turned on
`},
		{"turning off, while another holds",
			"rule r\n  on when k turns off and x < low\n  pulse 2 s\n  call o\n",
			"0 k=1 x=7\n1 k=0\n2 k=1 x=5\n3 k=0",
			`3s r off→on: k turned off and x 5 mg/L < low 6 mg/L
3s o off→on: called by r
`},
		{"a value changes",
			"rule r\n  on when x changes\n  pulse 1 s\n  call o\n",
			"0 x=5\n1 x=5\n2 x=6\n10 x=bad\n11 x=6\n12 x=7\n20 x=7",
			`2s r off→on: x changed
2s o off→on: called by r
3s r on→off: its pulse of 1 s has ended
3s o on→off: no longer called by r
10s x good→bad: the reading is marked bad
10s r off→undecided: x is bad: the reading is marked bad
10s o off→on: r undecided: fails to on
11s x bad→good: a good reading again, 6 mg/L
11s r undecided→off: decided again: x has not just changed
11s o on→off: no longer called by r
12s r off→on: x changed
12s o off→on: called by r
13s r on→off: its pulse of 1 s has ended
13s o on→off: no longer called by r
`},
		{"a value crosses: exactly on it is the side it came from",
			"rule r\n  on when x crosses low\n  pulse 1 s\n  call o\n",
			"0 x=5\n1 x=6\n2 x=5\n4 x=6\n5 x=6.1\n10 x=6\n12 x=5.9\n20 x=5",
			`5s r off→on: x 6.1 mg/L crossed low 6 mg/L
5s o off→on: called by r
6s r on→off: its pulse of 1 s has ended
6s o on→off: no longer called by r
12s r off→on: x 5.9 mg/L crossed low 6 mg/L
12s o off→on: called by r
13s r on→off: its pulse of 1 s has ended
13s o on→off: no longer called by r
`},
		{"a value crosses and stays there",
			"rule r\n  on when x crosses low for 5 s\n  latch\n  reset when k\n  call o\n",
			"0 x=5 k=0\n1 x=7\n3 x=5\n4 x=7\n20 k=1\n21 x=5\n24 x=bad\n25 x=5\n40 k=0",
			`9s r off→on: x 7 mg/L crossed low 6 mg/L for 5 s, since 4s
9s o off→on: called by r
20s r on→off: reset: k is on
20s o on→off: no longer called by r
24s x good→bad: the reading is marked bad
24s r off→undecided: x is bad: the reading is marked bad
24s o off→on: r undecided: fails to on
25s x bad→good: a good reading again, 5 mg/L
25s r undecided→off: decided again: x 5 mg/L crossed low 6 mg/L from now on, and must last 5 s
25s o on→off: no longer called by r
30s r off→on: x 5 mg/L crossed low 6 mg/L for 5 s, since 25s
30s o off→on: called by r
`},
		{"a range includes its ends, and lets go beyond them",
			"rule r\n  on when x between 4 mg/L and low hysteresis 0.5 mg/L\n  call o\n",
			"0 x=3.9\n1 x=4\n2 x=6.5\n3 x=6.6\n4 x=6\n5 x=3.4",
			`1s r off→on: x 4 mg/L is between 4 mg/L and 6 mg/L
1s o off→on: called by r
3s r on→off: x 6.6 mg/L is outside 3.5 mg/L to 6.5 mg/L (reset points of x between 4 mg/L and low hysteresis 0.5 mg/L)
3s o on→off: no longer called by r
4s r off→on: x 6 mg/L is between 4 mg/L and 6 mg/L
4s o off→on: called by r
5s r on→off: x 3.4 mg/L is outside 3.5 mg/L to 6.5 mg/L (reset points of x between 4 mg/L and low hysteresis 0.5 mg/L)
5s o on→off: no longer called by r
`},
		{"outside a range",
			"rule r\n  on when x outside 4 mg/L and low hysteresis 0.5 mg/L for 1 s\n  call o\n",
			"0 x=4\n1 x=3.9\n2 x=4.4\n3 x=4.5\n4 x=6.1\n5 x=5.6\n6 x=5.5",
			`2s r off→on: x 4.4 mg/L is outside 4.5 mg/L to 5.5 mg/L (reset points of x outside 4 mg/L and low hysteresis 0.5 mg/L) for 1 s, since 1s
2s o off→on: called by r
3s r on→off: x 4.5 mg/L is between 4.5 mg/L and 5.5 mg/L (reset points of x outside 4 mg/L and low hysteresis 0.5 mg/L)
3s o on→off: no longer called by r
5s r off→on: x 5.6 mg/L is outside 4.5 mg/L to 5.5 mg/L (reset points of x outside 4 mg/L and low hysteresis 0.5 mg/L) for 1 s, since 4s
5s o off→on: called by r
6s r on→off: x 5.5 mg/L is between 4.5 mg/L and 5.5 mg/L (reset points of x outside 4 mg/L and low hysteresis 0.5 mg/L)
6s o on→off: no longer called by r
`},
		{"bands: one is in force, with hysteresis on the way back and a delay",
			"bands lamps of x\n  critical: below 4 mg/L call o\n  low: below low\n  fine: else\n  hysteresis 0.5 mg/L\n  for 2 s\nrule r\n  on when lamps is low and k\n  call fan\noutput fan\n  fail off\n",
			"0 x=7 k=1\n1 x=5\n5 x=3\n6 x=5\n10 x=3\n20 x=4.4\n21 x=4.5\n30 x=bad\n31 x=6.4\n40 x=6.5",
			`0s lamps undecided→fine: x 7 mg/L >= low 6 mg/L
3s lamps fine→low: x 5 mg/L < low 6 mg/L and x 5 mg/L >= 4 mg/L, for 2 s, since 1s
3s r off→on: lamps is low and k is on
3s fan off→on: called by r
12s lamps low→critical: x 3 mg/L < 4 mg/L for 2 s, since 10s
12s r on→off: lamps is critical
12s o off→on: called by lamps (critical)
12s fan on→off: no longer called by r
23s lamps critical→low: x 4.5 mg/L < low 6 mg/L and x 4.5 mg/L >= 4 mg/L, for 2 s, since 21s
23s r off→on: lamps is low and k is on
23s o on→off: no longer called by lamps (critical)
23s fan off→on: called by r
30s x good→bad: the reading is marked bad
30s lamps low→undecided: x is bad: the reading is marked bad
30s r on→undecided: x is bad: the reading is marked bad
30s o off→on: lamps (critical) undecided: fails to on
30s fan on→off: r undecided: fails to off
31s x bad→good: a good reading again, 6.4 mg/L
31s lamps undecided→low: x 6.4 mg/L < 6.5 mg/L (reset point of x < low hysteresis 0.5 mg/L) and x 6.4 mg/L >= 4 mg/L
31s r undecided→on: decided again: lamps is low and k is on
31s o on→off: no longer called by lamps (critical)
31s fan off→on: called by r
`},
		{"a ladder needs no else",
			"bands ladder of x\n  above 8 mg/L call o\n  at or above low call fan\n  cumulative\noutput fan\n  fail off\n",
			"0 x=5\n1 x=6\n2 x=9\n3 x=5",
			`0s ladder undecided→else: x 5 mg/L < low 6 mg/L
1s ladder else→at or above low: x 6 mg/L >= low 6 mg/L and x 6 mg/L <= 8 mg/L
1s fan off→on: called by ladder (at or above low)
2s ladder at or above low→above 8 mg/L: x 9 mg/L > 8 mg/L
2s o off→on: called by ladder (above 8 mg/L)
3s ladder above 8 mg/L→else: x 5 mg/L < low 6 mg/L
3s o on→off: no longer called by ladder (above 8 mg/L)
3s fan on→off: no longer called by ladder (at or above low)
`},
		{"a ladder: every band passed stays called",
			"bands ladder of x\n  above 8 mg/L call o\n  at or above low call fan\n  else call base\n  cumulative\noutput fan\n  fail off\noutput base\n  fail off\n",
			"0 x=5\n1 x=6\n2 x=9\n3 x=8\n4 x=bad",
			`0s ladder undecided→else: x 5 mg/L < low 6 mg/L
0s base off→on: called by ladder (else)
1s ladder else→at or above low: x 6 mg/L >= low 6 mg/L and x 6 mg/L <= 8 mg/L
1s fan off→on: called by ladder (at or above low)
2s ladder at or above low→above 8 mg/L: x 9 mg/L > 8 mg/L
2s o off→on: called by ladder (above 8 mg/L)
3s ladder above 8 mg/L→at or above low: x 8 mg/L >= low 6 mg/L and x 8 mg/L <= 8 mg/L
3s o on→off: no longer called by ladder (above 8 mg/L)
4s x good→bad: the reading is marked bad
4s ladder at or above low→undecided: x is bad: the reading is marked bad
4s o off→on: ladder (above 8 mg/L) undecided: fails to on
4s fan on→off: ladder (at or above low) undecided: fails to off
4s base on→off: ladder (else) undecided: fails to off
`},
		{"an alarm: an action for as long as it is active, an announcement until it is acknowledged, and silence",
			"alarm low_x\n  on when x < low hysteresis 0.5 mg/L for 2 s\n  priority high\n  inhibit when k\n  advice \"Look.\"\n  call fan\n  call o until acknowledged\noutput fan\n  called by any\n  fail off\nrule r\n  on when low_x is unacknowledged and not low_x\n  call fan\n",
			"0 x=7 k=0\n1 x=5\n5 k=1\n6 k=bad\n10 x=bad\n11 x=6\n12 x=6.5\n20 x=5",
			`3s low_x normal→active: x 5 mg/L < low 6 mg/L for 2 s, since 1s
3s o off→on: called by low_x until acknowledged
3s fan off→on: called by low_x
5s o on→off: no longer called by low_x until acknowledged
6s k good→bad: the reading is marked bad
6s o off→on: called by low_x until acknowledged
10s x good→bad: the reading is marked bad
11s x bad→good: a good reading again, 6 mg/L
12s low_x active→normal: x 6.5 mg/L >= 6.5 mg/L (reset point of x < low hysteresis 0.5 mg/L)
12s r off→on: low_x is unacknowledged and low_x is normal
`},
		{"messages: every so often, at the start, and each time that something turns true",
			"input z\n  unit mm\n  alarm when bad for 2 s priority low\nderived mean = average(x, y)\nrecipient duty email \"a@b\"\nrecipient office webhook \"http://127.0.0.1:9/\"\nmessage hourly\n  every 10 s\n  send x, mean to duty, office\nmessage first\n  at start\n  send k to duty\nmessage low_x\n  when x < low\n  send x to duty\n",
			"0 x=7 k=0 z=1\n5 x=5 y=6\n6 x=bad z=bad\n7 x=5\n8 x=7\n9 x=5\n21 x=5",
			`0s first →sent: at the start; sends k off to duty
5s low_x →sent: x 5 mg/L < low 6 mg/L; sends x 5 mg/L to duty
6s x good→bad: the reading is marked bad
6s z good→bad: the reading is marked bad
7s x bad→good: a good reading again, 5 mg/L
8s z.bad normal→active: z is bad: the reading is marked bad for 2 s, since 6s
9s low_x →sent: x 5 mg/L < low 6 mg/L; sends x 5 mg/L to duty
10s hourly →sent: every 10 s; sends x 5 mg/L, mean 5.5 mg/L to duty and office
20s hourly →sent: every 10 s; sends x 5 mg/L, mean 5.5 mg/L to duty and office
`},
		{"near",
			"rule r\n  on when x = y within 0.5 mg/L for 1 s\n  call o\n",
			"0 x=4 y=5\n1 y=4.5\n2 y=4.5\n3 y=3.4",
			`2s r off→on: x 4 mg/L is within 0.5 mg/L of y 4.5 mg/L for 1 s, since 1s
2s o off→on: called by r
3s r on→off: x 4 mg/L is not within 0.5 mg/L of y 3.4 mg/L
3s o on→off: no longer called by r
`},
		{"falling fast, from the held values, once it has been good for so long",
			"rule r\n  on when x falling faster than 6 mg/L per min over 10 s\n  off after 2 s\n  call o\n",
			"0 x=8\n5 x=6.9\n10 x=6.9\n30 x=bad\n31 x=8\n36 x=6\n60 x=6",
			`0s r off→undecided: x has been good for less than 10 s
3s o off→on: r undecided: fails to on
10s r undecided→on: decided again: x fell by 1.1 mg/L in 10 s, faster than 6 mg/L per min
17s r on→off: x is what it was 10 s before
17s o on→off: no longer called by r
30s x good→bad: the reading is marked bad
30s r off→undecided: x is bad: the reading is marked bad
30s o off→on: r undecided: fails to on
31s x bad→good: a good reading again, 8 mg/L
41s r undecided→on: decided again: x fell by 2 mg/L in 10 s, faster than 6 mg/L per min
48s r on→off: x is what it was 10 s before
48s o on→off: no longer called by r
`},
		{"a rule looks at the output that it drives, as it was before",
			"rule r\n  on when k and not fan\n  off when not k\n  call fan\nrule s\n  on when fan turns on\n  pulse 2 s\n  call o\noutput fan\n  fail off\n",
			"0 k=0\n1 k=1\n5 k=0",
			`1s r off→on: k is on and fan is off
1s s off→on: fan turned on
1s fan off→on: called by r
1s o off→on: called by s
3s s on→off: its pulse of 2 s has ended
3s o on→off: no longer called by s
5s r on→off: k is off
5s fan on→off: no longer called by r
`},
		{"outputs that switch each other to and fro fail",
			"rule r\n  on when k and not fan\n  call fan\noutput fan\n  fail off\n",
			"0 k=0\n1 k=1\n2 k=0",
			`1s r off→on: k is on and fan is off
1s o off→on: the job is in fault, since fan and what looks at it switch each other to and fro without an end: fails to on
2s r on→off: k is off
`},
	} {
		assert.Equal(t, c.want, play(t, compile(t, points+c.rules), c.script), c.name)
	}
}

// A time of day is that of the clock on the wall, past midnight and over a
// change of the clocks: in Dublin, summer time ended on 2026-10-25 at 01:00 UTC.
func TestTimesOfDay(t *testing.T) {
	rule := "rule r\n  on when time between 22:00 and 01:30\n  call o\n"
	text := strings.Replace(points, "settle 3 s", "timezone Europe/Dublin\n  settle 3 s", 1) + rule
	assert.Equal(t, `1.7928756e+09s r off→on: the time of day is between 22:00 and 01:30
1.7928756e+09s o off→on: called by r
1.7928882e+09s r on→off: the time of day is not between 22:00 and 01:30
1.7928882e+09s o on→off: no longer called by r
1.79289e+09s r off→on: the time of day is between 22:00 and 01:30
1.79289e+09s o off→on: called by r
1.7928918e+09s r on→off: the time of day is not between 22:00 and 01:30
1.7928918e+09s o on→off: no longer called by r
1.7929656e+09s r off→on: the time of day is between 22:00 and 01:30
1.7929656e+09s o off→on: called by r
1.7929782e+09s r on→off: the time of day is not between 22:00 and 01:30
1.7929782e+09s o on→off: no longer called by r
1.793052e+09s r off→on: the time of day is between 22:00 and 01:30
1.793052e+09s o off→on: called by r
1.7930646e+09s r on→off: the time of day is not between 22:00 and 01:30
1.7930646e+09s o on→off: no longer called by r
`, play(t, compile(t, text), "1792850400 x=1\n1793070000 x=1"))
}
