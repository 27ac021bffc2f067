package logic

// An analog output is on while something calls it, or a person or its fail state
// gives it a value, and stands at the low end of its range otherwise.

// callLevel is the value that a caller gives an analog output.
func (s *Stepper) callLevel(caller int32) float64 {
	switch c := &s.p.Calling[caller]; c.Kind {
	case FollowKind:
		return s.follows[c.Index]
	case LoopKind:
		return s.loops[c.Index].out
	default:
		return s.values[c.value]
	}
}

// chosen is the caller whose value an analog output takes, of those that call
// and are not the one left out; -1 if there is none.
func (s *Stepper) chosen(i, without int32) (caller int32, level float64) {
	o := &s.p.Outputs[i]
	caller = -1
	for _, c := range s.p.Callers(int(i)) {
		if c == without || s.calling(c) != On {
			continue
		}
		// Of equal ones a loop that has the output keeps it, and one that has not
		// does not take it.
		if v := o.clamp(s.callLevel(c)); caller < 0 || o.prefers(v, level) || v == level && s.claim(c) > s.claim(caller) {
			caller, level = c, v
		}
	}
	return caller, level
}

// claim orders callers that give the same value.
func (s *Stepper) claim(caller int32) int {
	c := &s.p.Calling[caller]
	switch {
	case c.Kind != LoopKind:
		return 1
	case s.loops[c.Index].has:
		return 2
	}
	return 0
}

// prefers tells whether the output would take one value rather than another.
func (o *Output) prefers(v, other float64) bool {
	if o.lowest {
		return v < other
	}
	return v > other
}

// takeOver gives the output to the caller chosen. A loop that did not have it
// starts from where it stands.
func (s *Stepper) takeOver(i, caller int32, level float64) float64 {
	for _, c := range s.p.Callers(int(i)) {
		x := &s.p.Calling[c]
		if x.Kind != LoopKind {
			continue
		}
		m := &s.loops[x.Index]
		was := *m
		if c == caller && !m.has && m.begun != s.now && s.p.Loops[x.Index].integral >= 0 {
			level = s.outputs[i].level
			if other, best := s.chosen(i, c); other >= 0 && s.p.Outputs[i].prefers(best, level) {
				level = best
			}
			m.takeOver(level)
		}
		if m.has = c == caller; *m != was {
			s.touched.add(s.p.number(x.Ref))
		}
	}
	return level
}

// Level is the value of an analog output after the last instant, in its unit.
func (s *Stepper) Level(output int) float64 { return s.outputs[output].level }

// Analog tells whether an output has a value, not only a state.
func (o *Output) Analog() bool { return o.High > o.Low }

// States are what a transition leads from and to, in words.
func (p *Program) States(t Transition) (from, to string) {
	return p.StandText(t.Ref, t.From), p.StandText(t.Ref, t.To)
}
