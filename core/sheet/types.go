package sheet

import (
	"fmt"

	"rectura/core/sheet/visits"
	"rectura/core/unit"
)

// A Type is the unit of a value, and whether it is a difference of two
// temperatures, whose zero point does not count. For other dimensions
// Difference is always false, since it makes none.
type Type struct {
	Unit       unit.Unit
	Difference bool
}

func (t Type) temperature() string {
	if t.Difference {
		return "a temperature difference"
	}
	return "a temperature"
}

// inUnit says in a message what unit a value has.
func inUnit(u unit.Unit) string {
	if u == (unit.Unit{}) {
		return "a bare number"
	}
	return "in " + u.Describe()
}

// typeError says why values do not go together, and where.
type typeError struct {
	at   Place
	code string
	text string
}

func (e *typeError) Error() string { return e.text }

func mismatch(e Expr, format string, args ...any) error {
	return &typeError{e.Place(), "unit-mismatch", fmt.Sprintf(format, args...)}
}

// TypeOf is the type of a value. The error says which parts do not go together.
func (j *Job) TypeOf(e Expr) (Type, error) { return (&Typer{Job: j}).typeOf(e, false) }

// CompareTypes are the types of both sides of a comparison: beside a
// temperature difference, a literal is a difference too.
func (j *Job) CompareTypes(l, r Expr) (left, right Type, err error) {
	t := &Typer{Job: j}
	if left, err = t.typeOf(l, false); err != nil {
		return
	}
	if right, err = t.typeOf(r, left.Difference); err != nil {
		return
	}
	if right.Difference && !left.Difference {
		left, err = t.typeOf(l, true)
	}
	return
}

// AtStage tells whether a quantity beside an analog input stands in the unit of
// one of the input's earlier stages, and at which place of its chain that is.
func (j *Job) AtStage(beside, e Expr) (in *Input, place int, ok bool) {
	name, isName := beside.(*Name)
	l, isLiteral := e.(*Literal)
	if !isName || !isLiteral {
		return nil, 0, false
	}
	in, isInput := j.names[name.Name].(*Input)
	if !isInput || in.Discrete || in.broken || l.Unit.Comparable(in.Engineering()) {
		return nil, 0, false
	}
	place = PlaceOf(in, l.Unit)
	return in, place, place >= 0
}

// DifferenceType is the type of a value where a difference belongs: a literal
// temperature there is a difference.
func (j *Job) DifferenceType(e Expr) (Type, error) { return (&Typer{Job: j}).typeOf(e, true) }

// A Typer works out types of a job's values. One made by NewTyper remembers
// them, for whoever asks for those of every part of a value; it is for one
// goroutine.
type Typer struct {
	*Job
	known map[typeQuestion]typeAnswer
}

type typeQuestion struct {
	of           *Binary
	asDifference bool
}

type typeAnswer struct {
	Type
	err error
}

// NewTyper makes a Typer that remembers.
func NewTyper(j *Job) *Typer { return &Typer{j, map[typeQuestion]typeAnswer{}} }

// DifferenceType is what Job.DifferenceType is.
func (j *Typer) DifferenceType(e Expr) (Type, error) { return j.typeOf(e, true) }

// binaryType is the type of a sum or a product, worked out once.
func (j *Typer) binaryType(e *Binary, asDifference bool) (Type, error) {
	question := typeQuestion{e, asDifference}
	if a, known := j.known[question]; known {
		return a.Type, a.err
	}
	work := j.sumType
	if e.Op == '*' || e.Op == '/' {
		work = j.productType
	}
	t, err := work(e, asDifference)
	if j.known != nil {
		j.known[question] = typeAnswer{t, err}
	}
	return t, err
}

func (j *Typer) typeOf(e Expr, asDifference bool) (Type, error) {
	visits.Add()
	switch e := e.(type) {
	case *Literal:
		return Type{e.Unit, asDifference && e.Unit.Dimension() == unit.Temperature}, nil
	case *Paren:
		return j.typeOf(e.X, asDifference)
	case *Negate:
		t, err := j.typeOf(e.X, asDifference)
		if err == nil && t.Unit.Dimension() == unit.Temperature && !t.Difference {
			err = mismatch(e, "%s is a temperature, and the negative of a temperature means nothing; write the number with its sign", e.X)
		}
		return t, err
	case *Name:
		switch d := j.names[e.Name].(type) {
		case *Input:
			if !d.Discrete {
				return Type{Unit: d.Engineering()}, nil
			}
		case *Derived:
			if d.typed == nil {
				return Type{}, &typeError{e.At, "wrong-kind", e.Name + " has no value, since what is wrong with it is told where it is declared"}
			}
			return *d.typed, nil
		case *Output:
			if d.Range != nil {
				return Type{Unit: d.Range.To.Unit}, nil
			}
		case *Setpoint:
			return d.Type(), nil
		}
		return Type{}, &typeError{
			e.At,
			"wrong-kind",
			fmt.Sprintf("%s is %s and has no value to compare or add", e.Name, describe(j.names[e.Name])),
		}
	case *Binary:
		return j.binaryType(e, asDifference)
	case *Func:
		return j.funcType(e, asDifference)
	}
	panic(fmt.Sprintf("sheet: unknown value %T", e))
}

