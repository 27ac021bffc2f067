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
func (s *Stepper) Mode(output int) Mode { return s.outputs[output].mode }

// Pinned tells whether an input is pinned to a value.
func (s *Stepper) Pinned(input int) bool { return s.inputs[input].pinned }

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
		s.newConds.add(s.p.Alarms[i].node)
	case TakeInHand:
		s.outputs[i].mode = HandOff
		switch {
		case s.p.Outputs[i].Analog():
			s.outputs[i].mode, s.outputs[i].hand = HandAt, s.p.Outputs[i].clamp(c.Value)
		case c.On:
			s.outputs[i].mode = HandOn
		}
		s.newCallers = true
	case StandOff:
		s.outputs[i].mode, s.newCallers = Stood, true
	case GiveBack:
		s.outputs[i].mode, s.newCallers = Auto, true
	case PinInput:
		s.inputs[i].pinned, s.inputs[i].pin = true, c.Value
		s.markInput(i)
	case UnpinInput:
		s.inputs[i].pinned = false
		s.markInput(i)
	}
	s.dirty = true
}

// The value, the state and the fault of an input as rules see them.

func (s *Stepper) inputValue(i int32) (v float64, known bool) {
	if s.inputs[i].pinned {
		return s.inputs[i].pin, true
	}
	a := &s.analog[i]
	return a.Value, a.Fault == signal.None
}

func (s *Stepper) contactOn(i int32) bool {
	if s.inputs[i].pinned {
		return s.inputs[i].pin != 0
	}
	return s.inputs[i].contact.On
}

func (s *Stepper) faultOf(i int32) signal.Fault {
	switch {
	case s.inputs[i].pinned:
		return signal.None
	case s.p.Inputs[i].Chain != nil:
		return s.analog[i].Fault
	}
	return s.inputs[i].contact.Fault
}
