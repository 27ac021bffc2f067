package logic

import "math"

// never is the time of a timer that does not run.
const never = math.MaxInt64

// timers holds the time at which each of a fixed number of timers falls due,
// and knows the earliest: a binary heap of timer numbers (as in container/heap,
// without its interface) and each one's place in it.
type timers struct {
	due  []int64
	heap []int32
	at   []int32 // of each timer in the heap, or -1
}

func newTimers(n int) timers {
	t := timers{due: make([]int64, n), heap: make([]int32, 0, n), at: make([]int32, n)}
	t.reset()
	return t
}

func (t *timers) reset() {
	t.heap = t.heap[:0]
	for i := range t.due {
		t.due[i], t.at[i] = never, -1
	}
}

// earliest is the time at which the next timer falls due, or never.
func (t *timers) earliest() int64 {
	if len(t.heap) == 0 {
		return never
	}
	return t.due[t.heap[0]]
}

// set makes a timer fall due at a time; never stops it.
func (t *timers) set(i int32, due int64) {
	if t.due[i] == due {
		return
	}
	t.due[i] = due
	switch at := t.at[i]; {
	case due == never:
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

func (t *timers) swap(a, b int32) {
	t.heap[a], t.heap[b] = t.heap[b], t.heap[a]
	t.at[t.heap[a]], t.at[t.heap[b]] = a, b
}

func (t *timers) up(at int32) {
	for at > 0 {
		parent := (at - 1) / 2
		if t.due[t.heap[parent]] <= t.due[t.heap[at]] {
			return
		}
		t.swap(at, parent)
		at = parent
	}
}

func (t *timers) down(at int32) {
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

// after is t + d, or never where that is beyond the end of time.
func after(t, d int64) int64 {
	if s := t + d; s >= t {
		return s
	}
	return never
}
