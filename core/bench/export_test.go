package bench

import (
	"cmp"
	"slices"

	"rectura/core/logic"
	"rectura/core/recording"
)

// Stepping makes a replay hand over every reading.
func Stepping(o Options) Options {
	o.stepping = true
	return o
}

// InOrder brings commands into the order of their times.
func InOrder(all []Command) {
	slices.SortStableFunc(all, func(a, b Command) int { return cmp.Compare(a.At, b.At) })
}

// CountInstants is how many instants a replay makes.
func CountInstants(p *logic.Program, r *recording.Recording) (n int) {
	if _, err := replay(p, r, Options{}, func(*logic.Stepper, int64) { n++ }); err != nil {
		return -1
	}
	return n
}
