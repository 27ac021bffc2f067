package sheet

import (
	"rectura/core/unit"
)

// Between is `X between LOW and HIGH`, ends included, or with Outside its
// contrary, perhaps with hysteresis (else nil).
type Between struct {
	X, Low, High Expr
	Outside      bool
	Hysteresis   Expr
}

// Near is `L = R within W`: they differ by at most W.
type Near struct {
	L, R, Within Expr
}

// Turn is `NAME turns on`, `turns off` or `changes`: true at that instant only.
type Turn struct {
	Name *Name
	How  string // one of TurnWords
}

// TurnWords are what a Turn may ask for.
var TurnWords = []string{"turns on", "turns off", "changes"}

// Cross is `X crosses V`: true at the instant at which X has come to the other
// side. In a For, it is true once X has stayed there for that long.
type Cross struct {
	X, V Expr
}

// Slope is `X rising faster than RATE over D`, or falling.
type Slope struct {
	X       Expr
	Falling bool
	Rate    Rate
	Over    *Duration
}

// Rate is `0.5 mg/L per min`.
type Rate struct {
	At       Place
	Quantity unit.Quantity
	Per      unit.Unit // of time
}

// Daytime is `time between FROM and TO`: FROM included, TO not, past midnight
// if TO is before FROM.
type Daytime struct {
	At       Place
	From, To Clock
}

// A Clock is a time of day.
type Clock struct {
	Nanoseconds int64 // since midnight, on a day without a change of clocks
	Text        string
}

func (r Rate) String() string { return r.Quantity.String() + " per " + r.Per.String() }

// Place is where the condition begins.
func (c *Between) Place() Place { return c.X.Place() }

// Place is where the condition begins.
func (c *Near) Place() Place { return c.L.Place() }

// Place is where the condition begins.
func (c *Turn) Place() Place { return c.Name.At }

// Place is where the condition begins.
func (c *Cross) Place() Place { return c.X.Place() }

// Place is where the condition begins.
func (c *Slope) Place() Place { return c.X.Place() }

// Place is where the condition begins.
func (c *Daytime) Place() Place { return c.At }

func (*Between) condition() {}
func (*Near) condition()    {}
func (*Turn) condition()    {}
func (*Cross) condition()   {}
func (*Slope) condition()   {}
func (*Daytime) condition() {}

func (c *Between) String() string {
	s := c.X.String() + " " + c.word() + " " + c.Low.String() + " and " + c.High.String()
	if c.Hysteresis != nil {
		s += " hysteresis " + c.Hysteresis.String()
	}
	return s
}

func (c *Between) word() string {
	if c.Outside {
		return "outside"
	}
	return "between"
}

func (c *Near) String() string {
	return c.L.String() + " = " + c.R.String() + " within " + c.Within.String()
}

func (c *Turn) String() string  { return c.Name.Name + " " + c.How }
func (c *Cross) String() string { return c.X.String() + " crosses " + c.V.String() }

func (c *Slope) String() string {
	word := " rising"
	if c.Falling {
		word = " falling"
	}
	return c.X.String() + word + " faster than " + c.Rate.String() + " over " + c.Over.String()
}

func (c *Daytime) String() string { return "time between " + c.From.Text + " and " + c.To.Text }

// values are the values that a condition itself compares; nil for one that it
// does not have.
func values(c Condition) []Expr {
	switch c := c.(type) {
	case *Compare:
		return []Expr{c.L, c.R, c.Deadband, c.Hysteresis}
	case *Between:
		return []Expr{c.X, c.Low, c.High, c.Hysteresis}
	case *Near:
		return []Expr{c.L, c.R, c.Within}
	case *Cross:
		return []Expr{c.X, c.V}
	case *Slope:
		return []Expr{c.X}
	}
	return nil
}

// Crossing is the crossing that the delay belongs to; nil if it is none.
func (c *For) Crossing() *Cross {
	x, _ := ungroup(c.X).(*Cross)
	return x
}

// Momentary tells whether a condition is true only for an instant, because one
// that it is made of is.
func Momentary(c Condition) bool {
	found := false
	walk(c, func(x Condition) {
		switch x.(type) {
		case *Turn, *Cross:
			found = true
		}
	})
	return found
}
