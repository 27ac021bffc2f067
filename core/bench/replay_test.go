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
	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/core/sheet/sheettest"
	"rectura/core/unit"
)

const job = `job "Bench"
  settle 3 s
input x
  scale 0..5 V to 0..10 mg/L
  healthy 0.1..4.9 V
input k discrete
setpoint low 6 mg/L
  allow 4..9 mg/L
setpoint pause 2 s
  allow 1..300 s
constant band 1 mg/L
output o
  called by any
  fail on
rule r
  on when x < low hysteresis band for pause
  call o
rule s
  on when k
  call o
`

func record(t require.TestingT, text string) *recording.Recording {
	r, err := csv.Reader{Name: "r.csv"}.Read(strings.NewReader(text))
	require.NoError(t, err)
	return r
}

// lines are the changes of rules and outputs, "5 o off→on".
func lines(r *bench.Result) string {
	var b strings.Builder
	for _, t := range r.Transitions {
		was, is := r.Program.StandText(t.Ref, t.From), r.Program.StandText(t.Ref, t.To)
		fmt.Fprintf(&b, "%s %s %s→%s; ", unit.FormatDecimal(t.Time-r.Recording.Origin, 1e9), r.Program.Name(t.Ref), was, is)
	}
	return b.String()
}

func TestReplay(t *testing.T) {
	const signal = "time,x [mg/L],k\n0,8,0\n1.25,5,\n2.1,5.5,\n5.3,7.5,\n6,8,1\n9,8,0\n"
	for _, c := range []struct {
		name, text, want string
		options          bench.Options
	}{
		{"exact times", signal, "3.25 r off→on; 3.25 o off→on; 5.3 r on→off; 5.3 o on→off; 6 s off→on; 6 o off→on; 9 s on→off; 9 o on→off; ", bench.Options{}},
		{"a looped controller reacts later", signal, "3.5 r off→on; 3.5 o off→on; 5.5 r on→off; 5.5 o on→off; 6 s off→on; 6 o off→on; 9 s on→off; 9 o on→off; ", bench.Options{Scan: 500e6}},
		{"a slow one misses what lies between", signal, "8 s off→on; 8 o off→on; ", bench.Options{Scan: 4e9}},
		{"another setpoint", signal, "6 s off→on; 6 o off→on; 9 s on→off; 9 o on→off; ", bench.Options{Set: set("low=4.5 mg/L")}},
		{"another delay", signal, "2.25 r off→on; 2.25 o off→on; 5.3 r on→off; 5.3 o on→off; 6 s off→on; 6 o off→on; 9 s on→off; 9 o on→off; ", bench.Options{Set: set("pause=1000 ms")}},
		{"a constant is free on the bench", signal, "3.25 r off→on; 3.25 o off→on; 6 r on→off; 6 s off→on; 9 s on→off; 9 o on→off; ", bench.Options{Set: set("band=2 mg/L")}},
		{"a column in volts, and one carried back to where health is judged", "time,x [V],k\n0,4,0\n1,0.05,0\n9,4,0\n", "1 x good→bad; 1 r off→undecided; 3 o off→on; 9 x bad→good; 9 r undecided→off; 9 o on→off; ", bench.Options{}},
		{"in the engineering unit", "time,x [ug/L],k\n0,8000,0\n1,100,0\n9,8000,0\n", "1 x good→bad; 1 r off→undecided; 3 o off→on; 9 x bad→good; 9 r undecided→off; 9 o on→off; ", bench.Options{}},
		{"the first stage where no unit is said", "time,x,k\n0,4,0\n1,2,0\n9,2,0\n", "3 r off→on; 3 o off→on; ", bench.Options{}},
		{"a timer beyond the last row does not fall due", "time,x [mg/L],k\n0,8,0\n1,5,\n2.999,5,\n", "", bench.Options{}},
		{"one that falls due with the last row does", "time,x [mg/L],k\n0,8,0\n1,5,\n3,5,\n", "3 r off→on; 3 o off→on; ", bench.Options{}},
	} {
		r, err := bench.Replay(compileJob(t, job), record(t, c.text), c.options)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, lines(r), c.name)
	}
}

func set(text string) map[string]unit.Quantity {
	name, q, err := logic.ParseSetting(text)
	if err != nil {
		panic(err)
	}
	return map[string]unit.Quantity{name: q}
}

