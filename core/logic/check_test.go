package logic_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/logic"
	"rectura/core/sheet"
)

func check(text string) []string {
	_, _, found := logic.Check([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	var all []string
	for _, f := range found {
		all = append(all, strings.TrimPrefix(f.String(), "a.rct:"))
	}
	return all
}

// What only the chains of the inputs show.
func TestCheck(t *testing.T) {
	const job = `job "Check"
input x
  scale 0..4095 counts to 0..20 mA
  scale 4..20 mA to 0..20 mg/L
  healthy 3.6..21 mA
  ignore changes under 0.1 mg/L
input y
  scale 4..20 mA to 0..20 mg/L
  healthy 4..20 mA
derived gap = x - y
setpoint s 6 mg/L
  allow 4..9 mg/L
output o
  called by any
  fail off
rule uses
  on when gap > s hysteresis 0.5 mg/L and y < s hysteresis 0.5 mg/L
  call o
`
	for _, c := range []struct{ rule, want string }{
		{"on when x < -1 mg/L for 1 s", "20:11: error: x < -1 mg/L can never be true: what x can read is from -0.4945 mg/L to 20 mg/L; correct the number, or the chain [never-true]"},
		{"on when x > 20 mg/L for 1 s", "20:11: error: x > 20 mg/L can never be true: what x can read is from -0.4945 mg/L to 20 mg/L; correct the number, or the chain [never-true]"},
		{"on when x >= 20 mg/L for 1 s", ""},
		{"on when y > 3 * s for 1 s", ""},
		{"on when y > 4 * s for 1 s", "20:11: error: y > 4 * s, 24 mg/L, can never be true: what y can read is from 0 mg/L to 20 mg/L; correct the number, or the chain [never-true]"},
		{"on when x < 3.605 mA for 1 s", ""}, // count 738 reads 3.604 mA
		{"on when y <= 20 mg/L for 1 s", "20:11: error: y <= 20 mg/L is always true: what y can read is from 0 mg/L to 20 mg/L; correct the number, or the chain [always-true]"},
		{"on when y < 20 mg/L for 1 s", ""},
		{"on when y between 21 mg/L and 25 mg/L for 1 s", "20:11: error: y between 21 mg/L and 25 mg/L can never be true: what y can read is from 0 mg/L to 20 mg/L; correct the number, or the chain [never-true]"},
		{"on when y outside 0 mg/L and 20 mg/L for 1 s", "20:11: error: y outside 0 mg/L and 20 mg/L can never be true: what y can read is from 0 mg/L to 20 mg/L; correct the number, or the chain [never-true]"},
		{"on when gap > 21 mg/L for 1 s", "20:11: error: gap > 21 mg/L can never be true: what gap can be is from -20.49 mg/L to 20 mg/L; correct the number, or the chain [never-true]"},
		{"on when abs(gap) >= 0 mg/L for 1 s", "20:11: error: abs(gap) >= 0 mg/L is always true: the left side is from 0 mg/L to 20.49 mg/L; correct the number, or the chain [always-true]"},
		{"on when y crosses 21 mg/L\n  pulse 1 s", "20:11: error: y crosses 21 mg/L can never be true: what y can read is from 0 mg/L to 20 mg/L; correct the number, or the chain [never-true]"},
		{"on when (y < 5 mg/L for 1 s) and (y > 7 mg/L for 1 s)", "20:37: error: y < 5 mg/L and y > 7 mg/L can never be true together; correct a number, or write `or` [never-true]"},
		{"on when y < 5 mg/L hysteresis 1 mg/L and y > 4 mg/L hysteresis 1 mg/L", ""},
		{"on when y >= 4 mg/L hysteresis 0.25 mg/L and y <= 3 mg/L hysteresis 1.5 mg/L", ""}, // both at 4.1 after 2.9
		{"on when y >= 4 mg/L hysteresis 0.25 mg/L and y <= 3 mg/L hysteresis 0.5 mg/L", "20:48: error: y >= 4 mg/L hysteresis 0.25 mg/L and y <= 3 mg/L hysteresis 0.5 mg/L can never be true together; correct a number, or write `or` [never-true]"},
		{"on when y < 15 mg/L hysteresis 6 mg/L", "20:11: error: y < 15 mg/L hysteresis 6 mg/L never lets go: its reset point is 21 mg/L, and what y can read is from 0 mg/L to 20 mg/L; make the hysteresis smaller, or correct the chain [never-true]"},
		{"on when y < 15 mg/L hysteresis 5 mg/L", ""},
		{"on when x < 5 mg/L hysteresis 0.001 mg/L", "20:33: warning: a hysteresis of 0.001 mg/L is less than one count of x, 0.006105 mg/L, so it does nothing; make it larger [small-hysteresis]"},
		{"on when x < 5 mg/L hysteresis 0.05 mg/L", "20:33: warning: a hysteresis of 0.05 mg/L is less than the changes of x that are ignored, 0.1 mg/L, so it does nothing; make it larger [small-hysteresis]"},
		{"on when y < 6.5 mg/L\n  off when y > 6.4 mg/L for 2 min", "21:12: warning: y > 6.4 mg/L is true already at the trip point of r, 6.5 mg/L, so the rule would not stay on; put the reset point on the other side of it [off-at-trip]"},
		{"on when y < 6.5 mg/L\n  off when y > 6.7 mg/L", ""},
		{"on when y > 6.5 mg/L\n  off when y < 6.5 mg/L", ""},
		{"on when y > 6.5 mg/L for 1 s\n  call o\nrule q\n  on when y < 6.5 mg/L for 1 s", "23:11: warning: neither y > 6.5 mg/L nor y < 6.5 mg/L is true at 6.5 mg/L itself; write `>=` or `<=` in one of them [equality-gap]"},
		{"on when y >= 6.5 mg/L for 1 s\n  call o\nrule q\n  on when y < 6.5 mg/L for 1 s", ""},
	} {
		found := check(job + "rule r\n  " + c.rule + "\n  call o\n")
		found = except(found, "repeated-number")
		if c.want == "" {
			assert.Empty(t, found, c.rule)
			continue
		}
		assert.Equal(t, []string{c.want}, found, c.rule)
	}
	assert.Equal(
		t,
		[]string{
			"6:3: warning: changes under 0.5 mg/L are ignored, more than 1 % of the span of x, so its trip points are that blurred; ignore less, or smooth [coarse-input]",
		},
		check(strings.Replace(job, "under 0.1", "under 0.5", 1)+"rule r\n  on when x < s for 1 s\n  call o\n"),
	)
	assert.Equal(
		t,
		[]string{
			"20:12: error: y < -3 mg/L can never be true: what y can read is from 0 mg/L to 20 mg/L; correct the number, or the chain [never-true]",
		},
		check(job+"bands b of y\n  a: below -3 mg/L call o\n  c: else call o\n  for 1 s\n"),
	)
}

// An error in one declaration hides nothing of what the chains show of the others.
func TestCheckOfTheRest(t *testing.T) {
	found := check(`job "Check"
input x
  scale 4..20 mA to 0..20 mg/L
  healthy 4..20 mA
output o
  called by any
  fail off
rule r
  on when x > 50 mg/L for 1 s
  call o
rule q
  on when x > nothing
  call o
rule follows
  on when (q or x < -3 mg/L) for 1 s
  call o
`)
	assert.Equal(t, []string{
		"9:11: error: x > 50 mg/L can never be true: what x can read is from 0 mg/L to 20 mg/L; correct the number, or the chain [never-true]",
		"12:15: error: nothing is named nothing; declare it, or correct the name [unknown-name]",
	}, found)
}

func except(found []string, code string) []string {
	var all []string
	for _, f := range found {
		if !strings.HasSuffix(f, "["+code+"]") {
			all = append(all, f)
		}
	}
	return all
}

// For any chain and threshold, a condition is found that can never, or must
// always, be true exactly when a sweep over every count agrees.
func TestNeverAndAlways(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		top := rapid.SampledFrom([]int{255, 1023, 4095}).Draw(t, "top")
		bottom := rapid.SampledFrom([]int{0, -top - 1}).Draw(t, "bottom")
		var job strings.Builder
		fmt.Fprintf(&job, "job \"j\"\ninput x\n  scale %d..%d counts to 0..20 mA\n", bottom, top)
		low, high := 0.0, 100.0
		switch rapid.IntRange(0, 3).Draw(t, "chain") {
		case 0:
			low = rapid.Float64Range(-50, 50).Draw(t, "low")
			high = rapid.Float64Range(-50, 50).Filter(func(v float64) bool { return math.Abs(v-low) > 1 }).Draw(t, "high")
			fmt.Fprintf(&job, "  scale 4..20 mA to %.2f..%.2f mg/L\n", low, high)
		case 1:
			fmt.Fprintf(&job, "  root 4..20 mA to 0..100 mg/L\n")
		case 2: // rises and falls
			fmt.Fprintf(
				&job,
				"  curve table mA to mg/L: 4 = %d, 9 = %d, 13 = %d, 20 = %d\n",
				rapid.IntRange(0, 99).Draw(t, "a"),
				rapid.IntRange(0, 99).Draw(t, "b"),
				rapid.IntRange(0, 99).Draw(t, "c"),
				rapid.IntRange(0, 99).Draw(t, "d"),
			)
		case 3:
			fmt.Fprintf(&job, "  scale 4..20 mA to 0..100 mg/L\n  correct 10 mg/L to 12 mg/L, 90 mg/L to 85 mg/L\n")
		}
		if rapid.Bool().Draw(t, "healthy") {
			from := rapid.Float64Range(0, 18).Draw(t, "from")
			fmt.Fprintf(&job, "  healthy %.3f..%.3f mA\n", from, from+rapid.SampledFrom([]float64{0.2, 1, 5}).Draw(t, "wide"))
		}
		if rapid.Bool().Draw(t, "clamp") {
			job.WriteString("  clamp 10..60 mg/L\n")
		}
		if rapid.Bool().Draw(t, "round") {
			job.WriteString("  round nearest 0.5 mg/L\n")
		}
		threshold := rapid.Float64Range(min(low, high)-30, max(low, high)+30).Draw(t, "threshold")
		if rapid.Bool().Draw(t, "whole") {
			threshold = math.Round(threshold)
		}
		fmt.Fprintf(
			&job,
			"output o\n  fail off\nrule r\n  on when x %s %.3f mg/L%s for 1 s\n  call o\n",
			rapid.SampledFrom([]string{"<", "<=", ">", ">="}).Draw(t, "op"),
			threshold,
			rapid.SampledFrom([]string{"", " deadband 2 mg/L", " hysteresis 3 mg/L"}).Draw(t, "more"),
		)
		parsed, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(job.String())}})
		require.False(t, sheet.HasErrors(found), "%v\n%s", found, job.String())
		p, err := logic.Compile(parsed)
		require.NoError(t, err)

		ever, always, read, letsGo := false, true, false, false
		for count := bottom; count <= top; count++ {
			s := logic.NewStepper(p)
			s.Read(0, 0, float64(count), 0)
			s.MustStep(0)
			s.MustStep(2e9)
			switch s.RuleState(0) {
			case logic.On:
				ever, read = true, true
			case logic.Off:
				always, read = false, true
			}
		}
		before := logic.Undecided
		swept := logic.NewStepper(p)
		for i, count := range sweep(bottom, top) {
			at := int64(i) * 3e9
			swept.Read(at, 0, float64(count), 0)
			swept.MustStep(at)
			swept.MustStep(at + 2e9)
			state := swept.RuleState(0)
			letsGo = letsGo || before == logic.On && state == logic.Off
			before = state
		}
		want := ""
		if read && (!ever || !always && !letsGo) {
			want = "[never-true]"
		} else if read && always {
			want = "[always-true]"
		}
		var got string
		for _, f := range check(job.String()) {
			if strings.HasSuffix(f, "-true]") {
				got = f[strings.LastIndex(f, "["):]
			}
		}
		require.Equal(t, want, got, "%s", job.String())
	})
}

