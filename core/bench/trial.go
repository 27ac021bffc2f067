package bench

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// An Outcome is what became of a trial.
type Outcome struct {
	Trial        *sheet.Trial
	Result       *Result
	Expectations []Verdict
	Notes        []string // commands that did nothing
}

// Passed tells whether everything came as expected.
func (o *Outcome) Passed() bool {
	return !slices.ContainsFunc(o.Expectations, func(v Verdict) bool { return !v.Passed })
}

// A Verdict is whether one expectation was borne out, and what was found.
type Verdict struct {
	Text   string
	Passed bool
	Found  string
}

// TrialMappings are the mappings of columns that a trial's recording is to be
// read with.
func TrialMappings(t *sheet.Trial) []recording.Mapping {
	var all []recording.Mapping
	for _, m := range t.Maps {
		all = append(all, recording.Mapping{Column: m.Column, Point: m.Point.Name})
	}
	return all
}

// RunTrial plays a trial's recording through a checked job and looks at what was
// expected.
func RunTrial(job *sheet.Job, t *sheet.Trial, r *recording.Recording, stop Stop) (*Outcome, error) {
	x := &examiner{stop: stop, trial: t, recording: r, outcome: &Outcome{Trial: t}}
	var err error
	if x.result, err = x.play(job); err != nil {
		return nil, fmt.Errorf("trial %s: %w", t.Name, err)
	}
	x.outcome.Result = x.result
	for i, e := range t.Expect {
		v := Verdict{Text: e.Expectation.String()}
		if v.Passed, v.Found, err = x.examine(i, &e.Expectation); err != nil {
			return nil, fmt.Errorf("trial %s, expect %s: %w", t.Name, v.Text, err)
		}
		x.outcome.Expectations = append(x.outcome.Expectations, v)
	}
	return x.outcome, nil
}

// An examiner is one trial under way.
type examiner struct {
	trial     *sheet.Trial
	recording *recording.Recording
	result    *Result
	outcome   *Outcome
	never     map[int]int32 // by expectation: the condition that must not come true
	came      map[int]int64 // when it did
	stop      Stop
	stepper   *logic.Stepper
	values    map[int]*eyewitness
}

// An eyewitness watches a value through a span of time.
type eyewitness struct {
	from, to int64
	low      float64
	high     float64
	unit     unit.Unit
	read     func(*logic.Stepper) (float64, bool)

	value float64 // the last one up to the end, and whether it is good
	good  bool
	any   bool

	wrong bool // it was outside, or bad
	what  string
	when  int64
}

func (x *examiner) play(job *sheet.Job) (*Result, error) {
	t := x.trial
	o := Options{Set: map[string]unit.Quantity{}, Most: 1, Stop: x.stop}
	for _, w := range t.With {
		o.Set[w.Name.Name] = w.Value.Quantity()
	}
	if t.Scan != nil {
		o.Scan = job.DurationValue(t.Scan.Duration)
	}
	var conditions []sheet.Condition
	x.never, x.came, x.values = map[int]int32{}, map[int]int64{}, map[int]*eyewitness{}
	for _, e := range t.Expect {
		if e.Form == sheet.NeverHolds {
			conditions = append(conditions, e.Never)
		}
	}
	p, numbers, err := logic.CompileWith(job, conditions)
	if err != nil {
		return nil, err
	}
	for i, e := range t.Expect {
		switch e.Form {
		case sheet.NeverHolds:
			x.never[i], numbers = numbers[0], numbers[1:]
		case sheet.ValueAt, sheet.ValueSpan, sheet.ValueAll:
			if x.values[i], err = x.witness(p, &e.Expectation); err != nil {
				return nil, err
			}
		}
	}
	for _, c := range t.At {
		command, err := x.command(p, c)
		if err != nil {
			return nil, err
		}
		o.Commands = append(o.Commands, command)
	}
	slices.SortStableFunc(o.Commands, func(a, b Command) int { return cmp.Compare(a.At, b.At) })
	commands := o.Commands
	o.watch, o.stepping = true, len(x.values) > 0
	o.Overlook = len(x.values) == 0 && !hasLevels(p, x.recording)
	result, err := replay(p, x.recording, o, func(s *logic.Stepper, now int64) {
		x.stepper = s
		for _, w := range x.values {
			w.see(now, s)
		}
		for i, cond := range x.never {
			if _, came := x.came[i]; !came && s.True(cond) {
				x.came[i] = now
			}
		}
		for len(commands) > 0 && commands[0].At <= now {
			if c := commands[0]; c.Do == logic.ResetRule && s.RuleState(p.RuleOf(c.Of)) != logic.Off {
				x.outcome.Notes = append(
					x.outcome.Notes,
					fmt.Sprintf(
						"reset %s at %s did nothing: it is %s",
						p.Name(c.Of),
						x.recording.Clock.Format(now),
						p.Sentence(s.Standing(c.Of), x.recording.Clock.Format),
					),
				)
			}
			commands = commands[1:]
		}
	})
	return result, err
}