func TestSummary(t *testing.T) {
	r, err := bench.Replay(
		compileJob(t, job),
		record(t, "time,x [mg/L],k\n0,8,0\n1,bad,0\n4,8,0\n5,8,1\n6,8,bad\n7,8,1\n10,8,0\n12,8,1\n13,8,1\n"),
		bench.Options{},
	)
	require.NoError(t, err)
	on, off := logic.Stand{State: logic.On}, logic.Stand{}
	// Coming back from undecided is no start: the rule was on all the while.
	assert.Equal(t, []bench.Summary{
		{Ref: logic.Ref{Kind: logic.RuleKind}, Name: "r", Starts: 0, On: 0, Undecided: 3e9},
		{Ref: logic.Ref{Kind: logic.RuleKind, Index: 1}, Name: "s", Starts: 2, On: 5e9, Undecided: 1e9, Final: on},
		{Ref: logic.Ref{Kind: logic.OutputKind}, Name: "o", Starts: 3, On: 7e9, Undecided: 4e9, Final: on},
	}, r.Summary)
	assert.Equal(
		t,
		[]bench.Span{{0, 1e9, off}, {1e9, 4e9, logic.Stand{State: logic.Undecided}}, {4e9, 13e9, off}},
		r.Spans(logic.Ref{Kind: logic.RuleKind}),
	)
	contact, err := r.ContactSpans(1)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]bench.Span{
			{0, 5e9, off},
			{5e9, 6e9, on},
			{6e9, 7e9, logic.Stand{State: logic.Bad}},
			{7e9, 10e9, on},
			{10e9, 12e9, off},
			{12e9, 13e9, on},
		},
		contact,
	)
}

func TestReplayRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"time,x [A],k\n0,1,0\n":     "column x is in A (current), which is no unit of the chain of x: V, mg/L",
		"time,x [fish],k\n0,1,0\n":  `column x is in "fish", which is no unit of the chain of x: V, mg/L`,
		"time,x,k\n0,on,0\n":        "2:3: column x holds the word on, and x is an analog input; a number must stand there",
		"time,x,k\n0,1,0\n1,1,.5\n": "column k, at +1 s: 0.5 is neither 0 nor 1, and k is a discrete input",
		"time,x,k [V]\n0,1,0\n":     "column k has the unit V, but k is a discrete input; take the unit out of the heading",
	} {
		_, err := bench.Replay(compileJob(t, job), record(t, text), bench.Options{})
		assert.EqualError(t, err, want)
	}
	for text, want := range map[string]string{
		"low=12 mg/L": "low cannot be set to 12 mg/L; it is allowed from 4..9 mg/L", "low=5 V": "low is in mg/L (concentration) and cannot be set to 5 V, which is V (voltage)",
		"high=5 V": "no setpoint or constant is named high", "pause=0 s": "pause cannot be set to 0 s; a duration is above 0",
	} {
		_, err := bench.Replay(compileJob(t, job), record(t, "time,x,k\n0,1,0\n"), bench.Options{Set: set(text)})
		assert.EqualError(t, err, want)
	}
	for text, want := range map[string]string{"low": `"low" is not NAME=VALUE, such as oxygen_low=5.5mg/L`, "low=high": `low: "high" does not begin with a number; write a value such as 12 mA`} {
		_, _, err := logic.ParseSetting(text)
		assert.EqualError(t, err, want)
	}
	r, err := bench.Replay(compileJob(t, job), record(t, "time,o,z\n0,1,0\n"), bench.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"the recording has no column x, which rules need; it is never read (--map COLUMN=x names one)",
		"the recording has no column k, which rules need; it is never read (--map COLUMN=k names one)",
		"nothing is compared: the recording has no column of an input that rules read"}, r.Warnings)
	assert.Equal(t, []string{"column z is no point of this job", "column o is an output: the plant did what the rules say"}, r.Notes)
}

