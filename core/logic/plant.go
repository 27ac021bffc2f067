package logic

import (
	"iter"
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

// Listen makes the job listen from the next instant on, or drive again. While a job listens, an output that no person has in
// hand stands as the plant has it, and the rules only say what they would do. Either ends a fault of the job.
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

// Found records the stand that was read back from the plant for an output; it takes effect at the next instant.
//
// While its device is lost, that is how the plant had it last. At a restart, and when a device answers again (Resettle), an output has the state that the plant has, and a hand goes on
// only where the plant still has what it gave. While the job listens, the output follows. While the job drives, a stand that
// equals the decided one says that a write reached the plant only now, so that minimum times run from here; and an output
// with a minimum off that the plant turned off is off from here on. Anything else that is found changes nothing.
func (s *Stepper) Found(output int, plant Stand) {
	m, o := &s.outputs[output], &s.p.Outputs[output]
	i := int32(output)
	if s.listening && s.restart && m.taken && !(m.mode != Auto && o.same(s.stand(i), plant)) {
		m.mode, m.ends, m.taken = Auto, never, false // the plant has lost what a person had in hand
	}
	switch {
	case s.listening && !m.taken:
		if m.known && o.same(m.plant, plant) && !s.restart {
			return
		}
		m.known = true
		s.setPlant(i, plant)
	case s.listening:
		if m.mode != Auto || !o.same(s.stand(i), plant) {
			return
		}
		m.taken = false // the output in hand has been given back
	case s.restart || s.returned[i]:
		if hand := (Stand{State: On, Level: m.hand}); !o.same(hand, plant) {
			s.handLost.add(i)
		}
		s.setPlant(i, plant)
	case m.away: // the last that is known of it: what was decided since was not written
		m.plant = Stand{State: plant.State, Level: plant.Level}
		s.touched.add(s.p.number(Ref{OutputKind, i}))
		return
	case o.Analog():
		return
	case o.same(s.stand(i), plant):
		s.turnedNow.add(i)
		s.setPlant(i, plant)
	case o.minimumOff >= 0 && plant.State == Off:
		s.setPlant(i, plant)
	default:
		return
	}
	s.newOutputs.add(i)
	s.dirty = true
	s.touched.add(s.p.number(Ref{OutputKind, i}))
}

// setPlant notes what the plant has an output at, and that minimum times run from the next instant where that is news.
func (s *Stepper) setPlant(i int32, plant Stand) {
	m := &s.outputs[i]
	if !s.p.Outputs[i].same(m.plant, plant) {
		s.turnedNow.add(i)
	}
	m.plant = Stand{State: plant.State, Level: plant.Level}
	s.meets.add(i)
	s.meeting = true
}

// meetPlant gives outputs the state that the plant was found to have, before anything is decided at this instant. Where that
// is another than was decided before, it is a transition.
func (s *Stepper) meetPlant() {
	if !s.meeting {
		return
	}
	s.meeting = false
	for word := range s.turnedNow {
		for i, some := s.turnedNow.take(word); some; i, some = s.turnedNow.take(word) {
			s.outputs[i].turned = s.now
		}
	}
	for word := range s.meets {
		for i, some := s.meets.take(word); some; i, some = s.meets.take(word) {
			m, o, before := &s.outputs[i], &s.p.Outputs[i], s.stand(i)
			m.everOn = m.everOn || !o.Analog() && m.plant.State == On
			m.state, m.level, m.stirred = m.plant.State, m.plant.Level, still
			if !o.same(before, s.stand(i)) {
				s.outputTurned(i)
				s.report(Ref{OutputKind, i}, before, s.stand(i), Reason{Cause: ByPlant})
			}
		}
	}
	for word := range s.handLost {
		for i, some := s.handLost.take(word); some; i, some = s.handLost.take(word) {
			if m := &s.outputs[i]; m.ends > s.now && (m.mode == HandOn || m.mode == HandAt) {
				s.loseHand(i, "the plant did not have it any more when it could be read again")
				if o := &s.p.Outputs[i]; o.fail == FailOn || o.fail == FailTo && o.failLevel > o.Low {
					m.mode, m.ends, m.unhand = Auto, never, false
				}
			}
		}
	}
	clear(s.returned)
}

// listened is the decision about an output of a job that listens: what the plant has, or, once a hand has ended, what the
// plant had before the hand. Its own interlock and its minimum times bind both.
func (s *Stepper) listened(i int32, d decision) decision {
	m, o := &s.outputs[i], &s.p.Outputs[i]
	if m.mode != Auto {
		if !m.taken {
			m.taken, m.back = true, m.plant
			if !m.known {
				m.back.State, m.back.Level = s.failed(i)
			}
		}
		return d
	}
	if !m.taken {
		return decision{state: m.plant.State, level: m.plant.Level, by: -1, cause: ByPlant, until: never}
	}
	if d.cause == ByInterlock {
		return d
	}
	back := decision{state: m.back.State, level: m.back.Level, by: -1, cause: ByPlant, until: never}
	if !o.same(m.back, m.plant) {
		s.restrain(i, &back, s.lock(o.interlock, m.settles), true)
	}
	return back
}

// LoseDevice makes a device one that nothing reaches from the next instant on: its outputs are decided, and the plant keeps
// what it has. The device is given by the input that tells whether it answers.
func (s *Stepper) LoseDevice(device int) {
	for i := range s.outputsOf(device) {
		s.outputs[i].away = true
		s.newOutputs.add(int32(i))
		s.touched.add(s.p.number(Ref{OutputKind, int32(i)}))
	}
	s.dirty = true
}

// outputsOf yields the outputs that are wired to a device, given by the input that tells whether it answers, or the one
// output whose read-back the input is.
func (s *Stepper) outputsOf(input int) iter.Seq[int] {
	return func(yield func(int) bool) {
		of := s.p.Inputs[input].Name
		for i, o := range s.p.Job.Outputs {
			if o.Drives != nil && (o.Drives.Device.Name == of || o.ReadBack() == of) && !yield(i) {
				return
			}
		}
	}
}

// Resettle makes a device to its outputs what a restart is to a job, at the instant t. The stands found in the same instant
// (Found) are what its outputs have, and they and all that depends on the device's points settle anew.
//
// The input says of what: the one that tells whether a device answers stands for the device, the read-back of an output for
// that output alone, and any other input for what depends on it.
func (s *Stepper) Resettle(t int64, input int) {
	var behind []int32
	if of := s.p.Inputs[input].Name; s.p.Job.Devices != nil && s.p.Watched(Ref{InputKind, int32(input)}) {
		for i, in := range s.p.Job.Inputs {
			if in.Source != nil && in.Source.Device.Name == of {
				behind = append(behind, int32(i))
			}
		}
	} else {
		behind = append(behind, int32(input))
	}
	for _, i := range behind {
		s.touched.add(i) // inputs are the first declarations
		s.markInput(i)
	}
	now := s.now
	s.now = t
	s.settleBehind(behind)
	until := after(t, s.duration(s.p.settle))
	for i := range s.outputsOf(input) {
		m := &s.outputs[i]
		m.away, m.settles, s.returned[i] = false, until, true
		s.setPlant(int32(i), m.plant) // where nothing is read back, it is as it was last known
	}
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

// Drive returns the stand that an output is to be written to after the last instant, and whether it is to be written now:
// while the job listens, only what a person has in hand or has just given back is; while the output settles, only what a
// true interlock or a person turns off; while its device is lost, nothing.
func (s *Stepper) Drive(output int) (to Stand, now bool) {
	i, m := int32(output), &s.outputs[output]
	to = s.stand(i)
	switch {
	case m.away:
		return to, false
	case s.listening:
		return to, m.taken
	case s.settledAt(m.settles):
		return to, true
	}
	return to, s.p.Outputs[output].isOff(to) && s.mustBeOff(i)
}

// mustBeOff reports whether a person or the output's own interlock turns it off.
func (s *Stepper) mustBeOff(i int32) bool {
	m := &s.outputs[i]
	return m.mode == HandOff || m.mode == Stood || s.lock(s.p.Outputs[i].interlock, m.settles) == lockForces
}

// MustBeOff reports whether a person or the output's own interlock turned an output off at the last instant.
func (s *Stepper) MustBeOff(output int) bool { return s.mustBeOff(int32(output)) }

// Plant returns the stand that the plant is known to have an output at: last written, or read back.
func (s *Stepper) Plant(output int) Stand { return s.outputs[output].plant }

// FailStand returns the stand that an output takes when control is lost: off where a true interlock or a person keeps it off,
// and else its fail state. It reports whether that is to hold what the output has.
func (s *Stepper) FailStand(output int) (to Stand, holds bool) {
	i, o := int32(output), &s.p.Outputs[output]
	if s.mustBeOff(i) {
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
