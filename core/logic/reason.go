package logic

import (
	"slices"
	"strings"

	"rectura/core/memo"
	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A Cause is what kind of reason a transition has.
type Cause uint8

// The causes.
const (
	ByTerms       Cause = iota // the rule's conditions: Terms
	ByTermsAgain               // the rule's conditions, after it was undecided: Terms
	ByCall                     // an output: Callers call it
	ByNoCall                   // an output: Callers no longer call it
	ByFail                     // an output: Callers are undecided, so it fails to its state
	ByReading                  // an input: Terms holds its reading
	ByGoodReading              // an input: Terms holds its reading, which is good again
	ByInterlock                // forced off: Terms are those of the interlock
	ByPulseEnd                 // the rule's pulse has ended
	ByReset                    // the latch was reset: Terms
	ByPerson                   // a person reset the latch: Terms are why that counts
	ByHand                     // an output: a person decides it, as its Mode says
	InPulse                    // a rule stands in its pulse
	AfterPulse                 // a rule waits, after its pulse, for its on-condition to let go: Terms
	InLatch                    // a rule is latched; Terms are those of its on-condition
	NotCalled                  // an output: none of Callers calls it
	Following                  // a follow or a loop calls: Terms holds what it makes of its value
	NotWhile                   // a follow or a loop does not call: Terms are those of its `while`
	Settling                   // an output: Callers are undecided, and the job settles
	AtTime                     // a message: every HeldFor, or at the start where that is 0
	ByCircle                   // an output: it and what looks at it do not come to rest
	ByPlant                    // an output: the plant has it so
	ByLostHand                 // an output: a hand could not go on, and it stays off until the hand's own end

	causes // how many there are
)

// A Reason is why something changed, as data. Sentence puts it into words. What
// has a reason of its own, such as a rule that calls, is named by the number of
// the transition that has it: the reasons of a run are one graph, and however
// often a part of it is named, it is there once. A transition may name one of
// the same instant that comes after it.
type Reason struct {
	Cause   Cause
	Terms   []Term
	Callers []int32 // of Program.Calling
	From    []int64 // of each of Callers: the number of the transition to what it is now, or -1
	Mode    Mode    // of an output in hand

	Turned  bool   // of an analog output: it moves by another cause, or another caller, than at its last change
	Held    Hold   // what held it back until now
	Holds   bool   // it still does
	HeldFor int64  // the minimum time, or that of the pulse, in nanoseconds
	Since   int64  // of a pulse, a latch, or a minimum time that still runs
	Sent    []Term // what a message carries
	Permit  []Term // why it is permitted now, or is not
}

// Clone copies the reason out of its Stepper's buffers.
func (r Reason) Clone() Reason {
	r.Terms, r.Permit, r.Sent = slices.Clone(r.Terms), slices.Clone(r.Permit), slices.Clone(r.Sent)
	r.Callers, r.From = slices.Clone(r.Callers), slices.Clone(r.From)
	return r
}

// A Term is one comparison, contact or bad input that decided.
type Term struct {
	Kind  TermKind
	Cond  int32   // the comparison
	Input int32   // of a contact, of a bad input, of a comparison the first input on its left; or -1
	Left  float64 // of a comparison, in the comparison's unit
	Limit float64 // the trip or reset point used
	High  float64 // of a range, its other end; of nearness, how near
	Holds bool    // the condition is true
	Op    sheet.Op
	Point Point

	On      bool         // of a contact
	Pinned  bool         // of an input
	Of      Ref          // of what stands in some way, or is sent; a follow or a loop
	Stand   Stand        // how it does; also good or bad, of a signal
	From    int64        // the number of the transition to Stand, or -1
	Fault   signal.Fault // of a bad input
	Says    string       // why there is none, where its device says so
	Reading float64      // the input's last reading, and where in its chain it came
	At      int
	Cold    float64 // of a thermocouple, its cold junction's temperature, in degrees Celsius

	Share, Sum float64 // of a loop: what comes of the deviation now, and of its integral

	For     int64 // how long it had to last, in nanoseconds; 0: not at all
	Since   int64 // since when it has
	Waiting bool  // it has not lasted so long yet
}

// A TermKind is what a Term is about.
type TermKind uint8

// The kinds of terms.
const (
	Comparison TermKind = iota
	ContactTerm
	BadInput
	ReadingTerm
	QualityTerm // an input, or a derived value by its condition, is good or bad
	StateTerm   // how a rule, an alarm, bands or an output stands
	ValueTerm   // a value that a message carries
	AlarmTerm   // what people have made of an alarm
	RangeTerm   // a value, between or outside Limit and High
	NearTerm    // two values, Left and Limit, and how near they are to be: High
	TurnTerm    // something that turned or changed at this instant, or did not
	CrossTerm   // a value that crossed Limit, or did not
	SlopeTerm   // how far a value rose, Left, over For
	DaytimeTerm // the time of day
	FollowTerm  // what the follow Of makes, High, of its value, Left
	LoopTerm    // what the loop Of makes, High, of its value, Left, and its target, Limit
)

// A Point is which of a comparison's points was used.
type Point uint8

// The points: a setpoint as it stands, or moved by deadband or hysteresis.
const (
	Plain Point = iota
	TripPoint
	ResetPoint
)

func (s *Stepper) inputReason(i int32) Reason {
	from := len(s.terms)
	t := s.input(i)
	t.Kind = ReadingTerm
	s.terms = append(s.terms, t)
	cause := ByReading
	if t.Fault == signal.None {
		cause = ByGoodReading
	}
	return Reason{Cause: cause, Terms: s.terms[from:]}
}

func (s *Stepper) ruleReason(r *Rule, v verdict, before State) Reason {
	from := len(s.terms)
	s.reasonFrom = from
	truth := s.truths[v.look]
	switch {
	case v.cause == ByPulseEnd:
		return Reason{Cause: v.cause, HeldFor: s.duration(int64(r.pulse))}
	case v.cause == ByInterlock || v.cause == ByReset || v.cause == ByPerson:
		s.explain(v.look, lasting{})
		return Reason{Cause: v.cause, Terms: s.terms[from:]}
	case v.held != NotHeld:
		s.explain(v.look, lasting{})
	case v.on && v.look == r.turnOn && r.off >= 0:
		// Both `on when` and `not off when` hold; the second is worth a word
		// only if it is what has turned.
		s.explain(r.on, lasting{})
		if s.conds[r.off].changed == s.now && s.conds[r.on].changed != s.now {
			s.explain(r.off, lasting{})
		}
	case truth == isFalse && v.look == r.turnOn && s.truths[r.on] != isFalse:
		s.explain(r.off, lasting{})
	case truth == isFalse && v.look == r.turnOn:
		s.explain(r.on, lasting{})
	default:
		s.explain(v.look, lasting{})
	}
	cause := v.cause
	if before == Undecided {
		cause = ByTermsAgain
	}
	return Reason{Cause: cause, Terms: s.terms[from:]}
}

// outputReason explains a decision: by the callers that are the reason, or by what
// is stronger than they are.
func (s *Stepper) outputReason(i int32, d decision) Reason {
	from := len(s.terms)
	s.reasonFrom = from
	switch {
	case d.cause == ByHand && s.outputs[i].unhand:
		return Reason{Cause: ByLostHand}
	case d.cause == ByHand:
		return Reason{Cause: ByHand, Mode: s.outputs[i].mode}
	case d.cause == ByPlant:
		return Reason{Cause: ByPlant}
	case d.cause == ByCircle:
		s.terms = append(s.terms, Term{Kind: StateTerm, Input: -1, Of: Ref{OutputKind, s.restless}, Stand: s.stand(s.restless)})
		return Reason{Cause: ByCircle, Terms: s.terms[from:]}
	case d.cause == ByInterlock:
		s.explain(s.p.Outputs[i].interlock, lasting{})
		return Reason{Cause: ByInterlock, Terms: s.terms[from:]}
	case d.by >= 0:
		s.rulesNamed = append(s.rulesNamed, d.by)
		return Reason{Cause: ByCall, Callers: s.rulesNamed[len(s.rulesNamed)-1:]}
	}
	named := len(s.rulesNamed)
	want := map[Cause]State{ByCall: On, ByNoCall: Off, ByFail: Undecided}[d.cause]
	turned := false // at this instant; those that did are the reason
	for _, r := range s.p.Callers(int(i)) {
		turned = turned || s.calling(r) == want && s.conds[s.p.Calling[r].node].changed == s.now
	}
	for _, r := range s.p.Callers(int(i)) {
		if s.calling(r) == want && (!turned || s.conds[s.p.Calling[r].node].changed == s.now) {
			s.rulesNamed = append(s.rulesNamed, r)
		}
	}
	return Reason{Cause: d.cause, Callers: s.rulesNamed[named:]}
}

// A lasting is the `for` that a condition stands in, if it does.
type lasting struct {
	length, since int64
	waiting       bool
}

// of is a term of a condition that stands in it.
func (l lasting) of(t Term) Term {
	t.For, t.Since, t.Waiting = l.length, l.since, l.waiting
	return t
}

// explain appends the terms that decide a condition's present truth.
func (s *Stepper) explain(cond int32, in lasting) {
	n := &s.p.conds[cond]
	operations[n.op].explain(s, cond, n, s.truths[cond], in)
}

// explainTerms explains the terms of `and` and `or`: all where all were
// needed, otherwise those that decide, and of these the ones that turned at
// this instant if any did.
func (s *Stepper) explainTerms(n *condNode, v truth, all bool, in lasting) {
	args := s.p.args[n.a : n.a+n.b]
	turned := false
	for _, a := range args {
		turned = turned || s.truths[a] == v && s.conds[a].changed == s.now
	}
	for _, a := range args {
		if all || s.truths[a] == v && (!turned || v == isUnknown || s.conds[a].changed == s.now) {
			s.explain(a, in)
		}
	}
}

// explainUnknown names the bad inputs of what compares values; it tells whether
// there was one.
func (s *Stepper) explainUnknown(n *condNode) (some bool) {
	for k := s.p.nextRead(n, -1); k >= 0; k = s.p.nextRead(n, k) {
		if s.faultOf(k) != signal.None {
			s.explainBad(s.input(k))
			some = true
		}
	}
	return some
}

// explainRelation explains what compares values and is no plain comparison.
func (s *Stepper) explainRelation(i int32, n *condNode, v truth, in lasting) {
	if v == isUnknown && s.explainUnknown(n) {
		return
	}
	s.catchUpValue(n.a)
	t := in.of(Term{Input: -1, Cond: i, Holds: v == isTrue, Left: s.values[n.a]})
	switch n.op {
	case condBetween, condOutside:
		t.Kind = RangeTerm
		inside := t.Left >= s.values[n.b] && t.Left <= s.values[n.n]
		between := v == isTrue && inside != (n.op == condBetween) // its points: it has not let go yet
		t.Limit, t.High = s.ends(n, between || v == isFalse && s.letGo(i, in))
		if t.Limit != s.values[n.b] {
			t.Point = ResetPoint
		}
	case condNear:
		t.Kind, t.Limit, t.High = NearTerm, s.values[n.b], s.values[n.n]
	case condChanges:
		t.Kind = TurnTerm
	case condCrosses:
		t.Kind, t.Limit = CrossTerm, s.values[n.b]
		if n.n < 0 {
			break
		}
		t.For = s.duration(int64(n.n))
		t.Since = s.now - t.For
		if m := &s.conds[i]; v != isTrue {
			t.Waiting, t.Since = s.crossed(i, n), m.since
			if !m.lapsed || m.since == never {
				t.Since = s.now
			}
		}
	default:
		t.Kind, t.For, t.Since, t.Waiting = SlopeTerm, s.duration(int64(s.p.slopes[n.n].over)), 0, false
		if entries := s.pasts[n.n].entries; len(entries) > 0 {
			t.Left -= entries[0].value
			t.Waiting, t.Since = v == isUnknown, entries[0].at
		}
	}
	s.terms = append(s.terms, t)
}

// letGo tells whether a condition that is untrue is explained by its having let go: now, or
// when what it stands in began to wait.
func (s *Stepper) letGo(i int32, in lasting) bool {
	since := s.conds[i].since
	return since == s.now || in.length > 0 && since == in.since
}

func (s *Stepper) explainCompare(i int32, n *condNode, v truth, in lasting) {
	if v == isUnknown {
		s.explainUnknown(n)
		return
	}
	t := Term{Input: -1}
	if k := s.p.firstInput(n.a); k >= 0 {
		t = s.input(k)
	}
	t = in.of(t)
	t.Kind, t.Cond, t.Left = Comparison, i, s.values[n.a]
	trip, reset := s.points(n)
	op := sheet.Op(operations[n.op].name)
	if v == isTrue {
		t.Op = op
		t.Limit, t.Point = trip, TripPoint
		if !holds(op, t.Left, trip) { // between its points: it has not come back yet
			t.Limit, t.Point = reset, ResetPoint
		}
	} else {
		t.Op = op.Opposite()
		t.Limit, t.Point = trip, TripPoint
		if s.letGo(i, in) {
			t.Limit, t.Point = reset, ResetPoint
		}
	}
	if t.Limit == s.values[n.b] {
		t.Point = Plain
	}
	s.terms = append(s.terms, t)
}

// explainBad appends an input that is bad, unless it is named already.
func (s *Stepper) explainBad(t Term) {
	for _, before := range s.terms[s.reasonFrom:] {
		if before.Kind == BadInput && before.Input == t.Input {
			return
		}
	}
	t.Kind, t.For, t.Since, t.Waiting = BadInput, 0, 0, false
	s.terms = append(s.terms, t)
}

func holds(op sheet.Op, x, limit float64) bool {
	switch op {
	case sheet.Below:
		return x < limit
	case sheet.AtMost:
		return x <= limit
	case sheet.Above:
		return x > limit
	}
	return x >= limit
}

// input begins a term about an input, with its last reading.
func (s *Stepper) input(i int32) Term {
	s.catchUp(i)
	t := Term{Input: i, Fault: s.faultOf(i), Pinned: s.inputs[i].pinned}
	t.Left, _ = s.inputValue(i)
	if t.Fault == signal.Reported {
		t.Says = s.inputs[i].says
	}
	if s.p.Inputs[i].Chain != nil {
		t.Reading, t.At, t.Cold = s.analog[i].Reading, s.analog[i].At, s.analog[i].Chain.Cold()
	} else {
		t.On = s.contactOn(i)
	}
	return t
}

// nextRead is the first input behind one, in order, that any side of a comparison
// depends on; -1 if there is none.
func (p *Program) nextRead(n *condNode, after int32) int32 {
	next := int32(-1)
	for _, v := range n.values() {
		if v < 0 {
			continue
		}
		reads := p.links.valueInputs.of(v)
		if i, _ := slices.BinarySearch(reads, after+1); i < len(reads) && (next < 0 || reads[i] < next) {
			next = reads[i]
		}
	}
	return next
}

// firstInput is the first input that a value depends on; -1 if it depends on
// none.
func (p *Program) firstInput(v int32) int32 {
	for _, k := range p.links.valueInputs.of(v) {
		if k >= 0 {
			return k
		}
	}
	return -1
}

// A Clock prints a time as the recording or the wall shows it. A nil one is for
// where time has no meaning: sentences are then without it.
type Clock func(t int64) string

// since is the part of a sentence that says since when.
func (c Clock) since(t int64) string {
	if c == nil || t == memo.Always {
		return ""
	}
	return ", since " + c(t)
}

// Sentence puts a reason into words.
func (p *Program) Sentence(t Transition, clock Clock) string {
	text := p.cause(t, clock)
	if t.Kind == MessageKind {
		return text + "; " + p.sentText(int(t.Index), t.Reason.Sent)
	}
	r := t.Reason
	minimum := "minimum off"
	switch r.Held {
	case NotHeld:
		return text
	case BySettling:
		if r.Holds {
			return "its interlock is unknown, and the job still settles: " + p.termsText(r.Permit, t.Time, clock)
		}
		return text + ", once the job had settled"
	case ByPermissive:
		if r.Holds {
			return "not permitted: " + p.termsText(r.Permit, t.Time, clock)
		}
		return text + ", and permitted now: " + p.termsText(r.Permit, t.Time, clock)
	case ByMinimumOn:
		minimum = "minimum on"
	case ByStarts:
		return text + p.apartText(r, clock)
	}
	minimum += " of " + unit.FormatDuration(r.HeldFor)
	if r.Holds && clock == nil {
		return text + ", but its " + minimum + " has not passed"
	}
	if r.Holds {
		return text + ", but its " + minimum + " lasts until " + clock(after(r.Since, r.HeldFor))
	}
	return text + ", once its " + minimum + " had passed"
}

// apartText says that another output has just turned on, or had.
func (p *Program) apartText(r Reason, clock Clock) string {
	apart := unit.FormatDuration(r.HeldFor)
	switch {
	case !r.Holds:
		return ", " + apart + " after another output had turned on"
	case clock == nil:
		return ", but another output has just turned on, and starts are " + apart + " apart"
	}
	return ", but another output has just turned on; starts are " + apart + " apart, so that it waits until " + clock(after(r.Since, r.HeldFor))
}

func (p *Program) cause(t Transition, clock Clock) string {
	r := t.Reason
	switch r.Cause {
	case ByInterlock:
		return "interlocked: " + p.termsText(r.Terms, t.Time, clock)
	case ByReset:
		return "reset: " + p.termsText(r.Terms, t.Time, clock)
	case ByCircle:
		return CircleText(p.Name(r.Terms[0].Of)) + ": fails to " + p.StandText(t.Ref, t.To)
	case ByPerson:
		return "reset by a person; " + p.termsText(r.Terms, t.Time, clock)
	case ByHand:
		return map[Mode]string{HandOn: "in hand: on", HandOff: "in hand: off", HandAt: "in hand: " + p.StandText(t.Ref, t.To), Stood: "kept off by a person"}[r.Mode]
	case ByLostHand:
		return "kept off, since a hand of it could not go on"
	case Following:
		return p.TermText(r.Terms[0])
	case NotWhile:
		return "its `while` does not hold: " + p.termsText(r.Terms, t.Time, clock)
	case ByPlant:
		return "found so in the plant"
	case AtTime:
		if r.HeldFor > 0 {
			return "every " + unit.FormatDuration(r.HeldFor)
		}
		return "at the start"
	case InPulse:
		return "in its pulse of " + unit.FormatDuration(r.HeldFor) + clock.since(r.Since)
	case AfterPulse:
		return "its pulse has ended, and it waits until this lets go: " + p.termsText(r.Terms, t.Time, clock)
	case InLatch:
		return "latched until it is reset" + clock.since(r.Since) + ": " + p.termsText(r.Terms, t.Time, clock)
	case NotCalled:
		if len(r.Callers) == 0 {
			return "nothing calls it"
		}
		return "not called by " + p.callerNames(r.Callers)
	case Settling:
		return p.callerNames(r.Callers) + " undecided, and the job still settles"
	case ByPulseEnd:
		return "its pulse of " + unit.FormatDuration(r.HeldFor) + " has ended"
	case ByCall:
		return "called by " + p.callerNames(r.Callers)
	case ByNoCall:
		if len(r.Callers) == 0 {
			return "called by nothing"
		}
		return "no longer called by " + p.callerNames(r.Callers)
	case ByFail:
		return p.callerNames(r.Callers) + " undecided: fails to " + p.StandText(t.Ref, t.To)
	case ByTermsAgain:
		return "decided again: " + p.termsText(r.Terms, t.Time, clock)
	}
	return p.termsText(r.Terms, t.Time, clock)
}

// CircleText says that an output does not come to rest.
func CircleText(output string) string {
	return "the job is in fault, since " + output + " and what looks at it switch each other to and fro without an end"
}

// CallerText says what one of an output's callers has to do with its change.
func (p *Program) CallerText(c Cause, caller int32) string {
	name := p.Calling[caller].Name
	switch c {
	case ByCall:
		return "called by " + name
	case ByNoCall:
		return "no longer called by " + name
	}
	return name + " undecided"
}

func (p *Program) callerNames(callers []int32) string {
	names := make([]string, len(callers))
	for i, c := range callers {
		names[i] = p.Calling[c].Name
	}
	return strings.Join(names, " and ")
}

// termsText joins the terms; those that wait for the same delay share it.
func (p *Program) termsText(terms []Term, now int64, clock Clock) string {
	var parts []string
	for i := 0; i < len(terms); {
		var group []string
		t := terms[i]
		for ; i < len(terms) && terms[i].For == t.For && terms[i].Since == t.Since; i++ {
			group = append(group, p.TermText(terms[i]))
		}
		text := strings.Join(group, " and ")
		if t.For > 0 && t.Kind != SlopeTerm {
			between := " "
			if len(group) > 1 {
				between = ", "
			}
			text += between + DelayText(t, now, clock)
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", and ")
}

// DelayText says how long a term has lasted: "for 45 s, since 02:13:20", or,
// while it waits, "for only 31 s of 45 s, since 02:13:20".
func DelayText(t Term, now int64, clock Clock) string {
	if t.Waiting && now == t.Since {
		return "from now on, and must last " + unit.FormatDuration(t.For)
	}
	if t.Waiting {
		return "for only " + unit.FormatDuration(rounded(now-t.Since)) + " of " + unit.FormatDuration(t.For) + clock.since(t.Since)
	}
	return "for " + unit.FormatDuration(t.For) + clock.since(t.Since)
}

// rounded is a time that runs, to the millisecond, as far as it has any.
func rounded(ns int64) int64 {
	const ms = 1_000_000
	if ns < ms {
		return ns
	}
	return ns / ms * ms
}

// TermText puts one term into words, without its delay.
func (p *Program) TermText(t Term) string {
	switch t.Kind {
	case ContactTerm:
		return p.Inputs[t.Input].Name + " is " + p.input(int(t.Input)).StateWord(t.On)
	case StateTerm:
		if t.Of.Kind == OutputKind { // a condition asks whether it is on, of an analog one too
			return p.Name(t.Of) + " is " + t.Stand.State.String()
		}
		return p.Name(t.Of) + " is " + p.StandText(t.Of, t.Stand)
	case ValueTerm:
		return p.sentValue(t)
	case AlarmTerm:
		is := " is "
		if !t.Holds {
			is = " is not "
		}
		n := &p.conds[t.Cond]
		return p.Alarms[n.a].Name + is + [...]string{"announced", "unacknowledged", "shelved"}[n.n]
	case FollowTerm, LoopTerm:
		return p.proportionText(t)
	case TurnTerm:
		return p.turnText(t)
	case RangeTerm, NearTerm, CrossTerm, SlopeTerm, DaytimeTerm:
		return p.relationText(t)
	case QualityTerm:
		name := p.sources[t.Cond].name
		if t.Input >= 0 {
			name = p.Inputs[t.Input].Name
		}
		switch {
		case p.unnamed(t.Input) && t.Stand.State == Bad:
			return p.faultText(t)
		case p.unnamed(t.Input):
			return "that is over"
		case t.Stand.State == Bad && t.Input >= 0 && t.Fault == signal.NotRead:
			return name + " is not read yet"
		case t.Stand.State == Bad && t.Input >= 0:
			return name + " is bad: " + p.faultText(t)
		}
		return name + " is " + t.Stand.State.String()
	case BadInput:
		if t.Fault == signal.NotRead {
			return p.Inputs[t.Input].Name + " is not read yet"
		}
		return p.Inputs[t.Input].Name + " is bad: " + p.faultText(t)
	case ReadingTerm:
		if t.Fault != signal.None {
			return p.faultText(t)
		}
		if p.Inputs[t.Input].Chain == nil {
			if t.Pinned {
				return "pinned: " + p.input(int(t.Input)).StateWord(t.On)
			}
			return "a good reading again"
		}
		if t.Pinned {
			return "pinned at " + withUnit(unit.Short(t.Left), p.Inputs[t.Input].Chain.Engineering())
		}
		stages := p.Stages(t)
		return "a good reading again, " + quantityText(stages[len(stages)-1])
	}
	n := &p.sources[t.Cond]
	c := n.compare
	left, limit := unit.ShortPair(t.Left, t.Limit)
	text := valueText(c.L, left, n.unit) + " " + string(t.Op) + " "
	if t.Point == Plain {
		return text + valueText(c.R, limit, n.unit)
	}
	which := "trip"
	if t.Point == ResetPoint {
		which = "reset"
	}
	return text + withUnit(limit, n.unit) + " (" + which + " point of " + c.String() + ")"
}

// valueText is a value with the words it was written in, and its number: only
// the number if it was written as one.
func valueText(e sheet.Expr, number string, u unit.Unit) string {
	if _, ok := e.(*sheet.Literal); ok {
		return withUnit(number, u)
	}
	return e.String() + " " + withUnit(number, u)
}

func withUnit(number string, u unit.Unit) string {
	return strings.TrimSuffix(number+" "+u.Name(), " ")
}

func quantityText(q unit.Quantity) string { return withUnit(unit.Short(q.Value), q.Unit) }

// unnamed tells whether an input stands in no sheet, as a device does: what it says is the whole sentence.
func (p *Program) unnamed(input int32) bool {
	return p.Watched(Ref{InputKind, input}) && strings.Contains(p.Inputs[input].Name, ".")
}

func (p *Program) faultText(t Term) string {
	if t.Says != "" {
		return t.Says
	}
	if c := p.Inputs[t.Input].Chain; c != nil {
		return c.With(t.Cold).Explain(t.Fault, t.Reading, t.At)
	}
	return (&signal.Contact{Fault: t.Fault}).Explain()
}

// Stages lists the input's reading at every place of its chain, from the raw
// reading to the engineering value before filters; nothing for a contact or an
// input that has no usable reading.
func (p *Program) Stages(t Term) []unit.Quantity {
	if t.Input < 0 || p.Inputs[t.Input].Chain == nil || t.Fault == signal.NotRead || t.Fault == signal.Reported ||
		t.Fault == signal.Infinite {
		return nil
	}
	return p.Inputs[t.Input].Chain.With(t.Cold).Stages(t.Reading, t.At)
}
