package sheet

import (
	"fmt"

	"rectura/core/unit"
)

// doubts warns of what is legal and seldom meant. What needs the chains of
// inputs is left to those who compile the job.
func (c *checker) doubts() {
	for _, r := range c.job.Order {
		c.chatter(r)
		c.shortDelays(r)
		if r.Interlock != nil {
			c.unannounced(r.Interlock.Condition, "interlock")
			c.sharedOutput(r)
		}
	}
	for _, o := range c.job.Outputs {
		if o.Interlock == nil {
			continue
		}
		c.unannounced(o.Interlock.Condition, "interlock")
		if o.Fail != nil && o.Fail.Word == "on" {
			c.warnf(
				o.Fail.At,
				"fail-and-interlock",
				"`fail on` beside an interlock, which wins: where both speak, %s is off; make sure that this is meant, and write `fail off`, or take the interlock out",
				o.Name,
			)
		}
	}
	for _, a := range c.job.Alarms {
		if !a.Own && a.Rule.OnWhen != nil {
			c.unannounced(a.Rule.OnWhen.Condition, "alarm "+a.Name)
		}
	}
	c.repeatedLiterals()
	c.shortSettle()
}

// unannounced warns of a signal that something protective depends on, through
// derived values too, and of whose loss nobody is told.
func (c *checker) unannounced(x Condition, what string) {
	var look func(n *Name)
	look = func(n *Name) {
		d := c.job.names[n.Name]
		if c.doubted[d] {
			return
		}
		switch d := d.(type) {
		case *Input:
			c.doubted[d] = true
			if d.BadAlarm == nil && !d.Discrete {
				c.warnf(
					d.NameAt,
					"no-bad-alarm",
					"the %s of %s depends on %s, and nobody is told when that is bad; add: alarm when bad for 5 s",
					what,
					x.Place(),
					d.Name,
				)
			}
		case *Derived:
			c.doubted[d] = true
			Names(d.Value, look)
		}
	}
	walk(x, func(x Condition) {
		for _, e := range values(x) {
			Names(e, look)
		}
	})
}

// sharedOutput warns of an interlock that looks as if it kept an output off.
func (c *checker) sharedOutput(r *Rule) {
	for _, x := range r.Calls() {
		o, _ := c.job.names[x.Output.Name].(*Output)
		if o == nil || o.Interlock != nil {
			continue
		}
		if callers := c.job.callers[o.Name]; len(callers) > 1 {
			c.warnf(
				r.Interlock.At,
				"interlock-of-one",
				"this interlock stops %s only, and %s call the output %s; what protects it belongs on the output",
				r.Name,
				some(callers),
				o.Name,
			)
		}
	}
}

// shortDelays warns of a delay that is over before the next reading comes.
func (c *checker) shortDelays(r *Rule) {
	for _, clause := range r.conditions() {
		walk(clause.Condition, func(x Condition) {
			f, ok := x.(*For)
			if !ok || f.Duration.Name != "" {
				return
			}
			in := c.slowestIn(f.X)
			if in == nil {
				return
			}
			if delay := f.Duration.Amount.Nanoseconds(); delay < c.poll(in) {
				polled := in.Source.Device.Name
				if in.Poll != nil {
					polled = in.Name
				}
				c.warnf(
					f.Duration.At,
					"short-delay",
					"a delay of %s is over before %s is read again, every %s; make it longer, or poll %s more often",
					f.Duration,
					in.Name,
					unit.FormatDuration(c.poll(in)),
					polled,
				)
			}
		})
	}
}

// poll is how often an input is read, in nanoseconds; 0 where that is not
// written as a number.
func (c *checker) poll(in *Input) int64 {
	if in == nil || in.Source == nil {
		return 0
	}
	if in.Poll != nil {
		return fixed(in.Poll)
	}
	d, _ := c.job.names[in.Source.Device.Name].(*Device)
	if d == nil {
		return 0
	}
	if d.Poll == nil {
		return usualPoll
	}
	return fixed(d.Poll)
}