// time is a moment of the trial, in the recording.
func (x *examiner) time(m sheet.Moment) (int64, error) {
	t, err := x.recording.ParseIn(m.Text)
	if err == nil && (t < x.recording.Start || t > x.recording.End) {
		err = fmt.Errorf(
			"%s is outside the recording, which goes from %s to %s",
			m.Text,
			x.recording.Clock.Format(x.recording.Start),
			x.recording.Clock.Format(x.recording.End),
		)
	}
	if err != nil {
		return 0, fmt.Errorf("%s: %w", m.At, err)
	}
	return t, nil
}

// span is the time that an expectation is about.
func (x *examiner) span(e *sheet.Expectation) (from, to int64, err error) {
	switch e.Form {
	case sheet.Always, sheet.ValueAll, sheet.Starts, sheet.Lasts, sheet.NeverHolds:
		return x.recording.Start, x.recording.End, nil
	}
	if from, err = x.time(e.From); err != nil {
		return 0, 0, err
	}
	to = from
	switch {
	case e.Within != nil:
		d := x.result.job().DurationValue(e.Within)
		to += d
		if e.Around {
			from -= d
		}
	case e.To.Text != "":
		if to, err = x.time(e.To); err != nil {
			return 0, 0, err
		}
		if to < from {
			return 0, 0, fmt.Errorf("%s: %s lies before %s", e.To.At, e.To.Text, e.From.Text)
		}
	}
	return from, to, nil
}

func (r *Result) job() *sheet.Job { return r.Program.Job }

func (x *examiner) witness(p *logic.Program, e *sheet.Expectation) (*eyewitness, error) {
	w := &eyewitness{}
	var err error
	if w.from, w.to, err = x.span(e); err != nil {
		return nil, err
	}
	name := e.Name.Name
	if o := p.Index(logic.OutputKind, name); o >= 0 {
		w.unit = p.Outputs[o].Unit
		w.read = func(s *logic.Stepper) (float64, bool) { return s.Level(o), true }
	}
	switch i, d, s := p.Index(logic.InputKind, name), p.Index(logic.DerivedKind, name), p.Index(logic.SettingKind, name); {
	case i >= 0:
		w.unit = p.Inputs[i].Chain.Engineering()
		w.read = func(s *logic.Stepper) (float64, bool) { return s.Value(i) }
	case d >= 0:
		w.unit = p.Derived[d].Unit
		w.read = func(s *logic.Stepper) (float64, bool) { return s.DerivedValue(d) }
	case s >= 0:
		w.unit = p.Settings[s].Value.Unit
		w.read = func(st *logic.Stepper) (float64, bool) { return st.Setting(s), true }
	}
	w.low, w.high = e.Low.In(w.unit), e.High.In(w.unit)
	return w, nil
}

// see takes the value at an instant. What it was before counts up to then.
func (w *eyewitness) see(now int64, s *logic.Stepper) {
	if now > w.to {
		return
	}
	if now > w.from {
		w.judge(w.from)
	}
	w.value, w.good = w.read(s)
	w.any = true
	if now >= w.from {
		w.judge(now)
	}
}

// judge judges the value that stands at a time, unless one was wrong before.
func (w *eyewitness) judge(at int64) {
	switch {
	case !w.any || w.wrong:
	case !w.good:
		w.wrong, w.when, w.what = true, at, "bad"
	case w.value < w.low || w.value > w.high:
		w.wrong, w.when, w.what = true, at, withUnit(w.value, w.unit)
	}
}

func withUnit(v float64, u unit.Unit) string {
	return strings.TrimSpace(unit.Short(v) + " " + u.Name())
}