// sweep is every count of a card: up, down and up again.
func sweep(bottom, top int) []int {
	var counts []int
	for c := bottom; c <= top; c++ {
		counts = append(counts, c)
	}
	for c := top - 1; c >= bottom; c-- {
		counts = append(counts, c)
	}
	for c := bottom + 1; c <= top; c++ {
		counts = append(counts, c)
	}
	return counts
}

// TestTogether holds what is said of two comparisons of one signal against a sweep of it,
// in which they remember what they remember.
func TestTogether(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		// Points lie at half milliamperes, which are counts of this card: what the
		// continuous signal can do, its counts can do.
		half := func(label string, from, to int) float64 { return float64(rapid.IntRange(from, to).Draw(t, label)) / 2 }
		compared := func(label string) string {
			op := rapid.SampledFrom([]string{"<", "<=", ">", ">="}).Draw(t, label)
			text := fmt.Sprintf("x %s %.1f mA", op, half(label+" at", 16, 24))
			if rapid.Bool().Draw(t, label+" deadband") {
				text += fmt.Sprintf(" deadband %.1f mA", half(label+" wide", 1, 4))
			}
			if rapid.Bool().Draw(t, label+" hysteresis") {
				text += fmt.Sprintf(" hysteresis %.1f mA", half(label+" back", 1, 8))
			}
			return text
		}
		text := fmt.Sprintf(
			"job \"j\"\ninput x\n  scale 0..80 counts to 0..20 mA\noutput o\n  fail off\nrule r\n  on when %s and %s\n  call o\n",
			compared("first"),
			compared("second"),
		)
		parsed, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
		require.False(t, sheet.HasErrors(found), "%v\n%s", found, text)
		p, err := logic.Compile(parsed)
		require.NoError(t, err)
		s, ever := logic.NewStepper(p), false
		for i, count := range sweep(0, 80) {
			s.Read(int64(i)*1e9, 0, float64(count), 0)
			s.MustStep(int64(i) * 1e9)
			ever = ever || s.RuleState(0) == logic.On
		}
		refused := slices.ContainsFunc(check(text), func(f string) bool { return strings.Contains(f, "true together") })
		require.Equal(t, !ever, refused, "%s", text)
	})
}

