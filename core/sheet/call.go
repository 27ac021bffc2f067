package sheet

import (
	"strings"
)

// A Call is an output that is called, an analog one with the value it is to
// have.
type Call struct {
	Output *Name
	Value  Expr // nil for a discrete output
}

// CallClause is `call A, B`, or `call DOSING at 40 %`.
type CallClause struct {
	Clause
	Calls []*Call
}

func (x *Call) String() string {
	if x.Value != nil {
		return x.Output.Name + " at " + x.Value.String()
	}
	return x.Output.Name
}

func (c *CallClause) String() string {
	parts := make([]string, len(c.Calls))
	for i, x := range c.Calls {
		parts[i] = x.String()
	}
	return "call " + strings.Join(parts, ", ")
}

// calls reads outputs with commas between them, each perhaps with its value.
func (p *parser) calls() []*Call {
	var all []*Call
	for {
		x := &Call{Output: p.aName()}
		if p.accept("at") {
			x.Value = p.asValue(p.sum())
		}
		all = append(all, x)
		if !p.accept(",") {
			return all
		}
	}
}

// calls checks that what is called are outputs, and that analog ones are given
// a value, and others none.
func (c *checker) calls(all []*Call, caller string) {
	for _, x := range all {
		o := c.called(x.Output, caller)
		switch {
		case o == nil || o.broken:
		case x.Value == nil && o.Range != nil:
			c.errorf(
				x.Output.At,
				"wrong-kind",
				"%s is an analog output; say the value that it is to have: call %s at %s",
				o.Name,
				o.Name,
				o.Range.To,
			)
		case x.Value != nil && o.Range == nil:
			c.errorf(x.Value.Place(), "wrong-kind", "%s is on or off and takes no value; write: call %s", o.Name, o.Name)
		case x.Value != nil:
			c.calledAt(x, o)
		}
	}
}

// once checks that nothing is called twice.
func (c *checker) once(all []*Call, caller string) {
	seen := map[string]bool{}
	for _, x := range all {
		if n := x.Output; seen[n.Name] {
			c.errorf(n.At, "repeated-name", "%s is called twice by %s; take one out", n.Name, caller)
		}
		seen[x.Output.Name] = true
	}
}

// calledAt checks the value that an analog output is to have.
func (c *checker) calledAt(x *Call, o *Output) {
	if !c.resolveAll(x.Value) {
		return
	}
	u := o.Range.To.Unit
	t, err := c.job.TypeOf(x.Value)
	switch {
	case err != nil:
		c.typeError(err)
	case !t.Unit.Comparable(u):
		c.errorf(x.Value.Place(), "unit-mismatch", "%s is %s, and the output %s is %s", x.Value, inUnit(t.Unit), o.Name, inUnit(u))
	case c.hasInput(x.Value):
		c.errorf(x.Value.Place(), "wrong-kind", "%s depends on a signal; an output that follows one is written with `follow`", x.Value)
	default:
		if v, known := c.job.written(x.Value, u); known && !o.covers(v) {
			c.errorf(x.Value.Place(), "output-range", "%s is outside the range of %s, %s", x.Value, o.Name, o.Range)
		}
	}
}

// called checks that what is called is an output, and gives it; nil if not.
func (c *checker) called(n *Name, caller string) *Output {
	d := c.resolve(n)
	o, is := d.(*Output)
	if d != nil && !is {
		c.errorf(n.At, "wrong-kind", "%s is %s; %s calls outputs", n.Name, describe(d), caller)
	}
	return o
}

// sayCalls says what is called: "Standby blower and Oxygen valve at 40 %".
func (j *teller) sayCalls(calls []*Call) string {
	var all []string
	for _, x := range calls {
		s := j.named(x.Output)
		if x.Value != nil {
			s += " at " + j.sayValue(x.Value)
		}
		all = append(all, s)
	}
	return List(all, "and")
}