// sumType follows the arithmetic of temperatures: a temperature and a
// difference give a temperature; two temperatures subtract to a difference. A
// quantity written after + or - beside a temperature is a difference.
func (j *Typer) sumType(e *Binary, asDifference bool) (Type, error) {
	left, err := j.typeOf(e.L, asDifference)
	if err != nil {
		return Type{}, err
	}
	right, err := j.typeOf(e.R, left.Unit.Dimension() == unit.Temperature)
	if err != nil {
		return Type{}, err
	}
	if !left.Unit.Comparable(right.Unit) {
		word := map[byte]string{'+': "added", '-': "subtracted"}[e.Op]
		return Type{}, mismatch(e.R, "%s is %s and %s is %s; they cannot be %s", e.L, inUnit(left.Unit), e.R, inUnit(right.Unit), word)
	}
	if left.Unit.Dimension() != unit.Temperature {
		return left, nil
	}
	switch {
	case left.Difference == right.Difference && !left.Difference:
		if e.Op == '+' {
			return Type{}, mismatch(e.R, "%s and %s are both temperatures; only a difference can be added to a temperature", e.L, e.R)
		}
		return Type{left.Unit, true}, nil
	case left.Difference && !right.Difference:
		return Type{}, mismatch(e.R, "%s is a temperature difference and %s a temperature; write the temperature first", e.L, e.R)
	}
	return left, nil
}

// productType: a quantity times or over a bare number keeps its unit, and two
// of one dimension divide to a bare number. A temperature, whose zero is where
// its scale puts it, cannot be multiplied; a difference can.
func (j *Typer) productType(e *Binary, asDifference bool) (Type, error) {
	left, err := j.typeOf(e.L, asDifference)
	if err != nil {
		return Type{}, err
	}
	right, err := j.typeOf(e.R, asDifference)
	if err != nil {
		return Type{}, err
	}
	for _, side := range []struct {
		e Expr
		t Type
	}{{e.L, left}, {e.R, right}} {
		if side.t.Unit.Dimension() == unit.Temperature && !side.t.Difference {
			return Type{}, mismatch(side.e, "%s is a temperature, and only a temperature difference can be multiplied or divided", side.e)
		}
	}
	bare := unit.Unit{}
	switch {
	case right.Unit == bare:
		return left, nil
	case e.Op == '*' && left.Unit == bare:
		return right, nil
	case e.Op == '/' && left.Unit.Comparable(right.Unit):
		return Type{}, nil
	case e.Op == '/':
		return Type{}, mismatch(
			e.R,
			"%s is %s and %s is %s; a value is divided by a bare number or by one of its own dimension",
			e.L,
			inUnit(left.Unit),
			e.R,
			inUnit(right.Unit),
		)
	}
	return Type{}, mismatch(
		e.R,
		"%s is %s and %s is %s; one of two values that are multiplied is a bare number",
		e.L,
		inUnit(left.Unit),
		e.R,
		inUnit(right.Unit),
	)
}

// funcType is the type of the first argument that is no literal, or else of the
// first; all others must go with it.
func (j *Typer) funcType(e *Func, asDifference bool) (Type, error) {
	first, err := j.typeOf(e.Args[0], asDifference)
	if err != nil {
		return Type{}, err
	}
	if e.Name == "abs" && first.Unit.Dimension() == unit.Temperature && !first.Difference {
		return Type{}, mismatch(
			e.Args[0],
			"%s is a temperature, and the size of a temperature means nothing; take the size of a difference",
			e.Args[0],
		)
	}
	for _, a := range e.Args[1:] {
		t, err := j.typeOf(a, first.Difference)
		switch {
		case err != nil:
			return Type{}, err
		case !t.Unit.Comparable(first.Unit):
			return Type{}, mismatch(
				a,
				"%s is %s and %s is %s; %s needs values of one dimension",
				e.Args[0],
				inUnit(first.Unit),
				a,
				inUnit(t.Unit),
				e.Name,
			)
		case t.Difference != first.Difference:
			return Type{}, mismatch(
				a,
				"%s is %s and %s is %s; %s needs values of one kind",
				e.Args[0],
				first.temperature(),
				a,
				t.temperature(),
				e.Name,
			)
		}
	}
	return first, nil
}
