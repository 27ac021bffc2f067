package logic

// The transitions of a run have numbers, and what others name in their reasons
// remembers that of its last one; -1 where it has had none.

// lastNumber is where the number of the last transition of something stands; nil
// for what no reason names.
func (m *Memory) lastNumber(kind Kind, index int32) *int64 {
	switch kind {
	case RuleKind, AlarmKind:
		return &m.rules[index].number
	case BandsKind:
		return &m.bands[index].number
	case OutputKind:
		return &m.outputs[index].number
	}
	return nil
}

// number gives the transitions of this instant their numbers, and then links
// their reasons with those that they stand on, so that two of one instant find
// each other.
func (s *Stepper) number() {
	for i := range s.kept {
		t := &s.kept[i]
		t.Number = s.next
		s.next++
		if last := s.lastNumber(t.Kind, t.Index); last != nil {
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
		if n := s.lastNumber(caller.Kind, int32(caller.Index)); n != nil {
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
			t.From = s.rules[t.Rule].number
		case BandTerm:
			t.From = s.bands[t.Rule].number
		case OutputTerm:
			t.From = s.outputs[t.Rule].number
		default:
			t.From = -1
		}
	}
}
