package logic

import (
	"math"

	"rectura/core/sheet"
	"rectura/core/signal"
)

// What a stepper has to do with a plant besides its readings: how outputs are found there, what they are to be written
// to, and when.

// Fail hands an input that there is no reading at the next instant, t, and why, as whoever should have one says it. What
// a filter or `bad after` makes of it is what they make of a bad reading.
func (s *Stepper) Fail(t int64, input int, why string) {
	inside := s.junctions
	s.junctions = true // it needs no cold junction
	s.Read(t, input, math.NaN(), 0)
	s.junctions = inside
	s.inputs[input].says = why
}

// Listen makes the job listen from the next instant on, or drive again: of a job that listens, an output that no person
// has in hand has whatever it is found to have in the plant, and the rules only say what they would do. Either ends a
// fault of the job.
func (s *Stepper) Listen(on bool) {
	if s.listening != on || s.circle {
		s.listening, s.circle, s.circleAt = on, false, 0
		s.newConds.fill(len(s.p.conds))
		s.newOutputs.fill(len(s.p.Outputs))
		s.dirty = true
	}
}

// Listening tells whether the job only listens.
func (s *Stepper) Listening() bool { return s.listening }

// Found tells what the plant has an output at, at the next instant. While the job drives its outputs, that says that the
// plant has only now what was decided, so that minimum times run from there; what is otherwise changes nothing. At a
// restart, what the plant has is what an output has, and a hand goes on only where the plant still has what it gave. It
// tells whether a hand has ended.
func (s *Stepper) Found(output int, plant Stand) (handEnded bool) {
	m, o := &s.outputs[output], &s.p.Outputs[output]
	i := int32(output)
	switch {
	case s.listening && !m.taken:
		if !m.found || !o.same(m.plant(), plant) {
			m.found, m.foundState, m.foundLevel = true, plant.State, plant.Level
			s.newOutputs.add(i)
			s.dirty = true
		}
	case s.listening:
		if m.mode == Auto && o.same(s.stand(i), plant) { // what was in hand has been given back
			m.taken = false
			s.newOutputs.add(i)
			s.dirty = true
		}
	case s.restart:
		kept := o.same(s.stand(i), plant)
		if m.mode == HandOn || m.mode == HandAt {
			if handEnded = !kept; handEnded {
				m.hand, m.ends, m.mode = 0, never, Stood
				if o.fail == FailOn || o.fail == FailTo && o.failLevel > o.Low {
					m.mode = Auto
				}
			}
		}
		if !kept {
			m.everOn = m.everOn || plant.State == On
			m.state, m.level = plant.State, plant.Level
			s.foundAnew = append(s.foundAnew, i)
		}
		s.newConds.addAll(s.p.links.outputConds.of(i))
		s.newValues.addAll(s.p.links.outputValues.of(i))
	case !o.Analog() && o.same(s.stand(i), plant):
		s.foundAnew = append(s.foundAnew, i)
		s.newOutputs.add(i)
		s.dirty = true
	default:
		return false
	}
	s.touched.add(s.p.number(Ref{OutputKind, i}))
	return handEnded
}

// plant is what an output of a job that listens was found to have.
func (m *outputMemory) plant() Stand { return Stand{State: m.foundState, Level: m.foundLevel} }

// heard is the decision about an output of a job that listens: what the plant has, or, for what a person had in hand,
// what it had before, unless its own interlock turns that off.
func (s *Stepper) heard(i int32, d decision) decision {
	m := &s.outputs[i]
	switch {
	case m.mode != Auto:
		m.taken = true
		return d
	case m.taken && d.cause == ByInterlock:
		return d
	}
	d = decision{state: m.state, level: m.level, by: -1, cause: ByPlant, until: never}
	if m.found {
		d.state, d.level = m.foundState, m.foundLevel
	} else if m.taken {
		d.state, d.level = s.failed(i)
	}
	return d
}

// Resettle lets what depends on the points of a device settle anew from an instant on, as after it was away. The device
// is given by the input that tells whether it answers.
func (s *Stepper) Resettle(t int64, device int) {
	var behind []int32
	for i, in := range s.p.Job.Inputs {
		if in.Source != nil && in.Source.Device.Name == s.p.Inputs[device].Name {
			behind = append(behind, int32(i))
			s.touched.add(int32(i)) // inputs are the first declarations
		}
	}
	now := s.now
	s.now = t
	s.settleBehind(behind)
	s.now = now
	for i := range s.p.Outputs {
		if s.outputs[i].settles > t {
			s.newOutputs.add(int32(i))
			s.touched.add(s.p.number(Ref{OutputKind, int32(i)}))
		}
	}
	for i := range s.p.Rules {
		if s.rules[i].settles > t {
			s.newConds.add(s.p.Rules[i].node)
			s.touched.add(s.p.number(s.p.RefOf(i)))
		}
	}
	s.dirty = true
}

