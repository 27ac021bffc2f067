package views

import (
	"math"

	"rectura/core/unit"
	"rectura/service/api"
)

// Some returns a pointer to a value; nil for the zero value.
func Some[T comparable](v T) *T {
	var none T
	if v == none {
		return nil
	}
	return &v
}

// Deref returns a text; none for nil.
func Deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// Finite returns a number as JSON can have it: nil for what is none.
func Finite(v float64) *float64 {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return nil
	}
	return &v
}

// Quantities returns quantities as they are answered.
func Quantities(all []unit.Quantity) []api.Quantity {
	answer := make([]api.Quantity, len(all))
	for i, q := range all {
		answer[i] = api.Quantity{Value: Finite(q.Value), Unit: q.Unit.Name()}
	}
	return answer
}
