package sheet

import "slices"

// A Rule is when to call for outputs, and when to stop calling.
type Rule struct {
	Head
	OnWhen   *ConditionClause
	OffWhen  *ConditionClause
	OffAfter *DurationClause
	Pulse    *DurationClause
	Latch    *Clause
	Reset    *ConditionClause // `reset when`
	Guard
	Call *CallClause

	Alarm *Alarm // whose conditions these are, or nil
}

// Keyword is the word that the declaration begins with.
func (*Rule) Keyword() string { return "rule" }

// conditions are all those of the rule, as they stand in its clauses.
func (r *Rule) conditions() []*ConditionClause { return conditionsOf(r.rows()) }

// Calls lists what the rule calls.
func (r *Rule) Calls() []*Call {
	if r.Call == nil {
		return nil
	}
	return r.Call.Calls
}

// OnCondition is `on when` without an outermost `for`, and that `for` (nil if
// there is none). Parentheses round the whole are left aside. The `for` of a
// crossing belongs to that.
func (r *Rule) OnCondition() (Condition, *Duration) {
	if f, ok := ungroup(r.OnWhen.Condition).(*For); ok && f.Crossing() == nil {
		return f.X, f.Duration
	}
	return r.OnWhen.Condition, nil
}

// namesIn calls f for every name that a rule's clauses refer to: of inputs,
// derived values and setpoints in its conditions, and of the outputs that it
// calls.
func (j *Job) namesIn(r *Rule, f func(name string)) {
	add := func(n *Name) { f(n.Name) }
	for _, c := range r.conditions() {
		ConditionNames(c.Condition, add)
	}
	for _, x := range r.Calls() {
		f(x.Output.Name)
		if x.Value != nil {
			Names(x.Value, add)
		}
	}
}

// SignalsOf lists the inputs that a rule, an alarm or bands depend on, through derived
// values and others of their kinds too, each once.
func (j *Job) SignalsOf(name string) []string {
	var signals []string
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		if seen[name] {
			return
		}
		seen[name] = true
		switch d := j.names[name].(type) {
		case *Input:
			signals = append(signals, name)
		case *Derived:
			Names(d.Value, func(n *Name) { visit(n.Name) })
		case *Bands:
			visit(d.Of.Name)
			for _, b := range d.Bands {
				if b.Limit != nil {
					Names(b.Limit, func(n *Name) { visit(n.Name) })
				}
			}
		}
		if other := j.RuleOf(name); other != nil {
			j.namesIn(other, visit)
		}
	}
	visit(name)
	return signals
}

func (p *parser) rule(h Head) Declaration {
	d := &Rule{Head: h}
	p.name(&d.Head)
	return d
}

func (d *Rule) words() []string { return []string{d.Name, d.label()} }

func (d *Rule) rows() []row {
	return d.rowsWith(false, append(append([]row{
		conditionRow("on when", &d.OnWhen),
		conditionRow("off when", &d.OffWhen),
		durationRow("off after", &d.OffAfter).called("off after"),
		durationRow("pulse", &d.Pulse).called("pulse"),
		flagRow("latch", &d.Latch),
		conditionRow("reset when", &d.Reset),
	}, d.Guard.rows()...), callRow(&d.Call))...)
}

// delays are those that stand in the conditions of a rule.
func (r *Rule) delays() (all []Delay) {
	if r.OnWhen != nil {
		if _, delay := r.OnCondition(); delay != nil {
			all = append(all, Delay{"on-delay", delay})
		}
	}
	if r.OffWhen != nil {
		if f, ok := ungroup(r.OffWhen.Condition).(*For); ok && f.Crossing() == nil {
			all = append(all, Delay{"off-delay", f.Duration})
		}
	}
	return all
}

func (c *checker) rule(r *Rule) {
	c.calls(r.Calls(), "a rule")
	c.once(r.Calls(), "the same rule")
	c.clauses(r.rows())
	if r.broken {
		return
	}
	if r.OnWhen == nil {
		c.errorf(r.NameAt, "missing-clause", "the rule %s has no `on when`; say when it turns on", r.Name)
		return
	}
	c.ends(r)
	if len(r.Calls()) == 0 {
		c.warnf(r.NameAt, "calls-nothing", "the rule %s calls no output; add: call OUTPUT", r.Name)
	}
}

// ends checks how a rule or an alarm ends.
func (c *checker) ends(r *Rule) {
	c.exclusive(r)
	if on, _ := r.OnCondition(); Momentary(on) && r.OffWhen == nil && r.OffAfter == nil && r.Pulse == nil && r.Latch == nil {
		c.errorf(
			r.OnWhen.At,
			"momentary",
			"%s is true for an instant only, so %s needs an end: `pulse`, `latch`, `off when` or `off after`",
			on,
			r.Name,
		)
	}
	if r.OffWhen != nil && r.OffAfter != nil {
		c.errorf(r.OffAfter.At, "exclusive-clauses", "`off after` beside `off when`: a rule has one way to turn off; take one of the two out")
	}
}

