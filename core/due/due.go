// Package due keeps the times at which some things fall due, and knows which is first.
package due

import "math"

// Never is the time of what does not fall due.
const Never = math.MaxInt64

// A Queue holds the time at which each of a fixed number of things falls due,
// and knows the earliest: a binary heap of their numbers (as in container/heap,
// without its interface) and each one's place in it.
type Queue struct {
	due  []int64
	heap []int32
	at   []int32 // of each number in the heap, or -1
}

// New gives a Queue of the first n numbers, none of which falls due.
func New(n int) Queue {
	t := Queue{due: make([]int64, n), heap: make([]int32, 0, n), at: make([]int32, n)}
	for i := range t.due {
		t.due[i], t.at[i] = Never, -1
	}
	return t
}

// At is when a number falls due, or Never.
func (t *Queue) At(i int32) int64 { return t.due[i] }

// First is the number that falls due first; there must be one.
func (t *Queue) First() int32 { return t.heap[0] }

// Earliest is the time at which the first one falls due, or Never.
func (t *Queue) Earliest() int64 {
	if len(t.heap) == 0 {
		return Never
	}
	return t.due[t.heap[0]]
}

// Set makes a number fall due at a time; Never stops it.
func (t *Queue) Set(i int32, due int64) {
	if t.due[i] == due {
		return
	}
	t.due[i] = due
	switch at := t.at[i]; {
	case due == Never:
		last := int32(len(t.heap) - 1)
		t.swap(at, last)
		t.heap = t.heap[:last]
		t.at[i] = -1
		if at < last {
			t.up(at)
			t.down(at)
		}
	case at < 0:
		t.heap = append(t.heap, i)
		t.at[i] = int32(len(t.heap) - 1)
		t.up(t.at[i])
	default:
		t.up(at)
		t.down(t.at[i])
	}
}

func (t *Queue) swap(a, b int32) {
	t.heap[a], t.heap[b] = t.heap[b], t.heap[a]
	t.at[t.heap[a]], t.at[t.heap[b]] = a, b
}

func (t *Queue) up(at int32) {
	for at > 0 {
		parent := (at - 1) / 2
		if t.due[t.heap[parent]] <= t.due[t.heap[at]] {
			return
		}
		t.swap(at, parent)
		at = parent
	}
}

func (t *Queue) down(at int32) {
	for {
		child := 2*at + 1
		if child >= int32(len(t.heap)) {
			return
		}
		if right := child + 1; right < int32(len(t.heap)) && t.due[t.heap[right]] < t.due[t.heap[child]] {
			child = right
		}
		if t.due[t.heap[at]] <= t.due[t.heap[child]] {
			return
		}
		t.swap(at, child)
		at = child
	}
}
