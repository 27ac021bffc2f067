// Package logic runs a job. Compile turns a checked job into a Program, flat
// arrays of small nodes; a Stepper runs it one instant at a time and says what
// changed and why.
//
// Time is an int64 of nanoseconds and always comes from outside: readings,
// setpoints and the passing of time reach a Stepper only as calls that carry
// their time. The same calls give the same transitions, to the nanosecond.
package logic

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A Program is a compiled job. It is not changed by running it, and may be
// shared by any number of Steppers.
type Program struct {
	Job      *sheet.Job
	Inputs   []Input
	Derived  []Derived
	Settings []Setting // setpoints and constants
	Bands    []Bands
	Rules    []Rule // those of the sheet, then those of its alarms
	Alarms   []Alarm
	Messages []Message
	Follows  []Follow
	Loops    []Loop
	Outputs  []Output
	Calling  []Caller // what calls outputs

	values      []valueNode
	conversions []conversion
	conds       []condNode
	args        []int32 // the terms of `and` and `or` nodes, the values of functions
	widest      int     // the largest number of values of a function
	junctions   []int32 // inputs whose cold junction another input measures
	callers     []int32 // of Calling, for outputs
	durations   []duration
	sources     []condSource // of conds
	slopes      []slope
	derived     map[int32]int32 // by value: the derived value that it is
	fixed       *Stepper        // has the values that no input changes, with the settings as written
	daytimes    []daytime
	zone        *time.Location
	settle      int64 // a duration
	apart       int64 // a duration between two outputs that turn on; -1 for none
	index       map[string]Ref
	links       links

	first     []int32   // by kind: the number of its first declaration
	clauses   []clause  // those that remember, in the order of their conditions
	clausesOf lists     // by declaration: its clauses
	owners    []int32   // by condition: the number of its declaration
	prints    sync.Once // for
	whole     uint64    // the fingerprint of the sheets
	workings  []uint64  // by input: the fingerprint of what makes a value of its readings
	loops     []uint64  // by loop: that of how it works
}

// An Input of a Program; Chain is nil for a discrete one.
type Input struct {
	Name     string
	Chain    *signal.Chain
	Inverted bool
	debounce int64
	junction int  // the input that measures the cold junction, or -1
	retimed  bool // a duration of it is a setpoint or constant
	timed    bool // it may have to be looked at without a reading
	used     bool
	badRule  int32 // of the alarm that it is bad, or -1
}

// input is the declaration of an input, or what stands for it where it is watched.
func (p *Program) input(i int) *sheet.Input {
	if n := len(p.Job.Inputs); i >= n {
		return p.Job.Watched[i-n]
	}
	return p.Job.Inputs[i]
}

// Watched tells whether a part is about the plant alone, an input of Job.Watched or its alarm: on the bench, where
// nobody reports it bad, there is nothing to say of it.
func (p *Program) Watched(r Ref) bool {
	return r.Kind == InputKind && int(r.Index) >= len(p.Job.Inputs) || r.Kind == AlarmKind && p.Job.Alarms[r.Index].Watches
}

// Junction is the input that measures the cold junction of this one's
// thermocouple; -1 if none does.
func (in *Input) Junction() int { return in.junction }

// NewContact gives the state of a discrete input that has not been read yet.
func NewContact(p *Program, input int) signal.Contact {
	c := signal.NewContact(p.Inputs[input].Inverted, p.Inputs[input].debounce)
	if p.Watched(Ref{InputKind, int32(input)}) {
		c.Fault, c.On = signal.None, true
	}
	return c
}

// A Derived value of a Program, in its unit.
type Derived struct {
	Name  string
	Unit  unit.Unit
	value int32
}

// A Setting is a setpoint or constant, with its written value.
type Setting struct {
	Name  string
	Value unit.Quantity
}

// restraints are what holds a rule or an output back: conditions and durations, or -1.
type restraints struct {
	permissive, interlock int32
	minimumOn, minimumOff int32
}

// An Output of a Program; -1 for what it does not have.
type Output struct {
	Name         string
	first, count int32 // of its callers
	all          bool  // called by all, not by any
	fail         FailState
	restraints

	Unit      unit.Unit     // of an analog one
	Low, High float64       // its range; both 0 for one that is on or off
	lowest    bool          // the lowest of its callers counts, not the highest
	failLevel float64       // of FailTo
	wire      *signal.Chain // from its value to what its card puts out; nil where that is the same
	inverted  bool
	inHand    int32 // the input that is bad once a hand of it could not go on, or -1
}

