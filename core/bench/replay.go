package bench

import (
	"errors"
	"fmt"
	"slices"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/run"
	"rectura/core/unit"
)

// Options are what a replay may do otherwise. The zero value plays the
// recording with the job as written.
type Options struct {
	Set  map[string]unit.Quantity // other values of setpoints and constants
	Scan int64                    // evaluate only every so many nanoseconds from the start, as a looped controller would

	Commands []Command // of people, in order of time

	EveryChange bool // of analog outputs too is among the transitions
	Overlook    bool // follows and loops at whose outputs the rules do not look are not worked out, and no summary tells of these
	First, Most int  // keep so many transitions from the First one on, and count all; of Most 0, keep all

	// Each is given every transition that is kept, instead of the result, with the program as it is played, which has
	// other numbers in its clauses where Set says so. It is good until Each returns, and its reason is not to be kept.
	Each func(p *logic.Program, t *logic.Transition)

	// Traced gives the trace of an input of this job over this recording, if somebody has kept it; nil
	// for none.
	Traced func(input string) *recording.Column

	Stop Stop

	watch    bool                           // the stepper notes when conditions are first true
	stepping bool                           // every reading is handed over, whatever comes of it
	keep     func(t *logic.Transition) bool // tells which transitions are kept; nil for all
}

// A Command is what a person does at a time.
type Command = run.Command

// A Result is what came out of a replay. Transitions are in order of time.
type Result struct {
	Program     *logic.Program
	Recording   *recording.Recording
	Transitions []logic.Transition // those that were to be kept
	Changes     int                // the number of all transitions
	Marks       []Mark             // where every MarkEvery-th of them stands, from the first on
	Summary     []Summary
	Warnings    []string            // what may make the answer another than is thought
	Notes       []string            // what is only to be known
	derived     []*recording.Column // traces, once somebody has asked for them
	traced      func(input string) *recording.Column
	Settings    []float64 // setpoints and constants as played
	Scan        int64

	levels []*recording.Column // of analog outputs
	spans  spans
	stop   Stop
}

// A Mark is the time and the number of a transition.
type Mark struct {
	Time   int64
	Number int64
}

// MarkEvery is how many transitions lie from one mark to the next.
const MarkEvery = 1000

// A Summary is how often and how long a rule or output was on, or an alarm
// active; of an analog output, between which values it stood.
type Summary struct {
	logic.Ref
	Name      string
	Starts    int
	On        int64 // nanoseconds
	Undecided int64 // nanoseconds in which the rule, or the output's callers, could not decide
	Final     logic.Stand
	Range     *Range // of an analog output, which has no starts
}

// Replay plays a recording through a job with the stepping executor, from the
// recording's first row to its last.
func Replay(p *logic.Program, r *recording.Recording, o Options) (*Result, error) {
	return replay(p, r, o, nil)
}

// replay is Replay with somebody who looks at the stepper after every instant;
// nil for nobody.
func replay(p *logic.Program, r *recording.Recording, o Options, look func(*logic.Stepper, int64)) (*Result, error) {
	p, set, err := adjusted(p, o.Set)
	if err != nil {
		return nil, err
	}
	o.Set = set
	bound, warnings, notes, err := bind(p, r)
	if err != nil {
		return nil, err
	}
	if o.Scan < 0 {
		return nil, fmt.Errorf("a scan of %s; it must be above 0", unit.FormatDuration(o.Scan))
	}
	w := &player{
		p:        p,
		look:     look,
		stepper:  logic.NewStepper(p),
		first:    o.First,
		most:     o.Most,
		patience: patience{stop: o.Stop},
		result: &Result{
			Program:   p,
			Recording: r,
			Warnings:  warnings,
			Notes:     notes,
			Scan:      o.Scan,
			spans:     newSpans(p, r.Start),
			stop:      o.Stop,
			traced:    o.Traced,
		},
	}
	if w.result.Settings, err = settings(p, o.Set); err != nil {
		return nil, err
	}
	for i, v := range w.result.Settings {
		w.stepper.Set(i, v)
	}
	if o.watch {
		w.stepper.Watch()
	}
	if o.Overlook {
		w.stepper.Overlook()
	}
	w.totals, w.every, w.keep, w.each = newTotals(p, r.Start), o.EveryChange, o.keep, o.Each
	if err := w.play(r, bound, o); err != nil {
		return nil, err
	}
	w.result.spans.end(r.End)
	w.result.Summary = w.totals.summary(p, r.Start, r.End)
	if o.Overlook {
		w.result.Summary = slices.DeleteFunc(w.result.Summary, func(s Summary) bool { return s.Range != nil })
	}
	if !o.Overlook {
		w.result.levels = w.totals.columns()
	}
	w.result.judgePlant()
	if output, since, circle := w.stepper.Circle(); circle {
		w.result.Warnings = append(
			w.result.Warnings,
			fmt.Sprintf(
				"from %s on %s; every output went to its fail state",
				r.Clock.Format(since),
				logic.CircleText(p.Outputs[output].Name),
			),
		)
	}
	if r.Clock.Elapsed && p.Clocked() {
		w.result.Warnings = append(
			w.result.Warnings,
			"the recording has no time of day; its times count from midnight of 1970-01-01, UTC",
		)
	}
	return w.result, nil
}

