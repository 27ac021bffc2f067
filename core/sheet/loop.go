package sheet

import "rectura/core/unit"

// A Loop moves an analog output so that a value is kept at its target: PI(D) in
// the standard form of ISA-5.9, u = K·(e + 1/Ti·∫e dt) with the derivative on the
// measurement, where K is the output's range over the proportional band.
type Loop struct {
	Head
	Keep       *KeepClause
	Acting     *WordClause     // reverse: the output rises when the value is below its target; or direct
	Band       *QuantityClause // `proportional band`
	Integral   *DurationClause // nil: none, and Bias counts
	Bias       *QuantityClause
	Derivative *DurationClause
	Every      *DurationClause
	While      *ConditionClause
	Call       *CallClause
}

// KeepClause is `keep NAME at VALUE`.
type KeepClause struct {
	Clause
	Of     *Name
	Target Expr
}

// Keyword is the word that the declaration begins with.
func (*Loop) Keyword() string { return "loop" }

// Calls lists what it calls.
func (d *Loop) Calls() []*Call {
	if d.Call == nil {
		return nil
	}
	return d.Call.Calls
}

func (k *KeepClause) String() string { return "keep " + k.Of.Name + " at " + k.Target.String() }

func (p *parser) loop(h Head) Declaration {
	d := &Loop{Head: h}
	p.name(&d.Head)
	return d
}

func (d *Loop) words() []string { return []string{d.Name, d.label()} }

func (d *Loop) rows() []row {
	return d.rowsWith(false,
		ownRow("keep", &d.Keep, func(p *parser, c Clause) *KeepClause {
			k := &KeepClause{Clause: c, Of: p.aName()}
			p.expect("at", "before the target: keep OXYGEN at 8 mg/L")
			k.Target = p.asValue(p.sum())
			return k
		}),
		wordRow("acting", &d.Acting, "which way the output acts", "reverse", "direct"),
		quantityRow("proportional band", &d.Band, aboveZero),
		durationRow("integral", &d.Integral).called("integral"),
		quantityRow("bias", &d.Bias, func(p *parser) (unit.Quantity, Place) {
			at := p.place(p.peek())
			return p.quantity(), at
		}),
		durationRowBy("derivative", &d.Derivative, (*parser).anyTime).called("derivative"),
		durationRow("every", &d.Every).called("worked out every"),
		conditionRow("while", &d.While),
		callRow(&d.Call))
}

// anyTime reads a duration, or 0 of a unit of time.
func (p *parser) anyTime() *Duration {
	t := p.peek()
	if t.kind == tokNumber && p.tokens[1].kind == tokUnit && p.tokens[1].unit.Dimension() == unit.Time {
		if before := p.tokens; true {
			if q := p.quantity(); q.Value == 0 {
				return &Duration{At: p.place(t), Amount: Amount{Parts: []unit.Quantity{q}}}
			}
			p.tokens = before
		}
	}
	return p.duration()
}

func (c *checker) loop(d *Loop) {
	c.clauses(d.rows())
	var o *Output
	if d.Call != nil {
		x := d.Call.Calls[0]
		o = c.analogCalled(x.Output, "a loop")
		switch {
		case x.Value != nil:
			c.errorf(x.Value.Place(), "wrong-kind", "a loop works out the value of %s itself; take `at %s` out", x.Output.Name, x.Value)
		case len(d.Call.Calls) > 1:
			c.errorf(
				d.Call.Calls[1].Output.At,
				"wrong-kind",
				"a loop calls one output; let %s follow %s instead",
				d.Call.Calls[1].Output.Name,
				x.Output.Name,
			)
		}
	}
	if k := d.Keep; k != nil {
		if t, ok := c.pair(k.Of, k.Target); ok && d.Band != nil && !d.Band.Quantity.Unit.Comparable(t.Unit) {
			c.errorf(
				d.Band.AmountAt,
				"unit-mismatch",
				"a proportional band in %s beside %s, which is %s; it is how far the value must move to drive the output over its whole range",
				d.Band.Quantity.Unit.Describe(),
				k.Of,
				inUnit(t.Unit),
			)
		}
	}
	if b := d.Bias; b != nil && o != nil {
		switch {
		case !b.Quantity.Unit.Comparable(o.Unit()):
			c.errorf(
				b.AmountAt,
				"unit-mismatch",
				"%s is %s, and the output %s is %s",
				b.Quantity,
				inUnit(b.Quantity.Unit),
				o.Name,
				inUnit(o.Unit()),
			)
		case !o.covers(b.Quantity.In(o.Unit())):
			c.errorf(b.AmountAt, "output-range", "%s is outside the range of %s, %s", b.Quantity, o.Name, o.Range)
		}
	}
	if !d.broken {
		c.wholeLoop(d)
	}
}

// wholeLoop checks that nothing is missing, or too much.
func (c *checker) wholeLoop(d *Loop) {
	for _, x := range []struct {
		there bool
		what  string
	}{
		{d.Keep != nil, "keep OXYGEN at 8 mg/L"},
		{d.Acting != nil, "acting reverse (the output rises when the value is below its target), or acting direct"},
		{d.Band != nil, "proportional band 4 mg/L"},
		{d.Integral != nil || d.Bias != nil, "integral 120 s, or, without one, where the output stands on target: bias 50 %"},
		{d.Every != nil, "every 1 s"},
		{d.Call != nil, "call DOSING"},
	} {
		if !x.there {
			c.errorf(d.NameAt, "missing-clause", "the loop %s is not complete; add a line such as: %s", d.Name, x.what)
		}
	}
	if d.Integral != nil && d.Bias != nil {
		c.errorf(
			d.Bias.At,
			"exclusive-clauses",
			"`bias` beside `integral`: the integral finds where the output must stand; take one of the two out",
		)
	}
}

// sayLoop says a loop as it reads aloud.
func (j *teller) sayLoop(d *Loop) string {
	if d.Keep == nil || d.Call == nil || d.Band == nil || d.Acting == nil || d.Every == nil {
		return ""
	}
	way := "raise " + j.named(d.Call.Calls[0].Output) + " when it is below"
	if d.Acting.Word == "direct" {
		way = "raise " + j.named(d.Call.Calls[0].Output) + " when it is above"
	}
	s := "Keep " + j.named(d.Keep.Of) + " at " + j.sayValue(d.Keep.Target) + ": " + way +
		", over its whole range for " + d.Band.Quantity.String()
	if d.Integral != nil {
		s += ", with an integral of " + j.sayDuration(d.Integral.Duration)
	} else if d.Bias != nil {
		s += ", from " + d.Bias.Quantity.String() + " on target"
	}
	if d.Derivative != nil && d.Derivative.Duration.String() != "0 s" {
		s += " and a derivative of " + j.sayDuration(d.Derivative.Duration)
	}
	return s + "; worked out every " + j.sayDuration(d.Every.Duration) + j.sayWhile(d.While) + "."
}
