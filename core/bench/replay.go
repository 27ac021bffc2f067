package bench

import (
	"fmt"
	"slices"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/unit"
)

// Options are what a replay may do otherwise. The zero value plays the
// recording with the job as written.
type Options struct {
	Set  map[string]unit.Quantity // other values of setpoints and constants
	Scan int64                    // evaluate only every so many nanoseconds from the start, as a looped controller would

	Commands []Command // of people, in order of time

	EveryChange bool // of analog outputs too is among the transitions
	First, Most int  // keep so many transitions from the First one on, and count all; of Most 0, keep all

	Stop Stop

	watch bool                           // the stepper notes when conditions are first true
	keep  func(t *logic.Transition) bool // tells which transitions are kept; nil for all
}

// A Command is what a person does at a time.
type Command struct {
	At int64
	logic.Command
}

// A Result is what came out of a replay. Transitions are in order of time.
type Result struct {
	Program     *logic.Program
	Recording   *recording.Recording
	Transitions []logic.Transition // those that were to be kept
	Changes     int                // the number of all transitions
	Marks       []Mark             // where every MarkEvery-th of them stands, from the first on
	Summary     []Summary
	Warnings    []string
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
	bound, warnings, err := bind(p, r)
	if err != nil {
		return nil, err
	}
	if o.Scan < 0 {
		return nil, fmt.Errorf("a scan of %s; it must be above 0", unit.FormatDuration(o.Scan))
	}
	w := &player{p: p, look: look, stepper: logic.NewStepper(p), first: o.First, most: o.Most, patience: patience{stop: o.Stop},
		result: &Result{Program: p, Recording: r, Warnings: warnings, Scan: o.Scan, spans: newSpans(p, r.Start), stop: o.Stop}}
	if w.result.Settings, err = settings(p, o.Set); err != nil {
		return nil, err
	}
	for i, v := range w.result.Settings {
		w.stepper.Set(i, v)
	}
	if o.watch {
		w.stepper.Watch()
	}
	for _, b := range bound {
		w.cursors = append(w.cursors, newCursor(b))
	}
	w.totals, w.every, w.keep = newTotals(p, r.Start), o.EveryChange, o.keep
	w.commands = o.Commands
	if o.Scan > 0 {
		err = w.scan(r.Start, r.End, o.Scan)
	} else {
		err = w.play(r.Start, r.End)
	}
	if err != nil {
		return nil, err
	}
	w.result.spans.end(r.End)
	w.result.Summary = w.totals.summary(r.Start, r.End)
	w.result.levels = w.totals.columns()
	w.result.Warnings = append(w.result.Warnings, w.result.plantWarnings()...)
	if output, since, circle := w.stepper.Circle(); circle {
		w.result.Warnings = append(w.result.Warnings, fmt.Sprintf("from %s on %s; every output went to its fail state", r.Clock.Format(since), logic.CircleText(p.Outputs[output].Name)))
	}
	if r.Clock.Elapsed && p.Clocked() {
		w.result.Warnings = append(w.result.Warnings, "the recording has no time of day; its times count from midnight of 1970-01-01, UTC")
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
			return nil, fmt.Errorf("no setpoint or constant is named %s", name)
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
	cursors []cursor
	totals  *totals
	result  *Result

	patience
	first, most int  // of the transitions that are kept
	every       bool // change of analog outputs is kept
	keep        func(t *logic.Transition) bool
	commands    []Command // that are still to come
	look        func(*logic.Stepper, int64)
}

// play evaluates every instant: each time at which a reading stands, and each
// at which a timer falls due.
func (w *player) play(start, end int64) error {
	for t := start; t <= end; {
		next := int64(never)
		for i := range w.cursors {
			c := &w.cursors[i]
			if c.time == t {
				w.stepper.Read(t, c.input, c.take(), c.at)
			}
			next = min(next, c.time)
		}
		if err := w.command(t); err != nil {
			return err
		}
		if err := w.step(t); err != nil {
			return err
		}
		t = min(next, w.nextCommand(), w.stepper.Next())
	}
	return nil
}

func (w *player) nextReading() int64 {
	next := int64(never)
	for i := range w.cursors {
		next = min(next, w.cursors[i].time)
	}
	return next
}

// command hands over what people have done up to a time.
func (w *player) command(t int64) error {
	for len(w.commands) > 0 && w.commands[0].At <= t {
		if _, err := w.stepper.Command(w.commands[0].Command); err != nil {
			return err
		}
		w.commands = w.commands[1:]
	}
	return nil
}

func (w *player) nextCommand() int64 {
	if len(w.commands) == 0 {
		return never
	}
	return w.commands[0].At
}

// scan evaluates at start + k·period only, with the newest reading of each
// input. Scans at which nothing is new and no timer is due are passed over,
// since they change nothing.
func (w *player) scan(start, end, period int64) error {
	for t := start; t <= end; {
		for i := range w.cursors {
			c := &w.cursors[i]
			if c.time > t {
				continue
			}
			newest := c.take()
			for c.time <= t {
				newest = c.take()
			}
			w.stepper.Read(t, c.input, newest, c.at)
		}
		if err := w.command(t); err != nil {
			return err
		}
		if err := w.step(t); err != nil {
			return err
		}
		next := min(w.nextReading(), w.nextCommand(), w.stepper.Next())
		if next > end {
			return nil
		}
		t += max(1, (next-t+period-1)/period) * period
	}
	return nil
}

func (w *player) step(t int64) error {
	if err := w.over(); err != nil {
		return err
	}
	made, err := w.stepper.Step(t)
	if err != nil {
		return err
	}
	if w.look != nil {
		w.look(w.stepper, t)
	}
	if len(made) == 0 && !w.stepper.Decided() {
		return nil
	}
	for _, tr := range made {
		if tr.LevelOnly() && !w.every {
			continue
		}
		w.result.spans.take(&tr)
		if n := w.result.Changes; n >= w.first && (w.most == 0 || n < w.first+w.most) && (w.keep == nil || w.keep(&tr)) {
			tr.Reason = tr.Reason.Clone()
			w.result.Transitions = append(w.result.Transitions, tr)
		}
		if w.result.Changes%MarkEvery == 0 {
			w.result.Marks = append(w.result.Marks, Mark{t, tr.Number})
		}
		w.result.Changes++
	}
	w.totals.take(t, made, w.stepper)
	return nil
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
	for _, tr := range made {
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
	for i, l := range x.levels {
		if l != nil {
			l.take(t, s.Level(i))
		}
	}
	for i := range x.outputs {
		x.outputs[i].decide(t, s.OutputUndecided(i))
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

func (x *totals) summary(start, end int64) []Summary {
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
		all = append(all, t.Summary)
	}
	return all
}
