package logic

// numbers count the transitions of a run, and tell which was the last of each
// thing that others name in their reasons; -1 where it has had none.
type numbers struct {
	next                  int64
	rules, bands, outputs []int64
}

func newNumbers(p *Program) numbers {
	none := func(n int) []int64 {
		all := make([]int64, n)
		for i := range all {
			all[i] = -1
		}
		return all
	}
	return numbers{0, none(len(p.Rules)), none(len(p.Bands)), none(len(p.Outputs))}
}

// of is where the number of the last transition of something stands; nil for
// what no reason names.
func (n *numbers) of(kind Kind, index int32) *int64 {
	switch kind {
	case RuleKind, AlarmKind:
		return &n.rules[index]
	case BandsKind:
		return &n.bands[index]
	case OutputKind:
		return &n.outputs[index]
	}
	return nil
}

// number gives the transitions of this instant their numbers, and then links
// their reasons with those that they stand on, so that two of one instant find
// each other.
func (s *Stepper) number() {
	for i := range s.kept {
		t := &s.kept[i]
		t.Number = s.numbers.next
		s.numbers.next++
		if last := s.numbers.of(t.Kind, t.Index); last != nil {
			*last = t.Number
		}
	}
	s.callersFrom = s.callersFrom[:0]
	for i := range s.kept {
		s.linkReason(&s.kept[i].Reason)
	}
}

// linkReason names the transitions on which a reason stands.
func (s *Stepper) linkReason(r *Reason) {
	s.linkTerms(r.Terms)
	s.linkTerms(r.Permit)
	from := len(s.callersFrom)
	for _, c := range r.Callers {
		caller, last := &s.p.Calling[c], int64(-1)
		if n := s.numbers.of(caller.Kind, int32(caller.Index)); n != nil {
			last = *n
		}
		s.callersFrom = append(s.callersFrom, last)
	}
	r.From = s.callersFrom[from:]
}

func (s *Stepper) linkTerms(terms []Term) {
	for i := range terms {
		switch t := &terms[i]; t.Kind {
		case RuleTerm:
			t.From = s.numbers.rules[t.Rule]
		case BandTerm:
			t.From = s.numbers.bands[t.Rule]
		case OutputTerm:
			t.From = s.numbers.outputs[t.Rule]
		default:
			t.From = -1
		}
	}
}
