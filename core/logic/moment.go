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
	if s.ending || s.restarting {
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

// crosses evaluates whether a value has come to the other side of another one and, where a duration is written, has stayed
// there for it. The side that counts is the last one on which the value has stayed for so long; that of the first good value
// counts at once. In the memory, tripped is the side that counts, true for above; waiting says that there is one; lapsed that
// the value is on the other side, since since, or never where that is not known.
func (s *Stepper) crosses(i int32, n *condNode) truth {
	if !s.known[n.a] || !s.known[n.b] {
		return isUnknown
	}
	return truthOf(s.crossed(i, n) && s.now >= s.crossingEnds(i, n))
}

// crossed reports whether a value has left the side that counts. Exactly on the limit it is where it came from.
func (s *Stepper) crossed(i int32, n *condNode) bool {
	m, x, v := &s.conds[i], s.values[n.a], s.values[n.b]
	if x == v {
		return m.waiting && m.lapsed
	}
	return m.waiting && x > v != m.tripped
}

// crossingEnds is when a value that has crossed will have stayed for long enough.
func (s *Stepper) crossingEnds(i int32, n *condNode) int64 {
	m := &s.conds[i]
	switch {
	case n.n < 0 || s.patient:
		return s.now
	case m.lapsed && m.since != never:
		return after(m.since, s.duration(int64(n.n)))
	}
	return after(s.now, s.duration(int64(n.n)))
}

// stays moves on what a crossing remembers: the side that counts, and since when the value is on the other.
func (s *Stepper) stays(i int32, n *condNode) {
	m := &s.conds[i]
	if !s.known[n.a] || !s.known[n.b] {
		m.since = never // the wait begins anew
		s.timers.Set(i, never)
		return
	}
	crossed, end := s.crossed(i, n), s.crossingEnds(i, n)
	due := int64(never)
	switch x, v := s.values[n.a], s.values[n.b]; {
	case !m.waiting && x != v:
		m.tripped, m.waiting = x > v, true
	case !crossed:
		m.lapsed = false
	case s.now >= end:
		m.tripped, m.lapsed = !m.tripped, false
	default:
		if !m.lapsed || m.since == never {
			m.since = s.now
		}
		m.lapsed, due = true, end
	}
	s.timers.Set(i, due)
}

// beginMoments gives the momentary conditions on values that no input makes, such as those of analog outputs, what these
// are before the first instant.
func (s *Stepper) beginMoments() {
	for i := range s.p.conds {
		n, m := &s.p.conds[i], &s.conds[i]
		if !s.p.ownValue(n) {
			continue
		}
		switch x := s.values[n.a]; n.op {
		case condChanges:
			m.last, m.waiting = x, s.known[n.a]
		case condCrosses:
			v := s.values[n.b]
			m.tripped, m.waiting = x > v, s.known[n.a] && s.known[n.b] && x != v
		}
	}
}

// ownValue reports whether a momentary condition looks only at values that do not depend on an input.
func (p *Program) ownValue(n *condNode) bool {
	return n.op == condChanges && p.firstInput(n.a) < 0 || n.op == condCrosses && p.firstInput(n.a) < 0 && p.firstInput(n.b) < 0
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
