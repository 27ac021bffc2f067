package logic

import (
	"rectura/core/sheet"
	"rectura/core/unit"
)

var percent = unit.MustLookup("%")

// naiveValve is the only analog output of a random job, from 0 to 100 %.
type naiveValve struct {
	level float64
	given bool // somebody, or its fail state, gives it a value
}

// naiveLoop is the only loop of a random job.
type naiveLoop struct {
	calls  bool
	lost   bool // what it looks at was lost while it called
	has    bool // the valve stands where the loop wants it
	begun  int64
	last   int64   // when it was last worked out
	x      float64 // and at what value
	share  float64 // of proportion and derivative
	sum    float64
	wanted float64
}

func held(v float64) float64 { return max(0, min(v, 100)) }

// whilst is whether a follow or a loop calls.
func (n *naive) whilst(c *sheet.ConditionClause, known bool) State {
	switch v := n.clause(c, isTrue); {
	case v == isFalse:
		return Off
	case v == isUnknown || !known:
		return Undecided
	}
	return On
}

func (n *naive) follows(f *sheet.Follow) (State, float64) {
	x, known := n.value(f.Call.Of)
	a, b := f.Call.From.From.In(milligrams), f.Call.From.To.In(milligrams)
	c, d := f.Call.To.From.Value, f.Call.To.To.Value
	level := c + (x-a)*(d-c)/(b-a)
	if x <= a {
		level = c
	}
	if x >= b {
		level = d
	}
	return n.whilst(f.While, known), level
}

// controls works the loop out.
func (n *naive) controls(l *sheet.Loop) (State, float64) {
	m := n.loop
	x, okX := n.value(l.Keep.Of)
	target, okT := n.value(l.Keep.Target)
	state := n.whilst(l.While, okX && okT)
	gain := 100 / l.Band.Quantity.In(milligrams)
	if l.Acting.Word == "direct" {
		gain = -gain
	}
	if state != On {
		m.lost = state == Undecided && (m.calls || m.lost)
		m.calls = false
		n.wake = never
		return state, 0
	}
	every := n.length(l.Every.Duration)
	switch {
	case !m.calls:
		m.share = gain * (target - x)
		m.sum = 0
		if l.Integral == nil {
			m.sum = l.Bias.Quantity.Value
		}
		m.wanted = held(m.share + m.sum)
		if l.Integral != nil && (m.lost || n.valve.given) { // without a bump
			m.wanted, m.sum = n.valve.level, n.valve.level-m.share
		}
		m.calls, m.lost, m.has, m.begun, m.last, m.x = true, false, false, n.now, n.now, x
	case n.now >= m.last+every:
		if l.Integral != nil && !m.has { // it goes on from where others have put the valve
			m.sum = n.valve.level - m.share
		}
		dt := float64(n.now - m.last)
		m.share = gain * (target - x)
		if l.Derivative != nil {
			m.share -= gain * float64(n.length(l.Derivative.Duration)) * (x - m.x) / dt
		}
		if l.Integral != nil {
			more := gain * (target - x) * dt / float64(n.length(l.Integral.Duration))
			beyond := m.share + m.sum + more
			if !(beyond > 100 && more > 0 || beyond < 0 && more < 0) {
				m.sum += more
			}
		}
		m.wanted, m.last, m.x = held(m.share+m.sum), n.now, x
	}
	n.wake = m.last + every
	return On, m.wanted
}

// analogOutput decides the valve.
func (n *naive) analogOutput(o *sheet.Output) {
	type call struct {
		level float64
		loop  bool
	}
	var calls []call
	undecided := false
	add := func(s State, level float64, loop bool) {
		undecided = undecided || s == Undecided
		if s == On {
			calls = append(calls, call{held(level), loop})
		}
	}
	value := func(c *sheet.Call) float64 { v, _ := n.value(c.Value); return v }
	for _, r := range n.job.Rules {
		if c := called(r.Calls(), o); c != nil {
			add(n.rules[r.Name].shown, value(c), false)
		}
	}
	for i, b := range n.job.Bands[0].Bands {
		if c := called(b.Calls, o); c != nil {
			add(n.bandCalls(i), value(c), false)
		}
	}
	for _, f := range n.job.Follows {
		s, level := n.follows(f)
		add(s, level, false)
	}
	for _, l := range n.job.Loops {
		s, level := n.controls(l)
		add(s, level, true)
	}
	for _, a := range n.alarm().Calls {
		if c := called(a.Calls, o); c != nil {
			add(n.alarmCalls(a), value(c), false)
		}
	}
	better := func(a, b float64) bool {
		if o.CalledBy.Word == "lowest" {
			return a < b
		}
		return a > b
	}
	var best *call // of equal ones that of the loop only if it has the valve already
	for i := range calls {
		c := &calls[i]
		if best == nil || better(c.level, best.level) || c.level == best.level && (best.loop && !n.loop.has || c.loop && n.loop.has) {
			best = c
		}
	}
	m := n.valve
	lock, permitted := n.locked(&o.Guard), n.clause(o.Permissive, isTrue)
	given, level, loopHas := false, 0.0, false
	hand := n.hand(o.Name)
	switch {
	case n.forces(lock):
		if hand.how != "" {
			n.hands[o.Name] = &naiveHand{"stood", 0, never}
		}
	case hand.how == "at" && m.level == 0 && hand.level != 0 && (lock != isFalse || permitted != isTrue):
	case hand.how == "at":
		given, level = true, hand.level
	case hand.how != "":
	case best == nil && undecided:
		given, level = m.given, m.level
		if n.settled() {
			switch {
			case o.Fail == nil || o.Fail.Word == "off":
				given, level = false, 0
			case o.Fail.Value != nil:
				given, level = true, o.Fail.Value.Value
			}
		}
	case best == nil:
	case m.level == 0 && best.level != 0 && (lock != isFalse || permitted != isTrue):
	default:
		given, level, loopHas = true, best.level, best.loop
		if loopHas && !n.loop.has && n.loop.begun != n.now && n.job.Loops[0].Integral != nil {
			level = m.level
			for _, c := range calls {
				if !c.loop && better(c.level, level) {
					level = c.level
				}
			}
			n.loop.wanted, n.loop.sum = level, level-n.loop.share
		}
	}
	n.loop.has = loopHas
	m.given, m.level = given, level
}
