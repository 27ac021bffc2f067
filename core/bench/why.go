package bench

import (
	"fmt"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/unit"
)

// An Account says how something stands at a time of a replay, why, and why it
// is not otherwise.
type Account struct {
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
	Misses    []Miss            // delays that did not run out, in order of time
	Next      *logic.Transition // its next change; nil if there is none
	NextText  string
}

// StateText is how the state is called.
func (a *Account) StateText() string {
	if a.Kind == logic.MessageKind && a.State == logic.Off {
		return "not sent"
	}
	_, state := a.Program.States(logic.Transition{Kind: a.Kind, Index: int32(a.Index), To: a.State, Level: a.Level})
	return state
}

// NextState is how the state is called that it has next.
func (a *Account) NextState() string {
	_, to := a.Program.States(*a.Next)
	return to
}

// A Ground is one of the reasons why something stands as it does, down to the
// readings.
type Ground struct {
	Text   string
	Delay  string          // how long it has lasted; empty where that does not count
	By     string          // of a comparison, by how much
	Stages []unit.Quantity // the reading at every stage of its input
	Under  []Ground
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
func Why(p *logic.Program, r *recording.Recording, o Options, name string, at int64) (*Account, error) {
	a := &Account{Program: p, Recording: r, Name: name, At: at}
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
	o.Commands = append(o.Commands, Command{At: a.At, Command: logic.Command{Do: logic.Nothing}})
	w := &witness{account: a, rules: p.RulesBehind(a.Kind, index), index: index}
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

// A witness looks at a replay for an account.
type witness struct {
	account *Account
	index   int
	rules   []int // whose delays count
	analog  bool  // it is about an analog output
	level   float64
	running []logic.Delay
	seen    bool
}

func (w *witness) look(s *logic.Stepper, now int64) {
	a := w.account
	clock := a.Recording.Clock.Format
	for k, rule := range w.rules {
		before, d := w.running[k], s.OnDelay(rule)
		w.running[k] = d
		if before.Running && !before.Over && (!d.Running || d.Since != before.Since) && !d.Over && s.RuleState(rule) != logic.On {
			a.Misses = append(a.Misses, Miss{rule, before.Since, now, d.Length, a.Program.Sentence(s.Standing(logic.RuleKind, rule), clock)})
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
	a.Grounds = grounds(a.Program, s, t, clock, 0)
}

// lookAtLevel notes since when an analog output has had its value, and what it
// changes to next. The changes themselves, of which a loop makes very many, are
// not kept.
func (w *witness) lookAtLevel(s *logic.Stepper, now int64) {
	a, level := w.account, s.Level(w.index)
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

// deepest is how far grounds are followed from rule to rule.
const deepest = 20

func grounds(p *logic.Program, s *logic.Stepper, t logic.Transition, clock logic.Clock, depth int) []Ground {
	var all []Ground
	if depth > deepest {
		return nil
	}
	rule := func(i int) Ground {
		standing := s.Standing(p.KindOf(i), i)
		state := p.StateText(p.KindOf(i), i, standing.To)
		if p.KindOf(i) == logic.AlarmKind {
			state = s.AlarmState(i).String()
		}
		return Ground{Text: p.Rules[i].Name + " is " + state + ": " + p.Sentence(standing, clock), Under: grounds(p, s, standing, clock, depth+1)}
	}
	bands := func(i int) Ground {
		standing := s.Standing(logic.BandsKind, i)
		return Ground{Text: p.Bands[i].Name + " is " + p.StateText(logic.BandsKind, i, standing.To) + ": " + p.Sentence(standing, clock), Under: grounds(p, s, standing, clock, depth+1)}
	}
	proportion := func(kind logic.Kind, i int) Ground {
		standing := s.Standing(kind, i)
		g := Ground{Text: p.Name(kind, i) + " is " + standing.To.String(), Under: grounds(p, s, standing, clock, depth+1)}
		if standing.To != logic.On { // whose sentence is its only ground
			g.Text += ": " + p.Sentence(standing, clock)
		}
		return g
	}
	for _, i := range t.Reason.Callers {
		switch c := p.Calling[i]; c.Kind {
		case logic.BandsKind:
			all = append(all, bands(c.Index))
		case logic.FollowKind, logic.LoopKind:
			all = append(all, proportion(c.Kind, c.Index))
		default:
			all = append(all, rule(c.Index))
		}
	}
	terms := append(append([]logic.Term{}, t.Reason.Terms...), t.Reason.Permit...)
	for _, term := range terms {
		if term.Kind == logic.ReadingTerm {
			all = append(all, Ground{Text: "its last reading", Stages: p.Stages(term)})
			continue
		}
		g := Ground{Text: p.TermText(term), Stages: p.Stages(term), By: p.Difference(term)}
		if term.For > 0 {
			g.Delay = logic.DelayText(term, t.Time, clock)
		}
		switch term.Kind {
		case logic.RuleTerm:
			g.Under = []Ground{rule(int(term.Rule))}
		case logic.BandTerm:
			g.Under = []Ground{bands(int(term.Rule))}
		case logic.OutputTerm:
			standing := s.Standing(logic.OutputKind, int(term.Rule))
			g.Under = []Ground{{Text: p.Outputs[term.Rule].Name + " is " + standing.To.String() + ": " + p.Sentence(standing, clock), Under: grounds(p, s, standing, clock, depth+1)}}
		}
		all = append(all, g)
	}
	return all
}

// Near are the misses that ended last before the account's time and that came
// first after it, so many of each.
func (a *Account) Near(n int) []Miss {
	var before, after []Miss
	for _, m := range a.Misses {
		if m.To <= a.At {
			before = append(before, m)
		} else {
			after = append(after, m)
		}
	}
	before = before[max(0, len(before)-n):]
	return append(before, after[:min(n, len(after))]...)
}
