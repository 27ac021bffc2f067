//go:build counted

package logic_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/sheet/visits"
)

const hostileGround = "job \"Hostile\"\n  timezone Europe/Dublin\ninput a\n  scale 0..4095 counts to 0..20 mA\n  scale 4..20 mA to 0..20 mg/L\n  healthy 3.6..21 mA\ninput c discrete\noutput out\n  called by any\n  fail off\n"

// A hostileJob is a text that is written to cost more than its size is worth, and
// the code of a finding that it gives; empty where it is a job.
type hostileJob struct{ code, text string }

// fill repeats lines until a text is nearly as large as a job may be, in bytes,
// words or declarations.
func fill(head string, line func(i int) string) string {
	var b strings.Builder
	b.WriteString(head)
	words, heads := 100, 10
	for i := 0; b.Len() < 8<<20-30_000; i++ {
		l := line(i)
		for k, r := range l {
			if r == ' ' || strings.ContainsRune("(),=<>+*/-", r) {
				words++
			}
			if (k == 0 || l[k-1] == '\n') && r >= 'a' {
				heads++
			}
		}
		if words > 485_000 || heads > 19_950 {
			break
		}
		b.WriteString(l)
	}
	return b.String()
}

func hostile() map[string]hostileJob {
	g := hostileGround
	return map[string]hostileJob{
		"sum":       {"limit", g + "derived d = a" + strings.Repeat(" + a", 800_000) + "\n"},
		"sums":      {"", fill(g, func(i int) string { return fmt.Sprintf("derived d%d = a%s\n", i, strings.Repeat(" + a", 1900)) })},
		"products":  {"", fill(g, func(i int) string { return fmt.Sprintf("derived d%d = a%s\n", i, strings.Repeat(" * 2", 1900)) })},
		"negations": {"", fill(g, func(i int) string { return fmt.Sprintf("derived d%d = a + %sa\n", i, strings.Repeat("- ", 90)) })},
		"doubling":  {"", fill(g+"derived d0 = a + a\n", func(i int) string { return fmt.Sprintf("derived d%d = d%d + d%d\n", i+1, i, i) })},
		"chain of inputs": {"limit", fill(g+"derived d0 = a + a\n", func(i int) string {
			return fmt.Sprintf(
				"input x%d\n  unit mg/L\nderived d%d = d%d + x%d\nrule r%d\n  on when d%d > 5 mg/L for 1 s\n  call out\n",
				i,
				i+1,
				i,
				i,
				i,
				i,
			)
		})},
		"rules": {"", fill(g, func(i int) string {
			return fmt.Sprintf("rule r%d\n  on when a > %d.5 mg/L hysteresis 0.5 mg/L\n  call out\n", i, i%17)
		})},
		"chained rules": {
			"",
			fill(
				g+"rule r0\n  on when c\n  call out\n",
				func(i int) string { return fmt.Sprintf("rule r%d\n  on when r%d or c\n  call out\n", i+1, i) },
			),
		},
		"circle": {
			"unknown-name",
			fill(g, func(i int) string { return fmt.Sprintf("rule r%d\n  on when r%d or r0\n  call out\n", i, i+1) }),
		},
		"circle of values": {"circle", fill(g, func(i int) string { return fmt.Sprintf("derived d%d = d%d + d%d\n", i, i+1, i/2) })},
		"outputs": {"repeated-name", fill(g, func(i int) string {
			return fmt.Sprintf(
				"output o%d\n  called by any\nrule r%d\n  on when c\n  interlock when a > 5 mg/L\n  call o%d, o%d, o0\n",
				i,
				i,
				i,
				i/2,
			)
		})},
		"garbage":       {"syntax", strings.Repeat("$", 2<<20)},
		"garbage lines": {"syntax", fill("", func(i int) string { return "x\n" })},
		"unknown names": {"unknown-name", fill(g, func(i int) string {
			return fmt.Sprintf("rule r%d\n  on when %s%d > 5 mg/L\n  call out\n", i, strings.Repeat("q", 58), i)
		})},
		"one word":      {"limit", g + "derived d = " + strings.Repeat("a", 2<<20) + "\n"},
		"one number":    {"limit", g + "derived d = a + " + strings.Repeat("1", 2<<20) + "\n"},
		"one text":      {"limit", g + "rule r \"" + strings.Repeat("a", 2<<20) + "\"\n"},
		"wrong clauses": {"syntax", fill(g+"rule r\n", func(i int) string { return "  onn whenn a\n" })},
		"comments":      {"", fill(g, func(i int) string { return "#\n" })},
		"blank":         {"", fill(g, func(i int) string { return "\n" })},
		"stages":        {"limit", fill(g+"input s\n", func(i int) string { return "  scale 0..20 mA to 0..20 mA\n" })},
		"tables": {"", fill(g, func(i int) string {
			var b strings.Builder
			for k := range 900 {
				fmt.Fprintf(&b, ", %d = %d", k+1, k*k)
			}
			return fmt.Sprintf("input t%d\n  curve table counts to lx: 0 = 0%s\n", i, b.String())
		})},
		"calibrations": {"", fill(g, func(i int) string {
			var b strings.Builder
			for k := range 650 {
				fmt.Fprintf(&b, ", %d mg/L to %d mg/L", k+1, k+1)
			}
			return fmt.Sprintf("input t%d\n  unit mg/L\n  correct 0 mg/L to 0 mg/L%s\n", i, b.String())
		})},
		"inputs": {"limit", fill(g, func(i int) string {
			return fmt.Sprintf("input t%d\n  scale 0..4095 counts to 0..20 mA\n  scale 4..20 mA to 0..10 mg/L\n  healthy 3.6..21 mA\n", i)
		})},
		"units": {"", fill(g, func(i int) string {
			return fmt.Sprintf("input t%d\n  unit \"u%d\"\nrule r%d\n  on when t%d > %d \"u%d\"\n  call out\n", i, i, i, i, i, i)
		})},
		"quorum": {"", fill(g, func(i int) string {
			return fmt.Sprintf("rule r%d\n  on when at least 2 of (c%s)\n  call out\n", i, strings.Repeat(", c", 1900))
		})},
		"nested": {"syntax", fill(g, func(i int) string {
			return fmt.Sprintf(
				"rule r%d\n  on when %sa > 1 mg/L for 1 s%s\n  call out\n",
				i,
				strings.Repeat("(", 80),
				strings.Repeat(" for 1 s)", 80),
			)
		})},
		"bands":      {"limit", fill(g+"bands b of a\n", func(i int) string { return fmt.Sprintf("  b%d: below %d mg/L call out\n", i, i) })},
		"many bands": {"", fill(g, func(i int) string { return fmt.Sprintf("bands b%d of a\n  x: below 5 mg/L call out\n  y: else\n", i) })},
		"alarms": {"", fill(g, func(i int) string {
			return fmt.Sprintf("alarm r%d\n  on when a > 5 mg/L\n  priority high\n  call out\n", i)
		})},
		"labels": {"", fill(strings.Replace(g, "input c discrete", "input c \""+strings.Repeat("w", 120)+"\" discrete", 1), func(i int) string {
			return fmt.Sprintf("rule r%d\n  on when c%s\n  call out\n", i, strings.Repeat(" or c", 1900))
		})},
		"trials": {"", fill(g+"trial t\n  play \"x\"\n", func(i int) string { return "  expect out on always\n" })},
		"open":   {"syntax", fill(g+"derived d = (", func(i int) string { return "a +\n" })},
	}
}

