package logic

import (
	"fmt"
	"slices"

	"rectura/core/memo"
	"rectura/core/unit"
)

// Lost is something of a memory that could not be taken over, and why, in a
// sentence.
type Lost struct {
	Name string // of the declaration; empty for what is about the run
	Text string
}

// Resume gives a Stepper that goes on from a memory: in the program that wrote it as
// if nothing had happened, in another one by name. There, what a declaration has
// decided is kept whatever else of it has changed, while conditions that have
// changed start anew, and inputs whose source or chain has changed are not read yet.
// An error means that the rows are no memory.
func Resume(p *Program, rows []Row) (*Stepper, []Lost, error) {
	x := &resumption{Stepper: NewStepper(p), rows: map[string]*Row{}}
	for i := range rows {
		x.rows[rows[i].Name] = &rows[i]
	}
	run, found := x.rows[""]
	if !found {
		return nil, nil, fmt.Errorf("going on from a memory: the row of the run is missing")
	}
	delete(x.rows, "")
	if err := memo.Read(run.Data, x.runFields); err != nil {
		return nil, nil, fmt.Errorf("going on from a memory: the run: %w", err)
	}
	if x.moved {
		x.circle, x.circleAt = false, 0
	}
	if x.restless < 0 || int(x.restless) >= max(1, len(p.Outputs)) {
		x.restless = 0
	}
	for _, kind := range []Kind{SettingKind, InputKind, BandsKind, RuleKind, AlarmKind, FollowKind, LoopKind, MessageKind, OutputKind} {
		for _, r := range p.All(kind) {
			if err := x.take(r); err != nil {
				return nil, nil, fmt.Errorf("going on from a memory: %s %s: %w", r.Kind, p.Name(r), err)
			}
		}
	}
	for _, row := range rows {
		if _, left := x.rows[row.Name]; left {
			x.lose(row.Name, "it is no part of the job any more")
		}
	}
	if x.began {
		x.settleBehind(x.unread)
	}
	x.letGo()
	x.newValues.fill(len(p.values))
	x.stepValues()
	x.markAll()
	return x.Stepper, x.lost, nil
}

// A resumption is a memory being taken over.
type resumption struct {
	*Stepper
	rows   map[string]*Row // that have not been taken
	lost   []Lost
	unread []int32 // inputs that are not read yet, though the run has begun
}

func (x *resumption) lose(name, format string, args ...any) {
	x.lost = append(x.lost, Lost{name, fmt.Sprintf(format, args...)})
}

// letGo forgets what held rules and outputs back, where they do not have that any more.
func (x *resumption) letGo() {
	for i := range x.rules {
		if m := &x.rules[i]; !x.has(&x.p.Rules[i].restraints, m.held) {
			m.held = NotHeld
		}
	}
	for i := range x.outputs {
		if m := &x.outputs[i]; !x.has(&x.p.Outputs[i].restraints, m.held) {
			m.held = NotHeld
		}
	}
}

func (x *resumption) has(by *restraints, held Hold) bool {
	switch held {
	case ByPermissive:
		return by.permissive >= 0
	case BySettling:
		return by.interlock >= 0
	case ByMinimumOn:
		return by.minimumOn >= 0
	case ByMinimumOff:
		return by.minimumOff >= 0
	case ByStarts:
		return x.p.apart >= 0
	}
	return true
}

// take takes over the memory of one declaration.
func (x *resumption) take(r Ref) error {
	name := x.p.Name(r)
	row, found := x.rows[name]
	delete(x.rows, name)
	if found && row.Kind != r.Kind.String() {
		x.lose(name, "it was %s and is %s", article(row.Kind), r.Kind.withArticle())
		found = false
	}
	if !found {
		if r.Kind == InputKind {
			x.unread = append(x.unread, r.Index)
		}
		return nil
	}
	switch r.Kind {
	case SettingKind:
		return memo.Read(row.Data, func(f *memo.Fields) { x.takeSetting(f, r.Index) })
	case InputKind:
		return x.takeInput(row, r.Index)
	}
	return memo.Read(row.Data, func(f *memo.Fields) {
		x.fields(f, r)
		var unit string
		if r.Kind == OutputKind {
			f.Text(15, &unit)
		}
		var band string
		if r.Kind == BandsKind {
			f.Text(7, &band)
		}
		changed := x.takeClauses(f, r)
		switch r.Kind {
		case BandsKind:
			x.takeBands(f, r.Index, band, changed)
		case RuleKind, AlarmKind:
			x.takeRule(r, changed)
		case LoopKind:
			if slices.Contains(changed, "") {
				x.loops[r.Index] = loopMemory{} // it takes its output up
				if x.p.Loops[r.Index].integral < 0 {
					x.lose(name, "it works otherwise and has no integral: it starts anew, and its output may jump")
				} else {
					x.lose(name, "it works otherwise: it starts from where its output stands")
				}
			}
		case OutputKind:
			x.takeOutput(f, r.Index, unit)
		}
	})
}