// A scan so fast that it meets every instant changes nothing; what a replay
// says of each rule and output adds up to the whole time.
func TestReplayOfRandomJobs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := compileJob(t, sheettest.Job(t))
		var b strings.Builder
		b.WriteString("time,sig0 [mg/L],sig1 [mg/L],sig2 [mg/L],con0,con1\n")
		at := int64(0)
		for range rapid.IntRange(1, 80).Draw(t, "rows") {
			at += rapid.SampledFrom([]int64{250, 1000, 2000, 30_000}).Draw(t, "gap")
			b.WriteString(unit.FormatDecimal(at, 1000))
			for i := range 5 {
				cell := rapid.SampledFrom([]string{"1", "2.5", "5", "6.1", "7", "9", "bad", ""}).Draw(t, "cell")
				if i > 2 {
					cell = rapid.SampledFrom([]string{"0", "1", "1", "bad", ""}).Draw(t, "contact")
				}
				b.WriteString("," + cell)
			}
			b.WriteByte('\n')
		}
		r := record(t, b.String())
		exact, err := bench.Replay(p, r, bench.Options{})
		require.NoError(t, err)
		scanned, err := bench.Replay(p, r, bench.Options{Scan: 250e6}) // all times here are multiples of it
		require.NoError(t, err)
		require.Equal(t, lines(exact), lines(scanned))
		for _, s := range exact.Summary {
			total := int64(0)
			for _, span := range exact.Spans(s.Ref) {
				require.LessOrEqual(t, span.From, span.To)
				if span.State == logic.On {
					total += span.To - span.From
				}
			}
			require.Equal(t, s.On, total)
		}
	})
}

// A column without a unit that can hardly be raw counts is told as one that is in another.
func TestColumnInAnotherUnit(t *testing.T) {
	p := compileJob(t, `job "x"
input humidity
  scale 0..4095 counts to 0..20 mA
  scale 4..20 mA to 0..100 %
  healthy 3.6..21 mA
output o
  fail off
rule r
  on when humidity < 60 % for 2 s
  call o
`)
	for text, want := range map[string][]string{
		"time,humidity\n0,45\n1,45.3\n5,46\n15,47\n":     {"all 4 readings of humidity are bad as counts; are they in %? Then head the column humidity [%]"},
		"time,humidity\n0,1800\n1,1900\n5,2000\n15,47\n": nil,
		"time,humidity [%]\n0,45\n1,45.3\n":              nil,
	} {
		result, err := bench.Replay(p, record(t, text), bench.Options{})
		require.NoError(t, err)
		assert.Equal(t, want, result.Warnings, text)
	}
}

// Pulses of contacts that begin and end between two scans are counted and listed,
// and nothing else is.
func TestPulsesBetweenScans(t *testing.T) {
	p := compileJob(
		t,
		"job \"x\"\ninput k discrete\ninput x\n  unit mA\n  healthy 0..20 mA\noutput o\n  fail off\nrule r\n  on when k and x > 5 mA\n  call o\n",
	)
	for _, c := range []struct{ rows, want string }{
		{"0,1,0\n1,9,0\n2,1,0\n", ""},                        // of a value nothing is said
		{"0.5,,1\n1.5,,0\n2.5,,1\n", ""},                     // seen at 1, 2, 3
		{"0,,0\n0.2,,1\n1,,0\n", "+0.200 s"},                 // over when the scan looks
		{"0,,0\n1,,1\n1.5,,0\n", ""},                         // it looks at 1
		{"0,,0\n1.1,,1\n1.2,,0\n1.3,,1\n3,,1\n", "+1.100 s"}, // one seen, one not
		{"0,,0\n1.1,,1\n1.2,,0\n1.3,,1\n1.4,,0\n3,,0\n", "+1.100 s, +1.300 s"},
		{"0,,1\n1.1,,bad\n1.2,,1\n3,,1\n", "+1.100 s"},
	} {
		r, err := bench.Replay(p, record(t, "time,x,k\n"+c.rows), bench.Options{Scan: 1e9})
		require.NoError(t, err)
		if c.want == "" {
			assert.Empty(t, r.Warnings, c.rows)
			continue
		}
		what := "a pulse of k"
		if strings.Contains(c.want, ",") {
			what = "2 pulses of k"
		}
		assert.Equal(t, []string{what + " fell between scans of 1 s and did not count: at " + c.want}, r.Warnings, c.rows)
	}
	rows := "time,x,k\n"
	for i := range 60 {
		rows += fmt.Sprintf("%d.1,1,1\n%d.2,1,0\n", i, i)
	}
	r, err := bench.Replay(p, record(t, rows), bench.Options{Scan: 2e9})
	require.NoError(t, err)
	assert.Len(t, r.Warnings, 1)
	assert.Contains(t, r.Warnings[0], "58 pulses of k fell between scans of 2 s and did not count: at +0.200 s, +1.200 s, +2.200 s")
	assert.Regexp(t, "and 48 more$", r.Warnings[0])
	r, err = bench.Replay(p, record(t, rows), bench.Options{})
	require.NoError(t, err)
	assert.Empty(t, r.Warnings)
}
