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

// competes reports whether a loop has lost its output to another caller that still calls.
func (s *Stepper) competes(output, loop int32) bool {
	if !s.loops[s.p.Calling[loop].Index].beaten {
		return false
	}
	for _, c := range s.p.Callers(int(output)) {
		if c != loop && s.calling(c) == On {
			return true
		}
	}
	return false
}

// chosen is the caller whose value an analog output takes, of those that call but one; -1 if there is none.
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

// takeOver gives the output to the caller that was decided on. A loop that has not had it takes it up from where it stands, as
// far as that wins against the other callers, and may be.
func (s *Stepper) takeOver(i int32, d *decision) {
	if c := d.by; c >= 0 && s.p.Calling[c].Kind == LoopKind {
		if m := &s.loops[s.p.Calling[c].Index]; !m.has && !s.competes(i, c) {
			s.takeUp(&s.p.Loops[s.p.Calling[c].Index], m)
			s.touched.add(s.p.number(s.p.Calling[c].Ref))
			d.level = m.out
			if other, best := s.chosen(i, c); other >= 0 && s.p.Outputs[i].prefers(best, d.level) {
				d.by, d.level = other, best
			}
			s.restrain(i, d, s.lock(s.p.Outputs[i].interlock, s.outputs[i].settles), false)
		}
	}
	for _, c := range s.p.Callers(int(i)) {
		x := &s.p.Calling[c]
		if x.Kind != LoopKind {
			continue
		}
		m := &s.loops[x.Index]
		was := *m
		m.has, m.beaten = c == d.by, m.calls && d.by >= 0 && c != d.by
		if *m != was {
			s.touched.add(s.p.number(x.Ref))
		}
	}
}

// Level is the value of an analog output after the last instant, in its unit.
func (s *Stepper) Level(output int) float64 { return s.outputs[output].level }

// Analog tells whether an output has a value, not only a state.
func (o *Output) Analog() bool { return o.High > o.Low }

// States are what a transition leads from and to, in words.
func (p *Program) States(t Transition) (from, to string) {
	return p.StandText(t.Ref, t.From), p.StandText(t.Ref, t.To)
}
