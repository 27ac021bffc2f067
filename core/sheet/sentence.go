package sheet

import (
	"slices"
	"strconv"
	"strings"

	"rectura/core/sheet/visits"
	"rectura/core/unit"
)

// Say says a declaration that decides something, or sends it, as it reads aloud;
// empty for any other.
func (j *Job) Say(d Declaration) string { return (&teller{Job: j}).tell(d) }

func (j *teller) tell(d Declaration) string {
	switch d := d.(type) {
	case *Rule:
		return j.sayRule(d)
	case *Bands:
		return j.sayBands(d)
	case *Follow:
		return j.sayFollow(d)
	case *Loop:
		return j.sayLoop(d)
	case *Alarm:
		return j.sayAlarm(d)
	case *Message:
		return j.sayMessage(d)
	}
	return ""
}

// title is how a sentence names a declaration.
func (j *teller) title(name string) string {
	if d := j.Lookup(name); d != nil {
		return d.Base().Title()
	}
	return name
}

// sayTest says a test of a state, or its opposite.
func (j *teller) sayTest(c *Test, opposite bool) string {
	not := c.Not != opposite
	if c.OfQuality() || c.OfBand() || c.OfAlarm() {
		word := c.Is
		if not {
			word = "not " + word
		}
		return j.named(c.Name) + " is " + word
	}
	return j.named(c.Name) + " is " + j.stateWord(c.Name.Name, (c.Is != "off") != not)
}

// stateWord is how the states of a contact are called.
func (j *teller) stateWord(name string, on bool) string {
	in := j.Input(name)
	if in == nil {
		in = &Input{}
	}
	return in.StateWord(on)
}

var opWords = map[Op]string{Below: "below", AtMost: "at or below", Above: "above", AtLeast: "at or above"}

func (j *teller) say(c Condition) string {
	visits.Add()
	switch c := c.(type) {
	case *Group:
		return j.say(c.X)
	case *Test:
		return j.sayTest(c, false)
	case *Quorum:
		parts := make([]string, len(c.Xs))
		for i, x := range c.Xs {
			parts[i] = j.sayPart(x)
		}
		return "at least " + strconv.Itoa(c.N) + " of these hold: " + strings.Join(parts, "; ")
	case *Not:
		if t, ok := ungroup(c.X).(*Test); ok {
			return j.sayTest(t, true)
		}
		return "not " + j.sayPart(c.X)
	case *And:
		return j.sayAll(c.Xs, " and ")
	case *Or:
		return j.sayAll(c.Xs, " or ")
	case *For:
		if c.Crossing() != nil {
			return j.say(c.X) + " and has stayed there for " + j.sayDuration(c.Duration)
		}
		return j.sayPart(c.X) + " for " + j.sayDuration(c.Duration)
	case *Between:
		word := " is between "
		if c.Outside {
			word = " is outside "
		}
		s := j.sayValue(c.X) + word + j.sayValue(c.Low) + " and " + j.sayValue(c.High)
		if c.Hysteresis != nil {
			s += " with hysteresis " + j.sayValue(c.Hysteresis)
		}
		return s
	case *Near:
		return j.sayValue(c.L) + " is within " + j.sayValue(c.Within) + " of " + j.sayValue(c.R)
	case *Turn:
		if c.How == "changes" {
			return j.named(c.Name) + " changes"
		}
		return j.named(c.Name) + " turns " + j.stateWord(c.Name.Name, c.How == "turns on")
	case *Cross:
		return j.sayValue(c.X) + " crosses " + j.sayValue(c.V)
	case *Slope:
		word := " rises"
		if c.Falling {
			word = " falls"
		}
		return j.sayValue(c.X) + word + " faster than " + c.Rate.String() + " over " + j.sayDuration(c.Over)
	case *Daytime:
		return "the time is between " + c.From.Text + " and " + c.To.Text
	case *Compare:
		s := j.sayValue(c.L) + " is " + j.part(opWords[c.Op], Part{Kind: OpPart, At: c.OpAt, Text: string(c.Op)}) + " " + j.sayValue(c.R)
		if c.Deadband != nil {
			s += " with deadband " + j.sayValue(c.Deadband)
		}
		switch {
		case c.Hysteresis != nil && c.Deadband != nil:
			s += " and hysteresis " + j.sayValue(c.Hysteresis)
		case c.Hysteresis != nil:
			s += " with hysteresis " + j.sayValue(c.Hysteresis)
		}
		return s
	}
	return ""
}

// sayPart says a condition within another: in parentheses where its words would run into
// those around it.
func (j *teller) sayPart(c Condition) string {
	switch inner := ungroup(c).(type) {
	case *And, *Or, *For, *Quorum:
		return "(" + j.say(inner) + ")"
	case *Not:
		if _, isTest := ungroup(inner.X).(*Test); !isTest {
			return "(" + j.say(inner) + ")"
		}
	}
	return j.say(c)
}

func (j *teller) sayAll(xs []Condition, word string) string {
	parts := make([]string, len(xs))
	for i, x := range xs {
		parts[i] = j.sayPart(x)
	}
	return strings.Join(parts, word)
}

func (j *teller) sayValue(e Expr) string {
	visits.Add()
	switch e := e.(type) {
	case *Name:
		if s, ok := j.Lookup(e.Name).(*Setpoint); ok {
			return j.named(e) + " (" + j.amount(s.ValueAt, s.Value, s.Name) + ")"
		}
		return j.named(e)
	case *Literal:
		return j.amount(e.At, Amount{[]unit.Quantity{e.Quantity}}, "")
	case *Binary:
		all, first := e.spine()
		var b strings.Builder
		b.WriteString(j.sayValue(first))
		for _, x := range slices.Backward(all) {
			b.WriteString(" " + string(x.Op) + " " + j.sayValue(x.R))
		}
		return b.String()
	case *Func:
		args := make([]string, len(e.Args))
		for i, a := range e.Args {
			args[i] = j.sayValue(a)
			if _, ok := a.(*Binary); ok {
				args[i] = "(" + args[i] + ")"
			}
		}
		return "the " + map[string]string{"min": "smallest", "max": "largest", "average": "average", "median": "median", "abs": "size"}[e.Name] + " of " + List(
			args,
			"and",
		)
	case *Negate:
		return "-" + j.sayValue(e.X)
	case *Paren:
		return "(" + j.sayValue(e.X) + ")"
	}
	return e.String()
}

func (j *teller) sayDuration(d *Duration) string {
	if s, ok := j.Lookup(d.Name).(*Setpoint); ok {
		return j.named(&Name{d.At, d.Name}) + " (" + j.amount(s.ValueAt, s.Value, s.Name) + ")"
	}
	if d.Name != "" {
		return d.Name
	}
	return j.amount(d.At, d.Amount, "")
}
