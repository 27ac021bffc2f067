package sheet

import (
	"strings"

	"rectura/core/unit"
)

// A Job is all sheets of a folder as one: the one definition of points,
// setpoints and rules. Slices are in the order of the text.
type Job struct {
	Files  []*File
	Title  string
	Settle *Duration // nil: DefaultSettle

	StartsApart *Duration // the least time between two discrete outputs that turn on; nil for none
	Timezone    string    // an IANA name; empty where none is written
	Devices     []*Device
	Inputs      []*Input
	Watched     []*Input   // contacts of no device: that each device answers, and each output is as it was written
	Derived     []*Derived // each after those that it is made of
	Setpoints   []*Setpoint
	Outputs     []*Output
	Bands       []*Bands
	Rules       []*Rule
	Follows     []*Follow
	Loops       []*Loop
	Alarms      []*Alarm
	Messages    []*Message
	Trials      []*Trial
	Order       []*Rule // those of alarms too, in the order of evaluation: each after those that it names

	names   map[string]Declaration
	uses    map[string][]Place
	callers map[string][]string // by output: what calls it

	distances map[string]string // by setpoint or constant: what it is the distance of
	found     list
}

// DefaultSettle is the settling time, in nanoseconds, of a job that states none.
const DefaultSettle = 5_000_000_000

// Lookup finds a declaration by name; nil if there is none.
func (j *Job) Lookup(name string) Declaration { return j.names[name] }

// Rule finds a rule by name; nil if there is none.
func (j *Job) Rule(name string) *Rule {
	r, _ := j.names[name].(*Rule)
	return r
}

// Trial finds a trial by name; nil if there is none.
func (j *Job) Trial(name string) *Trial {
	t, _ := j.names[name].(*Trial)
	return t
}

// Input finds an input by name; nil if there is none.
func (j *Job) Input(name string) *Input {
	in, _ := j.names[name].(*Input)
	return in
}

// DurationValue is a duration in nanoseconds, with the setpoint or constant it
// may name at its written value.
func (j *Job) DurationValue(d *Duration) int64 {
	if d.Name == "" {
		return d.Amount.Nanoseconds()
	}
	s, ok := j.names[d.Name].(*Setpoint)
	if !ok {
		return 0
	}
	return s.Value.Nanoseconds()
}

// A File is one sheet.
type File struct {
	Name         string
	Declarations []Declaration
	End          []string // comments below the last declaration
}

// Comments are the comment lines that belong to a declaration or clause, each
// with its `#`. An empty string above is a blank line between comments.
type Comments struct {
	Above  []string
	Beside string
}

// A Declaration is one of *JobHead, *Device, *Input, *Derived, *Setpoint,
// *Output, *Rule, *Bands, *Follow, *Loop, *Alarm, *Recipient, *Message and
// *Trial.
type Declaration interface {
	Base() *Head
	Keyword() string
	words() []string // of its first line, behind the keyword
	rows() []row     // its clauses, in the order in which they are laid out
}

// Head is what all declarations have in common.
type Head struct {
	Comments
	At       Place
	NameAt   Place
	Name     string // empty for the job
	Label    string
	Notes    []*TextClause
	Tag      *TextClause // the plant's own name of a point
	Terminal *TextClause // where a point is wired
	broken   bool        // something in it could not be read, so that checks about it would mislead
}

// Base makes every type that embeds one a declaration.
func (h *Head) Base() *Head { return h }

// Title is the label, or the name where there is none.
func (h *Head) Title() string {
	if h.Label != "" {
		return h.Label
	}
	return h.Name
}

// Clause is what all clauses have in common.
type Clause struct {
	Comments
	At Place
}

// A TextClause is a clause that is one text: a note, a tag, a terminal, a time
// zone.
type TextClause struct {
	Clause
	Text string
}

// A Range is `A..B unit`. From may be the greater one in a scale stage.
type Range struct {
	At       Place
	From, To unit.Quantity
}

func (r Range) String() string {
	return strings.TrimSuffix(r.From.Number()+".."+r.To.Number()+" "+r.To.Unit.String(), " ")
}

// An Amount is a quantity, or a compound one of time with the largest unit
// first: 1 h 30 min.
type Amount struct {
	Parts []unit.Quantity
}

func (a Amount) String() string {
	parts := make([]string, len(a.Parts))
	for i, p := range a.Parts {
		parts[i] = p.String()
	}
	return strings.Join(parts, " ")
}

// Quantity is the whole amount in the unit of its last, smallest part.
func (a Amount) Quantity() unit.Quantity {
	q := a.Parts[len(a.Parts)-1]
	if len(a.Parts) > 1 {
		sum := 0.0
		for _, p := range a.Parts {
			sum += p.In(q.Unit)
		}
		q.Value, q.Text = sum, ""
	}
	return q
}

