package logic

import (
	"math"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// standingProportion is how a follow or a loop stands, and why.
func (s *Stepper) standingProportion(kind Kind, i int32) (State, Reason) {
	from := len(s.terms)
	var node, while int32
	t := Term{Input: -1, Of: Ref{kind, i}}
	values := [2]int32{-1, -1}
	if kind == FollowKind {
		s.catchUpValue(s.p.Follows[i].of)
	} else {
		s.catchUpValue(s.p.Loops[i].of)
	}
	if kind == FollowKind {
		f := &s.p.Follows[i]
		node, while, values[0] = f.node, f.while, f.of
		t.Kind, t.Left, t.High = FollowTerm, s.values[f.of], s.follows[i]
	} else {
		l, m := &s.p.Loops[i], &s.loops[i]
		node, while, values = l.node, l.while, [2]int32{l.of, l.target}
		t.Kind, t.Left, t.Limit, t.High, t.Share, t.Sum, t.Holds = LoopTerm, s.values[l.of], s.values[l.target], m.out, m.share, m.sum, m.has
	}
	switch s.truths[node] {
	case isFalse:
		s.explain(while, lasting{})
		return Off, Reason{Cause: NotWhile, Terms: s.terms[from:]}
	case isUnknown:
		s.reasonFrom = from
		if while >= 0 && s.truths[while] == isUnknown {
			s.explain(while, lasting{})
		} else {
			n := condNode{op: condCrosses, a: values[0], b: max(values[1], values[0])}
			s.explainUnknown(&n)
		}
		return Undecided, Reason{Cause: ByTerms, Terms: s.terms[from:]}
	}
	if k := s.p.firstInput(values[0]); k >= 0 {
		in := s.input(k)
		t.Input, t.Reading, t.At, t.Cold, t.Pinned = in.Input, in.Reading, in.At, in.Cold, in.Pinned
	}
	s.terms = append(s.terms, t)
	return On, Reason{Cause: Following, Terms: s.terms[from:]}
}

// proportionText says what a follow or a loop makes of its value.
func (p *Program) proportionText(t Term) string {
	if t.Kind == FollowTerm {
		f, d := &p.Follows[t.Of.Index], p.Job.Follows[t.Of.Index]
		return d.Call.Of.Name + " " + withUnit(unit.Short(t.Left), p.typeOf(d.Call.Of)) + " gives " + p.Outputs[f.Output].Text(t.High)
	}
	l, d := &p.Loops[t.Of.Index], p.Job.Loops[t.Of.Index]
	o, u := &p.Outputs[l.Output], p.typeOf(d.Keep.Of)
	x, target := unit.ShortPair(t.Left, t.Limit)
	where := "on"
	if far := math.Abs(t.Left - t.Limit); far > 0 {
		where = withUnit(unit.Short(far), u) + " below"
		if t.Left > t.Limit {
			where = withUnit(unit.Short(far), u) + " above"
		}
	}
	text := d.Keep.Of.Name + " " + withUnit(x, u) + " is " + where + " its target " + valueText(d.Keep.Target, target, u)
	rest := "integral"
	if l.integral < 0 {
		rest = "bias"
	}
	text += ": " + o.Text(t.Share) + " in proportion and " + o.Text(t.Sum) + " of " + rest + " give " + o.Text(t.High)
	if !t.Holds {
		text += ", but it does not have the output"
	}
	return text
}

// typeOf is the unit of a value of a checked job.
func (p *Program) typeOf(e sheet.Expr) unit.Unit {
	t, err := p.Job.TypeOf(e)
	if err != nil {
		return unit.Unit{}
	}
	return t.Unit
}
