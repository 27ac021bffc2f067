package logic

import "time"

// turns evaluates whether a condition has turned since it was last known. What
// has been off from the start is known then; a contact is at its first reading.
func (s *Stepper) turns(i int32, n *condNode) truth {
	now := s.truths[n.a]
	if now == isUnknown {
		return isUnknown
	}
	before, known := s.conds[i].tripped, s.conds[i].waiting
	if op := s.p.conds[n.a].op; !known && (op == condRule || op == condOutput) {
		before, known = false, true
	}
	s.conds[i].tripped, s.conds[i].waiting = now == isTrue, true
	if !known || before == s.conds[i].tripped {
		return isFalse
	}
	if n.op == condTurns || (n.op == condTurnsOn) == s.conds[i].tripped {
		return isTrue
	}
	return isFalse
}

// changes evaluates whether a value is another than the last good one.
func (s *Stepper) changes(i int32, n *condNode) truth {
	if !s.known[n.a] {
		return isUnknown
	}
	before, known := s.conds[i].last, s.conds[i].waiting
	s.conds[i].last, s.conds[i].waiting = s.values[n.a], true
	if known && before != s.conds[i].last {
		return isTrue
	}
	return isFalse
}

// crosses evaluates whether a value has come to the other side of another one,
// and perhaps stayed there. Exactly on it is the side that it came from.
// memory is: above; waiting: a side is known; lapsed: it has crossed and has
// not stayed long enough yet.
func (s *Stepper) crosses(i int32, n *condNode) truth {
	if !s.known[n.a] || !s.known[n.b] {
		s.conds[i].since = never // the time it stays begins anew
		s.timers.set(i, never)
		return isUnknown
	}
	x, v := s.values[n.a], s.values[n.b]
	crossed := false
	if above := x > v; x != v {
		crossed = s.conds[i].waiting && above != s.conds[i].tripped
		s.conds[i].tripped, s.conds[i].waiting = above, true
	}
	if n.n < 0 {
		return truthOf(crossed)
	}
	if crossed {
		s.conds[i].lapsed, s.conds[i].since = true, s.now
	}
	if !s.conds[i].lapsed {
		return isFalse
	}
	if s.conds[i].since == never {
		s.conds[i].since = s.now
	}
	end := after(s.conds[i].since, s.duration(int64(n.n)))
	if s.now < end && !s.patient {
		s.timers.set(i, end)
		return isFalse
	}
	s.conds[i].lapsed = false
	s.timers.set(i, never)
	return isTrue
}

func truthOf(b bool) truth {
	if b {
		return isTrue
	}
	return isFalse
}

// A past is what a value has been, as far back as a slope looks.
type past struct {
	entries []pastValue // the first is what it was so long ago, or its first good value
}

type pastValue struct {
	at    int64
	value float64
}

// slope evaluates how fast a value rises or falls: how far it is from what it
// was so long ago, unknown until it has been good for that time.
func (s *Stepper) slope(i int32, n *condNode) truth {
	f, h := &s.p.slopes[n.n], &s.pasts[n.n]
	if !s.known[n.a] {
		h.entries = h.entries[:0]
		s.timers.set(i, never)
		return isUnknown
	}
	x := s.values[n.a]
	if k := len(h.entries); k == 0 || h.entries[k-1].value != x {
		h.entries = append(h.entries, pastValue{s.now, x})
	}
	over := s.duration(int64(f.over))
	from, gone := s.now-over, 0
	for gone+1 < len(h.entries) && h.entries[gone+1].at <= from {
		gone++
	}
	if gone > 0 {
		h.entries = h.entries[:copy(h.entries, h.entries[gone:])]
	}
	due := int64(never)
	switch first := h.entries[0].at; {
	case first > from:
		due = after(first, over)
	case len(h.entries) > 1:
		due = after(h.entries[1].at, over)
	}
	s.timers.set(i, due)
	switch {
	case s.patient: // it has stood still
		h.entries[0].value = x
	case h.entries[0].at > from:
		return isUnknown
	}
	rise := x - h.entries[0].value
	if n.op == condFalling {
		rise = -rise
	}
	return truthOf(rise/(float64(over)/f.per) > f.rate)
}

const day = int64(24 * time.Hour)

// daytime evaluates whether the clock on the wall stands between two times.
func (s *Stepper) daytime(i int32, n *condNode) truth {
	d := s.p.daytimes[n.n]
	now := time.Unix(0, s.now).In(s.p.zone)
	_, offset := now.Zone()
	wall := ((s.now+int64(offset)*int64(time.Second))%day + day) % day
	next := day
	for _, at := range [...]int64{d.from, d.to} {
		next = min(next, (at-wall+day-1)%day+1) // from 1 ns to a whole day ahead
	}
	due := after(s.now, next)
	if _, end := now.ZoneBounds(); !end.IsZero() {
		due = min(due, end.UnixNano()) // the clocks change
	}
	s.timers.set(i, due)
	if d.from < d.to {
		return truthOf(wall >= d.from && wall < d.to)
	}
	return truthOf(wall >= d.from || wall < d.to)
}

// between evaluates a range with its memory: ends included, and with hysteresis
// it lets go only so far beyond them.
func (s *Stepper) between(i int32, n *condNode) truth {
	if !s.known[n.a] || !s.known[n.b] || !s.known[n.n] || n.hysteresis >= 0 && !s.known[n.hysteresis] {
		return isUnknown
	}
	low, high := s.ends(n, s.conds[i].tripped)
	x := s.values[n.a]
	inside := x >= low && x <= high
	tripped := inside == (n.op == condBetween)
	if s.conds[i].tripped && !tripped {
		s.conds[i].since = s.now
	}
	s.conds[i].tripped = tripped
	return truthOf(s.conds[i].tripped)
}

// ends are those at which a range trips or, tripped, lets go.
func (s *Stepper) ends(n *condNode, tripped bool) (low, high float64) {
	low, high = s.values[n.b], s.values[n.n]
	if tripped && n.hysteresis >= 0 {
		h := s.values[n.hysteresis]
		if n.op == condOutside {
			h = -h
		}
		low, high = low-h, high+h
	}
	return low, high
}

func (s *Stepper) near(n *condNode) truth {
	if !s.known[n.a] || !s.known[n.b] || !s.known[n.n] {
		return isUnknown
	}
	d := s.values[n.a] - s.values[n.b]
	return truthOf(d <= s.values[n.n] && d >= -s.values[n.n])
}
