package sheet

// A Proof is `proven by INPUT within D` of an output: a contact that follows it, such as that of its motor. It makes
// an alarm named OUTPUT.unproven.
type Proof struct {
	Clause
	By     *Name
	Within *Duration
}

func (p *Proof) String() string { return "proven by " + p.By.Name + " within " + p.Within.String() }

func provenRow(to **Proof) row {
	return ownRow("proven by", to, func(p *parser, c Clause) *Proof {
		x := &Proof{Clause: c, By: p.aName()}
		p.expect("within", "before how long it may take to follow")
		x.Within = p.duration()
		return x
	}).with(func() []*Duration {
		if *to == nil {
			return nil
		}
		return []*Duration{(*to).Within}
	})
}

// alarm makes the alarm that the clause stands for: it comes when one of the two has been on without the other
// for so long, a contact that stays behind as well as one that does not come. What a person has to see to has a
// high priority.
func (p *Proof) alarm(o *Output) *Alarm {
	d := &Alarm{
		Head: Head{At: p.At, NameAt: p.At, Name: o.Name + unprovenSuffix, Label: o.Title() + " is not proven"},
		Rule: &Rule{},
		Own:  true,
	}
	is := func(at Place, name string) Condition { return &Test{Name: &Name{at, name}} }
	isNot := func(at Place, name string) Condition { return &Not{at, is(at, name)} }
	apart := &Or{[]Condition{
		&And{[]Condition{is(p.At, o.Name), isNot(p.By.At, p.By.Name)}},
		&And{[]Condition{isNot(p.At, o.Name), is(p.By.At, p.By.Name)}},
	}}
	d.Rule.Head = d.Head
	d.Rule.Alarm, d.Rule.OnWhen = d, &ConditionClause{Clause{At: p.At}, &For{apart, p.Within}}
	d.Priority = &WordClause{Clause{At: p.At}, "high"}
	return d
}

// proof checks by what an output is proven. Where that is wrong, it is told once, and not of the alarm again.
func (c *checker) proof(o *Output) {
	if o.Proven == nil {
		return
	}
	by := c.resolve(o.Proven.By)
	in, is := by.(*Input)
	if by != nil && (!is || !in.Discrete) {
		c.errorf(
			o.Proven.By.At,
			"wrong-kind",
			"%s is %s; what proves %s is a discrete input that follows it",
			o.Proven.By.Name,
			describe(by),
			o.Name,
		)
	}
	if a, own := c.job.names[o.Name+unprovenSuffix].(*Alarm); own && (!is || !in.Discrete) {
		a.broken, a.Rule.broken = true, true
		a.Rule.OnWhen.Condition = &Test{Name: &Name{o.Proven.At, o.Name}}
	}
}