// settings are the values of all setpoints and constants, with some set
// otherwise. A setpoint must stay inside its limits; a constant is free on the
// bench.
func settings(p *logic.Program, set map[string]unit.Quantity) ([]float64, error) {
	values := make([]float64, len(p.Settings))
	for i, s := range p.Settings {
		values[i] = s.Value.Value
	}
	for name, q := range set {
		i := p.Index(logic.SettingKind, name)
		if i < 0 {
			return nil, fmt.Errorf("no setpoint or constant is named %s%s", name, p.Job.DidYouMean(name, "setpoint", "constant"))
		}
		v, err := p.SettingOf(i, q)
		if err != nil {
			return nil, err
		}
		values[i] = v
	}
	return values, nil
}

// A player is one replay under way.
type player struct {
	p       *logic.Program
	stepper *logic.Stepper
	totals  *totals
	result  *Result

	patience
	first, most int  // of the transitions that are kept
	every       bool // change of analog outputs is kept
	keep        func(t *logic.Transition) bool
	each        func(p *logic.Program, t *logic.Transition)
	look        func(*logic.Stepper, int64)
}

// played is the feed of a recording: of every column that is bound to an input, the
// newest reading.
type played struct {
	cursors []cursor
	missed  []*missed // of the contacts among them, where there is a scan; else nil
	next    int64
}

// play gives the feed of a recording, which begins at a time whether or not anything
// was read then.
func play(bound []binding, start int64) *played {
	f := &played{next: start}
	for _, b := range bound {
		f.cursors = append(f.cursors, newCursor(b))
	}
	return f
}

func (f *played) Next() int64 { return f.next }

func (f *played) Hand(t int64, s *logic.Stepper) {
	next := int64(run.Never)
	for i := range f.cursors {
		c := &f.cursors[i]
		if c.time <= t {
			var newest float64
			if f.missed != nil {
				newest = f.newest(i, t)
			} else {
				for c.time <= t {
					newest = c.take()
				}
			}
			s.Read(t, c.input, newest, c.at)
		}
		next = min(next, c.time)
	}
	f.next = next
}

// newest takes the readings of a cursor up to a time, and counts what fell between scans.
func (f *played) newest(i int, t int64) float64 {
	c, m := &f.cursors[i], f.missed[i]
	var v float64
	for c.time <= t {
		at := c.time
		if v = c.take(); m != nil {
			m.take(at, v)
		}
	}
	if m != nil {
		m.scan()
	}
	return v
}

// watchContacts counts the pulses of contacts that no scan sees.
func (f *played) watchContacts(p *logic.Program) {
	f.missed = make([]*missed, len(f.cursors))
	for i, c := range f.cursors {
		if in := &p.Inputs[c.input]; in.Chain == nil && in.Used() {
			f.missed[i] = &missed{}
		}
	}
}

// play makes all instants of a recording.
func (w *player) play(r *recording.Recording, bound []binding, o Options) error {
	var err error // of a command or a Stop
	commands := &run.Commands{Rest: o.Commands, Answer: func(_ Command, _ logic.Effect, refused error) {
		if err == nil {
			err = refused
		}
	}}
	var readings run.Feed
	if o.stepping || o.Scan > 0 {
		all := play(bound, r.Start)
		if o.Scan > 0 {
			all.watchContacts(w.p)
			defer w.result.tellMissed(all)
		}
		readings = all
	} else {
		readings = skip(w.stepper, bound, r.Start)
	}
	feeds := []run.Feed{readings, commands}
	stop := func() bool {
		if err == nil {
			err = w.over()
		}
		return err != nil
	}
	take := func(t int64, made []logic.Transition) {
		w.take(t, made)
		if refused := w.stepper.Refused(); len(refused) > 0 && err == nil {
			err = errors.New(refused[0].Text)
		}
	}
	var ended error
	if o.Scan > 0 {
		w.stepper.Scan(o.Scan)
		ended = run.Scan(w.stepper, feeds, r.Start, o.Scan, r.End, take, stop)
	} else {
		ended = run.Until(w.stepper, feeds, r.End, take, stop)
	}
	if err != nil {
		return err
	}
	return ended
}

