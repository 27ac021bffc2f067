package bench

import (
	"fmt"
	"math"
	"strings"

	"rectura/core/unit"
)

// missed counts the pulses of a contact that fell between two scans: it turned, and turned
// back before anybody looked.
type missed struct {
	pulses int
	first  []int64 // when the first of them began

	last  float64 // reading
	any   bool
	turns int                 // since the last scan
	began [missedListed]int64 // when every other of these was
	seen  float64             // at the last scan
}

// missedListed is how many pulses are listed by their times.
const missedListed = 10

// take notes a reading of the contact.
func (m *missed) take(t int64, v float64) {
	if m.any && !same(v, m.last) {
		if m.turns%2 == 0 && m.turns/2 < missedListed {
			m.began[m.turns/2] = t
		}
		m.turns++
	}
	if !m.any {
		m.seen = v
	}
	m.last, m.any = v, true
}

// scan ends what came since the last scan.
func (m *missed) scan() {
	turns := m.turns
	if !same(m.last, m.seen) {
		turns-- // one of them has been seen
	}
	for i := range turns / 2 {
		if m.pulses++; len(m.first) < missedListed {
			m.first = append(m.first, m.began[i])
		}
	}
	m.turns, m.seen = 0, m.last
}

func same(a, b float64) bool { return a == b || math.IsNaN(a) && math.IsNaN(b) }

// tellMissed warns of pulses of contacts that fell between scans.
func (r *Result) tellMissed(f *played) {
	for i, m := range f.missed {
		if m == nil || m.pulses == 0 {
			continue
		}
		var times []string
		for _, t := range m.first {
			times = append(times, r.Recording.Clock.FormatMillis(t))
		}
		more := ""
		if n := m.pulses - len(times); n > 0 {
			more = fmt.Sprintf(" and %d more", n)
		}
		what := "a pulse of %[2]s"
		if m.pulses > 1 {
			what = "%[1]d pulses of %[2]s"
		}
		r.Warnings = append(r.Warnings, fmt.Sprintf(
			what+" fell between scans of %[3]s and did not count: at %[4]s%[5]s",
			m.pulses, r.Program.Inputs[f.cursors[i].input].Name, unit.FormatDuration(r.Scan), strings.Join(times, ", "), more,
		))
	}
}
