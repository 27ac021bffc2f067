package logic

import "rectura/core/memo"

// Pause postpones by d nanoseconds everything that is proven by lasting, since the job did not run for so long before the
// next instant: delays that have not run out, settling, what health and filters of inputs judge by time, slopes, and the
// periods of loops. What runs by service time (minimum times, pulses, ends of hands, pins and shelvings, times of day, messages)
// goes on. It is called between two instants.
func (s *Stepper) Pause(d int64) {
	for i := range s.inputs {
		s.pauseInput(int32(i), d)
	}
	for i := range s.conds {
		s.pauseCond(int32(i), d)
	}
	for i := range s.bands {
		if m := &s.bands[i]; m.waiting >= 0 {
			m.since = after(m.since, d)
			s.postpone(s.p.Bands[i].node, d)
		}
	}
	for i := range s.loops {
		if m := &s.loops[i]; m.calls {
			m.at = after(m.at, d)
			s.postpone(s.p.Loops[i].node, d)
		}
	}
	if !s.settled() {
		s.postpone(int32(len(s.p.conds)), d)
	}
	for i := range s.rules {
		s.rules[i].settles = s.later(s.rules[i].settles, d)
	}
	for i := range s.outputs {
		s.outputs[i].settles = s.later(s.outputs[i].settles, d)
	}
	s.touched.fill(int(s.p.declarations()))
	s.markAll()
}

// postpone makes a timer that runs fall due later.
func (s *Stepper) postpone(timer int32, d int64) {
	if due := s.timers.At(timer); due != never {
		s.timers.Set(timer, after(due, d))
	}
}

// later postpones the end of a settling that has not ended.
func (s *Stepper) later(until, d int64) int64 {
	if until > s.now {
		return after(until, d)
	}
	return until
}

func (s *Stepper) pauseInput(i int32, d int64) {
	m := &s.inputs[i]
	m.settles = s.later(m.settles, d)
	if s.p.Inputs[i].Chain != nil {
		memo.Shift(d, m.signal.Fields)
	} else {
		memo.Shift(d, m.contact.Fields)
	}
	if s.began {
		s.setInputTimer(i)
	}
}

func (s *Stepper) pauseCond(i int32, d int64) {
	n, m := &s.p.conds[i], &s.conds[i]
	switch n.op {
	case condFor, condForStrict:
		if !m.waiting || m.lapsed {
			return
		}
	case condCrosses:
		if !m.lapsed || m.since == never {
			return
		}
	case condRising, condFalling:
		for k := range s.pasts[n.n].entries {
			s.pasts[n.n].entries[k].at = after(s.pasts[n.n].entries[k].at, d)
		}
		s.postpone(i, d)
		return
	default:
		return
	}
	m.since = after(m.since, d)
	s.postpone(i, d)
}