// take notes what an instant has brought.
func (w *player) take(t int64, made []logic.Transition) {
	if w.look != nil {
		w.look(w.stepper, t)
	}
	if len(made) == 0 && len(w.stepper.Decided()) == 0 {
		return
	}
	for i := range made {
		tr := &made[i]
		if tr.LevelOnly() && !w.every {
			continue
		}
		w.result.spans.take(tr)
		if n := w.result.Changes; n >= w.first && (w.most == 0 || n < w.first+w.most) && (w.keep == nil || w.keep(tr)) {
			w.hand(tr)
		}
		if w.result.Changes%MarkEvery == 0 {
			w.result.Marks = append(w.result.Marks, Mark{t, tr.Number})
		}
		w.result.Changes++
	}
	w.totals.take(t, made, w.stepper)
}

// hand hands a transition to whoever takes each of them, or keeps it.
func (w *player) hand(t *logic.Transition) {
	if w.each != nil {
		w.each(w.p, t)
		return
	}
	kept := *t
	kept.Reason = kept.Reason.Clone()
	w.result.Transitions = append(w.result.Transitions, kept)
}

// totals adds up how long rules and outputs were in which state.
type totals struct {
	rules, outputs []total
	levels         []*levels // by output; nil where none is analog
}

type total struct {
	Summary
	since          int64 // of the present state
	undecidedSince int64
	undecided      bool
	decided        logic.State // of a rule, its last state that was not undecided
}

func newTotals(p *logic.Program, start int64) *totals {
	t := &totals{}
	for i, r := range p.Rules {
		t.rules = append(t.rules, total{Summary: Summary{Ref: p.RefOf(i), Name: r.Name}})
	}
	for i, o := range p.Outputs {
		t.outputs = append(t.outputs, total{Summary: Summary{Ref: logic.Ref{Kind: logic.OutputKind, Index: int32(i)}, Name: o.Name}})
		if o.Analog() {
			if t.levels == nil {
				t.levels = make([]*levels, len(p.Outputs))
			}
			t.levels[i] = newLevels(&o, start)
			t.outputs[i].Range = &t.levels[i].Range
		}
	}
	return t
}

func (x *totals) take(t int64, made []logic.Transition, s *logic.Stepper) {
	for i := range made {
		tr := &made[i]
		switch tr.Kind {
		case logic.RuleKind, logic.AlarmKind:
			r := &x.rules[s.Program().RuleOf(tr.Ref)]
			r.change(t, tr.To)
			r.decide(t, tr.To.State == logic.Undecided)
		case logic.OutputKind:
			if x.outputs[tr.Index].Range == nil {
				x.outputs[tr.Index].change(t, tr.To)
			}
		}
	}
	for _, i := range s.Decided() {
		if x.levels != nil && x.levels[i] != nil {
			x.levels[i].take(t, s.Level(int(i)))
		}
		x.outputs[i].decide(t, s.OutputUndecided(int(i)))
	}
}

func (x *total) change(t int64, to logic.Stand) {
	if x.Final.State == logic.On {
		x.On += t - x.since
	}
	x.Final, x.since = to, t
	if to.State == logic.On && x.decided != logic.On {
		x.Starts++
	}
	if to.State != logic.Undecided {
		x.decided = to.State
	}
}

func (x *total) decide(t int64, undecided bool) {
	if x.undecided && !undecided {
		x.Undecided += t - x.undecidedSince
	}
	if undecided && !x.undecided {
		x.undecidedSince = t
	}
	x.undecided = undecided
}

// columns are what analog outputs did.
func (x *totals) columns() []*recording.Column {
	all := make([]*recording.Column, len(x.outputs))
	for i, l := range x.levels {
		if l != nil {
			all[i] = l.column
		}
	}
	return all
}

func (x *totals) summary(p *logic.Program, start, end int64) []Summary {
	for _, l := range x.levels {
		if l != nil {
			l.end(start, end)
		}
	}
	var all []Summary
	for _, t := range slices.Concat(x.rules, x.outputs) {
		final := t.Final
		t.change(end, final)
		t.decide(end, false)
		t.Final = final
		if p.Watched(t.Ref) && t.Starts == 0 {
			continue
		}
		all = append(all, t.Summary)
	}
	return all
}