// A Caller is what may call an output: a rule, a band of bands, a follow, a loop, or
// an alarm.
type Caller struct {
	Ref
	Name  string
	node  int32 // the condition that is true while it calls
	value int32 // that it gives to an analog output; -1 for one that is on or off, and where a follow or a loop works it out
}

// A FailState is what an output does when its callers cannot decide.
type FailState uint8

// The fail states.
const (
	FailOff FailState = iota
	FailOn
	FailHold
	FailTo // a value, of an analog output
)

func (f FailState) String() string { return [...]string{"off", "on", "hold", "to a value"}[f] }

type valueOp uint8

const (
	valueConst valueOp = iota
	valueSetting
	valueInput
	valueOutput // the value of an analog output before this pass
	valueAdd
	valueSub
	valueMul
	valueDiv
	valueNegate
	valueConvert
	valueMin // these have args
	valueMax
	valueAverage
	valueMedian
	valueAbs
)

// isFunc tells whether a value is computed from args.
func (op valueOp) isFunc() bool { return op >= valueMin }

// A valueNode computes a number from numbers before it.
type valueNode struct {
	op   valueOp
	a, b int32 // earlier nodes; or a setting, an input, a conversion (b), the first and the number of args
	k    float64
}

type conversion struct {
	from, to   unit.Unit
	difference bool
}

type condOp uint8

const (
	condBelow condOp = iota
	condAtMost
	condAbove
	condAtLeast
	condContact
	condGood  // an input can be believed
	condKnown // a value is known
	condRule  // the state of a rule
	condNot
	condAnd
	condOr
	condQuorum // at least n of its terms
	condFor
	condForStrict // a `for` that an unknown starts again even when it has run out: `off after`
	condOutput    // the state of an output before this pass
	condBetween
	condOutside
	condNear
	condTurnsOn // a condition has come true; this and the next three are momentary
	condTurnsOff
	condTurns
	condChanges // a value is another
	condCrosses
	condRising
	condFalling
	condDaytime
	condBands     // decides which of bands is in force
	condBand      // a band calls
	condAlarm     // the step of an alarm
	condAlarmTest // what has become of it
	condMessage
	condFollow // a follow calls
	condLoop   // a loop calls

	condOps // how many there are
)

// A condNode computes a truth from values and truths before it.
type condNode struct {
	op         condOp
	a, b       int32 // values; an input; a rule; an output; earlier conditions; the first and the number of args; a duration (b)
	n          int32 // of a quorum; of a range its high end, of nearness how near, values; of a crossing a duration, or -1; a slope; a daytime
	deadband   int32 // a value, or -1
	hysteresis int32
}

// A condSource is where a condition comes from, for explaining it; those of
// which the nodes say all have none.
type condSource struct {
	compare *sheet.Compare
	from    sheet.Condition // of what compares values in another way
	unit    unit.Unit
	name    string // of a derived value whose quality is asked for; of what turns or changes
}

// A slope is how fast a value must rise or fall, in its unit and so many
// nanoseconds, and over which duration.
type slope struct {
	rate float64
	per  float64
	over int32
}

// A daytime is from and to which time of day, in nanoseconds.
type daytime struct {
	from, to int64
}

// A duration is a number of nanoseconds, or a setting of time.
type duration struct {
	nanoseconds int64
	setting     int32 // or -1
}

// Clocked tells whether a condition asks for the time of day.
func (p *Program) Clocked() bool { return len(p.daytimes) > 0 }

// Used tells whether any rule depends on the input.
func (in *Input) Used() bool { return in.used }

// Callers lists what calls an output, as numbers of Calling.
func (p *Program) Callers(output int) []int32 {
	o := &p.Outputs[output]
	return p.callers[o.first : o.first+o.count]
}

