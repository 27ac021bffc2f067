package live

import (
	"slices"

	"rectura/core/capture"
)

// arrivals are events that wait for the next pass: each group is one instant, in this order.
type arrivals struct{ groups [][]capture.Event }

// add appends events to the last group.
func (a *arrivals) add(events ...capture.Event) {
	if len(a.groups) == 0 {
		a.groups = append(a.groups, nil)
	}
	last := &a.groups[len(a.groups)-1]
	*last = append(*last, events...)
}

// cut ends the last group: what is added next is of another instant.
func (a *arrivals) cut() {
	if n := len(a.groups); n > 0 && len(a.groups[n-1]) > 0 {
		a.groups = append(a.groups, nil)
	}
}

// drop takes events out again.
func (a *arrivals) drop(which func(capture.Event) bool) {
	for i := range a.groups {
		a.groups[i] = slices.DeleteFunc(a.groups[i], which)
	}
}

// take returns all groups that are not empty.
func (a *arrivals) take() [][]capture.Event {
	groups := slices.DeleteFunc(a.groups, func(g []capture.Event) bool { return len(g) == 0 })
	a.groups = nil
	return groups
}
