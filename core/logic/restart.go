package logic

import "math"

// Restart makes the next instant that of a restart: the job goes on after a time in which nobody ran it. That instant is one
// of its own, before the first reading after it. From it on, every input that is not pinned is not read yet, outputs have
// the plant's state (as Found, else as last known), and the job settles anew.
//
// The time in between counts for no condition, delay, filter, slope or integral: nothing is proven while nobody looks.
// Decided states, latches, acknowledgements, and delays that have run out stay. What ends at a time of its own (a pulse, a
// shelving, a hand with an end) may have ended meanwhile.
func (s *Stepper) Restart() {
	s.restart = true
	keep := map[int32]bool{}
	for i := range s.p.Outputs {
		keep[s.p.Outputs[i].inHand] = true
	}
	for i := range s.inputs {
		if !keep[int32(i)] { // the alarm of a lost hand stays until a person acknowledges it
			s.restartInput(int32(i))
		}
	}
	for i := range s.conds {
		s.restartCond(int32(i))
	}
	for i := range s.pasts {
		s.pasts[i].entries = s.pasts[i].entries[:0]
	}
	for i := range s.bands {
		s.bands[i].waiting = -1
	}
	for i := range s.rules {
		s.rules[i].armed = false // the spell in which a latch's reset must turn true begins anew
		s.rules[i].settles = math.MinInt64
	}
	for i := range s.loops {
		s.loops[i].leave()
	}
	for i := range s.outputs {
		s.outputs[i].away, s.outputs[i].settles = false, math.MinInt64
		s.setPlant(int32(i), s.outputs[i].plant)
	}
	for i := range s.p.Messages {
		if m := &s.p.Messages[i]; m.when < 0 && m.every < 0 {
			s.conds[m.node].waiting = false // sent at the start
		}
	}
	s.touched.fill(int(s.p.declarations()))
	s.markAll()
}

// restartInput makes an input one that is not read yet. Inputs that watch the plant are good until a report says otherwise.
func (s *Stepper) restartInput(i int32) {
	m := &s.inputs[i]
	if s.p.Inputs[i].Chain != nil {
		s.analog[i].Forget()
	} else {
		m.contact.Forget()
	}
	m.quality, m.read, m.says, m.settles = Bad, false, "", math.MinInt64
	if s.p.Watched(Ref{InputKind, i}) {
		m.contact, m.quality, m.read = NewContact(s.p, int(i)), Good, true
	}
	s.timers.Set(s.inputTimer(i), m.pinEnds)
}

// restartCond lets a condition begin anew as far as it stands on what nobody looked at: a delay that has not run out starts
// again, and what momentary conditions compare with begins with the next good value. The states of rules and outputs are
// remembered, and so is what they are compared with.
func (s *Stepper) restartCond(i int32) {
	n, m := &s.p.conds[i], &s.conds[i]
	switch n.op {
	case condFor:
		if !m.lapsed {
			m.waiting = false
			s.timers.Set(i, never)
		}
	case condForStrict:
		m.waiting, m.lapsed = false, false
		s.timers.Set(i, never)
	case condTurnsOn, condTurnsOff, condTurns:
		if op := s.p.conds[n.a].op; op != condRule && op != condOutput {
			m.waiting = false
		}
	case condChanges, condCrosses:
		m.waiting, m.lapsed = m.waiting && s.p.ownValue(n), false
		s.timers.Set(i, never)
	}
}

// begun makes this instant that of the restart.
func (s *Stepper) begun() {
	s.restart = false
	s.timers.Set(int32(len(s.p.conds)), after(s.now, s.duration(s.p.settle)))
	s.restarting = true
}
