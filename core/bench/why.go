package bench

import (
	"cmp"
	"fmt"
	"slices"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/unit"
)

// An Explanation says how something stands at a time of a replay, why, and why it
// is not otherwise.
type Explanation struct {
	Program   *logic.Program
	Recording *recording.Recording
	Name      string
	Kind      logic.Kind
	Index     int
	At        int64
	State     logic.State
	Level     float64 // of an analog output
	Since     int64   // the change that led to it, or the start
	Because   string
	Grounds   []Ground
	Reasons   []int             // of Grounds: those that it stands on itself
	Misses    []Miss            // delays that did not run out, in order of time: the last Misses before At, and the first after it
	Next      *logic.Transition // its next change; nil if there is none
	NextText  string
}

// StateText is how the state is called.
func (a *Explanation) StateText() string {
	if a.Kind == logic.MessageKind && a.State == logic.Off {
		return "not sent"
	}
	_, state := a.Program.States(logic.Transition{Kind: a.Kind, Index: int32(a.Index), To: a.State, Level: a.Level})
	return state
}

// NextState is how the state is called that it has next.
func (a *Explanation) NextState() string {
	_, to := a.Program.States(*a.Next)
	return to
}

// A Ground is one of the reasons why something stands as it does, down to the
// readings. What stands on others names them by their numbers in
// Explanation.Grounds; what several stand on is there once, and outputs and rules
// that look at each other form circles.
type Ground struct {
	Text   string
	Delay  string          // how long it has lasted; empty where that does not count
	By     string          // of a comparison, by how much
	Stages []unit.Quantity // the reading at every stage of its input
	Under  []int
}

// A Miss is a time for which the on-condition of a rule held, but not for as long
// as its delay.
type Miss struct {
	Rule     int
	From, To int64
	Of       int64  // the delay
	Until    string // what ended it
}

// Why plays a recording and says how an input, a rule or an output stands at a
// time.
func Why(p *logic.Program, r *recording.Recording, o Options, name string, at int64) (*Explanation, error) {
	a := &Explanation{Program: p, Recording: r, Name: name, At: at}
	index := -1
	switch i, rule, output := p.InputIndex(name), p.RuleIndex(name), p.OutputIndex(name); {
	case i >= 0:
		a.Kind, index = logic.InputKind, i
	case rule >= 0:
		a.Kind, index = p.KindOf(rule), rule
	case output >= 0:
		a.Kind, index = logic.OutputKind, output
	case p.BandsIndex(name) >= 0:
		a.Kind, index = logic.BandsKind, p.BandsIndex(name)
	case p.MessageIndex(name) >= 0:
		a.Kind, index = logic.MessageKind, p.MessageIndex(name)
	case p.FollowIndex(name) >= 0:
		a.Kind, index = logic.FollowKind, p.FollowIndex(name)
	case p.LoopIndex(name) >= 0:
		a.Kind, index = logic.LoopKind, p.LoopIndex(name)
	default:
		return nil, fmt.Errorf("no input, rule, alarm, bands, follow, loop, message or output is named %s", name)
	}
	a.Index = index
	if at < r.Start || at > r.End {
		return nil, fmt.Errorf("%s is outside the recording, which goes from %s to %s", r.Clock.Format(at), r.Clock.Format(r.Start), r.Clock.Format(r.End))
	}
	if o.Scan > 0 { // a controller knows of no other times
		a.At -= (at - r.Start) % o.Scan
	}
	o.Commands = append(slices.Clone(o.Commands), Command{At: a.At, Command: logic.Command{Do: logic.Nothing}})
	slices.SortStableFunc(o.Commands, func(a, b Command) int { return cmp.Compare(a.At, b.At) })
	o.keep = func(t *logic.Transition) bool { return t.Kind == a.Kind && int(t.Index) == index && a.Next == nil }
	w := &witness{about: a, rules: p.RulesBehind(a.Kind, index), index: index}
	if w.analog = a.Kind == logic.OutputKind && p.Outputs[index].Analog(); w.analog {
		w.level = p.Outputs[index].Low
	}
	a.Since = r.Start
	w.running = make([]logic.Delay, len(w.rules))
	result, err := replay(p, r, o, w.look)
	if err != nil {
		return nil, err
	}
	for i := range result.Transitions {
		t := &result.Transitions[i]
		switch {
		case t.Kind != a.Kind || int(t.Index) != index:
		case t.Time <= a.At:
			a.Since = t.Time
			if a.Kind == logic.MessageKind {
				a.State, a.Because = t.To, p.Sentence(*t, r.Clock.Format)
			}
		case a.Next == nil:
			a.Next, a.NextText = t, p.Sentence(*t, r.Clock.Format)
		}
	}
	return a, nil
}

// A witness looks at a replay for an explanation.
type witness struct {
	about   *Explanation
	index   int
	rules   []int // whose delays count
	analog  bool  // it is about an analog output
	level   float64
	running []logic.Delay
	seen    bool
}

