package sheet

import (
	"strings"
)

// Sentence says a rule as it reads aloud, with the labels of points and the
// numbers of setpoints filled in: "Call Standby blower when Raceway 1 dissolved
// oxygen is below Low oxygen (6.0 mg/L) for 45 s. Stop when that lets go."
func (j *Job) Sentence(r *Rule) string {
	if r.OnWhen == nil {
		return ""
	}
	var outputs []string
	for _, n := range r.Calls() {
		outputs = append(outputs, j.title(n.Name))
	}
	what := "Call " + list(outputs, "and")
	if len(outputs) == 0 {
		what = "On"
	}
	s := what + " when " + j.say(r.OnWhen.Condition) + "."
	switch {
	case r.OffWhen != nil:
		s += " Stop when " + j.say(r.OffWhen.Condition) + "."
	case r.OffAfter != nil:
		s += " Stop once that has been over for " + j.sayDuration(r.OffAfter.Duration) + "."
	default:
		s += " Stop when that lets go."
	}
	return s
}

// title is how a sentence names a declaration.
func (j *Job) title(name string) string {
	if d := j.Lookup(name); d != nil {
		return d.Base().Title()
	}
	return name
}

// stateWord is how the states of a contact are called.
func (j *Job) stateWord(name string, on bool) string {
	in := j.Input(name)
	if in == nil {
		in = &Input{}
	}
	return in.StateWord(on)
}

var opWords = map[Op]string{Below: "below", AtMost: "at or below", Above: "above", AtLeast: "at or above"}

func (j *Job) say(c Condition) string {
	switch c := c.(type) {
	case *Group:
		return j.sayGroup(c.X)
	case *Test:
		return j.title(c.Name.Name) + " is " + j.stateWord(c.Name.Name, true)
	case *Not:
		if t, ok := ungroup(c.X).(*Test); ok {
			return j.title(t.Name.Name) + " is " + j.stateWord(t.Name.Name, false)
		}
		return "not " + j.sayGroup(c.X)
	case *And:
		return j.sayAll(c.Xs, " and ")
	case *Or:
		return j.sayAll(c.Xs, " or ")
	case *For:
		return j.say(c.X) + " for " + j.sayDuration(c.Duration)
	case *Compare:
		s := j.sayValue(c.L) + " is " + opWords[c.Op] + " " + j.sayValue(c.R)
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

// sayGroup keeps parentheses only round what has several parts.
func (j *Job) sayGroup(c Condition) string {
	switch inner := ungroup(c).(type) {
	case *And, *Or:
		return "(" + j.say(inner) + ")"
	default:
		return j.say(inner)
	}
}

func (j *Job) sayAll(xs []Condition, word string) string {
	parts := make([]string, len(xs))
	for i, x := range xs {
		parts[i] = j.say(x)
	}
	return strings.Join(parts, word)
}

func (j *Job) sayValue(e Expr) string {
	switch e := e.(type) {
	case *Name:
		if s, ok := j.Lookup(e.Name).(*Setpoint); ok {
			return s.Title() + " (" + s.Value.String() + ")"
		}
		return j.title(e.Name)
	case *Binary:
		return j.sayValue(e.L) + " " + string(e.Op) + " " + j.sayValue(e.R)
	case *Func:
		args := make([]string, len(e.Args))
		for i, a := range e.Args {
			args[i] = j.sayValue(a)
			if _, ok := a.(*Binary); ok {
				args[i] = "(" + args[i] + ")"
			}
		}
		return "the " + map[string]string{"min": "smallest", "max": "largest", "average": "average", "median": "median", "abs": "size"}[e.Name] + " of " + list(args, "and")
	case *Negate:
		return "-" + j.sayValue(e.X)
	case *Paren:
		return "(" + j.sayValue(e.X) + ")"
	}
	return e.String()
}

func (j *Job) sayDuration(d *Duration) string {
	if s, ok := j.Lookup(d.Name).(*Setpoint); ok {
		return s.Title() + " (" + s.Value.String() + ")"
	}
	return d.String()
}
