package sheet

import "rectura/core/unit"

// An Output is a discrete output, or an analog one if it has a Range. Flash,
// Inverted and Stages are about the wire only: every state and value is the
// plant's.
type Output struct {
	Head
	Range    *Range // of an analog one: `analog 0..100 %`
	Drives   *WireClause
	Refresh  *DurationClause // how often it is written, even if it has not changed
	CalledBy *WordClause     // any or all; of an analog one highest or lowest
	Stages   []Stage         // of an analog one: from its value to what the card puts out
	Guard
	Fail     *FailClause
	Flash    *DurationClause // while on, half of it on and half off
	Inverted *Clause
	Proven   *Proof
	Service  *DurationClause // so long may it be on until its next service
}

// FailClause is `fail on`, off or hold; of an analog output `fail VALUE`, off or
// hold.
type FailClause struct {
	Clause
	Word    string
	Value   *unit.Quantity // instead of the word
	ValueAt Place
}

// Keyword is the word that the declaration begins with.
func (*Output) Keyword() string { return "output" }

// Unit is the unit of an analog output.
func (d *Output) Unit() unit.Unit {
	if d.Range == nil {
		return unit.Unit{}
	}
	return d.Range.To.Unit
}

// covers tells whether a value, in the output's unit, is within its range.
func (d *Output) covers(v float64) bool { return v >= d.Range.From.Value && v <= d.Range.To.Value }

func (f *FailClause) String() string {
	if f.Value != nil {
		return "fail " + f.Value.String()
	}
	return "fail " + f.Word
}

func (p *parser) output(h Head) Declaration {
	d := &Output{Head: h}
	p.name(&d.Head)
	if p.accept("analog") {
		r := p.ascending("analog")
		d.Range = &r
	}
	return d
}

func (d *Output) words() []string {
	kind := ""
	if d.Range != nil {
		kind = "analog " + d.Range.String()
	}
	return []string{d.Name, d.label(), kind}
}

func (d *Output) rows() []row {
	combine := func(ways ...string) row {
		return wordRow("called by", &d.CalledBy, "how callers are combined", ways...)
	}
	if d.Range != nil {
		return d.rowsWith(
			true,
			append(
				append(
					[]row{
						wireRow("drives", &d.Drives),
						durationRow("refresh", &d.Refresh),
						combine("highest", "lowest"),
						scaleRow(&d.Stages),
					},
					d.Guard.rows()...),
				ownRow("fail", &d.Fail, (*parser).failValue),
				durationRow("service after", &d.Service),
			)...)
	}
	fail := ownRow("fail", &d.Fail, func(p *parser, c Clause) *FailClause {
		return &FailClause{Clause: c, Word: p.oneOf("the fail state", "on", "off", "hold")}
	})
	return d.rowsWith(
		true,
		append(
			append([]row{wireRow("drives", &d.Drives), durationRow("refresh", &d.Refresh), combine("any", "all")}, d.Guard.rows()...),
			fail,
			durationRow("flash", &d.Flash),
			flagRow("inverted", &d.Inverted),
			provenRow(&d.Proven),
			durationRow("service after", &d.Service),
		)...)
}

func (p *parser) failValue(c Clause) *FailClause {
	f := &FailClause{Clause: c, ValueAt: p.place(p.peek())}
	for _, w := range []string{"off", "hold"} {
		if p.accept(w) {
			f.Word = w
			return f
		}
	}
	if t := p.peek(); t.kind != tokNumber && !p.at("-") {
		p.fail(t, "%s where the fail state must stand: a value such as 0 %%, off (the low end) or hold", t.source())
	}
	q := p.quantity()
	f.Value = &q
	return f
}

func (c *checker) output(o *Output) {
	how := "`called by any` or `called by all`"
	if o.Range != nil {
		how = "`called by highest` or `called by lowest`"
	}
	if callers := c.job.callers[o.Name]; len(callers) > 1 && o.CalledBy == nil {
		c.errorf(o.NameAt, "called-by", "%s call the output %s; say how they are combined: %s", some(callers), o.Name, how)
	}
	c.clauses(o.rows())
	c.wire(o.Drives, &o.Head, o.Range != nil, true)
	if o.Range != nil {
		c.analogOutput(o)
		return
	}
	if o.Fail == nil {
		c.warnf(
			o.NameAt,
			"no-fail",
			"the output %s has no fail state, so it goes off when its callers cannot decide; write `fail on`, `fail off` or `fail hold`",
			o.Name,
		)
	}
}

func (c *checker) analogOutput(o *Output) {
	before := o.Unit()
	for _, s := range o.Stages {
		if !before.Comparable(s.In()) {
			c.errorf(
				s.base().At,
				"chain",
				"this stage begins in %s, but what comes before it is in %s; stages must join",
				s.In().Describe(),
				before.Describe(),
			)
		}
		before = s.Out()
	}
	for _, m := range []*DurationClause{o.MinimumOn, o.MinimumOff} {
		if m != nil {
			c.errorf(
				m.At,
				"exclusive-clauses",
				"a minimum time is for what is on or off, and %s is analog; put it on the rule that calls it",
				o.Name,
			)
		}
	}
	switch f := o.Fail; {
	case f == nil:
		c.warnf(
			o.NameAt,
			"no-fail",
			"the output %s has no fail state, so it goes to %s when its callers cannot decide; write a value such as `fail %s`, or `fail hold`",
			o.Name,
			o.Range.From,
			o.Range.From,
		)
	case f.Value != nil && !f.Value.Unit.Comparable(o.Unit()):
		c.errorf(f.ValueAt, "unit-mismatch", "%s is %s, and the output %s is %s", f.Value, inUnit(f.Value.Unit), o.Name, inUnit(o.Unit()))
	case f.Value != nil && !o.covers(f.Value.In(o.Unit())):
		c.errorf(f.ValueAt, "output-range", "%s is outside the range of %s, %s", f.Value, o.Name, o.Range)
	}
}

// collectCallers notes what calls each output, each once.
func (j *Job) collectCallers() {
	calls := func(name string, calls []*Call) {
		for _, x := range calls {
			output := x.Output.Name
			if all := j.callers[output]; len(all) == 0 || all[len(all)-1] != name {
				j.callers[output] = append(all, name)
			}
		}
	}
	for _, r := range j.Rules {
		calls(r.Name, r.Calls())
	}
	for _, d := range j.Bands {
		calls(d.Name, d.Calls())
	}
	for _, f := range j.Follows {
		calls(f.Name, f.Calls())
	}
	for _, l := range j.Loops {
		calls(l.Name, l.Calls())
	}
	for _, a := range j.Alarms {
		calls(a.Name, a.Outputs())
	}
}
