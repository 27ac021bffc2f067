package logic

import (
	"math"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// turnText says that something turned or changed, or that it did not.
func (p *Program) turnText(t Term) string {
	name := p.sources[t.Cond].name
	n := &p.conds[t.Cond]
	not := " has not just"
	if t.For > 0 {
		not = " has not"
	}
	if n.op == condChanges || n.op == condTurns && !t.Holds {
		if t.Holds {
			return name + " changed"
		}
		return name + not + " changed"
	}
	word := func(on bool) string {
		if i := p.Index(InputKind, name); i >= 0 {
			return p.input(int(i)).StateWord(on)
		}
		if on {
			return "on"
		}
		return "off"
	}
	if t.Holds {
		return name + " turned " + word(t.On)
	}
	return name + not + " turned " + word(n.op == condTurnsOn)
}

// relationText says how a value stands to others.
func (p *Program) relationText(t Term) string {
	src := &p.sources[t.Cond]
	number := func(v float64) string { return withUnit(unit.Short(v), src.unit) }
	is := " is "
	if !t.Holds {
		is = " is not "
	}
	switch x := src.from.(type) {
	case *sheet.Between:
		left, low, high := number(t.Left), number(t.Limit), number(t.High)
		if t.Left < t.Limit {
			left, low = p.numbers(t.Left, t.Limit, src.unit)
		} else if t.Left > t.High {
			left, high = p.numbers(t.Left, t.High, src.unit)
		}
		s := named(x.X, left) + " is between " + low + " and " + high
		if t.Holds == x.Outside {
			s = named(x.X, left) + " is outside " + low + " to " + high
		}
		if t.Point == ResetPoint {
			s += " (reset points of " + x.String() + ")"
		}
		return s
	case *sheet.Near:
		return named(x.L, number(t.Left)) + is + "within " + number(t.High) + " of " + named(x.R, number(t.Limit))
	case *sheet.Cross:
		left, limit := p.numbers(t.Left, t.Limit, src.unit)
		did := " crossed "
		if !t.Holds && !t.Waiting {
			did = " has not just crossed "
		}
		return named(x.X, left) + did + named(x.V, limit)
	case *sheet.Slope:
		if t.Waiting {
			return x.X.String() + " has been good for less than " + unit.FormatDuration(t.For)
		}
		how := " rose by "
		size := t.Left
		if size < 0 {
			how, size = " fell by ", -size
		}
		if size == 0 {
			return x.X.String() + " is what it was " + unit.FormatDuration(t.For) + " before"
		}
		s := x.X.String() + how + number(size) + " in " + unit.FormatDuration(t.For)
		if t.Holds {
			return s + ", faster than " + x.Rate.String()
		}
		want := "rising"
		if x.Falling {
			want = "falling"
		}
		return s + ", not " + want + " faster than " + x.Rate.String()
	case *sheet.Daytime:
		return "the time of day" + is + "between " + x.From.Text + " and " + x.To.Text
	}
	return ""
}

// numbers print two values of a unit so that they compare as they do.
func (p *Program) numbers(a, b float64, u unit.Unit) (string, string) {
	left, right := unit.ShortPair(a, b)
	return withUnit(left, u), withUnit(right, u)
}

// named is a value as it was written, with its number.
func named(e sheet.Expr, number string) string {
	if _, ok := e.(*sheet.Literal); ok {
		return number
	}
	return e.String() + " " + number
}

// Difference says by how much the sides of a comparison differ; nothing for
// other terms.
func (p *Program) Difference(t Term) string {
	if t.Kind != Comparison || t.Left == t.Limit {
		return ""
	}
	return withUnit(unit.Short(math.Abs(t.Left-t.Limit)), p.sources[t.Cond].unit)
}

// InputText is the value or the state of an input, of a term about its reading.
func (p *Program) InputText(t Term) string {
	if c := p.Inputs[t.Input].Chain; c != nil {
		return withUnit(unit.Short(t.Left), c.Engineering())
	}
	return p.input(int(t.Input)).StateWord(t.On)
}
