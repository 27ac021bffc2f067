package logic

import (
	"fmt"
	"strings"

	"rectura/core/unit"
)

// An operation is what a condition may do, in one place: its name, what it looks at,
// how it is written in a dump of the program, and what it says of its truth. How it is
// evaluated stands in `cond`, since the switch there is faster than a table.
type operation struct {
	name    string
	link    func(k *linker, i int32, n *condNode)
	text    func(p *Program, n *condNode) string
	explain func(s *Stepper, i int32, n *condNode, v truth, in lasting)
}

// operations has an entry for every condOp. It is filled when the program starts, as
// explanations lead to others.
var operations [condOps]operation

func init() {
	for op, name := range map[condOp]string{condBelow: "<", condAtMost: "<=", condAbove: ">", condAtLeast: ">="} {
		operations[op] = operation{name, linkValues, textOfComparison, (*Stepper).explainCompare}
	}
	for op, name := range map[condOp]string{condBetween: "between", condOutside: "outside", condNear: "near"} {
		operations[op] = operation{name, linkValues, textOfRange, (*Stepper).explainRelation}
	}
	operations[condCrosses] = operation{"crosses", linkValues, func(p *Program, n *condNode) string {
		s := fmt.Sprintf("v%d crosses v%d", n.a, n.b)
		if n.n >= 0 {
			s += " for " + p.durationText(int64(n.n))
		}
		return s
	}, (*Stepper).explainRelation}
	operations[condChanges] = operation{"changes", linkValues, func(_ *Program, n *condNode) string {
		return fmt.Sprintf("v%d changes", n.a)
	}, (*Stepper).explainRelation}
	for op, name := range map[condOp]string{condRising: "rising", condFalling: "falling"} {
		operations[op] = operation{name, linkValues, textOfSlope, (*Stepper).explainRelation}
	}
	operations[condContact] = operation{"contact", linkInput, func(p *Program, n *condNode) string {
		return p.Inputs[n.a].Name
	}, explainContact}
	operations[condGood] = operation{"good", linkInput, func(p *Program, n *condNode) string {
		return p.Inputs[n.a].Name + " is good"
	}, func(s *Stepper, i int32, n *condNode, v truth, in lasting) { s.explainQuality(s.input(n.a), i, v, in) }}
	operations[condKnown] = operation{
		"known",
		func(k *linker, i int32, n *condNode) { k.values(i, n.a) },
		func(_ *Program, n *condNode) string {
			return fmt.Sprintf("v%d is known", n.a)
		},
		func(s *Stepper, i int32, _ *condNode, v truth, in lasting) {
			s.explainQuality(Term{Input: -1}, i, v, in)
		},
	}
	operations[condDaytime] = operation{"time between", func(*linker, int32, *condNode) {}, func(p *Program, n *condNode) string {
		d := p.daytimes[n.n]
		return fmt.Sprintf("time of day between %s and %s", unit.FormatDuration(d.from), unit.FormatDuration(d.to))
	}, explainKind(DaytimeTerm)}

	operations[condNot] = operation{"not", linkCond, func(_ *Program, n *condNode) string {
		return fmt.Sprintf("not c%d", n.a)
	}, func(s *Stepper, _ int32, n *condNode, _ truth, in lasting) { s.explain(n.a, in) }}
	operations[condAnd] = operation{"and", linkArgs, textOfArgs, func(s *Stepper, _ int32, n *condNode, v truth, in lasting) {
		s.explainTerms(n, v, v == isTrue, in)
	}}
	operations[condOr] = operation{"or", linkArgs, textOfArgs, func(s *Stepper, _ int32, n *condNode, v truth, in lasting) {
		s.explainTerms(n, v, v == isFalse, in)
	}}
	operations[condQuorum] = operation{"at least", linkArgs, func(p *Program, n *condNode) string {
		return fmt.Sprintf("at least %d of %s", n.n, strings.Join(p.argTexts(n), ", "))
	}, func(s *Stepper, _ int32, n *condNode, v truth, in lasting) {
		for _, a := range s.p.args[n.a : n.a+n.b] {
			if s.truths[a] == v {
				s.explain(a, in)
			}
		}
	}}
	for op, name := range map[condOp]string{condFor: "for", condForStrict: "off after"} {
		operations[op] = operation{name, linkCond, textOfDelay, explainFor}
	}
	for op, name := range map[condOp]string{condTurnsOn: "turns on", condTurnsOff: "turns off", condTurns: "turns"} {
		operations[op] = operation{name, linkCond, func(_ *Program, n *condNode) string {
			return fmt.Sprintf("c%d %s", n.a, name)
		}, explainTurn}
	}

	operations[condRule] = operation{"rule", func(k *linker, i int32, n *condNode) {
		r := &k.p.Rules[n.a]
		k.conds(i, r.trip, r.turnOn, r.turnOff, r.reset, r.permissive, r.interlock)
	}, func(p *Program, n *condNode) string { return "rule " + p.Rules[n.a].Name }, func(s *Stepper, i int32, n *condNode, _ truth, in lasting) {
		s.explainState(i, s.p.RefOf(int(n.a)), Stand{State: s.rules[n.a].shown}, in)
	}}
	operations[condOutput] = operation{"output", func(k *linker, i int32, n *condNode) {
		k.outputConds[n.a] = append(k.outputConds[n.a], i)
	}, func(p *Program, n *condNode) string { return "output " + p.Outputs[n.a].Name }, func(s *Stepper, i int32, n *condNode, _ truth, in lasting) {
		s.explainState(i, Ref{OutputKind, n.a}, Stand{State: s.outputs[n.a].state}, in)
	}}
	operations[condBands] = operation{"bands", func(k *linker, i int32, n *condNode) {
		for _, band := range k.p.Bands[n.a].Bands {
			k.conds(i, band.limit)
		}
	}, func(p *Program, n *condNode) string { return "bands " + p.Bands[n.a].Name }, explainNothing}
	operations[condBand] = operation{"band", linkElsewhere, func(p *Program, n *condNode) string {
		return "band " + p.Bands[n.a].Name + " " + p.Bands[n.a].Bands[n.b].Title
	}, func(s *Stepper, i int32, n *condNode, v truth, in lasting) {
		if v == isUnknown {
			s.explain(s.p.Bands[n.a].Bands[0].limit, lasting{})
			return
		}
		s.explainState(i, Ref{BandsKind, n.a}, s.bandShown(n.a), in)
	}}
	operations[condAlarm] = operation{"alarm", func(k *linker, i int32, n *condNode) {
		a := &k.p.Alarms[n.a]
		k.conds(i, k.p.Rules[a.Rule].node, a.inhibit)
	}, func(p *Program, n *condNode) string { return "step of alarm " + p.Alarms[n.a].Name }, explainNothing}
	operations[condAlarmTest] = operation{"alarm test", linkElsewhere, func(p *Program, n *condNode) string {
		return "alarm " + p.Alarms[n.a].Name + [...]string{" announced", " unacknowledged", " shelved"}[n.n]
	}, explainKind(AlarmTerm)}
	operations[condMessage] = operation{"message", func(k *linker, i int32, n *condNode) {
		k.conds(i, k.p.Messages[n.a].when)
	}, func(p *Program, n *condNode) string { return "message " + p.Messages[n.a].Name }, explainNothing}
	operations[condFollow] = operation{"follow", func(k *linker, i int32, n *condNode) {
		f := &k.p.Follows[n.a]
		k.values(i, f.of)
		k.conds(i, f.while)
	}, func(p *Program, n *condNode) string {
		return fmt.Sprintf("follow %s of v%d", p.Follows[n.a].Name, p.Follows[n.a].of)
	}, explainNothing}
	operations[condLoop] = operation{"loop", func(k *linker, i int32, n *condNode) {
		l := &k.p.Loops[n.a]
		k.values(i, l.of, l.target)
		k.conds(i, l.while)
	}, func(p *Program, n *condNode) string {
		l := &p.Loops[n.a]
		return fmt.Sprintf("loop %s of v%d at v%d", l.Name, l.of, l.target)
	}, explainNothing}
}

