package bench_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/recording/csv"
	"rectura/core/sheet"
)

const onTrial = `job "Trial"
  settle 1 s
input x
  unit mg/L
input k discrete
setpoint low 6 mg/L
  allow 1..9 mg/L
output fan
  fail off
output lamp
  called by any
  fail on
rule low_x
  on when x < low hysteresis 0.5 mg/L for 2 s
  call fan
rule held
  on when k turns on
  latch
  call lamp
rule follows
  on when fan
  call lamp
`

// x falls below 6 at 10 s and is back at 20 s; k is pushed at 30 s for 5 s.
const onTrialRows = "time,x,k\n0,8,0\n10,5,0\n20,8,0\n30,7,1\n35,7,0\n40,bad,0\n50,7,0\n60,7,0\n"

func runTrial(t *testing.T, clauses string) (*bench.Outcome, error) {
	t.Helper()
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(onTrial + "trial t\n  play \"a.csv\"\n" + clauses)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	r, err := csv.Reader{Name: "a.csv"}.Read(strings.NewReader(onTrialRows))
	require.NoError(t, err)
	return bench.RunTrial(job, job.Trial("t"), r, nil)
}

// Every form of expectation, borne out and not, with what was found.
func TestExpectations(t *testing.T) {
	for expect, want := range map[string]string{
		"fan turns on within 2 s of +10 s":                "passed: turned on at +12 s",
		"fan turns on within 1 s of +10 s":                "failed: turned on at +12 s, 1 s too late",
		"fan turns on within 1 s of +14 s":                "failed: turned on at +12 s, 2 s too early",
		"fan turns on within 2 s around +14 s":            "passed: turned on at +12 s",
		"fan turns off within 1 s of +20 s":               "passed: turned off at +20 s",
		"held turns off within 1 s of +20 s":              "failed: never turned off",
		"k turns on within 1 s of +30 s":                  "passed: turned on at +30 s",
		"fan on within 5 s of +15 s":                      "passed: on at +15 s",
		"fan on within 5 s of +20 s":                      "failed: not on from +20 s to +25 s",
		"fan on from +12 s to +19.999 s":                  "passed: on throughout",
		"fan on from +12 s to +20 s":                      "failed: off at +20 s",
		"fan off always":                                  "failed: on at +12 s",
		"follows off from +21 s to +60 s":                 "passed: off throughout",
		"low_x off always":                                "failed: on at +12 s",
		"low_x off at +45 s":                              "failed: undecided at +45 s",
		"fan off at +45 s":                                "passed: off",
		"fan starts at most 1":                            "passed: 1 start",
		"fan starts at most 0":                            "failed: 1 start",
		"fan starts at least 2":                           "failed: 1 start",
		"k starts at least 1":                             "passed: 1 start",
		"fan on at least 8 s":                             "passed: on for 8 s",
		"fan on at least 9 s":                             "failed: on for 8 s",
		"fan on at most 8 s":                              "passed: on for 8 s",
		"x between 7 mg/L and 9 mg/L at +5 s":             "passed: 8 mg/L",
		"x between 7 mg/L and 9 mg/L at +10 s":            "failed: 5 mg/L at +10 s",
		"x between 7 mg/L and 9 mg/L at +19 s":            "failed: 5 mg/L at +19 s",
		"x between 7 mg/L and 9 mg/L from +20 s to +39 s": "passed: always between",
		"x between 7 mg/L and 9 mg/L from +20 s to +41 s": "failed: bad at +40 s",
		"x between 7 mg/L and 9 mg/L always":              "failed: 5 mg/L at +10 s",
		"low between 1 mg/L and 9 mg/L always":            "passed: always between",
		"never (fan and x > 7 mg/L)":                      "passed: never",
		"never (follows and not k)":                       "failed: it came true at +12 s",
		"never (k turns on)":                              "failed: it came true at +30 s",
		"never (x is bad)":                                "failed: it came true at +40 s",
	} {
		o, err := runTrial(t, "  expect "+expect+"\n")
		require.NoError(t, err, expect)
		v := o.Expectations[0]
		assert.Equal(t, expect, v.Text)
		assert.Equal(t, v.Passed, o.Passed())
		assert.Equal(t, want, map[bool]string{true: "passed", false: "failed"}[v.Passed]+": "+v.Found, expect)
	}
}

