package sheet

// A Follow is an analog output in proportion to a value: the straight line
// between two ranges, held at their ends. A falling range makes it reverse
// acting.
type Follow struct {
	Head
	Call  *FollowClause
	While *ConditionClause
}

// FollowClause is `call OUTPUT from NAME A..B U to C..D V`.
type FollowClause struct {
	Clause
	Output   *Name
	Of       *Name
	From, To Range
}

// Keyword is the word that the declaration begins with.
func (*Follow) Keyword() string { return "follow" }

// Calls lists what it calls.
func (d *Follow) Calls() []*Call {
	if d.Call == nil {
		return nil
	}
	return []*Call{{Output: d.Call.Output}}
}

func (c *FollowClause) String() string {
	return "call " + c.Output.Name + " from " + c.Of.Name + " " + c.From.String() + " to " + c.To.String()
}

func (p *parser) follow(h Head) Declaration {
	d := &Follow{Head: h}
	p.name(&d.Head)
	return d
}

func (d *Follow) words() []string { return []string{d.Name, d.label()} }

func (d *Follow) rows() []row {
	return d.rowsWith(false,
		ownRow("call", &d.Call, func(p *parser, c Clause) *FollowClause {
			x := &FollowClause{Clause: c, Output: p.aName()}
			p.expect("from", "before the value that the output follows: call LIGHTS from DAYLIGHT 0..1000 lx to 100..0 %")
			x.Of = p.aName()
			p.ends(&x.From, &x.To)
			return x
		}),
		conditionRow("while", &d.While))
}

func (c *checker) follow(d *Follow) {
	c.clauses(d.rows())
	x := d.Call
	if x == nil {
		if !d.broken {
			c.errorf(d.NameAt, "missing-clause", "%s calls nothing; add a line such as: call LIGHTS from DAYLIGHT 0..1000 lx to 100..0 %%", d.Name)
		}
		return
	}
	if o := c.analogCalled(x.Output, "a follow"); o != nil {
		to := x.To
		switch {
		case !to.To.Unit.Comparable(o.Unit()):
			c.errorf(to.At, "unit-mismatch", "a range in %s for the output %s, which is %s", to.To.Unit.Describe(), o.Name, inUnit(o.Unit()))
		case !o.covers(to.From.In(o.Unit())) || !o.covers(to.To.In(o.Unit())):
			c.errorf(to.At, "output-range", "%s goes beyond the range of %s, %s", to, o.Name, o.Range)
		}
	}
	if t, ok := c.followed(x.Of); ok && !x.From.To.Unit.Comparable(t.Unit) {
		c.errorf(x.From.At, "unit-mismatch", "a range in %s beside %s, which is %s", x.From.To.Unit.Describe(), x.Of, inUnit(t.Unit))
	}
}

// analogCalled finds the analog output that a follow or a loop calls; nil if
// there is none.
func (c *checker) analogCalled(n *Name, caller string) *Output {
	o := c.called(n, caller)
	if o == nil || o.broken {
		return nil
	}
	if o.Range == nil {
		c.errorf(n.At, "wrong-kind", "%s is on or off; %s calls an analog output: output %s analog 0..100 %%", n.Name, caller, n.Name)
		return nil
	}
	return o
}

// followed finds the type of a signal that an output depends on.
func (c *checker) followed(n *Name) (Type, bool) {
	if !c.resolveAll(n) {
		return Type{}, false
	}
	t, err := c.job.TypeOf(n)
	c.typeError(err)
	return t, err == nil
}

// sayFollow says a follow as it reads aloud.
func (j *teller) sayFollow(d *Follow) string {
	if d.Call == nil {
		return ""
	}
	x := d.Call
	s := j.named(x.Output) + " follows " + j.sayValue(x.Of) + ": " + x.To.From.String() + " at " + x.From.From.String() + ", " +
		x.To.To.String() + " at " + x.From.To.String() + ", in a straight line between"
	return s + j.sayWhile(d.While) + "."
}

func (j *teller) sayWhile(c *ConditionClause) string {
	if c == nil {
		return ""
	}
	return ", while " + j.say(c.Condition)
}
