package logic

import (
	"fmt"
	"math"
	"slices"

	"rectura/core/memo"
	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A truth is three-valued, after Kleene.
type truth uint8

const (
	isFalse truth = iota
	isTrue
	isUnknown

	truths // how many there are
)

func (v truth) not() truth { return [...]truth{isTrue, isFalse, isUnknown}[v] }

// A Transition is one thing that an instant left in another state, with the
// reason. Its Reason holds slices that the next Step overwrites; Clone it to
// keep it.
type Transition struct {
	Time   int64
	Number int64 // of its run, from 0
	Ref
	From, To Stand
	Reason   Reason
}

// LevelOnly tells whether an analog output has taken another value, not more.
func (t *Transition) LevelOnly() bool { return t.From.Level != t.To.Level }

// A Stepper runs a Program one instant at a time: the program, which running does
// not change; its Memory; and room for what an instant needs, which can be thrown
// away between any two. It allocates nothing while it runs, once that room has
// grown.
type Stepper struct {
	p *Program
	Memory

	analog  []signal.Analog // by input: its chain as it is now, with its memory
	resets  map[int32]bool  // rules that a person resets at the next instant
	watched []int64         // of each condition: when it was first true; nil where nobody watches
	quiets  []quiet         // of each input

	behind         func(input int, t int64) // hands over what was passed over of an input; or nil
	evaluatedInput func(input int)          // is told of inputs that were evaluated; or nil

	always     bool    // compute everything at every instant; for tests
	plain      []int32 // as in links
	idle       []bool  // conditions that are not worked out; nil for none
	scan       int64   // the period at which a controller looks, in nanoseconds; 0 for at every instant
	patient    bool    // delays and minimum times are waited out
	moved      bool    // it goes on from the memory of another program
	restart    bool    // the next instant is that of a restart
	restarting bool    // this one is: nothing turns at it
	meets      marks   // outputs that take the plant's state at the next instant
	turnedNow  marks   // outputs whose minimum times run from the next instant
	unpinned   marks   // inputs that a person has unpinned since the last instant
	handLost   marks   // outputs that the plant did not have any more as a hand gave them
	returned   []bool  // outputs whose device answers again at the next instant
	meeting    bool    // one of these holds something

	handsAsked []askedHand // since the last instant
	refused    []Refusal   // at the last instant
	touched    marks       // by declaration: something has happened to it since it was saved

	values       []float64
	known        []bool
	some         []float64 // for medians
	evaluated    []int32   // inputs of this instant
	waitingReads []reading // of inputs whose cold junction is read at this instant too
	junctions    bool      // cold junctions have been read at this instant
	fired        []int32   // the momentary conditions that are true now
	turned       []int32   // the momentary conditions that were evaluated
	messages     []int32   // those whose condition was evaluated
	stirred      []int32   // the alarms that something has happened to
	ending       bool      // what is momentary is over

	// What must be computed anew: because of what was read or set since the
	// last instant, of timers that are due, and then of each other.
	newInputs, newValues, newConds marks
	newOutputs                     marks   // something that they look at is another
	decided                        []int32 // the outputs that were decided at the last instant, in the order of that
	again                          bool    // an output that a condition names is another
	dirty                          bool    // one of these holds something

	transitions  []Transition
	alarmChanges []AlarmChange

	contactChanges []ContactChange
	asked          []AlarmChange // by people, since the last instant
	endings        []ending
	kept           []Transition // of these, what Step gives out
	callersFrom    []int64
	bandReports    []int32
	ruleReports    []int32
	outputReports  []int32

	terms      []Term
	reasonFrom int // where the terms of the reason being made begin
	rulesNamed []int32
	told       int // how many terms and rulesNamed the transitions of the last instant have
	toldNamed  int
}

// A reading that waits for the one of its cold junction.
type reading struct {
	input int32
	at    int32
	value float64
}

// NewStepper gives a Stepper that stands before its first instant: every rule
// and output off, every comparison reset, every input not read yet.
func NewStepper(p *Program) *Stepper {
	s := newStepper(p, newMemory(p))
	s.newValues.fill(len(p.values))
	s.stepValues()
	s.beginMoments()
	return s
}

// newStepper gives one that goes on from a memory.
func newStepper(p *Program, m Memory) *Stepper {
	s := &Stepper{
		p:      p,
		Memory: m,
		analog: make([]signal.Analog, len(p.Inputs)),
		resets: map[int32]bool{},
		quiets: make([]quiet, len(p.Inputs)),
		plain:  p.links.plain,
		values: make([]float64, len(p.values)),
		known:  make([]bool, len(p.values)),
		some:   make([]float64, 0, p.widest),

		bandReports:   make([]int32, len(p.Bands)),
		ruleReports:   make([]int32, len(p.Rules)),
		outputReports: make([]int32, len(p.Outputs)),

		touched:   newMarks(int(p.declarations()) + 1),
		newInputs: newMarks(len(p.Inputs)),
		newValues: newMarks(len(p.values)),
		newConds:  newMarks(len(p.conds)),

		newOutputs: newMarks(len(p.Outputs)),
		meets:      newMarks(len(p.Outputs)),
		turnedNow:  newMarks(len(p.Outputs)),
		handLost:   newMarks(len(p.Outputs)),
		unpinned:   newMarks(len(p.Inputs)),
		returned:   make([]bool, len(p.Outputs)),
		decided:    make([]int32, 0, 2*len(p.Outputs)),
	}
	for i := range p.Inputs {
		x := &s.inputs[i]
		s.analog[i].Memory = &x.signal
		if c := p.Inputs[i].Chain; c != nil {
			s.analog[i] = signal.Begin(c, &x.signal)
		} else {
			x.contact = NewContact(p, i)
		}
	}
	return s
}

// NewPatient gives a Stepper at whose instants every delay, minimum time and
// filter has been waited out: a reading is one of a signal that stands still.
func NewPatient(p *Program) *Stepper {
	s := NewStepper(p)
	s.patient = true
	for i := range p.Inputs {
		if c := p.Inputs[i].Chain; c != nil {
			s.analog[i] = signal.Begin(c.Steady(), &s.inputs[i].signal)
		} else {
			s.inputs[i].contact.Debounce = 0
		}
	}
	return s
}

// Set gives a setpoint or constant another value, in its own unit, from the
// next instant on.
func (s *Stepper) Set(setting int, value float64) {
	s.settings[setting] = value
	s.touched.add(s.p.number(Ref{SettingKind, int32(setting)}))
	for i := range s.p.Inputs {
		if s.p.Inputs[i].retimed && !s.patient {
			s.retime(int32(i))
		}
	}
	s.markAll()
}

// retime takes the durations of an input at their present values.
func (s *Stepper) retime(i int32) {
	length := func(d *sheet.Duration) int64 {
		if d.Name == "" {
			return d.Amount.Nanoseconds()
		}
		return s.settingDuration(int32(s.p.Index(SettingKind, d.Name)))
	}
	if s.p.Inputs[i].Chain != nil {
		s.analog[i].Retime(length)
	} else {
		s.inputs[i].contact.Debounce = length(s.p.input(int(i)).Debounce.Duration)
	}
	due := s.now // the next instant looks at it
	if !s.began {
		due = math.MinInt64
	}
	s.timers.Set(s.inputTimer(i), due)
}

func (s *Stepper) markAll() {
	s.newInputs.fill(len(s.p.Inputs))
	s.newValues.fill(len(s.p.values))
	s.newConds.fill(len(s.p.conds))
	s.newOutputs.fill(len(s.p.Outputs))
	s.dirty = true
}

// Read hands an input a reading of the next instant, t: for an analog one, a
// value at a place of its chain; for a discrete one, 0 or 1. NaN is a bad
// reading.
func (s *Stepper) Read(t int64, input int, value float64, at int) {
	i := int32(input)
	in := &s.p.Inputs[input]
	if in.junction >= 0 && !s.junctions {
		s.waitingReads = append(s.waitingReads, reading{i, int32(at), value})
		s.dirty = true
		return
	}
	s.touched.add(i) // inputs are the first declarations
	s.inputs[i].says = ""
	var changed bool
	if in.Chain != nil {
		changed = s.analog[i].Read(t, value, at)
		if in.timed {
			s.now = t
			s.setInputTimer(i)
		}
	} else {
		changed = s.inputs[i].contact.Read(t, value)
		if in.debounce > 0 {
			s.setInputTimer(i)
		}
	}
	if changed && !s.isQuiet(i) {
		s.markInput(i)
	}
}

func (s *Stepper) markInput(i int32) {
	s.newInputs.add(i)
	s.newValues.addAll(s.p.links.inputValues.of(i))
	s.newConds.addAll(s.p.links.inputConds.of(i))
	s.dirty = true
}

// setInputTimer makes an input's next look at itself fall due.
func (s *Stepper) setInputTimer(i int32) {
	var due int64
	if s.p.Inputs[i].Chain != nil {
		due = s.analog[i].Due(s.now)
	} else {
		due = s.inputs[i].contact.Due()
	}
	s.timers.Set(s.inputTimer(i), min(due, s.inputs[i].pinEnds))
}

// inputTimer is the number of an input's timer: behind those of the conditions
// and the one of settling.
func (s *Stepper) inputTimer(i int32) int32 { return int32(len(s.p.conds)) + 1 + i }

// outputTimer is the number of an output's timer, behind those of the inputs.
func (s *Stepper) outputTimer(i int32) int32 { return int32(len(s.p.conds)+1+len(s.p.Inputs)) + i }

// tick looks at an input whose timer is due.
func (s *Stepper) tick(i int32) {
	s.touched.add(i)
	changed := false
	if m := &s.inputs[i]; m.pinEnds <= s.now {
		m.pinned, m.pinEnds, changed = false, never, true
		s.unpin(i)
	}
	if s.p.Inputs[i].Chain != nil {
		changed = s.analog[i].Tick(s.now) || changed
	} else {
		changed = s.inputs[i].contact.Tick(s.now) || changed
	}
	if changed {
		s.markInput(i)
	}
	s.setInputTimer(i)
}

// readWaiting takes the readings of thermocouples, now that their cold
// junctions are read.
func (s *Stepper) readWaiting() {
	s.junctions = true
	for _, r := range s.waitingReads {
		from := &s.analog[s.p.Inputs[r.input].junction]
		junction := math.NaN()
		if v, good := s.inputValue(int32(s.p.Inputs[r.input].junction)); good {
			junction = from.Chain.Engineering().Convert(v, celsius)
		}
		s.analog[r.input].Junction(junction)
		s.Read(s.now, int(r.input), r.value, int(r.at))
	}
	s.junctions, s.waitingReads = false, s.waitingReads[:0]
}

var celsius = unit.MustLookup("degC")

// Program is what the Stepper runs.
func (s *Stepper) Program() *Program { return s.p }

// Next is the time at which the next timer falls due; the end of time if none
// runs, and before the first instant. An instant must not be passed over it.
func (s *Stepper) Next() int64 {
	if !s.began {
		return never
	}
	return s.timers.Earliest()
}

// Step evaluates the instant t, with the readings handed over since the last
// one. A time before that of the last instant is an error, and so are the ends of time;
// it changes nothing.
// The first instant starts the job. What it returns is overwritten by the next
// Step.
func (s *Stepper) Step(t int64) ([]Transition, error) {
	if t == memo.Always || t == memo.Never {
		return nil, fmt.Errorf("the ends of time are no instants")
	}
	if s.began && t < s.now {
		return nil, fmt.Errorf("an instant at %d ns after one at %d ns; time does not go back", t, s.now)
	}
	for i := range s.transitions {
		if r := s.reportOf(s.transitions[i].Ref); r != nil {
			*r = 0
		}
	}
	s.decided, s.refused, s.contactChanges = s.decided[:0], s.refused[:0], s.contactChanges[:0]
	s.transitions, s.terms, s.rulesNamed = s.transitions[:0], s.terms[:0], s.rulesNamed[:0]
	s.told, s.toldNamed = 0, 0
	s.now = t
	if s.restart {
		s.begun()
	}
	s.begin()
	settled := int32(len(s.p.conds)) // the timer of the settling time
	switch {
	case !s.began:
		s.began = true
		s.timers.Set(settled, after(t, s.duration(s.p.settle)))
		s.markAll()
	case s.always:
		s.markAll()
	case !s.dirty && t < s.timers.Earliest():
		return nil, nil
	}
	for s.timers.Earliest() <= t {
		due := s.timers.First()
		s.timers.Set(due, never)
		switch {
		case due > settled+int32(len(s.p.Inputs)):
			i := due - settled - 1 - int32(len(s.p.Inputs))
			s.newOutputs.add(i)
			s.touched.add(s.p.number(Ref{OutputKind, i}))
		case due > settled:
			s.tick(due - settled - 1)
		case due == settled:
			s.newConds.addAll(s.p.links.settling)
			s.newOutputs.fill(len(s.p.Outputs))
		case s.p.conds[due].op == condAlarm:
			s.markAlarm(s.p.conds[due].a)
		default:
			s.newConds.add(due)
		}
	}
	if len(s.waitingReads) > 0 {
		s.readWaiting()
	}
	s.dirty = false
	s.stepInputs()
	s.meetPlant()
	s.evaluate()
	s.findQuiet()
	s.restarting = false
	s.handsAsked = s.handsAsked[:0]
	s.told, s.toldNamed = len(s.terms), len(s.rulesNamed)
	return s.settledTransitions(), nil
}

// evaluate brings everything behind the inputs up to date. What is momentary is
// true until all has come to rest, and what is announced and sent follows that;
// then it ends, and what looks at it is evaluated once more.
func (s *Stepper) evaluate() {
	s.settle()
	s.announce()
	s.send()
	clear(s.resets)
	s.ending = true
	for _, i := range s.fired {
		s.turnCond(i, isFalse)
	}
	if len(s.fired) > 0 {
		s.fired = s.fired[:0]
		s.settle()
		s.announce()
		s.noteMessages()
	}
	slices.SortFunc(s.alarmChanges, func(a, b AlarmChange) int { return int(a.Alarm - b.Alarm) }) // however often they were evaluated
	s.remember()
	s.ending = false
}

// settle evaluates conditions and outputs, and again where an output that a
// condition names is another, until they come to rest. If they do not, the job is
// in fault.
func (s *Stepper) settle() {
	for range mostPasses {
		if s.pass() {
			return
		}
	}
	if !s.circle {
		s.fault()
	}
	// In the fault an output leaves its fail state once at most, when its own
	// interlock turns it off.
	for range len(s.p.Outputs) + 1 {
		if s.pass() {
			return
		}
	}
}

// pass evaluates everything once; it tells whether all is at rest.
func (s *Stepper) pass() (rest bool) {
	s.again = false
	s.stepValues()
	s.stepConds()
	s.stepOutputs()
	return !s.again
}

// Circle tells whether the job is in fault because an output and what looks at
// it did not come to rest, and since when.
func (s *Stepper) Circle() (output int, since int64, circle bool) {
	return int(s.restless), s.circleAt, s.circle
}

// Watch makes the stepper note when conditions are first true.
func (s *Stepper) Watch() {
	s.watched = make([]int64, len(s.p.conds))
	for i := range s.watched {
		s.watched[i] = never
	}
}

// True tells whether a condition was true at the end of the last instant.
func (s *Stepper) True(cond int32) bool { return s.truths[cond] == isTrue }

// FirstTrue is when a watched condition was first true, if it ever was, be it
// only for a part of an instant, as what is momentary is.
func (s *Stepper) FirstTrue(cond int32) (at int64, ever bool) {
	return s.watched[cond], s.watched[cond] != never
}

// mostPasses is how often rules and outputs are evaluated at one instant: once,
// and eight times more where outputs that conditions name have changed.
const mostPasses = 9

// settledTransitions leaves out what has come back to where it was. Inputs come
// first, outputs last.
func (s *Stepper) settledTransitions() []Transition {
	out := s.transitions
	if !s.inOrder() {
		s.kept = s.kept[:0]
		for _, outputs := range [...]bool{false, true} {
			for i := range s.transitions {
				if t := &s.transitions[i]; (t.Kind == OutputKind) == outputs && s.differs(t) {
					s.kept = append(s.kept, *t)
				}
			}
		}
		out = s.kept
	}
	s.number(out)
	return out
}

// inOrder tells whether the transitions are what is to be given out, as most often.
func (s *Stepper) inOrder() bool {
	outputs := false
	for i := range s.transitions {
		t := &s.transitions[i]
		if outputs && t.Kind != OutputKind || !s.differs(t) {
			return false
		}
		outputs = t.Kind == OutputKind
	}
	return true
}

// settled tells whether the settling time had ended at this instant.
func (s *Stepper) settled() bool { return s.timers.At(int32(len(s.p.conds))) == never || s.patient }

// settledAt tells it of something that also settles alone, until a time.
func (s *Stepper) settledAt(alone int64) bool { return s.settled() && s.now >= alone }

// whileSettling makes a timer fall due when something has settled, if that is sooner.
func (s *Stepper) whileSettling(due, alone int64) int64 {
	if s.now < alone {
		return min(due, alone)
	}
	return due
}

// stepInputs notes changes of quality. Leaving "not read yet" is none.
func (s *Stepper) stepInputs() {
	for word := range s.newInputs {
		for i, some := s.newInputs.take(word); some; i, some = s.newInputs.take(word) {
			s.evaluated = append(s.evaluated, i)
			s.catchUp(i)
			f := s.faultOf(i)
			if f == signal.NotRead {
				continue
			}
			now := Good
			if f != signal.None {
				now = Bad
			}
			if before := s.inputs[i].quality; now != before || !s.inputs[i].read {
				if s.inputs[i].read {
					s.report(Ref{InputKind, i}, Stand{State: before}, Stand{State: now}, s.inputReason(i))
				}
				s.inputs[i].quality, s.inputs[i].read = now, true
			}
			if now == Good && s.p.Inputs[i].Chain == nil {
				s.tellContact(i)
			}
		}
	}
}

// A ContactChange is a contact that is on now, or off, and was otherwise when it was last good.
type ContactChange struct {
	Input int32
	On    bool
}

// ContactChanges returns the contacts that have changed at the last instant, as rules see them. They are overwritten by the next
// Step.
func (s *Stepper) ContactChanges() []ContactChange { return s.contactChanges }

func (s *Stepper) tellContact(i int32) {
	m, on := &s.inputs[i], s.contactOn(i)
	if m.told && m.on != on && !s.p.Watched(Ref{InputKind, i}) {
		s.contactChanges = append(s.contactChanges, ContactChange{i, on})
	}
	if !m.told || m.on != on {
		s.touched.add(i)
	}
	m.told, m.on = true, on
}

// stepOutputs decides the outputs that look at something that is another.
func (s *Stepper) stepOutputs() {
	for word := range s.newOutputs {
		for i, some := s.newOutputs.take(word); some; i, some = s.newOutputs.take(word) {
			s.decided = append(s.decided, i)
			s.stepOutput(i)
		}
	}
}

// calling is whether a caller calls.
func (s *Stepper) calling(caller int32) State {
	return [...]State{isFalse: Off, isTrue: On, isUnknown: Undecided}[s.truths[s.p.Calling[caller].node]]
}

// callers combines the states of what calls an output.
func (s *Stepper) callers(output int) State {
	callers := s.p.Callers(output)
	if len(callers) == 0 {
		return Off
	}
	decisive, rest := On, Off // called by any
	if s.p.Outputs[output].all {
		decisive, rest = Off, On
	}
	state := rest
	for _, r := range callers {
		switch s.calling(r) {
		case decisive:
			return decisive
		case Undecided:
			state = Undecided
		}
	}
	return state
}

// OutputUndecided tells whether an output's callers could not decide it at the
// last instant.
func (s *Stepper) OutputUndecided(output int) bool { return s.callers(output) == Undecided }

// differs tells whether something has ended different. Of an analog output its value
// counts.
func (s *Stepper) differs(t *Transition) bool {
	if t.Kind == OutputKind && s.p.Outputs[t.Index].Analog() {
		return t.From.Level != t.To.Level
	}
	return t.From != t.To
}

// Decided are the outputs that were decided at the last instant, some more than once: those of
// which something may be another. The next Step overwrites them.
func (s *Stepper) Decided() []int32 { return s.decided }

// Value is the value of an analog input that rules saw at the last instant,
// and whether it is good.
func (s *Stepper) Value(input int) (value float64, good bool) {
	s.catchUp(int32(input))
	return s.inputValue(int32(input))
}

// DerivedValue is a derived value at the last instant, and whether it is good.
func (s *Stepper) DerivedValue(derived int) (value float64, good bool) {
	v := s.p.Derived[derived].value
	s.catchUpValue(v)
	return s.values[v], s.known[v]
}

// report notes a transition. A thing that changes again at the same instant has
// one, from where it was to where it comes to rest.
func (s *Stepper) report(r Ref, from, to Stand, because Reason) {
	if k := s.reportOf(r); k != nil {
		if *k > 0 {
			t := &s.transitions[*k-1]
			t.To, t.Reason = to, because
			return
		}
		*k = int32(len(s.transitions)) + 1
	}
	s.transitions = append(s.transitions, Transition{Time: s.now, Ref: r, From: from, To: to, Reason: because})
}

// reportOf is where the number of a thing's transition of this instant stands, from
// 1; nil for what changes once only.
func (s *Stepper) reportOf(r Ref) *int32 {
	switch r.Kind {
	case RuleKind:
		return &s.ruleReports[r.Index]
	case AlarmKind:
		return &s.ruleReports[s.p.Alarms[r.Index].Rule]
	case OutputKind:
		return &s.outputReports[r.Index]
	case BandsKind:
		return &s.bandReports[r.Index]
	}
	return nil
}