func (w *witness) look(s *logic.Stepper, now int64) {
	a := w.about
	clock := a.Recording.Clock.Format
	for k, rule := range w.rules {
		before, d := w.running[k], s.OnDelay(rule)
		w.running[k] = d
		if before.Running && !before.Over && (!d.Running || d.Since != before.Since) && !d.Over && s.RuleState(rule) != logic.On {
			w.miss(Miss{Rule: rule, From: before.Since, To: now, Of: d.Length}, func() string { return a.Program.Sentence(s.Standing(logic.RuleKind, rule), clock) })
		}
	}
	if w.analog {
		w.lookAtLevel(s, now)
	}
	if now < a.At || w.seen {
		return
	}
	w.seen = true
	if a.Kind == logic.MessageKind { // which is told from what has been sent
		a.Because = "it has not been sent so far"
		return
	}
	t := s.Standing(a.Kind, w.index)
	a.State, a.Level, a.Because = t.To, t.Level, a.Program.Sentence(t, clock)
	if a.Kind == logic.InputKind && a.State == logic.Good {
		a.Because = a.Program.InputText(t.Reason.Terms[0])
	}
	g := &digger{p: a.Program, s: s, clock: clock, known: map[thing]int{}}
	a.Reasons = g.under(t)
	a.Grounds = g.all
}

// miss keeps the delays that are nearest to the time that is asked about.
func (w *witness) miss(m Miss, until func() string) {
	a := w.about
	before := 0
	for before < len(a.Misses) && a.Misses[before].To <= a.At {
		before++
	}
	switch {
	case m.To > a.At && len(a.Misses)-before == NearMisses:
		return
	case m.To <= a.At && before == NearMisses:
		a.Misses = slices.Delete(a.Misses, 0, 1)
	}
	m.Until = until()
	a.Misses = append(a.Misses, m)
}

// lookAtLevel notes since when an analog output has had its value, and what it
// changes to next. The changes themselves, of which a loop makes very many, are
// not kept.
func (w *witness) lookAtLevel(s *logic.Stepper, now int64) {
	a, level := w.about, s.Level(w.index)
	if level == w.level {
		return
	}
	if now <= a.At {
		a.Since = now
	} else if a.Next == nil {
		t := s.Standing(logic.OutputKind, w.index)
		a.NextText = a.Program.Sentence(t, a.Recording.Clock.Format)
		t.Reason = t.Reason.Clone()
		a.Next = &t
	}
	w.level = level
}

// A digger follows the reasons of something to the readings. Each thing on the
// way is looked at once.
type digger struct {
	p     *logic.Program
	s     *logic.Stepper
	clock logic.Clock
	all   []Ground
	known map[thing]int // its number
}

type thing struct {
	kind  logic.Kind
	index int
}

// add gives a ground its number.
func (d *digger) add(g Ground) int {
	d.all = append(d.all, g)
	return len(d.all) - 1
}

// stands is the ground that something stands as it does.
func (d *digger) stands(kind logic.Kind, index int) int {
	x := thing{kind, index}
	if number, known := d.known[x]; known {
		return number
	}
	standing := d.s.Standing(kind, index)
	standing.Reason = standing.Reason.Clone() // what is looked at below it makes others
	state := d.p.StateText(kind, index, standing.To)
	if kind == logic.AlarmKind {
		state = d.s.AlarmState(index).String()
	}
	text := d.p.Name(kind, index) + " is " + state
	if proportion := kind == logic.FollowKind || kind == logic.LoopKind; !proportion || standing.To != logic.On {
		text += ": " + d.p.Sentence(standing, d.clock) // of a follow that calls, this is its only ground
	}
	number := d.add(Ground{Text: text})
	d.known[x] = number
	under := d.under(standing)
	d.all[number].Under = under
	return number
}

// under are the grounds of how something stands: what calls it, and the terms of
// its reason.
func (d *digger) under(t logic.Transition) []int {
	var all []int
	for _, i := range t.Reason.Callers {
		c := d.p.Calling[i]
		kind := c.Kind
		if kind == logic.RuleKind {
			kind = d.p.KindOf(c.Index)
		}
		all = append(all, d.stands(kind, c.Index))
	}
	for _, term := range slices.Concat(t.Reason.Terms, t.Reason.Permit) {
		if term.Kind == logic.ReadingTerm {
			all = append(all, d.add(Ground{Text: "its last reading", Stages: d.p.Stages(term)}))
			continue
		}
		g := Ground{Text: d.p.TermText(term), Stages: d.p.Stages(term), By: d.p.Difference(term)}
		if term.For > 0 {
			g.Delay = logic.DelayText(term, t.Time, d.clock)
		}
		number := d.add(g)
		if kind, stands := d.named(term); stands {
			under := d.stands(kind, int(term.Rule))
			d.all[number].Under = []int{under}
		}
		all = append(all, number)
	}
	return all
}

// named tells what has a state that a term names.
func (d *digger) named(t logic.Term) (kind logic.Kind, is bool) {
	switch t.Kind {
	case logic.RuleTerm:
		return d.p.KindOf(int(t.Rule)), true
	case logic.BandTerm:
		return logic.BandsKind, true
	case logic.OutputTerm:
		return logic.OutputKind, true
	}
	return 0, false
}

// NearMisses is how many delays that did not run out are told before and after a
// time.
const NearMisses = 3