// TestNothingPossibleIsRefused makes jobs of any conditions of one signal, joined in any
// way, with conditions of their own to turn off and bands: where a sweep makes every part of
// them come true and lets it go, and brings every band, `check` has nothing against them.
func TestNothingPossibleIsRefused(t *testing.T) {
	possible := 0
	rapid.Check(t, func(t *rapid.T) {
		text := "job \"j\"\ninput x\n  scale 0..80 counts to 0..20 mA\noutput o\n  called by any\n  fail off\nrule r\n" +
			"  on when " + anyCondition(t, 3) + "\n"
		if rapid.Bool().Draw(t, "off when") {
			text += "  off when " + anyCondition(t, 2) + "\n"
		}
		text += "  call o\n"
		if rapid.Bool().Draw(t, "bands") {
			first := rapid.IntRange(8, 20).Draw(t, "first")
			text += fmt.Sprintf("bands b of x\n  low: below %.1f mA call o\n  middle: below %.1f mA\n  high: else\n  hysteresis %.1f mA\n",
				float64(first)/2, float64(first+rapid.IntRange(1, 12).Draw(t, "second"))/2, float64(rapid.IntRange(0, 8).Draw(t, "back"))/2)
		}
		parsed, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
		if sheet.HasErrors(found) { // the words alone are refused: a reset point that is a trip point, say
			return
		}
		var parts []sheet.Condition
		for _, c := range []*sheet.ConditionClause{parsed.Rules[0].OnWhen, parsed.Rules[0].OffWhen} {
			if c != nil {
				parts = append(parts, partsOf(c.Condition)...)
			}
		}
		p, numbers, err := logic.CompileWith(parsed, parts)
		require.NoError(t, err)
		s := logic.NewStepper(p)
		s.Watch()
		was := make([]struct{ before, came, went bool }, len(parts))
		bands, turns := map[int]bool{}, map[logic.State]int{}
		for i, count := range sweep(0, 80) {
			s.Read(int64(i)*1e9, 0, float64(count), 0)
			s.MustStep(int64(i) * 1e9)
			for k, n := range numbers {
				now, w := s.True(n), &was[k]
				w.came = w.came || now && !w.before && i > 0
				w.went = w.went || !now && w.before
				w.before = now
			}
			if len(p.Bands) > 0 {
				bands[s.BandInForce(0)] = true
			}
			turns[s.RuleState(0)]++
		}
		all := len(p.Bands) == 0 || len(bands) == 3
		for _, w := range was {
			all = all && w.came && w.went
		}
		if !all || turns[logic.On] == 0 || turns[logic.Off] == 0 {
			return
		}
		possible++
		for _, f := range check(text) {
			require.NotContains(t, f, ": error: ", "%s", text)
		}
	})
	assert.Positive(t, possible)
	t.Logf("%d jobs in which everything is possible", possible)
}

