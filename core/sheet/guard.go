package sheet

// Guard is what rules and outputs have in common: what must be true to turn on,
// what forces off, and how long a state is kept at least.
type Guard struct {
	Permissive *ConditionClause
	Interlock  *Interlock
	MinimumOn  *DurationClause
	MinimumOff *DurationClause
}

// Interlock is `interlock when C` or `interlock unless C`.
type Interlock struct {
	ConditionClause
	Unless bool
}

// rows are the clauses that rules and outputs share.
func (g *Guard) rows() []row {
	interlock := row{keyword: "interlock",
		read: func(p *parser, c Clause) {
			unless := p.oneOf("the word before the condition", "when", "unless") == "unless"
			g.Interlock = &Interlock{ConditionClause{c, p.condition()}, unless}
		},
		print: func(p *printer) {
			if i := g.Interlock; i != nil && i.Unless {
				p.condition("interlock unless", &i.ConditionClause)
			} else if i != nil {
				p.condition("interlock when", &i.ConditionClause)
			}
		},
		condition: func() *ConditionClause {
			if g.Interlock == nil {
				return nil
			}
			return &g.Interlock.ConditionClause
		}}
	return []row{conditionRow("permissive when", &g.Permissive), interlock,
		durationRow("minimum on", &g.MinimumOn).called("minimum on"),
		durationRow("minimum off", &g.MinimumOff).called("minimum off")}
}

// Clauses are what permits and interlocks, and the minimum times, each as it
// stands in a sheet.
func (g *Guard) Clauses() []string {
	p := &printer{plain: true}
	p.rows(g.rows())
	return p.lines()
}

// sayGuard says what permits, interlocks and how long a state is kept.
func (j *teller) sayGuard(g *Guard) string {
	s := ""
	if g.Permissive != nil {
		s += " Permitted to turn on when " + j.say(g.Permissive.Condition) + "."
	}
	if i := g.Interlock; i != nil {
		word := "when"
		if i.Unless {
			word = "unless"
		}
		s += " Interlocked, and off at once, " + word + " " + j.say(i.Condition) + "."
	}
	if g.MinimumOn != nil {
		s += " On for at least " + j.sayDuration(g.MinimumOn.Duration) + "."
	}
	if g.MinimumOff != nil {
		s += " Off for at least " + j.sayDuration(g.MinimumOff.Duration) + "."
	}
	return s
}