// What a person does counts at its time; a reset that does nothing is told.
func TestTrialsWithCommands(t *testing.T) {
	for _, c := range []struct{ clauses, want, notes string }{
		{"  at +5 s pin x 3 mg/L\n  at +8 s unpin x\n  expect fan on from +7 s to +8 s\n", "off at +8 s", ""},
		{"  at +5 s hand fan on\n  at +9 s auto fan\n  expect fan on from +5 s to +8 s\n", "on throughout", ""},
		{"  at +1 s off fan\n  expect fan starts at most 0\n", "0 starts", ""},
		{"  at +9 s set low 2 mg/L\n  expect fan starts at most 0\n", "0 starts", ""},
		{"  with low 4 mg/L\n  expect fan starts at most 0\n", "0 starts", ""},
		{"  at +33 s reset held\n  expect held on at most 3 s\n", "on for 3 s", ""},
		{"  scan 9 s\n  at +10 s pin x 3 mg/L\n  expect fan turns on within 1 s of +27 s\n", "turned on at +27 s", ""},
	} {
		o, err := runTrial(t, c.clauses)
		require.NoError(t, err, c.clauses)
		assert.Equal(t, c.want, o.Expectations[0].Found, c.clauses)
		assert.Equal(t, c.notes, strings.Join(o.Notes, "; "), c.clauses)
	}
	for clauses, want := range map[string]string{
		"  expect fan off at +5 min\n":                         "trial t, expect fan off at +5 min: a.rct:25:21: +5 min is outside the recording, which goes from +0 s to +60 s",
		"  expect fan off at 02:14:00\n":                       "has elapsed seconds",
		"  expect fan off from +9 s to +5 s\n":                 "+5 s lies before +9 s",
		"  with low 90 mg/L\n  expect fan off always\n":        "trial t: low cannot be set to 90 mg/L; it is allowed from 1..9 mg/L",
		"  at +5 s set low 90 mg/L\n  expect fan off always\n": "low cannot be set to 90 mg/L",
		"  at +90 s off fan\n  expect fan off always\n":        "+90 s is outside the recording",
	} {
		_, err := runTrial(t, clauses)
		assert.ErrorContains(t, err, want, clauses)
	}
}

// A person who resets what still stands is told that it did nothing.
func TestResetInVain(t *testing.T) {
	text := strings.Replace(onTrial, "on when k turns on", "on when k", 1) +
		"trial t\n  play \"a.csv\"\n  at +32 s reset held\n  at +36 s reset held\n  expect held on at most 6 s\n"
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	r, err := csv.Reader{Name: "a.csv"}.Read(strings.NewReader(onTrialRows))
	require.NoError(t, err)
	o, err := bench.RunTrial(job, job.Trial("t"), r, nil)
	require.NoError(t, err)
	assert.True(t, o.Passed(), fmt.Sprint(o.Expectations))
	assert.Equal(t, []string{"reset held at +32 s did nothing: it is latched until it is reset, since +30 s: k is on"}, o.Notes)
}

// What no trial has brought about is told; what several have between them is not.
func TestUntried(t *testing.T) {
	const text = `job "x"
input x
  unit mg/L
  healthy 1..9 mg/L
  alarm when bad
input k discrete
recipient warden "W" email "w@fennick.example"
output o
  called by any
  fail off
rule r
  on when k
  call o
rule s
  on when x > 7 mg/L for 1 s
  call o
bands b of x
  low: below 3 mg/L call o
  middle: below 6 mg/L
  high: else
alarm a
  on when x > 8 mg/L for 1 s
  priority low
message m
  when k turns on
  send k to warden
`
	trial := func(name, rows string) (clause string, file string) {
		return "trial " + name + "\n  play \"" + name + ".csv\"\n  expect x.bad off always\n", "time,x,k\n" + rows
	}
	found := func(trials ...string) []string {
		job := text
		var rows []string
		for i, r := range trials {
			clause, file := trial(fmt.Sprintf("t%d", i), r)
			job, rows = job+clause, append(rows, file)
		}
		j, findings := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(job)}})
		require.False(t, sheet.HasErrors(findings), "%v", findings)
		var played []*bench.Outcome
		for i, tr := range j.Trials {
			r, err := csv.Reader{Name: "a.csv"}.Read(strings.NewReader(rows[i]))
			require.NoError(t, err)
			o, err := bench.RunTrial(j, tr, r, nil)
			require.NoError(t, err)
			assert.True(t, o.Passed())
			played = append(played, o)
		}
		var all []string
		for _, f := range bench.Untried(j, played) {
			all = append(all, f.Text)
		}
		return all
	}
	assert.Empty(t, found(), "of a job without trials nothing is said")
	assert.Equal(t, []string{
		"no trial ever turns r on, so nothing is known of it; play a recording in which it has to come on",
		"no trial ever turns s on, so nothing is known of it; play a recording in which it has to come on",
		"no trial ever brings b to low or high; play a recording in which the signal goes there",
		"no trial ever raises the alarm a, so nothing is known of it; play a recording in which it has to come",
		"no trial ever sends the message m; play a recording in which it has to be sent",
	}, found("0,4,0\n9,5,0\n"))
	assert.Empty(t, found("0,2,0\n9,5,1\n", "0,8.5,0\n9,8.5,0\n"))
}
