package sheet

import "strings"

// An Alarm is what somebody must be told. Its conditions are those of a rule,
// which has its name and stands in the order of rules.
type Alarm struct {
	Head
	Rule     *Rule
	Priority *WordClause
	Inhibit  *ConditionClause
	Advice   *TextClause
	Calls    []*AlarmCall
	Notify   []*NotifyClause

	OfInput *Input // whose `alarm when bad` it stands for, or nil
	Own     bool   // it is a point's own, and stands in no declaration of its own
	Watches bool   // and in no clause either: it is about the plant
}

// AlarmCall is `call A, B`, an action, or `call A until acknowledged`, an
// announcement.
type AlarmCall struct {
	CallClause
	Until bool // acknowledged
}

// NotifyClause is `notify R`.
type NotifyClause struct {
	Clause
	Recipients []*Name
}

// A Recipient is somebody who is told: a web address that is posted to, or a
// mailbox.
type Recipient struct {
	Head
	Kind      string // webhook or email
	Address   string
	AddressAt Place
}

// Keyword is the word that the declaration begins with.
func (*Alarm) Keyword() string { return "alarm" }

// Keyword is the word that the declaration begins with.
func (*Recipient) Keyword() string { return "recipient" }

// Priorities are those of alarms, the most urgent first.
var Priorities = []string{"critical", "high", "medium", "low"}

// alarmStates are what a Test may ask of an alarm besides on and off.
var alarmStates = []string{"unacknowledged", "shelved"}

// RuleOf finds a rule, or that of an alarm, by name; nil if there is none.
func (j *Job) RuleOf(name string) *Rule {
	switch d := j.names[name].(type) {
	case *Rule:
		return d
	case *Alarm:
		return d.Rule
	}
	return nil
}

func (c *AlarmCall) String() string {
	s := c.CallClause.String()
	if c.Until {
		s += " until acknowledged"
	}
	return s
}

func (n *NotifyClause) String() string { return "notify " + nameList(n.Recipients) }

func (p *parser) alarm(h Head) Declaration {
	d := &Alarm{Head: h, Rule: &Rule{}}
	p.name(&d.Head)
	d.Rule.Alarm = d
	d.Rule.At, d.Rule.NameAt, d.Rule.Name, d.Rule.Label = d.At, d.NameAt, d.Name, d.Label
	return d
}

func (d *Alarm) words() []string { return []string{d.Name, d.label()} }

func (d *Alarm) rows() []row {
	r := d.Rule
	return d.rowsWith(false,
		conditionRow("on when", &r.OnWhen),
		conditionRow("off when", &r.OffWhen),
		durationRow("off after", &r.OffAfter).called("off after"),
		wordRow("priority", &d.Priority, "the priority", Priorities...),
		flagRow("latch", &r.Latch),
		conditionRow("reset when", &r.Reset),
		conditionRow("inhibit when", &d.Inhibit),
		textRow("advice", &d.Advice, "advice"),
		manyRow("call", &d.Calls, func(p *parser, c Clause) *AlarmCall {
			call := &AlarmCall{CallClause: CallClause{c, p.calls()}}
			if call.Until = p.accept("until"); call.Until && !p.accept("acknowledged") {
				p.fail(p.peek(), "%s where `acknowledged` must stand: call HORN until acknowledged", p.peek().source())
			}
			return call
		}),
		manyRow("notify", &d.Notify, func(p *parser, c Clause) *NotifyClause { return &NotifyClause{c, p.names("a recipient")} }))
}

func (p *parser) recipient(h Head) Declaration {
	d := &Recipient{Head: h}
	p.name(&d.Head)
	d.Kind = p.oneOf("how it is told", "webhook", "email")
	t := p.next()
	d.Address, d.AddressAt = t.text, p.place(t)
	if t.kind != tokString {
		p.fail(t, "%s where the address must stand, in quotes", t.source())
	}
	return d
}

func (d *Recipient) words() []string { return []string{d.Name, d.label(), d.Kind, quote(d.Address)} }

func (d *Recipient) rows() []row { return d.rowsWith(false) }

func (c *checker) recipient(d *Recipient) {
	web := strings.HasPrefix(d.Address, "http://") || strings.HasPrefix(d.Address, "https://")
	name, host, mail := strings.Cut(d.Address, "@")
	switch {
	case d.Kind == "webhook" && !web:
		c.errorf(d.AddressAt, "address", "%q is no web address; it begins with http:// or https://", d.Address)
	case d.Kind == "email" && (!mail || name == "" || host == "" || strings.ContainsAny(d.Address, " \t")):
		c.errorf(d.AddressAt, "address", "%q is no mail address; write it as duty@fennick.example", d.Address)
	}
}

func (c *checker) alarm(d *Alarm) {
	c.calls(d.Outputs(), "an alarm")
	c.once(d.Outputs(), "the same alarm")
	for _, n := range d.Notify {
		c.recipients(n.Recipients, "an alarm notifies")
	}
	c.clauses(d.rows())
	for _, x := range conditionsOf(d.rows()) {
		walk(x.Condition, func(x Condition) {
			if cmp, ok := x.(*Compare); ok && cmp.Deadband != nil {
				c.errorf(
					cmp.Deadband.Place(),
					"alarm-deadband",
					"`deadband` in an alarm: the standard for alarms calls by that word what is written `hysteresis` here; write which is meant, hysteresis or another limit",
				)
			}
		})
	}
	if d.broken {
		return
	}
	if d.Rule.OnWhen == nil {
		c.errorf(d.NameAt, "missing-clause", "the alarm %s has no `on when`; say when it comes", d.Name)
		return
	}
	c.ends(d.Rule)
	if d.Priority == nil {
		c.errorf(d.NameAt, "missing-clause", "the alarm %s has no priority; write one of %s", d.Name, List(Priorities, "or"))
	}
	if d.Advice == nil && !d.Own {
		c.warnf(
			d.NameAt,
			"no-advice",
			"the alarm %s gives no advice; say what to do: advice \"Open the bottle, then call the duty phone.\"",
			d.Name,
		)
	}
}

// Outputs are all calls of the alarm, whether they end when it is acknowledged
// or not.
func (d *Alarm) Outputs() []*Call {
	var all []*Call
	for _, c := range d.Calls {
		all = append(all, c.CallClause.Calls...)
	}
	return all
}

// sayAlarm says an alarm as it reads aloud.
func (j *teller) sayAlarm(d *Alarm) string {
	s := strings.Replace(j.sentence(d.Rule, "Alarm"), ". Stop ", ". Over ", 1)
	if d.Priority != nil {
		s = strings.ToUpper(d.Priority.Word[:1]) + d.Priority.Word[1:] + " alarm" + strings.TrimPrefix(s, "Alarm")
	}
	if d.Inhibit != nil {
		s += " Silent when " + j.say(d.Inhibit.Condition) + "."
	}
	for _, c := range d.Calls {
		s += " Call " + j.sayCalls(c.CallClause.Calls)
		if c.Until {
			s += " until it is acknowledged"
		}
		s += "."
	}
	for _, n := range d.Notify {
		var names []string
		for _, r := range n.Recipients {
			names = append(names, j.title(r.Name))
		}
		s += " Notify " + List(names, "and") + "."
	}
	if d.Advice != nil {
		s += " " + d.Advice.Text
	}
	return s
}
