package logic

import "rectura/core/unit"

// A Kind is what a part of a Program is.
type Kind uint8

// The kinds.
const (
	InputKind Kind = iota
	DerivedKind
	SettingKind // a setpoint or constant
	BandsKind
	RuleKind
	AlarmKind
	FollowKind
	LoopKind
	MessageKind
	OutputKind

	Kinds // how many there are
)

func (k Kind) String() string {
	return [...]string{"input", "derived", "setpoint", "bands", "rule", "alarm", "follow", "loop", "message", "output"}[k]
}

// A Ref is a part of a Program: the one of its kind with a number.
type Ref struct {
	Kind  Kind
	Index int32
}

// Find finds what has a name.
func (p *Program) Find(name string) (Ref, bool) {
	r, found := p.index[name]
	return r, found
}

// Index is the number of what has a name and is of a kind; -1 if nothing is.
func (p *Program) Index(kind Kind, name string) int {
	if r, found := p.index[name]; found && r.Kind == kind {
		return int(r.Index)
	}
	return -1
}

// Name is the name of a part.
func (p *Program) Name(r Ref) string {
	i := r.Index
	switch r.Kind {
	case InputKind:
		return p.Inputs[i].Name
	case DerivedKind:
		return p.Derived[i].Name
	case SettingKind:
		return p.Settings[i].Name
	case BandsKind:
		return p.Bands[i].Name
	case AlarmKind:
		return p.Alarms[i].Name
	case FollowKind:
		return p.Follows[i].Name
	case LoopKind:
		return p.Loops[i].Name
	case MessageKind:
		return p.Messages[i].Name
	case OutputKind:
		return p.Outputs[i].Name
	}
	return p.Rules[i].Name
}

// All are the parts of a kind, in the order of the sheet.
func (p *Program) All(k Kind) []Ref {
	all := make([]Ref, p.size(k))
	for i := range all {
		all[i] = Ref{k, int32(i)}
	}
	return all
}

// RuleOf is the number of a rule, or of that which is the condition of an alarm; -1
// for anything else.
func (p *Program) RuleOf(r Ref) int {
	switch r.Kind {
	case RuleKind:
		return int(r.Index)
	case AlarmKind:
		return p.Alarms[r.Index].Rule
	}
	return -1
}

// RefOf is a rule, or the alarm whose condition it is.
func (p *Program) RefOf(rule int) Ref {
	if a := p.Rules[rule].alarm; a >= 0 {
		return Ref{AlarmKind, a}
	}
	return Ref{RuleKind, int32(rule)}
}

// A State is how something stands.
type State uint8

// The states of rules, outputs, bands and the rest, and the qualities of inputs.
// Bands are on where one of them is in force.
const (
	Off State = iota
	On
	Undecided
	Good
	Bad

	States // how many there are
)

func (s State) String() string {
	return [...]string{"off", "on", "undecided", "good", "bad"}[s]
}

// A Stand is how something stands: its state, and what bands and analog outputs
// have besides.
type Stand struct {
	State State
	Band  int32   // of Bands that are on: the one in force
	Level float64 // of an analog output, in its unit
}

// StandText is how it is called that something stands in a way.
func (p *Program) StandText(r Ref, s Stand) string {
	switch {
	case r.Kind == OutputKind && p.Outputs[r.Index].Analog():
		return p.Outputs[r.Index].Text(s.Level)
	case r.Kind == BandsKind && s.State == On:
		return p.Bands[r.Index].Bands[s.Band].Title
	case r.Kind == MessageKind:
		return [...]string{Off: "", On: "sent"}[s.State]
	case r.Kind == AlarmKind && s.State <= On:
		return [...]string{"normal", "active"}[s.State]
	}
	return s.State.String()
}

// Text is a value of an analog output, with its unit.
func (o *Output) Text(v float64) string { return withUnit(unit.Short(v), o.Unit) }
