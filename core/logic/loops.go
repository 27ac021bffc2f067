package logic

import (
	"math"

	"rectura/core/sheet"
)

// A Follow of a Program: an output on the straight line between two ranges.
type Follow struct {
	Name     string
	Output   int
	of       int32      // a value
	from, to [2]float64 // in the unit of the value; in that of the output
	while    int32      // a condition, or -1
	node     int32      // the condition that is true while it calls
}

// A Loop of a Program: PI(D) in the standard form of ISA-5.9, with the
// derivative on the measurement.
type Loop struct {
	Name       string
	Output     int
	of, target int32   // values
	gain       float64 // of the output's unit for one of the value's; negative for direct action
	integral   int32   // durations, or -1
	derivative int32
	every      int32
	bias       float64 // where there is no integral
	while      int32   // a condition, or -1
	node       int32
}

// loopMemory is the memory of a Loop.
type loopMemory struct {
	running     bool    // it calls
	interrupted bool    // by what cannot be believed
	has         bool    // the output stands where the loop has put it
	begun       int64   // when it began to call
	at          int64   // when it was last worked out,
	x           float64 // at this value
	share       float64 // what proportion and derivative gave
	sum         float64 // what the integral gives
	out         float64
}

func (c *compiler) follow(d *sheet.Follow) {
	index, output := len(c.p.Follows), c.p.Index(OutputKind, d.Call.Output.Name)
	u, _, _ := c.sides(d.Call.Of, d.Call.Of)
	c.begins(FollowKind, index)
	f := Follow{Name: d.Name, Output: output, of: c.value(d.Call.Of, u, false), while: c.while(d.While)}
	from, to := d.Call.From, d.Call.To
	o := c.p.Job.Outputs[output].Unit()
	f.from = [2]float64{from.From.In(u), from.To.In(u)}
	f.to = [2]float64{to.From.In(o), to.To.In(o)}
	c.part("", 0, func() { f.node = c.addCond(condNode{op: condFollow, a: int32(index)}) })
	c.p.index[d.Name] = Ref{FollowKind, int32(index)}
	c.p.Follows = append(c.p.Follows, f)
	c.calls[d.Call.Output.Name] = append(
		c.calls[d.Call.Output.Name],
		c.caller(Caller{Ref: Ref{FollowKind, int32(index)}, Name: d.Name, node: f.node, value: -1}),
	)
}

func (c *compiler) loop(d *sheet.Loop) {
	call := d.Call.Calls[0].Output
	index, output := len(c.p.Loops), c.p.Index(OutputKind, call.Name)
	u, left, right := c.sides(d.Keep.Of, d.Keep.Target)
	c.begins(LoopKind, index)
	l := Loop{Name: d.Name, Output: output, of: c.value(d.Keep.Of, u, left), target: c.beside(d.Keep.Of, d.Keep.Target, u, right),
		integral: c.clause(d.Integral), derivative: c.clause(d.Derivative), every: c.clause(d.Every), while: c.while(d.While)}
	o := c.p.Job.Outputs[output]
	band := d.Band.Quantity
	l.gain = (o.Range.To.Value - o.Range.From.Value) / band.Unit.ConvertDifference(band.Value, u)
	if d.Acting.Word == "direct" {
		l.gain = -l.gain
	}
	if d.Bias != nil {
		l.bias = d.Bias.Quantity.In(o.Unit())
	}
	c.p.loops = append(c.p.loops, printText(d.Working())*31+c.printValue(d.Keep.Of))
	c.part("", c.p.loops[index], func() { l.node = c.addCond(condNode{op: condLoop, a: int32(index)}) })
	c.p.index[d.Name] = Ref{LoopKind, int32(index)}
	c.p.Loops = append(c.p.Loops, l)
	c.calls[call.Name] = append(c.calls[call.Name], c.caller(Caller{Ref: Ref{LoopKind, int32(index)}, Name: d.Name, node: l.node, value: -1}))
}

func (c *compiler) while(d *sheet.ConditionClause) int32 {
	if d == nil {
		return -1
	}
	return c.condition("while", d.Condition)
}