// fixed is a duration in nanoseconds; 0 where none is written, or the name of a setpoint or constant.
func fixed(d *DurationClause) int64 {
	if d == nil || d.Duration.Name != "" {
		return 0
	}
	return d.Duration.Amount.Nanoseconds()
}

// shortSettle warns of a job that has settled before each of its points can have been read.
func (c *checker) shortSettle() {
	settle := int64(DefaultSettle)
	if d := c.job.Settle; d != nil {
		if d.Name != "" {
			return
		}
		settle = d.Amount.Nanoseconds()
	}
	for _, in := range c.job.Inputs {
		poll := c.poll(in)
		if in.broken || poll == 0 {
			continue
		}
		at, needs, what := in.Source.At, poll, "is read every "+unit.FormatDuration(poll)
		if in.Skip != nil {
			at, needs = in.Skip.At, poll*int64(in.Skip.Count+1)
			what = fmt.Sprintf("is good from its reading %d on, after %s", in.Skip.Count+1, unit.FormatDuration(needs))
		}
		if stale := fixed(in.Stale); stale > 0 && stale <= poll {
			c.warnf(
				in.Stale.At,
				"short-settle",
				"%s is stale after %s, and %s, so that it is bad between two readings; make that longer, or poll it more often",
				in.Name,
				unit.FormatDuration(stale),
				what,
			)
		}
		if needs > settle {
			c.warnf(
				at,
				"short-settle",
				"%s %s, and the job settles in %s, so that it starts without it; write a longer `settle`, or poll it more often",
				in.Name,
				what,
				unit.FormatDuration(settle),
			)
		}
	}
}

// slowestIn is the input of a condition, through derived values too, that is read
// most seldom; nil where none is polled.
func (c *checker) slowestIn(x Condition) (slowest *Input) {
	take := func(in *Input) {
		if c.poll(in) > c.poll(slowest) {
			slowest = in
		}
	}
	look := func(n *Name) {
		switch d := c.job.names[n.Name].(type) {
		case *Input:
			take(d)
		case *Derived:
			take(c.slowestOf(d))
		}
	}
	walk(x, func(x Condition) {
		for _, e := range values(x) {
			Names(e, look)
		}
	})
	return slowest
}

// slowestOf is the same of a derived value, worked out once.
func (c *checker) slowestOf(d *Derived) *Input {
	slowest, known := c.slowest[d]
	if known {
		return slowest
	}
	Names(d.Value, func(n *Name) {
		in, _ := c.job.names[n.Name].(*Input)
		if of, is := c.job.names[n.Name].(*Derived); is {
			in = c.slowestOf(of)
		}
		if c.poll(in) > c.poll(slowest) {
			slowest = in
		}
	})
	c.slowest[d] = slowest
	return slowest
}

// repeatedLiterals warns of one number that is written at two places at which
// the same signal is judged.
func (c *checker) repeatedLiterals() {
	first := map[string]Place{}
	look := func(signal, e Expr) {
		l, ok := e.(*Literal)
		if !ok || l.Unit == (unit.Unit{}) || !c.hasInput(signal) {
			return
		}
		key := fmt.Sprintf("%s %g %s", signal, l.Value, l.Unit.Name())
		if before, again := first[key]; !again {
			first[key] = l.At
		} else if before != l.At {
			c.warnf(
				l.At,
				"repeated-number",
				"%s is compared with %s at %s, too; give the number one home: setpoint NAME %s",
				signal,
				l,
				before,
				l,
			)
		}
	}
	for _, r := range c.job.Order {
		for _, clause := range r.conditions() {
			walk(clause.Condition, func(x Condition) {
				switch x := x.(type) {
				case *Compare:
					look(x.L, x.R)
					look(x.R, x.L)
				case *Between:
					look(x.X, x.Low)
					look(x.X, x.High)
				case *Cross:
					look(x.X, x.V)
				}
			})
		}
	}
	for _, b := range c.job.Bands {
		for _, band := range b.Bands {
			look(b.Of, band.Limit)
		}
	}
}
