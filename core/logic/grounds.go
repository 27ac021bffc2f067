package logic

import (
	"slices"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// A Ground is one of the reasons why something stands as it does, down to the
// readings. What stands on others names them by their numbers in Grounds; what
// several stand on is there once, and outputs and rules that look at each other
// form circles.
type Ground struct {
	Text     string
	Delay    string          // how long it has lasted; empty where that does not count
	By       string          // of a comparison, by how much
	Stages   []unit.Quantity // the reading at every stage of its input
	Filtered string          // what filters make of that, such as 5.965 mg/L; empty where they do nothing
	Under    []int
}

// Grounds are all the grounds of how something stands after the last instant, with
// the numbers of those that it stands on itself.
func (s *Stepper) Grounds(r Ref, clock Clock) (all []Ground, under []int) {
	d := &digger{s: s, clock: clock, known: map[Ref]int{}}
	standing := s.Standing(r)
	standing.Reason = standing.Reason.Clone() // looking further down overwrites it
	return d.all, d.under(standing)
}

// A digger follows the reasons of something to the readings. Each thing on the
// way is looked at once.
type digger struct {
	s     *Stepper
	clock Clock
	all   []Ground
	known map[Ref]int // its number
}

// add gives a ground its number.
func (d *digger) add(g Ground) int {
	d.all = append(d.all, g)
	return len(d.all) - 1
}

// stands is the ground that something stands as it does.
func (d *digger) stands(r Ref) int {
	if number, known := d.known[r]; known {
		return number
	}
	p := d.s.p
	standing := d.s.Standing(r)
	standing.Reason = standing.Reason.Clone() // looking further down overwrites it
	state := p.StandText(r, standing.To)
	if r.Kind == AlarmKind {
		state = d.s.alarms[r.Index].State().String()
	}
	text := p.Name(r) + " is " + state
	if proportion := r.Kind == FollowKind || r.Kind == LoopKind; !proportion || standing.To.State != On {
		text += ": " + p.Sentence(standing, d.clock) // of a follow that calls, this is its only ground
	}
	number := d.add(Ground{Text: text})
	d.known[r] = number
	under := d.under(standing)
	d.all[number].Under = under
	return number
}

// under are the grounds of how something stands: what calls it, and the terms of
// its reason.
func (d *digger) under(t Transition) []int {
	var all []int
	p := d.s.p
	for _, i := range t.Reason.Callers {
		all = append(all, d.stands(p.Calling[i].Ref))
	}
	for _, term := range slices.Concat(t.Reason.Terms, t.Reason.Permit) {
		if term.Kind == ReadingTerm {
			all = append(all, d.add(Ground{Text: "its last reading", Stages: p.Stages(term)}))
			continue
		}
		g := Ground{Text: p.TermText(term), Stages: p.Stages(term), Filtered: p.filtered(term), By: p.Difference(term)}
		if term.For > 0 {
			g.Delay = DelayText(term, t.Time, d.clock)
		}
		number := d.add(g)
		if term.Kind == StateTerm {
			under := d.stands(term.Of)
			d.all[number].Under = []int{under}
		}
		all = append(all, number)
	}
	return all
}

// filtered is an input's value in a comparison where it is not what its last reading gives
// through the chain; empty of what else a term is about.
func (p *Program) filtered(t Term) string {
	if t.Kind != Comparison || t.Input < 0 {
		return ""
	}
	name, plain := p.sources[t.Cond].compare.L.(*sheet.Name)
	stages := p.Stages(t)
	if !plain || name.Name != p.Inputs[t.Input].Name || len(stages) == 0 {
		return ""
	}
	read := stages[len(stages)-1]
	if !read.Unit.Comparable(p.sources[t.Cond].unit) {
		return "" // it compares an earlier place of the chain
	}
	left, last := unit.ShortPair(t.Left, read.In(p.sources[t.Cond].unit))
	if left == last {
		return ""
	}
	return withUnit(left, p.sources[t.Cond].unit)
}