// linkElsewhere is of what is marked by that which it is part of: its bands; its alarm's rule and
// step.
func linkElsewhere(*linker, int32, *condNode) {}

func linkValues(k *linker, i int32, n *condNode) {
	values := n.values()
	k.values(i, values[:]...)
}

func linkInput(k *linker, i int32, n *condNode) { k.inputConds[n.a] = append(k.inputConds[n.a], i) }

func linkCond(k *linker, i int32, n *condNode) { k.condConds[n.a] = append(k.condConds[n.a], i) }

func linkArgs(k *linker, i int32, n *condNode) {
	for _, a := range k.p.args[n.a : n.a+n.b] {
		k.condConds[a] = append(k.condConds[a], i)
	}
}

func textOfComparison(_ *Program, n *condNode) string {
	s := fmt.Sprintf("v%d %s v%d", n.a, operations[n.op].name, n.b)
	if n.deadband >= 0 {
		s += fmt.Sprintf(" deadband v%d", n.deadband)
	}
	if n.hysteresis >= 0 {
		s += fmt.Sprintf(" hysteresis v%d", n.hysteresis)
	}
	return s
}

func textOfRange(_ *Program, n *condNode) string {
	s := fmt.Sprintf("v%d %s v%d, v%d", n.a, operations[n.op].name, n.b, n.n)
	if n.hysteresis >= 0 {
		s += fmt.Sprintf(" hysteresis v%d", n.hysteresis)
	}
	return s
}

