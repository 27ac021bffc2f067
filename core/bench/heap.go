package bench

// A heap orders some numbers by times, of which each has one; the soonest is at hand.
type heap struct {
	times []int64 // by number
	order []int32 // a binary heap of the numbers
	at    []int32 // by number: where it stands in that
}

// newHeap gives a heap of the first n numbers, whose times never come.
func newHeap(n int) heap {
	h := heap{times: make([]int64, n), order: make([]int32, n), at: make([]int32, n)}
	for i := range n {
		h.times[i], h.order[i], h.at[i] = never, int32(i), int32(i)
	}
	return h
}

// time is the soonest time; never if there is none.
func (h *heap) time() int64 {
	if len(h.order) == 0 {
		return never
	}
	return h.times[h.order[0]]
}

// first is the number with the soonest time.
func (h *heap) first() int32 { return h.order[0] }

// set gives a number another time.
func (h *heap) set(k int32, t int64) {
	before := h.times[k]
	h.times[k] = t
	switch i := int(h.at[k]); {
	case t < before:
		h.up(i)
	case t > before:
		h.down(i)
	}
}

func (h *heap) up(i int) {
	for i > 0 {
		parent := (i - 1) / 2
		if h.times[h.order[parent]] <= h.times[h.order[i]] {
			return
		}
		h.swap(i, parent)
		i = parent
	}
}

func (h *heap) down(i int) {
	for {
		least := i
		for _, child := range [...]int{2*i + 1, 2*i + 2} {
			if child < len(h.order) && h.times[h.order[child]] < h.times[h.order[least]] {
				least = child
			}
		}
		if least == i {
			return
		}
		h.swap(i, least)
		i = least
	}
}

func (h *heap) swap(i, k int) {
	h.order[i], h.order[k] = h.order[k], h.order[i]
	h.at[h.order[i]], h.at[h.order[k]] = int32(i), int32(k)
}