func (x *examiner) command(p *logic.Program, c *sheet.CommandClause) (Command, error) {
	at, err := x.time(c.Time)
	if err != nil {
		return Command{}, err
	}
	value := c.State
	if c.Value != nil {
		value = c.Value.String()
	}
	command, err := p.Command(c.Do, c.Name.Name, value)
	if err != nil {
		place := c.ValueAt
		if value == "" {
			place = c.At
		}
		return Command{}, fmt.Errorf("%s: %w", place, err)
	}
	return Command{At: at, Command: command}, nil
}

// examine judges one expectation.
func (x *examiner) examine(i int, e *sheet.Expectation) (passed bool, found string, err error) {
	clock := x.recording.Clock.Format
	switch e.Form {
	case sheet.NeverHolds:
		at, came := x.came[i]
		if sheet.Momentary(e.Never) {
			at, came = x.stepper.FirstTrue(x.never[i])
		}
		if came {
			return false, "it came true at " + clock(at), nil
		}
		return true, "never", nil
	case sheet.ValueAt, sheet.ValueSpan, sheet.ValueAll:
		w := x.values[i]
		w.judge(w.from)
		switch {
		case w.wrong:
			return false, w.what + " at " + clock(w.when), nil
		case e.Form == sheet.ValueAt:
			return true, withUnit(w.value, w.unit), nil
		}
		return true, "always between", nil
	}
	from, to, err := x.span(e)
	if err != nil {
		return false, "", err
	}
	spans, sum, err := x.states(e.Name.Name)
	if err != nil {
		return false, "", err
	}
	want, word := logic.Off, "off"
	if e.On {
		want, word = logic.On, "on"
	}
	switch e.Form {
	case sheet.Starts:
		n := sum.Starts
		return n == e.Count || n > e.Count == e.Least, count(n, "start"), nil
	case sheet.Lasts:
		total := int64(0)
		for _, s := range spans {
			if s.State == want {
				total += s.To - s.From
			}
		}
		d := x.result.job().DurationValue(e.Total)
		return total == d || total > d == e.Least, word + " for " + unit.FormatDuration(total), nil
	case sheet.Turns:
		passed, found = turning(spans, want, word, from, to, clock)
	case sheet.Sometime:
		passed, found = sometime(spans, want, word, from, to, clock)
	default:
		passed, found = throughout(spans, want, word, from, to, clock)
	}
	return passed, found, nil
}

func count(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return strconv.Itoa(n) + " " + what
}

// states are the spans of something that is on or off.
func (x *examiner) states(name string) ([]Span, Summary, error) {
	p := x.result.Program
	for _, s := range x.result.Summary {
		if s.Name == name {
			return x.result.Spans(s.Ref), s, nil
		}
	}
	spans, err := x.result.ContactSpans(p.Index(logic.InputKind, name))
	sum := Summary{}
	for i, s := range spans {
		if s.State == logic.On && i > 0 {
			sum.Starts++
		}
	}
	return spans, sum, err
}

// turning looks for a turn within a window, and tells of the nearest one.
func turning(spans []Span, want logic.State, word string, from, to int64, clock logic.Clock) (bool, string) {
	best, any := int64(0), false
	for i, s := range spans {
		if s.State != want || i == 0 && s.State == logic.Off {
			continue
		}
		if s.From >= from && s.From <= to {
			return true, "turned " + word + " at " + clock(s.From)
		}
		if far := func(t int64) int64 { return max(from-t, t-to) }; !any || far(s.From) < far(best) {
			best, any = s.From, true
		}
	}
	switch {
	case !any:
		return false, "never turned " + word
	case best > to:
		return false, "turned " + word + " at " + clock(best) + ", " + unit.FormatDuration(best-to) + " too late"
	}
	return false, "turned " + word + " at " + clock(best) + ", " + unit.FormatDuration(from-best) + " too early"
}

// sometime looks for a state within a window.
func sometime(spans []Span, want logic.State, word string, from, to int64, clock logic.Clock) (bool, string) {
	for i, s := range spans {
		if s.State == want && s.From <= to && (s.To > from || i == len(spans)-1) {
			return true, word + " at " + clock(max(s.From, from))
		}
	}
	return false, "not " + word + " from " + clock(from) + " to " + clock(to)
}

// throughout tells whether a state lasts through a window.
func throughout(spans []Span, want logic.State, word string, from, to int64, clock logic.Clock) (bool, string) {
	for i, s := range spans {
		last := i == len(spans)-1
		if s.State != want && s.From <= to && (s.To > from || last && s.To >= from) {
			return false, s.State.String() + " at " + clock(max(s.From, from))
		}
	}
	if from == to {
		return true, word
	}
	return true, word + " throughout"
}
