package logic_test

import (
	"fmt"
	"math"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
)

func compile(t require.TestingT, text string) *logic.Program {
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v\n%s", found, text)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	return p
}

func hatchery(t testing.TB) *logic.Program {
	sources, err := sheet.ReadSources(os.DirFS("../../examples/hatchery"))
	require.NoError(t, err)
	job, found := sheet.Parse(sources)
	require.Empty(t, found)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	return p
}

// The dump of a compiled job shows what a sheet has become.
func TestCompile(t *testing.T) {
	p := compile(t, `job "Dump"
  settle 1 min 30 s
input oxygen
  scale 0..4095 counts to 0..20 mA
  scale 4..20 mA to 0..20 mg/L
  healthy 3.6..21 mA
  smooth median 5 samples
  ignore changes under 20 ug/L
input air
  unit degF
input mains discrete
  inverted
setpoint low 6 mg/L
  allow 4..9 mg/L
setpoint pause 45 s
  allow 5..300 s
constant band 2 degC difference
output blower
  fail hold
output lamp
  called by all
rule a
  on when 6 mg/L + 0.5 mg/L > oxygen deadband 100 ug/L for pause
  off when (oxygen > low + 0.4 mg/L and not mains) for 2 min
  call blower, lamp
rule b
  on when air >= 50 degF + 5 degC hysteresis band or mains
  off after 5 s
  call lamp
`)
	assert.Equal(t, strings.TrimPrefix(`
settle 1 min 30 s
input 0 oxygen: counts (0,0)-(4095,20) mA (4,0)-(20,20) mg/L; healthy 3.6..21 mA; median 5; ignore 0.02
input 1 air: degF
input 2 mains: contact, inverted
setting 0 low = 6 mg/L
setting 1 pause = 45 s
setting 2 band = 2 degC
v0 = oxygen
v1 = 6
v2 = 0.5
v3 = v1 + v2
v4 = 0.1
v5 = low
v6 = 0.4
v7 = v5 + v6
v8 = air
v9 = 50
v10 = 9
v11 = v9 + v10
v12 = band
v13 = v12, a difference from degC to degF
c0 = v0 < v3 deadband v4
c1 = c0 for pause
c2 = not c0
c3 = v0 > v7
c4 = mains
c5 = not c4
c6 = c3 and c5
c7 = c6 for 2 min
c8 = not c7
c9 = c1 and c8
c10 = rule a
c11 = v8 >= v11 hysteresis v13
c12 = mains
c13 = c11 or c12
c14 = not c13
c15 = c14 off after 5 s
c16 = rule b
rule a: on c9, off c7
rule b: on c13, off c15
output blower: any of a; fail hold
output lamp: all of a b; fail off
`, "\n"), p.String())
}

// A script is readings by second, "12 x=5.9 y=bad", and commands, "hand:fan=on";
// what changes is written back, one line each.
func play(t require.TestingT, p *logic.Program, script string) string {
	return goOn(t, logic.NewStepper(p), script)
}

func goOn(t require.TestingT, s *logic.Stepper, script string) string {
	p := s.Program()
	clock := func(t int64) string { return fmt.Sprintf("%gs", float64(t)/1e9) }
	var out strings.Builder
	step := func(at int64) {
		for _, tr := range s.MustStep(at) {
			fmt.Fprintf(
				&out,
				"%s %s %s→%s: %s\n",
				clock(at),
				p.Name(tr.Ref),
				p.StandText(tr.Ref, tr.From),
				p.StandText(tr.Ref, tr.To),
				p.Sentence(tr, clock),
			)
		}
	}
	for _, line := range strings.Split(strings.TrimSpace(script), "\n") {
		words := strings.Fields(line)
		seconds, err := unit.ParseQuantity(words[0])
		require.NoError(t, err)
		at := int64(seconds.Value * 1e9)
		for s.Next() < at {
			step(s.Next())
		}
		for _, w := range words[1:] {
			name, value, _ := strings.Cut(w, "=")
			if do, of, command := strings.Cut(name, ":"); command {
				c, err := p.Command(do, of, strings.ReplaceAll(value, "_", " "))
				require.NoError(t, err)
				_, err = s.Command(c)
				require.NoError(t, err)
				continue
			}
			q, err := unit.ParseQuantity(value)
			if value == "bad" {
				q.Value, err = math.NaN(), nil
			}
			require.NoError(t, err)
			s.Read(at, p.Index(logic.InputKind, name), q.Value, 0)
		}
		step(at)
	}
	return out.String()
}

