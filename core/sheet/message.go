package sheet

import (
	"slices"
	"strings"
)

// A Message is values that are sent to somebody: every so often, at the start,
// or each time that a condition turns true.
type Message struct {
	Head
	Every *DurationClause
	Start *Clause // `at start`
	When  *ConditionClause
	Sends []*SendClause
}

// SendClause is `send A, B to R`.
type SendClause struct {
	Clause
	Values []*Name
	To     []*Name
}

// BadAlarm is `alarm when bad` of an input: an alarm named INPUT.bad.
type BadAlarm struct {
	Clause
	For      *Duration
	Priority string // empty where none is written
	Advice   string
	Notify   []*Name
}

// Keyword is the word that the declaration begins with.
func (*Message) Keyword() string { return "message" }

func nameList(all []*Name) string {
	names := make([]string, len(all))
	for i, n := range all {
		names[i] = n.Name
	}
	return strings.Join(names, ", ")
}

func (s *SendClause) String() string { return "send " + nameList(s.Values) + " to " + nameList(s.To) }

func (a *BadAlarm) String() string {
	s := "alarm when bad"
	if a.For != nil {
		s += " for " + a.For.String()
	}
	if a.Priority != "" {
		s += " priority " + a.Priority
	}
	if a.Advice != "" {
		s += " advice " + quote(a.Advice)
	}
	if len(a.Notify) > 0 {
		s += " notify " + nameList(a.Notify)
	}
	return s
}

func (p *parser) message(h Head) Declaration {
	d := &Message{Head: h}
	p.name(&d.Head)
	return d
}

func (d *Message) words() []string { return []string{d.Name, d.label()} }

func (d *Message) rows() []row {
	return d.rowsWith(false,
		durationRow("every", &d.Every).called("every"),
		flagRow("at start", &d.Start),
		conditionRow("when", &d.When),
		manyRow("send", &d.Sends, func(p *parser, c Clause) *SendClause {
			s := &SendClause{Clause: c, Values: p.names("a value")}
			p.expect("to", "before who is sent it")
			s.To = p.names("a recipient")
			return s
		}))
}

func (p *parser) badAlarm(c Clause) *BadAlarm {
	a := &BadAlarm{Clause: c}
	if p.accept("for") {
		a.For = p.duration()
	}
	if p.accept("priority") {
		a.Priority = p.oneOf("the priority", Priorities...)
	}
	if p.accept("advice") {
		a.Advice = p.quoted("the advice")
	}
	if p.accept("notify") {
		a.Notify = p.names("a recipient")
	}
	return a
}

// badSuffix makes the name of an input that of its `alarm when bad`, unprovenSuffix that of an output that of
// the alarm of its `proven by`.
const (
	badSuffix      = ".bad"
	unprovenSuffix = ".unproven"
)

var ownSuffixes = []string{badSuffix, unprovenSuffix, lostSuffix, mismatchSuffix, readBackSuffix}

// ownerOf is the point whose own alarm has a name; empty of any other name.
func ownerOf(name string) string {
	of, suffix, _ := strings.Cut(name, ".")
	if slices.Contains(ownSuffixes, "."+suffix) {
		return of
	}
	return ""
}

// alarm makes the alarm that the clause stands for. Without a priority it is a
// medium one: a value that cannot be believed is worth a look, not a call.
func (a *BadAlarm) alarm(in *Input) *Alarm {
	d := &Alarm{
		Head:    Head{At: a.At, NameAt: a.At, Name: in.Name + badSuffix, Label: in.Title() + " is bad"},
		Rule:    &Rule{},
		OfInput: in,
		Own:     true,
	}
	var condition Condition = &Test{Name: &Name{a.At, in.Name}, Is: "bad"}
	if a.For != nil {
		condition = &For{condition, a.For}
	}
	d.Rule.Head = d.Head
	d.Rule.Alarm, d.Rule.OnWhen = d, &ConditionClause{Clause{At: a.At}, condition}
	d.Priority = &WordClause{Clause{At: a.At}, "medium"}
	if a.Priority != "" {
		d.Priority.Word = a.Priority
	}
	if a.Advice != "" {
		d.Advice = &TextClause{Clause{At: a.At}, a.Advice}
	}
	if len(a.Notify) > 0 {
		d.Notify = []*NotifyClause{{Clause{At: a.At}, a.Notify}}
	}
	return d
}

// recipients checks that all of some names are such.
func (c *checker) recipients(names []*Name, who string) {
	for _, n := range names {
		if d := c.resolve(n); d != nil {
			if _, is := d.(*Recipient); !is {
				c.errorf(n.At, "wrong-kind", "%s is %s; %s recipients", n.Name, describe(d), who)
			}
		}
	}
}

func (c *checker) message(d *Message) {
	c.clauses(d.rows())
	for _, s := range d.Sends {
		c.recipients(s.To, "a message is sent to")
		for _, n := range s.Values {
			switch x := c.resolve(n).(type) {
			case nil, *Input, *Derived, *Output:
			default:
				c.errorf(n.At, "wrong-kind", "%s is %s; a message sends inputs, outputs and derived values", n.Name, describe(x))
			}
		}
	}
	if d.broken {
		return
	}
	ways := 0
	for _, way := range []bool{d.Every != nil, d.Start != nil, d.When != nil} {
		if way {
			ways++
		}
	}
	if ways != 1 {
		c.errorf(
			d.NameAt,
			"missing-clause",
			"the message %s is sent in %d ways; write one of `every D`, `at start` and `when CONDITION`",
			d.Name,
			ways,
		)
	}
	if len(d.Sends) == 0 {
		c.errorf(d.NameAt, "missing-clause", "the message %s sends nothing; add a line such as: send oxygen to office", d.Name)
	}
}

// sayMessage says a message as it reads aloud.
func (j *teller) sayMessage(d *Message) string {
	var parts []string
	for _, s := range d.Sends {
		say := func(names []*Name) string {
			var all []string
			for _, n := range names {
				all = append(all, j.named(n))
			}
			return List(all, "and")
		}
		parts = append(parts, say(s.Values)+" to "+say(s.To))
	}
	s := "Send " + strings.Join(parts, "; ")
	switch {
	case d.Every != nil:
		s += " every " + j.sayDuration(d.Every.Duration)
	case d.Start != nil:
		s += " at the start"
	case d.When != nil:
		s += " each time that " + j.say(d.When.Condition)
	}
	return s + "."
}
