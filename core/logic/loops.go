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
	calls  bool    // its value is known and its `while` holds
	has    bool    // the output stands where the loop has put it
	beaten bool    // it does not, since another caller's value wins; the integral holds until the loop's own value does
	at     int64   // when it was last worked out,
	x      float64 // at this value
	share  float64 // proportion and derivative
	sum    float64 // the integral, or the bias
	out    float64
}

// leave makes the loop one that has to take its output up anew.
func (m *loopMemory) leave() { m.calls, m.has, m.beaten = false, false, false }

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
		m.leave()
		s.timers.Set(i, never)
		return v
	}
	before := m.out
	switch {
	case !m.calls:
		m.calls, m.beaten = true, true
		s.beginLoop(l, m)
	case s.now >= after(m.at, s.duration(int64(l.every))):
		s.moveLoop(l, m)
	}
	if m.out != before {
		s.newOutputs.add(int32(l.Output))
	}
	s.timers.Set(i, after(m.at, s.duration(int64(l.every))))
	return v
}

// beginLoop begins a period of a loop, without derivative. Its integral is what it was: whether the loop takes its output up,
// or has to win it with its own value from another caller, the output decides.
func (s *Stepper) beginLoop(l *Loop, m *loopMemory) {
	s.catchUpValue(l.of)
	m.at, m.x = s.now, s.values[l.of]
	m.share = l.gain * (s.values[l.target] - m.x)
	if l.integral < 0 {
		m.sum = l.bias
	}
	m.out = s.p.Outputs[l.Output].clamp(m.share + m.sum)
}

// takeUp begins a period of a loop that goes on from where its output stands, or with its proportion alone where that is the
// low end.
func (s *Stepper) takeUp(l *Loop, m *loopMemory) {
	o := &s.p.Outputs[l.Output]
	s.beginLoop(l, m)
	s.timers.Set(l.node, after(m.at, s.duration(int64(l.every))))
	switch stands := s.outputs[l.Output].level; {
	case l.integral < 0:
	case stands == o.Low:
		m.sum, m.out = o.Low, o.clamp(m.share+o.Low)
	default:
		m.sum, m.out = stands-m.share, stands
	}
}

// moveLoop makes one step of a loop. While another caller has the output, the integral holds; while something else has it, the
// loop stands ready to take it up. No period counts as longer than `every`, or than the scan where that is longer, however
// long the job was not running.
func (s *Stepper) moveLoop(l *Loop, m *loopMemory) {
	if !m.has && !m.beaten {
		s.takeUp(l, m)
		return
	}
	o := &s.p.Outputs[l.Output]
	s.catchUpValue(l.of)
	x, dt := s.values[l.of], float64(min(s.now-m.at, max(s.duration(int64(l.every)), s.scan)))
	deviation := s.values[l.target] - x
	m.share = l.gain * deviation
	if l.derivative >= 0 {
		m.share -= l.gain * float64(s.duration(int64(l.derivative))) * (x - m.x) / dt
	}
	if l.integral >= 0 && m.has {
		m.integrate(l.gain*deviation*dt/float64(s.duration(int64(l.integral))), o)
	}
	m.out, m.x, m.at = o.clamp(m.share+m.sum), x, s.now
}

// integrate adds a step to the integral, as far as the output reaches exactly an end of its range: beyond that it holds.
func (m *loopMemory) integrate(step float64, o *Output) {
	if low := o.Low - m.share; step < 0 {
		m.sum = max(m.sum+step, min(m.sum, low))
	}
	if high := o.High - m.share; step > 0 {
		m.sum = min(m.sum+step, max(m.sum, high))
	}
}

func (o *Output) clamp(v float64) float64 { return math.Max(o.Low, math.Min(v, o.High)) }