// exclusive reports clauses that a rule cannot have beside each other.
func (c *checker) exclusive(r *Rule) {
	type clause struct {
		word string
		at   Place
	}
	var others []clause
	add := func(d *DurationClause, word string) {
		if d != nil {
			others = append(others, clause{word, d.At})
		}
	}
	if r.OffWhen != nil {
		others = append(others, clause{"off when", r.OffWhen.At})
	}
	add(r.OffAfter, "off after")
	add(r.MinimumOn, "minimum on")
	if r.Latch != nil {
		for _, o := range others {
			c.errorf(o.at, "exclusive-clauses", "`%s` beside `latch`: a latched rule stays on until it is reset; take one of the two out", o.word)
		}
	} else if r.Reset != nil {
		c.errorf(r.Reset.At, "exclusive-clauses", "`reset when` without `latch`: there is nothing to reset; add `latch`, or take it out")
	}
	if r.Pulse == nil {
		return
	}
	add(r.MinimumOff, "minimum off")
	if r.Latch != nil {
		others = append(others, clause{"latch", r.Latch.At})
	}
	for _, o := range others {
		c.errorf(o.at, "exclusive-clauses", "`%s` beside `pulse`: a pulse has its own end; take one of the two out", o.word)
	}
}

// ruleOrder puts the rules in the order in which they are evaluated, each after
// those that it names, and finds circles. Derived values name no rules.
func (c *checker) ruleOrder() {
	named := func(r *Rule) []*Rule {
		var rules []*Rule
		c.job.namesIn(r, func(name string) {
			if other := c.job.RuleOf(name); other != nil {
				rules = append(rules, other)
			}
		})
		return rules
	}
	all := slices.Clone(c.job.Rules)
	for _, a := range c.job.Alarms {
		all = append(all, a.Rule)
	}
	c.job.Order = inOrder(all, named, func(circle []*Rule) {
		c.errorf(circle[0].NameAt, "circle", "%s depends on itself: %s; break the circle", circle[0].Name, roundTrip(circle))
	})
}

// chatter warns of an analog comparison that nothing keeps from following the
// signal's noise.
func (c *checker) chatter(r *Rule) {
	if r.OffWhen != nil || r.OffAfter != nil || r.Latch != nil || r.Pulse != nil || r.MinimumOn != nil {
		return
	}
	on, delay := r.OnCondition()
	if delay != nil {
		return
	}
	walk(on, func(x Condition) {
		if _, ok := x.(*For); ok {
			delay = x.(*For).Duration
		}
	})
	walk(on, func(x Condition) {
		cmp, isCompare := x.(*Compare)
		in, isBetween := x.(*Between)
		if isCompare && cmp.Hysteresis == nil && (c.hasInput(cmp.L) || c.hasInput(cmp.R)) && delay == nil ||
			isBetween && in.Hysteresis == nil && c.hasInput(in.X) && delay == nil {
			c.warnf(
				x.Place(),
				"no-hysteresis",
				"%s has neither `hysteresis` nor a delay, and %s has no `off when`: noise at the trip point would switch it to and fro",
				x,
				r.Name,
			)
		}
	})
}

// sayRule says a rule as it reads aloud, with the labels of points and the
// numbers of setpoints filled in: "Call Standby blower when Raceway 1 dissolved
// oxygen is below Low oxygen (6.0 mg/L) for 45 s. Stop when that lets go."
func (j *teller) sayRule(r *Rule) string {
	if r.OnWhen == nil {
		return ""
	}
	what := "On"
	if calls := r.Calls(); len(calls) > 0 {
		what = "Call " + j.sayCalls(calls)
	}
	return j.sentence(r, what)
}

// sentence says when a rule is on, and what it does then.
func (j *teller) sentence(r *Rule, what string) string {
	s := what + " when " + j.say(r.OnWhen.Condition) + "."
	on, _ := r.OnCondition()
	switch {
	case Momentary(on) && r.OffAfter != nil:
		s += " Stop " + j.sayDuration(r.OffAfter.Duration) + " after that."
	case Momentary(on) && r.Pulse != nil:
		s += " Stop after " + j.sayDuration(r.Pulse.Duration) + "."
	case r.OffWhen != nil:
		s += " Stop when " + j.say(r.OffWhen.Condition) + "."
	case r.OffAfter != nil:
		s += " Stop once that has been over for " + j.sayDuration(r.OffAfter.Duration) + "."
	case r.Pulse != nil:
		s += " Stop after " + j.sayDuration(r.Pulse.Duration) + ", and wait until that has let go."
	case r.Latch != nil && r.Reset != nil:
		s += " Stay until reset, by a person or when " + j.say(r.Reset.Condition) + ", after that has let go."
	case r.Latch != nil:
		s += " Stay until a person resets it, after that has let go."
	default:
		s += " Stop when that lets go."
	}
	return s + j.sayGuard(&r.Guard)
}