const points = `job "Reasons"
  settle 3 s
input x
  unit mg/L
input y
  unit mg/L
input k discrete
setpoint low 6 mg/L
  allow 1..9 mg/L
output o
  called by any
  fail on
`

// Every line of what comes out is a transition with its reason in words.
func TestReasons(t *testing.T) {
	for _, c := range []struct{ name, rules, script, want string }{
		{"a delay, and the reset by another condition",
			"rule r\n  on when x < low for 45 s\n  off when x > low + 0.4 mg/L for 2 s\n  call o\n",
			"0 x=7\n10 x=5.93\n60 x=6.2\n70 x=6.5\n80 x=6.6",
			`55s r off→on: x 5.93 mg/L < low 6 mg/L for 45 s, since 10s
55s o off→on: called by r
72s r on→off: x 6.5 mg/L > low + 0.4 mg/L 6.4 mg/L for 2 s, since 70s
72s o on→off: no longer called by r
`},
		{"hysteresis: the point that was used, and more digits where four would lie",
			"rule r\n  on when x < low hysteresis 0.4 mg/L\n  call o\n",
			"0 x=6\n1 x=5.99996\n2 x=6.3\n3 x=6.4",
			`1s r off→on: x 5.99996 mg/L < low 6 mg/L
1s o off→on: called by r
3s r on→off: x 6.4 mg/L >= 6.4 mg/L (reset point of x < low hysteresis 0.4 mg/L)
3s o on→off: no longer called by r
`},
		{"deadband, and a comparison written the other way round",
			"rule r\n  on when 6 mg/L <= x deadband 0.5 mg/L\n  call o\n",
			"0 x=6.2\n1 x=6.5\n2 x=6.1\n3 x=5.9",
			`1s r off→on: x 6.5 mg/L >= 6.5 mg/L (trip point of x >= 6 mg/L deadband 0.5 mg/L)
1s o off→on: called by r
3s r on→off: x 5.9 mg/L < 6 mg/L
3s o on→off: no longer called by r
`},
		{"and names both, or the one that turned",
			"rule a\n  on when x < low and not k\n  call o\nrule b\n  on when x > 8 mg/L or y > 8 mg/L\n  call o\n",
			"0 x=7 y=1 k=0\n1 x=5\n2 x=9\n3 y=9\n4 x=1 y=1 k=1",
			`1s a off→on: x 5 mg/L < low 6 mg/L and k is off
1s o off→on: called by a
2s a on→off: x 9 mg/L >= low 6 mg/L
2s b off→on: x 9 mg/L > 8 mg/L
4s b on→off: x 1 mg/L <= 8 mg/L and y 1 mg/L <= 8 mg/L
4s o on→off: no longer called by b
`},
		{"a bad input leaves the rule undecided and the output to its fail state, after settling",
			"rule r\n  on when x < low for 2 s\n  call o\n",
			"0 k=1\n1 x=7\n10 x=bad\n11 x=5\n12 x=bad\n20 x=5\n22 x=5\n23 x=bad\n24 x=5",
			`0s r off→undecided: x is not read yet
1s r undecided→off: decided again: x 7 mg/L >= low 6 mg/L
10s x good→bad: the reading is marked bad
10s r off→undecided: x is bad: the reading is marked bad
10s o off→on: r undecided: fails to on
11s x bad→good: a good reading again, 5 mg/L
11s r undecided→off: decided again: x 5 mg/L < low 6 mg/L from now on, and must last 2 s
11s o on→off: no longer called by r
12s x good→bad: the reading is marked bad
12s r off→undecided: x is bad: the reading is marked bad
12s o off→on: r undecided: fails to on
20s x bad→good: a good reading again, 5 mg/L
20s r undecided→off: decided again: x 5 mg/L < low 6 mg/L from now on, and must last 2 s
20s o on→off: no longer called by r
22s r off→on: x 5 mg/L < low 6 mg/L for 2 s, since 20s
22s o off→on: called by r
23s x good→bad: the reading is marked bad
23s r on→undecided: x is bad: the reading is marked bad
24s x bad→good: a good reading again, 5 mg/L
24s r undecided→on: decided again: x 5 mg/L < low 6 mg/L
`},
		{"settling ends at its exact time",
			"rule r\n  on when x < low hysteresis 1 mg/L\n  call o\n", "0 k=1\n9 k=0",
			`0s r off→undecided: x is not read yet
3s o off→on: r undecided: fails to on
`},
		{"off and unknown is off; off after",
			"rule r\n  on when x < low and k\n  off after 5 s\n  call o\n",
			"0 k=0\n1 x=5\n2 k=1\n3 k=0\n8 k=0\n9 x=bad",
			`2s r off→on: x 5 mg/L < low 6 mg/L and k is on
2s o off→on: called by r
8s r on→off: k is off for 5 s, since 3s
8s o on→off: no longer called by r
9s x good→bad: the reading is marked bad
`},
		{"a delay shared by several terms",
			"rule r\n  on when (x < low and y < low) for 2 s\n  call o\n",
			"0 x=1 y=9\n1 y=2\n3 y=2",
			`3s r off→on: x 1 mg/L < low 6 mg/L and y 2 mg/L < low 6 mg/L, for 2 s, since 1s
3s o off→on: called by r
`},
		{"an off-condition that lets go while the on-condition stands",
			"rule r\n  on when x < low\n  off when k\n  call o\n",
			"0 x=1 k=1\n1 k=0",
			`1s r off→on: x 1 mg/L < low 6 mg/L and k is off
1s o off→on: called by r
`},
		{"a minimum on holds, and says so when it ends; a minimum off after it",
			"rule r\n  on when k\n  minimum on 60 s\n  minimum off 30 s\n  call o\n",
			"0 k=0\n1 k=1\n5 k=0\n70 k=1\n100 k=1",
			`1s r off→on: k is on
1s o off→on: called by r
61s r on→off: k is off, once its minimum on of 1 min had passed
61s o on→off: no longer called by r
91s r off→on: k is on, once its minimum off of 30 s had passed
91s o off→on: called by r
`},
		{"a permissive counts when it turns on, and no longer after",
			"rule r\n  on when k\n  permissive when x > low hysteresis 1 mg/L\n  call o\n",
			"0 k=0 x=5\n1 k=1\n4 x=7\n5 x=2\n6 k=0",
			`4s r off→on: k is on, and permitted now: x 7 mg/L > low 6 mg/L
4s o off→on: called by r
6s r on→off: k is off
6s o on→off: no longer called by r
`},
		{"an interlock is past every minimum, and a bad input interlocks",
			"rule r\n  on when k\n  interlock unless x > low\n  minimum on 60 s\n  call o\n",
			"0 k=0 x=7\n1 k=1\n5 x=bad\n9 x=7\n12 x=6",
			`1s r off→on: k is on
1s o off→on: called by r
5s x good→bad: the reading is marked bad
5s r on→off: interlocked: x is bad: the reading is marked bad
5s o on→off: no longer called by r
9s x bad→good: a good reading again, 7 mg/L
9s r off→on: k is on
9s o off→on: called by r
12s r on→off: interlocked: x 6 mg/L <= low 6 mg/L
12s o on→off: no longer called by r
`},
		{"a pulse ends by itself, and comes again after its condition let go",
			"rule r\n  on when k\n  pulse 5 s\n  call o\n",
			"0 k=0\n1 k=1\n9 k=0\n10 k=1\n12 k=0\n20 k=0",
			`1s r off→on: k is on
1s o off→on: called by r
6s r on→off: its pulse of 5 s has ended
6s o on→off: no longer called by r
10s r off→on: k is on
10s o off→on: called by r
15s r on→off: its pulse of 5 s has ended
15s o on→off: no longer called by r
`},
		{"a latch is reset by what becomes true after its condition let go",
			"rule r\n  on when x < low\n  latch\n  reset when k\n  call o\n",
			"0 k=0 x=7\n1 x=5\n2 k=1\n3 x=7\n4 k=0\n5 k=1",
			`1s r off→on: x 5 mg/L < low 6 mg/L
1s o off→on: called by r
5s r on→off: reset: k is on
5s o on→off: no longer called by r
`},
		{"so many of several, the state of a rule, and whether a signal is good",
			"rule r\n  on when at least 2 of (x < low, y < low, k)\n  call o\nrule s\n  on when r is off and x is bad\n  call o\n",
			"0 k=0 x=7 y=7\n1 x=5\n2 k=1\n3 k=0\n4 x=bad",
			`2s r off→on: x 5 mg/L < low 6 mg/L and k is on
2s o off→on: called by r
3s r on→off: y 7 mg/L >= low 6 mg/L and k is off
3s o on→off: no longer called by r
4s x good→bad: the reading is marked bad
4s s off→on: r is off and x is bad: the reading is marked bad
4s o off→on: called by s
`},
		{"decided again, and held still",
			"rule r\n  on when x < low for 1 s\n  permissive when k\n  call o\n",
			"0 k=1 x=bad\n4 k=0\n5 x=5\n9 k=1",
			`0s r off→undecided: x is bad: the reading is marked bad
3s o off→on: r undecided: fails to on
4s r undecided→off: not permitted: k is off
4s o on→off: no longer called by r
5s x bad→good: a good reading again, 5 mg/L
9s r off→on: x 5 mg/L < low 6 mg/L for 1 s, since 5s, and permitted now: k is on
9s o off→on: called by r
`},
		{"an output has an interlock, a permissive and minimum times of its own",
			"rule r\n  on when k\n  call fan\noutput fan\n  permissive when y > 1 mg/L\n  interlock when x > low\n  minimum on 10 s\n  fail off\n",
			"0 k=0 x=5 y=0\n1 k=1\n3 y=2\n4 k=0\n20 k=1\n21 x=7\n22 x=5",
			`1s r off→on: k is on
3s fan off→on: called by r, and permitted now: y 2 mg/L > 1 mg/L
4s r on→off: k is off
13s fan on→off: no longer called by r, once its minimum on of 10 s had passed
20s r off→on: k is on
20s fan off→on: called by r
21s fan on→off: interlocked: x 7 mg/L > low 6 mg/L
22s fan off→on: called by r
`},
	} {
		assert.Equal(t, c.want, play(t, compile(t, points+c.rules), c.script), c.name)
	}
}