// Nanoseconds is an amount of time, exactly. The parser has made sure that it
// can be one; anything else gives 0.
func (a Amount) Nanoseconds() int64 {
	var sum int64
	for _, p := range a.Parts {
		ns, err := unit.Nanoseconds(p.Number(), p.Unit)
		if err != nil {
			return 0
		}
		sum += ns
	}
	return sum
}

// A Duration is an amount of time above 0, or the name of a setpoint or
// constant of time.
type Duration struct {
	At     Place
	Amount Amount
	Name   string
}

func (d *Duration) String() string {
	if d.Name != "" {
		return d.Name
	}
	return d.Amount.String()
}

// JobHead is the `job` declaration.
type JobHead struct {
	Head
	Timezone *TextClause
	Settle   *DurationClause
	Apart    *DurationClause // `starts apart`
}

// A DurationClause is a clause that is one duration: `settle`, `off after`.
type DurationClause struct {
	Clause
	Duration *Duration
}

// An Input is an analog or discrete input. Of an analog one, either Stages or
// Unit is given.
type Input struct {
	Head
	Source   *WireClause     // where it is wired; nil on the bench
	Poll     *DurationClause // how often it is read there, if otherwise than its device's points
	BadAlarm *BadAlarm       // `alarm when bad`
	Discrete bool
	watched  bool // it is one of Job.Watched

	Stages    []Stage
	Unit      *UnitClause
	Healthy   *RangeClause
	Stale     *DurationClause
	Frozen    *Frozen
	Unsteady  *Unsteady
	BadAfter  *DurationClause
	GoodAfter *DurationClause
	Skip      *CountClause
	Smooth    *Smooth
	Clamp     *RangeClause
	Round     *Round
	Ignore    *QuantityClause // `ignore changes under`

	Inverted *Clause
	Debounce *DurationClause
	Words    *WordsClause
}

// StateWord is how a contact's state is called in sentences.
func (in *Input) StateWord(on bool) string {
	switch {
	case in.Words != nil && on:
		return in.Words.On
	case in.Words != nil:
		return in.Words.Off
	case on:
		return "on"
	}
	return "off"
}

// Engineering is the unit of the input's scaled value: the one that its last
// stage ends in.
func (in *Input) Engineering() unit.Unit {
	if n := len(in.Stages); n > 0 {
		return in.Stages[n-1].Out()
	}
	if in.Unit != nil {
		return in.Unit.Unit
	}
	return unit.Unit{}
}

// Units lists the unit of the reading and of every stage's result, in the
// order of the chain. A discrete input has none.
func (in *Input) Units() []unit.Unit {
	if in.Discrete {
		return nil
	}
	if len(in.Stages) == 0 {
		return []unit.Unit{in.Engineering()}
	}
	units := []unit.Unit{in.Stages[0].In()}
	for _, s := range in.Stages {
		units = append(units, s.Out())
	}
	return units
}

// UnitClause is `unit U`.
type UnitClause struct {
	Clause
	Unit unit.Unit
}

// RangeClause is `healthy A..B U` or `allow A..B U`.
type RangeClause struct {
	Clause
	Range Range
}

// QuantityClause is a clause that is one quantity.
type QuantityClause struct {
	Clause
	Quantity unit.Quantity
	AmountAt Place
}

// A Derived is a value made of others.
type Derived struct {
	Head
	Value Expr
	typed *Type // once it is known; a value in a circle, or of what does not go together, has none
}

// A Setpoint is a `setpoint` or, if Constant, a `constant`.
type Setpoint struct {
	Head
	Constant   bool
	Value      Amount
	ValueAt    Place
	Difference bool // a temperature difference, not a temperature
	Allow      *RangeClause
}

// Type is the unit of the setpoint's value.
func (s *Setpoint) Type() Type { return Type{s.Value.Quantity().Unit, s.Difference} }

// WordClause is a clause whose argument is one of a few words.
type WordClause struct {
	Clause
	Word string
}

// ConditionClause is `on when C` or `off when C`.
type ConditionClause struct {
	Clause
	Condition Condition
}

// Keyword is the word that the declaration begins with.
func (*JobHead) Keyword() string { return "job" }

// Keyword is the word that the declaration begins with.
func (*Input) Keyword() string { return "input" }

// Keyword is the word that the declaration begins with.
func (*Derived) Keyword() string { return "derived" }

// Keyword is the word that the declaration begins with.
func (s *Setpoint) Keyword() string {
	if s.Constant {
		return "constant"
	}
	return "setpoint"
}
