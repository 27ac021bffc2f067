package logic

import (
	"rectura/core/sheet"
	"rectura/core/unit"
)

var percent = unit.MustLookup("%")

// naiveValve is the only analog output of a random job, from 0 to 100 %.
type naiveValve struct {
	level float64
	had   float64 // the plant
	given bool    // somebody, or its fail state, gives it a value
}

// naiveLoop is the only loop of a random job.
type naiveLoop struct {
	calls  bool
	has    bool    // the valve stands where the loop wants it
	wins   bool    // another caller has the valve, and the loop must win it by its own value
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
		m.calls, m.has = false, false
		n.wake = never
		return state, 0
	}
	switch every := n.length(l.Every.Duration); {
	case !m.calls:
		m.calls, m.wins = true, true
		n.beginPeriod(l, gain*(target-x), x)
	case n.now >= m.last+every:
		if !m.has && !m.wins {
			n.takesUp(l)
			break
		}
		dt := float64(min(n.now-m.last, every))
		m.share = gain * (target - x)
		if l.Derivative != nil {
			m.share -= gain * float64(n.length(l.Derivative.Duration)) * (x - m.x) / dt
		}
		if l.Integral != nil && m.has {
			more := gain * (target - x) * dt / float64(n.length(l.Integral.Duration))
			switch to := m.share + m.sum + more; { // as far as the end, and not beyond
			case more > 0 && to > 100:
				m.sum = max(m.sum, 100-m.share)
			case more < 0 && to < 0:
				m.sum = min(m.sum, 0-m.share)
			default:
				m.sum += more
			}
		}
		m.wanted, m.last, m.x = held(m.share+m.sum), n.now, x
	}
	n.wake = m.last + n.length(l.Every.Duration)
	return On, m.wanted
}

func (n *naive) beginPeriod(l *sheet.Loop, share, x float64) {
	m := n.loop
	m.last, m.x, m.share = n.now, x, share
	if l.Integral == nil {
		m.sum = l.Bias.Quantity.Value
	}
	m.wanted = held(m.share + m.sum)
}

// takesUp has the loop go on from where the valve stands.
func (n *naive) takesUp(l *sheet.Loop) {
	m := n.loop
	x, _ := n.value(l.Keep.Of)
	target, _ := n.value(l.Keep.Target)
	gain := 100 / l.Band.Quantity.In(milligrams)
	if l.Acting.Word == "direct" {
		gain = -gain
	}
	n.beginPeriod(l, gain*(target-x), x)
	n.wake = m.last + n.length(l.Every.Duration)
	switch {
	case l.Integral == nil:
	case n.valve.level == 0:
		m.sum, m.wanted = 0, held(m.share)
	default:
		m.sum, m.wanted = n.valve.level-m.share, n.valve.level
	}
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
	for _, a := range n.alarm().Calls {
		if c := called(a.Calls, o); c != nil {
			add(n.alarmCalls(a), value(c), false)
		}
	}
	others := len(calls) > 0
	for _, l := range n.job.Loops {
		s, level := n.controls(l)
		add(s, level, true)
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
	if n.settled() {
		m.had = m.level
	}
	lock, permitted := n.locked(&o.Guard), n.clause(o.Permissive, isTrue)
	given, level, loopHas := false, 0.0, false
	hand := n.hand(o.Name)
	switch {
	case n.forces(lock):
		n.takeFromHand(o.Name)
	case hand.how == "at" && m.had == 0 && hand.level != 0 && (lock != isFalse || permitted != isTrue):
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
	case m.had == 0 && best.level != 0 && (lock != isFalse || permitted != isTrue):
	default:
		given, level, loopHas = true, best.level, best.loop
		if !loopHas || n.loop.has || n.loop.wins && others {
			break
		}
		n.takesUp(n.job.Loops[0])
		level = n.loop.wanted
		for _, c := range calls {
			if !c.loop && better(c.level, level) {
				level, loopHas = c.level, false
			}
		}
		if m.had == 0 && level != 0 && (lock != isFalse || permitted != isTrue) {
			given, level, loopHas = false, 0, false
		}
	}
	n.loop.has, n.loop.wins = loopHas, n.loop.calls && !loopHas && given && hand.how == "" && best != nil
	m.given, m.level = given, level
	if hand = n.hand(o.Name); n.settled() || level == 0 && (n.forces(lock) || hand.how == "stood") {
		m.had = level
	}
}