// The table of the language: where each comparison trips and resets.
func TestTripAndResetPoints(t *testing.T) {
	for cond, want := range map[string]string{
		"x > 5 mg/L":                                      "trips > 5, resets <= 5",
		"x > 5 mg/L hysteresis 1 mg/L":                    "trips > 5, resets <= 4",
		"x > 5 mg/L deadband 1 mg/L":                      "trips > 6, resets <= 5",
		"x > 5 mg/L deadband 1 mg/L hysteresis 0.25 mg/L": "trips > 6, resets <= 5.75",
		"x < 5 mg/L deadband 1 mg/L hysteresis 0.25 mg/L": "trips < 4, resets >= 4.25",
		"x >= low hysteresis 1 mg/L":                      "trips >= 6, resets < 5",
		"x <= low - 500 ug/L":                             "trips <= 5.5, resets > 5.5",
		"not (x > 5 mg/L hysteresis 1 mg/L)":              "trips <= 4, resets > 5",
		"x > y":                                           "",
		"(x > 5 mg/L and k) for 5 s":                      "trips > 5, resets <= 5",
		"x > 5 mg/L\n  pulse 5 s":                         "trips > 5",
		"x > 5 mg/L\n  latch":                             "trips > 5",
		"x > 5 mg/L\n  latch\n  reset when x < 2 mg/L":    "trips > 5, resets < 2",
		"at least 1 of (x > 5 mg/L, x is bad)":            "trips > 5, resets <= 5",
		"x between 4 mg/L and low hysteresis 1 mg/L":      "trips >= 4, trips <= 6, resets < 3, resets > 7",
		"x outside 4 mg/L and low hysteresis 0.5 mg/L":    "trips < 4, trips > 6, resets >= 4.5, resets <= 5.5",
		"not (x outside 4 mg/L and 5 mg/L)":               "trips >= 4, trips <= 5, resets < 4, resets > 5",
	} {
		p := compile(t, points+"rule r\n  on when "+cond+"\n  call o\n")
		var got []string
		for _, pt := range p.Points(p.Rules[0].Name, nil) {
			got = append(got, fmt.Sprintf("%s %s %s", pt.Role, pt.Op, unit.Short(pt.Value().Value)))
		}
		assert.Equal(t, want, strings.Join(got, ", "), cond)
	}
}