// allowed tells whether something that depends on values calls: not while its
// condition is false, and nobody can tell while one of the two is unknown.
func (s *Stepper) allowed(while int32, known bool) truth {
	switch {
	case while >= 0 && s.truths[while] == isFalse:
		return isFalse
	case while >= 0 && s.truths[while] == isUnknown || !known:
		return isUnknown
	}
	return isTrue
}

// stepFollow works out a follow.
func (s *Stepper) stepFollow(index int32) truth {
	f := &s.p.Follows[index]
	v := s.allowed(f.while, s.known[f.of])
	if v == isTrue {
		if out := f.line(s.values[f.of]); out != s.follows[index] {
			s.follows[index] = out
			s.newOutputs.add(int32(f.Output))
		}
	}
	return v
}

// line is the output's value for one that it follows.
func (f *Follow) line(x float64) float64 {
	a, b := f.from, f.to
	if a[0] > a[1] {
		a[0], a[1], b[0], b[1] = a[1], a[0], b[1], b[0]
	}
	switch {
	case x <= a[0]:
		return b[0]
	case x >= a[1]:
		return b[1]
	}
	return b[0] + (x-a[0])*(b[1]-b[0])/(a[1]-a[0])
}

// stepLoop works a loop out when it begins to call, and then at its own period.
func (s *Stepper) stepLoop(i, index int32) truth {
	l, m := &s.p.Loops[index], &s.loops[index]
	v := s.allowed(l.while, s.known[l.of] && s.known[l.target])
	if v != isTrue {
		m.interrupted = v == isUnknown && (m.running || m.interrupted)
		m.running = false
		s.timers.Set(i, never)
		return v
	}
	before := m.out
	switch {
	case !m.running:
		s.catchUpValue(l.of)
		s.beginLoop(l, m)
	case s.now >= after(m.at, s.duration(int64(l.every))):
		s.catchUpValue(l.of)
		s.moveLoop(l, m)
	}
	if m.out != before {
		s.newOutputs.add(int32(l.Output))
	}
	s.timers.Set(i, after(m.at, s.duration(int64(l.every))))
	return v
}

// beginLoop takes the output over from where it stands, unless it stands where
// nobody calls it.
func (s *Stepper) beginLoop(l *Loop, m *loopMemory) {
	o := &s.p.Outputs[l.Output]
	m.running, m.has, m.begun, m.at, m.x = true, false, s.now, s.now, s.values[l.of]
	m.share = l.gain * (s.values[l.target] - m.x)
	if l.integral >= 0 && (m.interrupted || s.outputs[l.Output].state != Off) {
		m.takeOver(s.outputs[l.Output].level)
	} else {
		m.sum = l.bias
		if l.integral >= 0 {
			m.sum = o.Low
		}
		m.out = o.clamp(m.share + m.sum)
	}
	m.interrupted = false
}

// takeOver makes the loop go on from where the output stands.
func (m *loopMemory) takeOver(out float64) { m.out, m.sum = out, out-m.share }

// moveLoop is one step. The integral holds while the output is at a limit that
// it would drive it beyond. While another has the output, the step starts from
// where that has put it.
func (s *Stepper) moveLoop(l *Loop, m *loopMemory) {
	o := &s.p.Outputs[l.Output]
	x, dt := s.values[l.of], float64(s.now-m.at)
	deviation := s.values[l.target] - x
	if l.integral >= 0 && !m.has {
		m.takeOver(s.outputs[l.Output].level)
	}
	m.share = l.gain * deviation
	if l.derivative >= 0 {
		m.share -= l.gain * float64(s.duration(int64(l.derivative))) * (x - m.x) / dt
	}
	if l.integral >= 0 {
		step := l.gain * deviation * dt / float64(s.duration(int64(l.integral)))
		out := m.share + m.sum + step
		if !(out > o.High && step > 0) && !(out < o.Low && step < 0) {
			m.sum += step
		}
	}
	m.out, m.x, m.at = o.clamp(m.share+m.sum), x, s.now
}

func (o *Output) clamp(v float64) float64 { return math.Max(o.Low, math.Min(v, o.High)) }