// takeSetting keeps a setpoint as it was set, as the quantity that it was, where it
// is written as it was and may still be set so.
func (x *resumption) takeSetting(f *memo.Fields, i int32) {
	var value, written float64
	var name string
	f.Float(1, &value)
	f.Text(2, &name)
	f.Float(3, &written)
	if value == written {
		return
	}
	now := x.p.Settings[i]
	own := now.Value.Unit
	of := unit.Named(name)
	set := unit.Quantity{Value: value, Unit: of}
	same := of.Comparable(own)
	if same {
		to := func(v float64) float64 { return of.Convert(v, own) }
		if x.p.Job.Setpoints[i].Type().Difference {
			to = func(v float64) float64 { return of.ConvertDifference(v, own) }
		}
		same = nearly(to(written), now.Value.Value)
		value = to(value)
	}
	switch {
	case !same:
		x.lose(now.Name, "it was set to %s; what is written has changed to %s, which counts", set, now.Value)
	case x.p.checkSetting(int(i), value, unit.Quantity{Value: value, Unit: own}) != nil:
		x.lose(now.Name, "it was set to %s, which is outside its limits now; the written %s counts", set, now.Value)
	default:
		x.Set(int(i), value)
	}
}

// nearly tells whether two numbers are the same but for rounding.
func nearly(a, b float64) bool {
	return a == b || max(a-b, b-a) <= 1e-12*max(a, -a, b, -b)
}

func (x *resumption) takeInput(row *Row, i int32) error {
	in := &x.p.Inputs[i]
	var print uint64
	if err := memo.Read(row.Data, func(f *memo.Fields) { f.Print(1, &print) }); err != nil {
		return err
	}
	if print != x.p.workings[i] {
		x.unread = append(x.unread, i)
		x.lose(in.Name, "its source, its chain or its filters have changed: it is not read yet")
		var was inputMemory
		err := memo.Read(row.Data, func(f *memo.Fields) { f.Bool(6, &was.pinned) })
		if was.pinned {
			x.lose(in.Name, "it is not pinned any more, since its chain has changed")
		}
		return err
	}
	if err := memo.Read(row.Data, func(f *memo.Fields) { x.inputFields(f, i) }); err != nil {
		return err
	}
	if in.Chain == nil {
		return nil
	}
	return x.analog[i].Resume()
}

// takeClauses takes over the clauses of a declaration that are as they were, and
// tells which are not.
func (x *resumption) takeClauses(f *memo.Fields, r Ref) (changed []string) {
	saved := clauseRows(f)
	find := func(name string) *clauseRow {
		for i := range saved {
			if saved[i].name == name {
				return &saved[i]
			}
		}
		return nil
	}
	above := false // the on-condition has changed, on which others stand
	for _, k := range x.p.clausesOf.of(x.p.number(r)) {
		c := &x.p.clauses[k]
		row := find(c.name)
		stands := c.name == onDelay || c.name == letGo || c.name == offAfter
		if row == nil || row.print != c.print || len(row.conds) != int(c.to-c.from) || above && stands {
			if changed = append(changed, c.name); c.name == onWhen {
				above = true
			}
			if row == nil || row.print == c.print {
				continue // what is new has lost nothing
			}
			switch on := r.Kind == RuleKind || r.Kind == AlarmKind; {
			case on && x.rules[x.p.RuleOf(r)].decided && c.name == onWhen:
				x.lose(x.p.Name(r), "its `%s` has changed: it stays on until that lets it go", c.name)
			case on && x.rules[x.p.RuleOf(r)].decided && c.name == onDelay:
				x.lose(x.p.Name(r), "its `%s` has changed: it stays on, and the delay has run out", c.name)
			case r.Kind != BandsKind && c.name != "":
				x.lose(x.p.Name(r), "its `%s` has changed: it starts anew", c.name)
			}
			continue
		}
		for i := range row.conds {
			x.setCondRow(c.from+int32(i), &row.conds[i])
		}
	}
	return changed
}

// takeRule makes a rule that is on go on in one whose clauses have changed.
func (x *resumption) takeRule(ref Ref, changed []string) {
	rule := x.p.RuleOf(ref)
	r, m := &x.p.Rules[rule], &x.rules[rule]
	if r.pulse < 0 {
		m.pulse = pulseReady
	}
	m.armed = m.armed && r.latch
	if !m.decided {
		return
	}
	if slices.Contains(changed, onWhen) {
		x.trip(r.trip, true)
	}
	if slices.Contains(changed, onDelay) {
		x.conds[r.on].waiting, x.conds[r.on].lapsed, x.conds[r.on].since = true, true, x.now
	}
}