// Drive is what an output is to be written to after the last instant, and whether it is to be written now: while the job
// listens, only what a person has in hand or has just given back is; while what decides it settles, only what a true
// interlock or a person turns off.
func (s *Stepper) Drive(output int) (to Stand, now bool) {
	i, m := int32(output), &s.outputs[output]
	to = s.stand(i)
	switch {
	case s.listening:
		return to, m.taken
	case s.settledAt(m.settles):
		return to, true
	}
	return to, s.p.Outputs[output].isOff(to) &&
		(m.mode == HandOff || m.mode == Stood || s.lock(s.p.Outputs[output].interlock, m.settles) == lockForces)
}

// Abandoned is what an output is to have where nobody drives it any more: its fail state, or off where a true interlock or
// a person keeps it off. It holds what it has where its fail state is that.
func (s *Stepper) Abandoned(output int) (to Stand, holds bool) {
	i, m, o := int32(output), &s.outputs[output], &s.p.Outputs[output]
	if m.mode == HandOff || m.mode == Stood || s.lock(o.interlock, m.settles) == lockForces {
		return Stand{State: Off, Level: o.Low}, false
	}
	to.State, to.Level = s.failed(i)
	return to, o.fail == FailHold
}

// Delayed tells whether a delay runs in what calls an output, so that it may be another one before long.
func (s *Stepper) Delayed(output int) bool {
	for _, c := range s.p.Callers(output) {
		owner := s.p.owners[s.p.Calling[c].node]
		for _, k := range s.p.clausesOf.of(owner) {
			clause := &s.p.clauses[k]
			for i := clause.from; i < clause.to; i++ {
				n, m := &s.p.conds[i], &s.conds[i]
				if (n.op == condFor || n.op == condForStrict) && m.waiting && !m.lapsed {
					return true
				}
			}
		}
	}
	return false
}

// Ends is when a pin, a hand or a shelving ends by itself; the end of time for never.
func (s *Stepper) Ends(r Ref) int64 {
	switch r.Kind {
	case InputKind:
		return s.inputs[r.Index].pinEnds
	case OutputKind:
		return s.outputs[r.Index].ends
	case AlarmKind:
		if until, shelved := s.alarms[r.Index].Shelved(); shelved {
			return until
		}
	}
	return never
}

// Lock is the name that an output is kept off with; empty for none.
func (s *Stepper) Lock(output int) string { return s.outputs[output].lock }

// Settled tells whether the job has settled at the last instant, as far as it does so as a whole.
func (s *Stepper) Settled() bool { return s.began && !s.restart && s.settled() }

// wire is what makes of an output's value what its card puts out.
func wire(o *sheet.Output) *signal.Chain {
	if len(o.Stages) == 0 {
		return nil
	}
	return signal.NewChain(&sheet.Input{Head: o.Head, Stages: o.Stages}, nil)
}

// ToWire is what an output is written as where it stands in a way: 1 or 0, or a number in the unit of the last stage of
// its chain.
func (o *Output) ToWire(s Stand) float64 {
	if !o.Analog() {
		if (s.State == On) != o.inverted {
			return 1
		}
		return 0
	}
	if o.wire == nil {
		return s.Level
	}
	return o.wire.Carry(o.Unit.Convert(s.Level, o.wire.Units[0]), 0, len(o.wire.Units)-1)
}

// FromWire is how an output stands that is read back as a number.
func (o *Output) FromWire(v float64) Stand {
	if !o.Analog() {
		return Stand{State: onIf((v != 0) != o.inverted)}
	}
	if o.wire != nil {
		v = o.wire.Units[0].Convert(o.wire.Carry(v, len(o.wire.Units)-1, 0), o.Unit)
	}
	v = o.clamp(v)
	return Stand{State: onIf(v != o.Low), Level: v}
}

// isOff tells whether it is off, or at its low end.
func (o *Output) isOff(s Stand) bool {
	if o.Analog() {
		return s.Level == o.Low
	}
	return s.State == Off
}

func (o *Output) same(a, b Stand) bool {
	if o.Analog() {
		return a.Level == b.Level
	}
	return a.State == b.State
}