// Whatever is written, the findings are few, and the work of finding them grows
// with the text: no job takes more visits of a node than a small multiple of
// its words, which are as many as its bytes at most.
func TestHostileJobs(t *testing.T) {
	for name, c := range hostile() {
		t.Run(name, func(t *testing.T) {
			half := strings.LastIndex(c.text[:min(len(c.text), sheet.MaxSize)], "\n") + 1
			sources := []sheet.Source{{Name: "a.rct", Text: []byte(c.text[:half])}, {Name: "b.rct", Text: []byte(c.text[half:])}}
			visits.Take()
			_, p, found := logic.Check(sources)
			seen := visits.Take()
			t.Logf("%.2f visits a byte", float64(seen)/float64(len(c.text)))
			assert.Less(t, seen, 6*int64(len(c.text))+1000)
			assert.LessOrEqual(t, len(found), sheet.MaxFindings+1)
			codes := map[string]bool{}
			for _, f := range found {
				codes[f.Code] = true
			}
			if c.code == "" {
				assert.NotNil(t, p, "%v", found)
			} else {
				assert.True(t, codes[c.code], "%v", found)
			}
			if p != nil {
				for _, r := range p.Job.Rules {
					p.Card(r.Name)
				}
			}
			assert.Less(t, visits.Take(), 6*int64(len(c.text))+1000, "cards of all rules")
		})
	}
}
