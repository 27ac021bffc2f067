package bench

import (
	"cmp"
	"fmt"
	"slices"

	"rectura/core/logic"
	"rectura/core/recording"
)

// An Explanation says how something stands at a time of a replay, why, and why it
// is not otherwise.
type Explanation struct {
	Program   *logic.Program
	Recording *recording.Recording
	Name      string
	logic.Ref
	At       int64
	Stand    logic.Stand
	Since    int64 // the change that led to it, or the start
	Because  string
	Grounds  []logic.Ground
	Reasons  []int             // of Grounds: those that it stands on itself
	Misses   []Miss            // delays that did not run out, in order of time: the last Misses before At, and the first after it
	Next     *logic.Transition // its next change; nil if there is none
	NextText string
}

// StateText is how the state is called.
func (a *Explanation) StateText() string {
	if a.Kind == logic.MessageKind && a.Stand.State == logic.Off {
		return "not sent"
	}
	return a.Program.StandText(a.Ref, a.Stand)
}

// NextState is how the state is called that it has next.
func (a *Explanation) NextState() string {
	_, to := a.Program.States(*a.Next)
	return to
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
	p, set, err := adjusted(p, o.Set)
	if err != nil {
		return nil, err
	}
	o.Set = set
	a := &Explanation{Program: p, Recording: r, Name: name, At: at}
	var found bool
	if a.Ref, found = p.Find(name); !found || a.Kind == logic.DerivedKind || a.Kind == logic.SettingKind {
		return nil, fmt.Errorf("no input, rule, alarm, bands, follow, loop, message or output is named %s%s", name,
			p.Job.DidYouMean(name, "input", "rule", "alarm", "bands", "follow", "loop", "message", "output"))
	}
	if at < r.Start || at > r.End {
		return nil, fmt.Errorf(
			"%s is outside the recording, which goes from %s to %s",
			r.Clock.Format(at),
			r.Clock.Format(r.Start),
			r.Clock.Format(r.End),
		)
	}
	if o.Scan > 0 { // a controller knows of no other times
		a.At -= (at - r.Start) % o.Scan
	}
	o.Commands = append(slices.Clone(o.Commands), Command{At: a.At, Command: logic.Command{Do: logic.Look}})
	slices.SortStableFunc(o.Commands, func(a, b Command) int { return cmp.Compare(a.At, b.At) })
	o.keep = func(t *logic.Transition) bool { return t.Ref == a.Ref && a.Next == nil }
	w := &witness{about: a, rules: p.RulesBehind(a.Ref)}
	if w.analog = a.Kind == logic.OutputKind && p.Outputs[a.Index].Analog(); w.analog {
		w.level = p.Outputs[a.Index].Low
	}
	o.Overlook = !w.analog && a.Kind != logic.FollowKind && a.Kind != logic.LoopKind
	a.Since = r.Start
	w.running = make([]logic.Delay, len(w.rules))
	result, err := replay(p, r, o, w.look)
	if err != nil {
		return nil, err
	}
	for i := range result.Transitions {
		t := &result.Transitions[i]
		switch {
		case t.Ref != a.Ref:
		case t.Time <= a.At:
			a.Since = t.Time
			if a.Kind == logic.MessageKind {
				a.Stand, a.Because = t.To, p.Sentence(*t, r.Clock.Format)
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
			w.miss(
				Miss{Rule: rule, From: before.Since, To: now, Of: d.Length},
				func() string { return a.Program.Sentence(s.Standing(a.Program.RefOf(rule)), clock) },
			)
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
	t := s.Standing(a.Ref)
	a.Stand, a.Because = t.To, a.Program.Sentence(t, clock)
	if a.Kind == logic.InputKind && a.Stand.State == logic.Good {
		a.Because = a.Program.InputText(t.Reason.Terms[0])
	}
	a.Grounds, a.Reasons = s.Grounds(a.Ref, clock)
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
	a, level := w.about, s.Level(int(w.about.Index))
	if level == w.level {
		return
	}
	if now <= a.At {
		a.Since = now
	} else if a.Next == nil {
		t := s.Standing(a.Ref)
		a.NextText = a.Program.Sentence(t, a.Recording.Clock.Format)
		t.Reason = t.Reason.Clone()
		a.Next = &t
	}
	w.level = level
}

// NearMisses is how many delays that did not run out are told before and after a
// time.
const NearMisses = 3
