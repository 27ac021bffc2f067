package signal

import "rectura/core/memo"

// A window keeps the extremes of the readings that count for `frozen` and
// `unsteady`: two queues, one of falling and one of rising values, of which the
// fronts are the largest and the smallest (the sliding-window minimum of
// D. Knuth's deques). A reading holds until the next one comes.
type window struct {
	high, low []held
	start     int64 // since when the extremes have been as close as asked
	any       bool
}

// frozenFields and unsteadyFields list what either needs.
func (w *window) frozenFields(f *memo.Fields) {
	f.Time(2, &w.start)
	w.fields(f, true)
}

func (w *window) unsteadyFields(f *memo.Fields) { w.fields(f, false) }

func (w *window) fields(f *memo.Fields, till bool) {
	f.Bool(1, &w.any)
	heldFields(f, 3, &w.high, till)
	heldFields(f, 4, &w.low, till)
}

func heldFields(f *memo.Fields, number int, queue *[]held, till bool) {
	n := len(*queue)
	if f.Reading() {
		*queue = (*queue)[:0]
	}
	f.Many(number, &n, func(f *memo.Fields, i int) {
		if f.Reading() {
			*queue = append(*queue, held{})
		}
		h := &(*queue)[i]
		f.Float(1, &h.value)
		if till {
			f.Time(3, &h.till)
		} else {
			f.Time(2, &h.at)
		}
	})
}

// whole tells whether a window that was read back is one.
func (w *window) whole() bool { return len(w.high) > 0 && len(w.low) > 0 }

// A held value came at one time and was held until another: that of the next
// reading.
type held struct {
	value    float64
	at, till int64
}

func (w *window) clear() { w.high, w.low, w.any = w.high[:0], w.low[:0], false }

// add takes a reading.
func (w *window) add(t int64, v float64) {
	if !w.any {
		w.any, w.start = true, t
	}
	h := held{v, t, t}
	w.high = push(w.high, h, func(a float64) bool { return a <= v })
	w.low = push(w.low, h, func(a float64) bool { return a >= v })
}

// push ends the hold of the last value, drops what the new one outdoes, and
// appends it.
func push(queue []held, h held, outdone func(float64) bool) []held {
	if n := len(queue); n > 0 {
		queue[n-1].till = h.at
	}
	for len(queue) > 0 && outdone(queue[len(queue)-1].value) {
		queue = queue[:len(queue)-1]
	}
	return append(queue, h)
}

func (w *window) spread() float64 {
	if !w.any {
		return 0
	}
	return w.high[0].value - w.low[0].value
}

// narrow drops the oldest readings until the rest lie within a width; start is
// then since when they have. Where they did not, the last reading is an extreme, alone
// in its queue: what is dropped is of the other.
func (w *window) narrow(width float64) {
	for w.spread() > width && len(w.high)+len(w.low) > 2 {
		older := &w.high
		if len(w.high) == 1 {
			older = &w.low
		}
		w.start = (*older)[0].till
		*older = drop(*older)
	}
}

// expire drops the extremes that came before a time, but not the last reading,
// which holds.
func (w *window) expire(before int64) {
	for len(w.high) > 1 && w.high[0].at <= before {
		w.high = drop(w.high)
	}
	for len(w.low) > 1 && w.low[0].at <= before {
		w.low = drop(w.low)
	}
}

// oldest is when the older of the two extremes came.
func (w *window) oldest() int64 { return min(w.high[0].at, w.low[0].at) }

// drop removes the front of a queue. The rest moves up, so that a queue never
// grows beyond what it holds.
func drop(queue []held) []held { return queue[:copy(queue, queue[1:])] }