func textOfSlope(p *Program, n *condNode) string {
	f := p.slopes[n.n]
	return fmt.Sprintf(
		"v%d %s faster than %g in %s over %s",
		n.a,
		operations[n.op].name,
		f.rate,
		unit.FormatDuration(int64(f.per)),
		p.durationText(int64(f.over)),
	)
}

func textOfDelay(p *Program, n *condNode) string {
	return fmt.Sprintf("c%d %s %s", n.a, operations[n.op].name, p.durationText(int64(n.b)))
}

func textOfArgs(p *Program, n *condNode) string {
	return strings.Join(p.argTexts(n), " "+operations[n.op].name+" ")
}

func (p *Program) argTexts(n *condNode) []string {
	texts := make([]string, n.b)
	for i, a := range p.args[n.a : n.a+n.b] {
		texts[i] = fmt.Sprintf("c%d", a)
	}
	return texts
}

// explainNothing is of steps, which are no condition that anybody asks about.
func explainNothing(*Stepper, int32, *condNode, truth, lasting) {}

// explainKind is a term of a kind that says the rest by itself.
func explainKind(kind TermKind) func(s *Stepper, i int32, n *condNode, v truth, in lasting) {
	return func(s *Stepper, i int32, _ *condNode, v truth, in lasting) {
		s.terms = append(s.terms, in.of(Term{Kind: kind, Cond: i, Input: -1, Holds: v == isTrue}))
	}
}

func (s *Stepper) explainState(i int32, of Ref, stand Stand, in lasting) {
	s.terms = append(s.terms, in.of(Term{Kind: StateTerm, Cond: i, Input: -1, Of: of, Stand: stand}))
}

func (s *Stepper) explainQuality(t Term, i int32, v truth, in lasting) {
	t = in.of(t)
	t.Kind, t.Cond, t.Stand.State = QualityTerm, i, Bad
	if v == isTrue {
		t.Stand.State = Good
	}
	s.terms = append(s.terms, t)
}

func explainContact(s *Stepper, i int32, n *condNode, v truth, in lasting) {
	t := in.of(s.input(n.a))
	t.Cond, t.Kind = i, ContactTerm
	if v == isUnknown {
		s.explainBad(t)
		return
	}
	s.terms = append(s.terms, t)
}

func explainFor(s *Stepper, i int32, n *condNode, v truth, in lasting) {
	if v != isUnknown && s.truths[n.a] == isTrue {
		if in = (lasting{s.duration(int64(n.b)), s.conds[i].since, v == isFalse}); v == isTrue && s.now-in.since < in.length && !s.patient {
			in = lasting{} // it counts at once
		}
	}
	s.explain(n.a, in)
}

func explainTurn(s *Stepper, i int32, n *condNode, v truth, in lasting) {
	if v == isUnknown {
		s.explain(n.a, lasting{})
		return
	}
	s.terms = append(s.terms, in.of(Term{Kind: TurnTerm, Cond: i, Input: -1, Holds: v == isTrue, On: s.truths[n.a] == isTrue}))
}
