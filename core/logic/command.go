package logic

import "rectura/core/signal"

// A Do is what a person commands.
type Do uint8

// The commands.
const (
	SetSetting  Do = iota // give a setpoint or constant Value, in its own unit
	ResetRule             // reset a latch
	TakeInHand            // decide an output: On or off, or an analog one's Value, in its unit
	StandOff              // keep an output off
	GiveBack              // leave an output to its callers again
	PinInput              // let an input be Value, in engineering units, or 0 or 1 for a contact
	UnpinInput            // let it be what it reads again
	Acknowledge           // an alarm
	Nothing               // only make a time an instant
)

// A Command is something that a person wants, of the setpoint, rule, alarm,
// output or input of a number.
type Command struct {
	Do    Do
	Index int
	Value float64
	On    bool
}

// A Mode is who decides an output.
type Mode uint8

// The modes.
const (
	Auto    Mode = iota // its callers
	HandOn              // a person
	HandOff             // a person
	HandAt              // a person, of an analog output
	Stood               // nobody: it stays off
)

func (m Mode) String() string { return [...]string{"auto", "hand on", "hand off", "hand", "off"}[m] }

// Mode is who decides an output.
func (s *Stepper) Mode(output int) Mode { return s.modes[output] }

// Pinned tells whether an input is pinned to a value.
func (s *Stepper) Pinned(input int) bool { return s.pinned[input] }

// Command hands over a command of the next instant.
func (s *Stepper) Command(c Command) {
	i := int32(c.Index)
	switch c.Do {
	case Nothing:
		return
	case SetSetting:
		s.Set(c.Index, c.Value)
	case ResetRule:
		s.resets[i] = true
		s.newConds.add(s.p.Rules[i].node)
	case Acknowledge:
		s.alarms[i].Acknowledge()
		s.newConds.addAll(s.p.Alarms[i].tests)
	case TakeInHand:
		s.modes[i] = HandOff
		switch {
		case s.p.Outputs[i].Analog():
			s.modes[i], s.hands[i] = HandAt, s.p.Outputs[i].clamp(c.Value)
		case c.On:
			s.modes[i] = HandOn
		}
		s.newCallers = true
	case StandOff:
		s.modes[i], s.newCallers = Stood, true
	case GiveBack:
		s.modes[i], s.newCallers = Auto, true
	case PinInput:
		s.pinned[i], s.pins[i] = true, c.Value
		s.markInput(i)
	case UnpinInput:
		s.pinned[i] = false
		s.markInput(i)
	}
	s.dirty = true
}

// The value, the state and the fault of an input as rules see them.

func (s *Stepper) inputValue(i int32) (v float64, known bool) {
	if s.pinned[i] {
		return s.pins[i], true
	}
	a := &s.analog[i]
	return a.Value, a.Fault == signal.None
}

func (s *Stepper) contactOn(i int32) bool {
	if s.pinned[i] {
		return s.pins[i] != 0
	}
	return s.contacts[i].On
}

func (s *Stepper) fault(i int32) signal.Fault {
	switch {
	case s.pinned[i]:
		return signal.None
	case s.p.Inputs[i].Chain != nil:
		return s.analog[i].Fault
	}
	return s.contacts[i].Fault
}
