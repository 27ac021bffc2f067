package sheet

import (
	"slices"
	"strconv"
	"strings"

	"rectura/core/sheet/visits"
	"rectura/core/unit"
)

// An Expr is a value: *Literal, *Name, *Binary, *Func, *Negate or *Paren.
type Expr interface {
	Place() Place
	String() string
	value()
}

// A Condition is *Compare, *Test, *Not, *And, *Or, *Quorum, *For, *Group,
// *Between, *Near, *Turn, *Cross, *Slope or *Daytime.
type Condition interface {
	Place() Place
	String() string
	condition()
}

// Literal is a quantity.
type Literal struct {
	At Place
	unit.Quantity
}

// Name is the name of a declaration, used in a condition or a call.
type Name struct {
	At   Place
	Name string
}

// Binary is a sum, difference, product or quotient; Op is '+', '-', '*' or '/'.
type Binary struct {
	Op   byte
	L, R Expr
}

// Func is `max(A, B, …)` and the like.
type Func struct {
	At   Place
	Name string // min, max, average, median or abs
	Args []Expr
}

// Functions are the names that a Func may have.
var Functions = []string{"min", "max", "average", "median", "abs"}

// Negate is a value with its sign turned.
type Negate struct {
	At Place
	X  Expr
}

// Paren is a value in parentheses.
type Paren struct {
	At Place
	X  Expr
}

// Op is a comparison.
type Op string

// The comparisons.
const (
	Below   Op = "<"
	AtMost  Op = "<="
	Above   Op = ">"
	AtLeast Op = ">="
)

// Word is how a sentence says the comparison.
func (o Op) Word() string { return opWords[o] }

// Opposite is the comparison that is true exactly when o is false.
func (o Op) Opposite() Op {
	return map[Op]Op{Below: AtLeast, AtMost: Above, Above: AtMost, AtLeast: Below}[o]
}

// Mirror is the comparison with its sides changed over.
func (o Op) Mirror() Op {
	return map[Op]Op{Below: Above, AtMost: AtLeast, Above: Below, AtLeast: AtMost}[o]
}

// Falling tells whether the left side must fall for the comparison to come true.
func (o Op) Falling() bool { return o == Below || o == AtMost }

// Compare is `L op R`, perhaps with deadband and hysteresis (else nil).
type Compare struct {
	Op                   Op
	OpAt                 Place
	L, R                 Expr
	Deadband, Hysteresis Expr
}

// Test is the state of something: a contact, a rule or an output that is on by
// its name alone, or `NAME is [not] on`, off, good or bad.
type Test struct {
	Name *Name
	Not  bool
	Is   string // on, off, good, bad, unacknowledged, shelved or the name of a band; empty for the name alone
}

// StateWords are what a Test may ask for.
var StateWords = []string{"on", "off", "good", "bad"}

// OfQuality tells whether the test asks whether a signal can be believed.
func (c *Test) OfQuality() bool { return c.Is == "good" || c.Is == "bad" }

// OfBand tells whether the test asks which band is in force.
func (c *Test) OfBand() bool {
	return c.Is != "" && !slices.Contains(StateWords, c.Is) && !c.OfAlarm()
}

// OfAlarm tells whether the test asks what people have done with an alarm.
func (c *Test) OfAlarm() bool { return slices.Contains(alarmStates, c.Is) }

// Not is `not X`.
type Not struct {
	At Place
	X  Condition
}

// And is true while all of its terms are.
type And struct {
	Xs []Condition
}

// Or is true while one of its terms is.
type Or struct {
	Xs []Condition
}

// Quorum is `at least N of (X, …)`.
type Quorum struct {
	At Place
	N  int
	Xs []Condition
}

// For is `X for D`.
type For struct {
	X        Condition
	Duration *Duration
}

// Group is a condition in parentheses.
type Group struct {
	At Place
	X  Condition
}

func ungroup(c Condition) Condition {
	for {
		g, ok := c.(*Group)
		if !ok {
			return c
		}
		c = g.X
	}
}

// Place is where the value begins.
func (e *Literal) Place() Place { return e.At }

// Place is where the value begins.
func (e *Name) Place() Place { return e.At }

// Place is where the value begins.
func (e *Binary) Place() Place { return e.L.Place() }

// Place is where the value begins.
func (e *Func) Place() Place { return e.At }

// Place is where the value begins.
func (e *Negate) Place() Place { return e.At }

// Place is where the value begins.
func (e *Paren) Place() Place { return e.At }

// Place is where the condition begins.
func (c *Compare) Place() Place { return c.L.Place() }

// Place is where the condition begins.
func (c *Test) Place() Place { return c.Name.At }