// Readings that alternate round a trip point, with delays running, allocate
// nothing once the buffers have grown.
func TestStepAllocatesNothing(t *testing.T) {
	p := hatchery(t)
	s := logic.NewStepper(p)
	at, changes := int64(0), 0
	step := func() {
		at += 1e9
		reading := float64(1700 + 400*(at/1e9/60%2))
		for s.Next() < at {
			changes += len(s.MustStep(s.Next()))
		}
		for i := range p.Inputs {
			s.Read(at, i, reading, 0)
		}
		changes += len(s.MustStep(at))
	}
	for range 500 {
		step()
	}
	before := changes
	require.Zero(t, testing.AllocsPerRun(500, step))
	require.Greater(t, changes, before, "the test must pass through transitions")
}

// BenchmarkStep is the time of one instant of the hatchery at which every
// analog input has a new reading; allocs/op must be 0.
func BenchmarkStep(b *testing.B) {
	p := hatchery(b)
	s := logic.NewStepper(p)
	b.ReportAllocs()
	at := int64(0)
	for b.Loop() {
		at += 1e9
		reading := float64(1700 + at/1e9%400)
		for i := range p.Inputs {
			s.Read(at, i, reading, 0)
		}
		s.MustStep(at)
	}
}

// BenchmarkMemory is what it costs to keep the memory of the hatchery: of what one
// reading has touched, of all, and to go on from it.
func BenchmarkMemory(b *testing.B) {
	p := hatchery(b)
	s := logic.NewStepper(p)
	at := int64(0)
	read := func(inputs int) {
		at += 1e9
		for i := range inputs {
			s.Read(at, i, float64(1700+at/1e9%400), 0)
		}
		s.MustStep(at)
	}
	for range 600 {
		read(len(p.Inputs))
	}
	all := s.Save(false)
	b.Run("touched", func(b *testing.B) {
		var saving time.Duration
		rows := 0
		for b.Loop() {
			read(1)
			from := time.Now()
			rows = len(s.Save(true))
			saving += time.Since(from)
		}
		b.ReportMetric(float64(saving.Nanoseconds())/float64(b.N), "ns/save")
		b.ReportMetric(float64(rows), "rows")
	})
	b.Run("all", func(b *testing.B) {
		for b.Loop() {
			s.Save(false)
		}
	})
	b.Run("resume", func(b *testing.B) {
		for b.Loop() {
			_, _, err := logic.Resume(p, all)
			require.NoError(b, err)
		}
	})
}