// anyCondition is a condition of x, of a number of levels.
func anyCondition(t *rapid.T, levels int) string {
	half := func(from, to int) float64 { return float64(rapid.IntRange(from, to).Draw(t, "halves")) / 2 }
	kinds := []string{"compare", "compare", "between"}
	if levels > 0 {
		kinds = append(kinds, "and", "or", "and", "or", "not")
	}
	switch kind := rapid.SampledFrom(kinds).Draw(t, "kind"); kind {
	case "and", "or":
		var some []string
		for range rapid.IntRange(2, 3).Draw(t, "parts") {
			some = append(some, "("+anyCondition(t, levels-1)+")")
		}
		return strings.Join(some, " "+kind+" ")
	case "not":
		return "not (" + anyCondition(t, levels-1) + ")"
	case "between":
		low := half(8, 34)
		text := fmt.Sprintf("x %s %.1f mA and %.1f mA", rapid.SampledFrom([]string{"between", "outside"}).Draw(t, "where"), low, low+half(1, 5))
		if rapid.Bool().Draw(t, "back") {
			text += fmt.Sprintf(" hysteresis %.1f mA", half(0, 3))
		}
		return text
	}
	text := fmt.Sprintf("x %s %.1f mA", rapid.SampledFrom([]string{"<", "<=", ">", ">="}).Draw(t, "op"), half(0, 40))
	if rapid.Bool().Draw(t, "deadband") {
		text += fmt.Sprintf(" deadband %.1f mA", half(1, 8))
	}
	if rapid.Bool().Draw(t, "hysteresis") {
		text += fmt.Sprintf(" hysteresis %.1f mA", half(1, 16))
	}
	return text
}

// partsOf are a condition and all that it is made of.
func partsOf(c sheet.Condition) []sheet.Condition {
	all := []sheet.Condition{c}
	switch c := c.(type) {
	case *sheet.Not:
		return append(all, partsOf(c.X)...)
	case *sheet.Group:
		return append(all, partsOf(c.X)...)
	case *sheet.And:
		for _, x := range c.Xs {
			all = append(all, partsOf(x)...)
		}
	case *sheet.Or:
		for _, x := range c.Xs {
			all = append(all, partsOf(x)...)
		}
	}
	return all
}
