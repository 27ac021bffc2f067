package logic

// The transitions of a run have numbers, and what others name in their reasons
// remembers that of its last one; -1 where it has had none.

// lastNumber is where the number of the last transition of something stands; nil
// for what no reason names.
func (s *Stepper) lastNumber(r Ref) *int64 {
	switch r.Kind {
	case RuleKind, AlarmKind:
		return &s.rules[s.p.RuleOf(r)].number
	case BandsKind:
		return &s.bands[r.Index].number
	case OutputKind:
		return &s.outputs[r.Index].number
	}
	return nil
}

// number gives the transitions of this instant their numbers, and then links
// their reasons with those that they stand on, so that two of one instant find
// each other.
func (s *Stepper) number(all []Transition) {
	for i := range all {
		t := &all[i]
		t.Number = s.next
		s.next++
		if last := s.lastNumber(t.Ref); last != nil {
			*last = t.Number
		}
	}
	s.callersFrom = s.callersFrom[:0]
	for i := range all {
		s.linkReason(&all[i].Reason)
	}
}

// linkReason names the transitions on which a reason stands.
func (s *Stepper) linkReason(r *Reason) {
	s.linkTerms(r.Terms)
	s.linkTerms(r.Permit)
	from := len(s.callersFrom)
	for _, c := range r.Callers {
		caller, last := &s.p.Calling[c], int64(-1)
		if n := s.lastNumber(caller.Ref); n != nil {
			last = *n
		}
		s.callersFrom = append(s.callersFrom, last)
	}
	r.From = s.callersFrom[from:]
}

func (s *Stepper) linkTerms(terms []Term) {
	for i := range terms {
		t := &terms[i]
		t.From = -1
		if t.Kind == StateTerm {
			t.From = *s.lastNumber(t.Of)
		}
	}
}
