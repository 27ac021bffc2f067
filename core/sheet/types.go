package sheet

import (
	"fmt"

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
func (j *Job) TypeOf(e Expr) (Type, error) { return j.typeOf(e, false) }

// CompareTypes are the types of both sides of a comparison: beside a
// temperature difference, a literal is a difference too.
func (j *Job) CompareTypes(c *Compare) (left, right Type, err error) {
	if left, err = j.typeOf(c.L, false); err != nil {
		return
	}
	if right, err = j.typeOf(c.R, left.Difference); err != nil {
		return
	}
	if right.Difference && !left.Difference {
		left, err = j.typeOf(c.L, true)
	}
	return
}

// DifferenceType is the type of a value where a difference belongs: a literal
// temperature there is a difference.
func (j *Job) DifferenceType(e Expr) (Type, error) { return j.typeOf(e, true) }

func (j *Job) typeOf(e Expr, asDifference bool) (Type, error) {
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
		case *Setpoint:
			return d.Type(), nil
		}
		return Type{}, &typeError{e.At, "wrong-kind", fmt.Sprintf("%s is %s and has no value to compare or add", e.Name, describe(j.names[e.Name]))}
	case *Binary:
		return j.sumType(e, asDifference)
	}
	panic(fmt.Sprintf("sheet: unknown value %T", e))
}

// sumType follows the arithmetic of temperatures: a temperature and a
// difference give a temperature; two temperatures subtract to a difference. A
// quantity written after + or - beside a temperature is a difference.
func (j *Job) sumType(e *Binary, asDifference bool) (Type, error) {
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