// String prints the program as text, one node a line, for tests and for people
// who want to know what a sheet has become.
func (p *Program) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "settle %s\n", p.durationText(p.settle))
	if p.apart >= 0 {
		fmt.Fprintf(&b, "starts apart %s\n", p.durationText(p.apart))
	}
	for i, in := range p.Inputs {
		switch {
		case in.Chain != nil:
			fmt.Fprintf(&b, "input %d %s: %s\n", i, in.Name, in.Chain)
		default:
			fmt.Fprintf(&b, "input %d %s: contact", i, in.Name)
			if in.Inverted {
				b.WriteString(", inverted")
			}
			if in.debounce > 0 {
				b.WriteString(", debounce " + unit.FormatDuration(in.debounce))
			}
			b.WriteByte('\n')
		}
	}
	for i, s := range p.Settings {
		fmt.Fprintf(&b, "setting %d %s = %s\n", i, s.Name, s.Value)
	}
	for i, v := range p.values {
		fmt.Fprintf(&b, "v%d = %s\n", i, p.valueText(v))
	}
	for _, d := range p.Derived {
		fmt.Fprintf(&b, "derived %s = v%d in %s\n", d.Name, d.value, d.Unit)
	}
	for i, c := range p.conds {
		fmt.Fprintf(&b, "c%d = %s\n", i, operations[c.op].text(p, &c))
	}
	for _, r := range p.Rules {
		fmt.Fprintf(&b, "rule %s: on c%d, off c%d", r.Name, r.turnOn, r.turnOff)
		if r.latch {
			b.WriteString(", latch")
		}
		p.guardText(&b, "reset", r.reset)
		p.guardText(&b, "permissive", r.permissive)
		p.guardText(&b, "interlock", r.interlock)
		p.lengthText(&b, "pulse", r.pulse)
		p.lengthText(&b, "minimum on", r.minimumOn)
		p.lengthText(&b, "minimum off", r.minimumOff)
		b.WriteByte('\n')
	}
	for i, o := range p.Outputs {
		how := "any"
		switch {
		case o.all:
			how = "all"
		case o.lowest:
			how = "lowest"
		case o.Analog():
			how = "highest"
		}
		fmt.Fprintf(&b, "output %s: %s of", o.Name, how)
		for _, r := range p.Callers(i) {
			fmt.Fprintf(&b, " %s", p.Calling[r].Name)
			if v := p.Calling[r].value; v >= 0 {
				fmt.Fprintf(&b, " at v%d", v)
			}
		}
		p.guardText(&b, "permissive", o.permissive)
		p.guardText(&b, "interlock", o.interlock)
		p.lengthText(&b, "minimum on", o.minimumOn)
		p.lengthText(&b, "minimum off", o.minimumOff)
		fmt.Fprintf(&b, "; fail %s\n", o.fail)
	}
	return b.String()
}

func (p *Program) guardText(b *strings.Builder, what string, cond int32) {
	if cond >= 0 {
		fmt.Fprintf(b, ", %s c%d", what, cond)
	}
}

func (p *Program) lengthText(b *strings.Builder, what string, duration int32) {
	if duration >= 0 {
		fmt.Fprintf(b, ", %s %s", what, p.durationText(int64(duration)))
	}
}

func (p *Program) durationText(i int64) string {
	if d := p.durations[i]; d.setting >= 0 {
		return p.Settings[d.setting].Name
	}
	return unit.FormatDuration(p.durations[i].nanoseconds)
}

func (p *Program) valueText(v valueNode) string {
	switch v.op {
	case valueConst:
		return fmt.Sprintf("%g", v.k)
	case valueSetting:
		return p.Settings[v.a].Name
	case valueInput:
		return p.Inputs[v.a].Name
	case valueOutput:
		return p.Outputs[v.a].Name
	case valueAdd:
		return fmt.Sprintf("v%d + v%d", v.a, v.b)
	case valueSub:
		return fmt.Sprintf("v%d - v%d", v.a, v.b)
	case valueMul:
		return fmt.Sprintf("v%d * v%d", v.a, v.b)
	case valueDiv:
		return fmt.Sprintf("v%d / v%d", v.a, v.b)
	case valueNegate:
		return fmt.Sprintf("-v%d", v.a)
	}
	if v.op.isFunc() {
		var args []string
		for _, a := range p.valueArgs(&v) {
			args = append(args, fmt.Sprintf("v%d", a))
		}
		for name, op := range functions {
			if op == v.op {
				return name + "(" + strings.Join(args, ", ") + ")"
			}
		}
	}
	c := p.conversions[v.b]
	what := "value"
	if c.difference {
		what = "difference"
	}
	return fmt.Sprintf("v%d, a %s from %s to %s", v.a, what, c.from, c.to)
}

// valueArgs are the values that a value is directly computed from.
func (p *Program) valueArgs(n *valueNode) []int32 {
	switch n.op {
	case valueConst, valueSetting, valueInput, valueOutput:
		return nil
	case valueNegate, valueConvert:
		return []int32{n.a}
	case valueAdd, valueSub, valueMul, valueDiv:
		return []int32{n.a, n.b}
	}
	return p.args[n.a : n.a+n.b]
}
