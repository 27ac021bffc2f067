package logic

import "time"

// What is momentary is judged by what it remembers of the end of the last instant,
// so that it stays true through the whole of its own, however often that is
// evaluated. What it remembers moves on when the instant ends.

// moment evaluates a momentary condition.
func (s *Stepper) moment(i int32, n *condNode) truth {
	s.turned = append(s.turned, i)
	v := isUnknown
	switch {
	case n.op == condChanges:
		v = s.changes(i, n)
	case n.op == condCrosses:
		v = s.crosses(i, n)
	default:
		v = s.turns(i, n)
	}
	if v != isTrue {
		return v
	}
	if s.ending {
		return isFalse
	}
	s.fired = append(s.fired, i)
	return isTrue
}

// remember moves what momentary conditions remember on to the end of this instant.
func (s *Stepper) remember() {
	for _, i := range s.turned {
		n, m := &s.p.conds[i], &s.conds[i]
		switch n.op {
		case condChanges:
			if s.known[n.a] {
				m.last, m.waiting = s.values[n.a], true
			}
		case condCrosses:
			s.stays(i, n)
		default:
			if now := s.truths[n.a]; now != isUnknown {
				m.tripped, m.waiting = now == isTrue, true
			}
		}
	}
	s.turned = s.turned[:0]
}

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
	on := now == isTrue
	return truthOf(known && before != on && (n.op == condTurns || (n.op == condTurnsOn) == on))
}

// changes evaluates whether a value is another than the last good one.
func (s *Stepper) changes(i int32, n *condNode) truth {
	if !s.known[n.a] {
		return isUnknown
	}
	return truthOf(s.conds[i].waiting && s.conds[i].last != s.values[n.a])
}

// crosses evaluates whether a value has come to the other side of another one,
// and perhaps stayed there. Exactly on it is the side that it came from.
// tripped is: above; waiting: a side is known; lapsed: it has crossed and has not
// stayed long enough yet.
func (s *Stepper) crosses(i int32, n *condNode) truth {
	if !s.known[n.a] || !s.known[n.b] {
		return isUnknown
	}
	crossed := s.crossed(i, n)
	if n.n < 0 || s.patient {
		return truthOf(crossed)
	}
	m := &s.conds[i]
	return truthOf(!crossed && m.lapsed && m.since != never && s.now >= after(m.since, s.duration(int64(n.n))))
}

func (s *Stepper) crossed(i int32, n *condNode) bool {
	x, v := s.values[n.a], s.values[n.b]
	return x != v && s.conds[i].waiting && x > v != s.conds[i].tripped
}

// stays moves on what a crossing remembers: its side, and how long it has been
// there.
func (s *Stepper) stays(i int32, n *condNode) {
	m := &s.conds[i]
	if !s.known[n.a] || !s.known[n.b] {
		m.since = never // the time it stays begins anew
		s.timers.Set(i, never)
		return
	}
	crossed := s.crossed(i, n)
	if x, v := s.values[n.a], s.values[n.b]; x != v {
		m.tripped, m.waiting = x > v, true
	}
	if n.n < 0 {
		return
	}
	if crossed && !s.patient {
		m.lapsed, m.since = true, s.now
	}
	if !m.lapsed {
		return
	}
	if m.since == never {
		m.since = s.now
	}
	if end := after(m.since, s.duration(int64(n.n))); s.now < end {
		s.timers.Set(i, end)
	} else {
		m.lapsed = false
		s.timers.Set(i, never)
	}
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
		s.timers.Set(i, never)
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
	s.timers.Set(i, due)
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
	s.timers.Set(i, due)
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
