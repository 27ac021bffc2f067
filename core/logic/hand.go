package logic

import (
	"slices"

	"rectura/core/signal"
)

// A hand that a person gave may not be able to go on: its output's own interlock trips, or the plant does not have any more
// what it gave. The output then stays off until the hand's own end. An alarm is active until a person acknowledges it.

// A Refusal is a command of the last instant that was not carried out, and why, in a sentence.
type Refusal struct {
	Of   Ref
	Text string
}

// Refused returns the commands of the last instant that its readings did not let be carried out. They are overwritten by the
// next Step.
func (s *Stepper) Refused() []Refusal { return s.refused }

// asked is a hand that was given since the last instant, and what it took the place of.
type askedHand struct {
	output int32
	before outputMemory
	lasts  int64 // for how long from this instant on what it took the place of was to last; 0 where that was settled before
}

// askHand notes what a hand that was given took the place of. Of several given at one instant, that is what the first did.
func (s *Stepper) askHand(i int32, before *outputMemory) {
	of := func(a askedHand) bool { return a.output == i }
	switch mode := s.outputs[i].mode; {
	case mode != HandOn && mode != HandAt:
		s.handsAsked = slices.DeleteFunc(s.handsAsked, of)
	case !slices.ContainsFunc(s.handsAsked, of):
		a := askedHand{output: i, before: *before}
		for _, e := range s.endings {
			if e.of == (Ref{OutputKind, i}) {
				a.lasts = e.in
			}
		}
		s.handsAsked = append(s.handsAsked, a)
	}
}

// interlockHand takes an output out of hand whose own interlock turns it off. A hand given at this very instant is refused.
// While the output's device is lost, an interlock that is only unknown ends nothing: the plant still has what the hand gave.
func (s *Stepper) interlockHand(i int32) {
	m, lock := &s.outputs[i], s.p.Outputs[i].interlock
	for _, a := range s.handsAsked {
		if a.output == i {
			m.mode, m.hand, m.lock, m.ends, m.unhand = a.before.mode, a.before.hand, a.before.lock, a.before.ends, a.before.unhand
			if a.lasts > 0 {
				m.ends = after(s.now, a.lasts)
			}
			s.refused = append(s.refused, Refusal{Ref{OutputKind, i},
				s.p.Outputs[i].Name + " cannot be taken in hand while its own interlock keeps it off: " + s.interlockText(i)})
			break
		}
	}
	if m.mode != HandOn && m.mode != HandAt {
		return
	}
	if m.away && s.truths[lock] == isUnknown {
		return
	}
	s.loseHand(i, "its own interlock turned it off: "+s.interlockText(i))
}

// interlockText returns the sentence of an output's own interlock.
func (s *Stepper) interlockText(i int32) string {
	from := len(s.terms)
	s.reasonFrom = from
	s.explain(s.p.Outputs[i].interlock, lasting{})
	text := s.p.termsText(s.terms[from:], s.now, nil)
	s.terms = s.terms[:from]
	return text
}

// loseHand takes an output out of hand: it stays off until the hand's own end. The alarm of its hand is raised at once.
func (s *Stepper) loseHand(i int32, why string) {
	m, o := &s.outputs[i], &s.p.Outputs[i]
	m.mode, m.hand, m.unhand = Stood, 0, true
	if k := o.inHand; k >= 0 {
		s.inputs[k].contact.Fault, s.inputs[k].says = signal.Reported, "it was taken out of hand: "+why
		s.handInput(k)
	}
}

// handKnown clears the alarm of an output's hand after a person has acknowledged it.
func (s *Stepper) handKnown(input int32) {
	s.inputs[input].contact, s.inputs[input].says = NewContact(s.p, int(input)), ""
	s.handInput(input)
}

// handInput has everything evaluated that looks at the input of an output's hand.
func (s *Stepper) handInput(k int32) {
	s.inputs[k].quality, s.inputs[k].read = Good, true
	if s.faultOf(k) != signal.None {
		s.inputs[k].quality = Bad
	}
	s.newConds.addAll(s.p.links.inputConds.of(k))
	s.touched.add(k)
	s.again, s.dirty = true, true
}

// Unhanded reports whether an output is off because a hand could not go on.
func (s *Stepper) Unhanded(output int) bool { return s.outputs[output].unhand }
