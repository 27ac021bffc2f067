package live

import (
	"math"
	"slices"

	"rectura/service/store"
)

// note has the journal say what happens besides the job.
func (e *Engine) note(kind, name, from, to, because, who string) {
	e.keeping.entry(store.Entry{Time: e.next(), Kind: kind, Name: name, From: from, To: to, Because: because, Who: who, Via: "engine"})
}

// lates are how late the last instants were handled, in nanoseconds.
type lates struct {
	last  [1024]int64
	n     int
	count int64 // of those that were later than they may be
}

func (l *lates) add(late int64) {
	l.last[l.n%len(l.last)] = late
	l.n++
	if late > lateness {
		l.count++
	}
}

// quantile is how late the given share of the last instants were at the most, in milliseconds.
func (l *lates) quantile(share float64) float64 {
	some := slices.Clone(l.last[:min(l.n, len(l.last))])
	if len(some) == 0 {
		return 0
	}
	slices.Sort(some)
	return float64(some[int(math.Ceil(share*float64(len(some))))-1]) / 1e6
}