// Place is where the condition begins.
func (c *Not) Place() Place { return c.At }

// Place is where the condition begins.
func (c *And) Place() Place { return c.Xs[0].Place() }

// Place is where the condition begins.
func (c *Or) Place() Place { return c.Xs[0].Place() }

// Place is where the condition begins.
func (c *Quorum) Place() Place { return c.At }

// Place is where the condition begins.
func (c *For) Place() Place { return c.X.Place() }

// Place is where the condition begins.
func (c *Group) Place() Place { return c.At }

func (*Literal) value() {}
func (*Name) value()    {}
func (*Binary) value()  {}
func (*Func) value()    {}
func (*Negate) value()  {}
func (*Paren) value()   {}

func (*Compare) condition() {}
func (*Test) condition()    {}
func (*Not) condition()     {}
func (*And) condition()     {}
func (*Or) condition()      {}
func (*Quorum) condition()  {}
func (*For) condition()     {}
func (*Group) condition()   {}

// spine is a chain of sums and products that are each other's left side, from
// the outermost in, and what stands at its left end. A long sum is such a chain;
// who goes along it does not descend.
func (e *Binary) spine() (all []*Binary, first Expr) {
	for {
		visits.Add()
		all = append(all, e)
		left, ok := e.L.(*Binary)
		if !ok {
			return all, e.L
		}
		e = left
	}
}

func (e *Name) String() string { return e.Name }
func (e *Binary) String() string {
	all, first := e.spine()
	var b strings.Builder
	b.WriteString(first.String())
	for _, x := range slices.Backward(all) {
		b.WriteString(" " + string(x.Op) + " " + x.R.String())
	}
	return b.String()
}
func (e *Negate) String() string { return "-" + e.X.String() }
func (e *Func) String() string {
	args := make([]string, len(e.Args))
	for i, a := range e.Args {
		args[i] = a.String()
	}
	return e.Name + "(" + strings.Join(args, ", ") + ")"
}
func (e *Paren) String() string { return "(" + e.X.String() + ")" }

func (c *Compare) String() string {
	s := c.L.String() + " " + string(c.Op) + " " + c.R.String()
	if c.Deadband != nil {
		s += " deadband " + c.Deadband.String()
	}
	if c.Hysteresis != nil {
		s += " hysteresis " + c.Hysteresis.String()
	}
	return s
}

func (c *Test) String() string {
	switch {
	case c.Is == "":
		return c.Name.Name
	case c.Not:
		return c.Name.Name + " is not " + c.Is
	}
	return c.Name.Name + " is " + c.Is
}

func (c *Quorum) String() string {
	return "at least " + strconv.Itoa(c.N) + " of (" + join(c.Xs, ", ") + ")"
}

func (c *Not) String() string   { return "not " + c.X.String() }
func (c *And) String() string   { return join(c.Xs, " and ") }
func (c *Or) String() string    { return join(c.Xs, " or ") }
func (c *For) String() string   { return c.X.String() + " for " + c.Duration.String() }
func (c *Group) String() string { return "(" + c.X.String() + ")" }

func join(xs []Condition, between string) string {
	parts := make([]string, len(xs))
	for i, x := range xs {
		parts[i] = x.String()
	}
	return strings.Join(parts, between)
}

// Names calls f for every name in a value.
func Names(e Expr, f func(*Name)) {
	visits.Add()
	switch e := e.(type) {
	case *Name:
		f(e)
	case *Binary:
		Names(e.L, f)
		Names(e.R, f)
	case *Func:
		for _, a := range e.Args {
			Names(a, f)
		}
	case *Negate:
		Names(e.X, f)
	case *Paren:
		Names(e.X, f)
	}
}

// walk calls f for a condition and every condition in it, outermost first.
func walk(c Condition, f func(Condition)) {
	visits.Add()
	f(c)
	switch c := c.(type) {
	case *Not:
		walk(c.X, f)
	case *For:
		walk(c.X, f)
	case *Group:
		walk(c.X, f)
	case *And:
		for _, x := range c.Xs {
			walk(x, f)
		}
	case *Or:
		for _, x := range c.Xs {
			walk(x, f)
		}
	case *Quorum:
		for _, x := range c.Xs {
			walk(x, f)
		}
	}
}

// ConditionNames calls f for every name in a condition, of values and of what has a
// state.
func ConditionNames(c Condition, f func(*Name)) {
	walk(c, func(x Condition) {
		switch x := x.(type) {
		case *Test:
			f(x.Name)
		case *Turn:
			f(x.Name)
		}
		for _, e := range values(x) {
			if e != nil {
				Names(e, f)
			}
		}
	})
}
