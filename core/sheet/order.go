package sheet

import "strings"

// inOrder puts declarations in the order in which they can be worked out: each
// after those that it names. One that stands in a circle, or needs one that
// does, is left out; circle is told each circle once, from one of its members
// round to the last before it.
func inOrder[D interface {
	comparable
	Declaration
}](all []D, names func(D) []D, circle func(members []D)) []D {
	type state uint8
	const (
		open state = iota + 1
		sound
		unsound
	)
	states := map[D]state{}
	var path, sorted []D
	var visit func(d D) bool
	visit = func(d D) bool {
		switch states[d] {
		case sound:
			return true
		case unsound:
			return false
		case open:
			from := len(path) - 1
			for path[from] != d {
				from--
			}
			circle(path[from:])
			return false
		}
		states[d] = open
		path = append(path, d)
		found := sound
		for _, other := range names(d) {
			if !visit(other) {
				found = unsound
				break
			}
		}
		path = path[:len(path)-1]
		states[d] = found
		if found == sound {
			sorted = append(sorted, d)
		}
		return found == sound
	}
	for _, d := range all {
		visit(d)
	}
	return sorted
}

// roundTrip writes a circle from its first member back to it; of a long one,
// the beginning and the end.
func roundTrip[D Declaration](members []D) string {
	const most = 6
	var names []string
	for i, d := range members {
		switch {
		case len(members) <= most+1 || i < most-1 || i == len(members)-1:
			names = append(names, d.Base().Name)
		case i == most-1:
			names = append(names, "…")
		}
	}
	return strings.Join(append(names, names[0]), " → ")
}