// trip makes a condition start tripped: its comparisons under an even number of
// `not` are set, the others reset, and its delays have run out.
func (x *resumption) trip(cond int32, on bool) {
	n, m := &x.p.conds[cond], &x.conds[cond]
	switch n.op {
	case condNot:
		x.trip(n.a, !on)
	case condFor, condForStrict:
		m.waiting, m.lapsed, m.since = on, on, x.now
		x.trip(n.a, on)
	case condAnd, condOr, condQuorum:
		for _, a := range x.p.args[n.a : n.a+n.b] {
			if x.p.owners[a] == x.p.owners[cond] { // the state of a rule has its own memory
				x.trip(a, on)
			}
		}
	case condBelow, condAtMost, condAbove, condAtLeast, condBetween, condOutside:
		m.tripped = on
	}
}

func (x *resumption) takeBands(f *memo.Fields, i int32, title string, changed []string) {
	b, m := &x.p.Bands[i], &x.bands[i]
	if len(changed) > 0 {
		m.inForce = slices.IndexFunc(b.Bands, func(b Band) bool { return title != "" && b.Title == title })
		if m.waiting, m.undecided = -1, false; title != "" && m.inForce >= 0 {
			x.lose(b.Name, "its limits have changed: %s stays in force until they say otherwise", title)
		} else if title != "" {
			x.lose(b.Name, "%s was in force and is none of its bands any more: it starts anew", title)
		}
	}
	if m.inForce < -1 || m.inForce >= len(b.Bands) || m.waiting < -1 || m.waiting >= len(b.Bands) {
		f.Fail("there is no such band")
	}
}

// takeOutput keeps the value of an analog output as the quantity that it was.
func (x *resumption) takeOutput(f *memo.Fields, i int32, name string) {
	o, m := &x.p.Outputs[i], &x.outputs[i]
	if o.Analog() != (name != "") || o.Analog() && !unit.Named(name).Comparable(o.Unit) {
		x.lose(o.Name, "it is driven in another way: it starts anew, and its callers decide")
		fresh := newOutputMemory(o)
		fresh.settles, fresh.number = m.settles, m.number
		*m = fresh
		return
	}
	if !o.Analog() {
		if m.mode == HandAt {
			f.Fail("a discrete output cannot be at a value")
		}
		return
	}
	if x.moved { // callers have other numbers
		m.by = -1
	}
	was := unit.Named(name)
	m.level = o.clamp(was.Convert(m.level, o.Unit))
	m.plant.Level, m.back.Level = o.clamp(was.Convert(m.plant.Level, o.Unit)), o.clamp(was.Convert(m.back.Level, o.Unit))
	if hand := was.Convert(m.hand, o.Unit); m.mode == HandAt && o.clamp(hand) != hand {
		m.hand = o.clamp(hand)
		x.lose(o.Name, "it was in hand at %s, which is outside its range now: it is at %s", o.Text(hand), o.Text(m.hand))
	} else if m.mode == HandAt {
		m.hand = hand
	}
}

// settleBehind lets everything settle anew that depends on inputs which are not read
// yet, and what their `alarm when bad` waits for.
func (s *Stepper) settleBehind(inputs []int32) {
	until := after(s.now, s.duration(s.p.settle))
	var reached []int32
	seen := make([]bool, len(s.p.conds))
	visit := func(conds []int32) {
		for _, c := range conds {
			if !seen[c] {
				seen[c] = true
				reached = append(reached, c)
			}
		}
	}
	for _, i := range inputs {
		s.inputs[i].settles = until
		visit(s.p.links.inputConds.of(i))
	}
	for k := 0; k < len(reached); k++ {
		visit(s.p.links.condConds.of(reached[k]))
		switch n := &s.p.conds[reached[k]]; n.op {
		case condBands:
			for _, b := range s.p.Bands[n.a].Bands {
				visit([]int32{b.node})
			}
		case condAlarm:
			visit(s.p.Alarms[n.a].tests)
		}
	}
	for i := range s.p.Rules {
		if seen[s.p.Rules[i].node] {
			s.rules[i].settles = until
		}
	}
	for i := range s.p.Outputs {
		o := &s.p.Outputs[i]
		depends := o.permissive >= 0 && seen[o.permissive] || o.interlock >= 0 && seen[o.interlock]
		for _, c := range s.p.Callers(i) {
			depends = depends || seen[s.p.Calling[c].node]
		}
		if depends {
			s.outputs[i].settles = until
		}
	}
}
