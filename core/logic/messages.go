package logic

import (
	"fmt"
	"strings"

	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A Message of a Program: when it is sent, and the values that it carries.
type Message struct {
	Name  string
	every int32 // a duration, or -1
	node  int32
	when  int32 // a condition, or -1; sent at the start where there is neither
	sends []Ref // inputs, derived values and outputs
	to    string
}

func (c *compiler) message(d *sheet.Message) {
	c.begins(MessageKind, len(c.p.Messages))
	m := Message{Name: d.Name, every: c.clause(d.Every), when: -1}
	if d.When != nil {
		m.when = c.condition("when", d.When.Condition)
	}
	var to []string
	for _, s := range d.Sends {
		for _, n := range s.Values {
			x, found := c.p.Find(n.Name)
			switch {
			case !found:
				c.fail(fmt.Errorf("%s: nothing is named %s", n.At, n.Name))
			case x.Kind == InputKind:
				c.p.Inputs[x.Index].used = true
			}
			m.sends = append(m.sends, x)
		}
		for _, r := range s.To {
			to = append(to, r.Name)
		}
	}
	m.to = sheet.List(to, "and")
	every := ""
	if d.Every != nil {
		every = d.Every.Duration.String()
	}
	c.part("", printText(every), func() { m.node = c.addCond(condNode{op: condMessage, a: int32(len(c.p.Messages))}) })
	c.p.index[d.Name] = Ref{MessageKind, int32(len(c.p.Messages))}
	c.p.Messages = append(c.p.Messages, m)
}

// send sends the messages whose time has come, or whose condition has turned true
// as this instant ends.
func (s *Stepper) send() {
	for _, i := range s.messages {
		s.stepMessage(i, s.p.conds[i].a)
	}
	s.messages = s.messages[:0]
}

// noteMessages notes what the end of a moment makes of the conditions of messages. It sends nothing.
func (s *Stepper) noteMessages() {
	for _, i := range s.messages {
		if when := s.p.Messages[s.p.conds[i].a].when; when >= 0 && s.truths[when] != isUnknown {
			s.conds[i].tripped = s.truths[when] == isTrue
		}
	}
	s.messages = s.messages[:0]
}

// stepMessage sends a message when it is time. tripped is: its condition was true
// when it was last known; waiting: it has begun to count its time.
func (s *Stepper) stepMessage(i int32, index int32) {
	m, own := &s.p.Messages[index], &s.conds[i]
	from := len(s.terms)
	s.reasonFrom = from
	send, reason := false, Reason{Cause: AtTime}
	switch {
	case m.when >= 0:
		v := s.truths[m.when]
		send = v == isTrue && !own.tripped
		if v != isUnknown {
			own.tripped = v == isTrue
		}
		if send {
			s.explain(m.when, lasting{})
			reason = Reason{Cause: ByTerms, Terms: s.terms[from:]}
		}
	case m.every >= 0:
		d := s.duration(int64(m.every))
		if !own.waiting {
			own.waiting, own.since = true, s.now
		} else if send = s.now >= after(own.since, d); send {
			own.since += (s.now - own.since) / d * d
		}
		reason.HeldFor = d
		s.timers.Set(i, after(own.since, d))
	case !own.waiting:
		send, own.waiting = true, true
	}
	if send {
		begin := len(s.terms)
		for _, x := range m.sends {
			t := Term{Input: -1, Holds: true}
			switch x.Kind {
			case OutputKind:
				t.Stand = s.stand(x.Index)
			case DerivedKind:
				v := s.p.Derived[x.Index].value
				s.catchUpValue(v)
				t.Left, t.Holds = s.values[v], s.known[v]
			default:
				t = s.input(x.Index)
				t.Holds = t.Fault == signal.None
			}
			t.Kind, t.Of = ValueTerm, x
			s.terms = append(s.terms, t)
		}
		reason.Sent = s.terms[begin:]
		if len(reason.Terms) > 0 {
			reason.Terms = s.terms[from:begin]
		}
		s.report(Ref{MessageKind, index}, Stand{}, Stand{State: On}, reason)
	}
}

// sentText is what a message carries, and to whom.
func (p *Program) sentText(message int, sent []Term) string {
	var all []string
	for _, t := range sent {
		all = append(all, p.sentValue(t))
	}
	return "sends " + strings.Join(all, ", ") + " to " + p.Messages[message].to
}

func (p *Program) sentValue(t Term) string {
	name := p.Name(t.Of)
	switch {
	case t.Of.Kind == OutputKind:
		return name + " " + p.StandText(t.Of, t.Stand)
	case !t.Holds && t.Fault == signal.NotRead:
		return name + " not read yet"
	case !t.Holds:
		return name + " bad"
	case t.Input >= 0:
		return name + " " + p.InputText(t)
	}
	return name + " " + withUnit(unit.Short(t.Left), p.Derived[t.Of.Index].Unit)
}
