package unit

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
)

// A Quantity is a number with its unit. Text keeps the number as it was
// written ("6.0"), so that printing loses nothing; it is empty for a computed
// value.
type Quantity struct {
	Value float64
	Unit  Unit
	Text  string
}

// String prints the quantity as a sheet writes it: "6.0 mg/L".
func (q Quantity) String() string {
	return strings.TrimSuffix(q.Number()+" "+q.Unit.String(), " ")
}

// Number is the number alone, as written, or in the shortest form that reads
// back the same.
func (q Quantity) Number() string {
	if q.Text != "" {
		return q.Text
	}
	return strconv.FormatFloat(q.Value, 'f', -1, 64)
}

// In is the quantity's value in another unit of its dimension.
func (q Quantity) In(u Unit) float64 { return q.Unit.Convert(q.Value, u) }

// ParseQuantity reads a number and a unit, with or without a blank between:
// "12mA", "-3.5 degC", "2048 counts", "7". Quotes round the unit are optional
// for units that are not known ones.
func ParseQuantity(s string) (Quantity, error) {
	s = strings.TrimSpace(s)
	n := numberLength(s)
	if n == 0 {
		return Quantity{}, fmt.Errorf("%q does not begin with a number; write a value such as 12 mA", s)
	}
	q := Quantity{Text: s[:n]}
	var err error
	if q.Value, err = strconv.ParseFloat(s[:n], 64); err != nil {
		return Quantity{}, fmt.Errorf("%q is too large a number", s[:n])
	}
	rest := strings.TrimSpace(s[n:])
	switch u, length := Longest(rest); {
	case rest == "":
	case length == len(rest):
		q.Unit = u
	case len(rest) > 2 && rest[0] == '"' && rest[len(rest)-1] == '"':
		q.Unit = Quoted(rest[1 : len(rest)-1])
	case len(rest) > 1 && rest[0] == ',' && '0' <= rest[1] && rest[1] <= '9':
		return Quantity{}, fmt.Errorf("%q: decimals have a point; write %s.%s", short(s), s[:n], rest[1:])
	default:
		return Quantity{}, errors.New(Unknown(short(rest)))
	}
	return q, nil
}

// numberLength is the length of the number at the start of s: perhaps a minus,
// digits, then perhaps a point and digits. No exponent and no plus.
func numberLength(s string) int {
	i := 0
	if strings.HasPrefix(s, "-") {
		i = 1
	}
	digits := func() int {
		from := i
		for i < len(s) && '0' <= s[i] && s[i] <= '9' {
			i++
		}
		return i - from
	}
	if digits() == 0 {
		return 0
	}
	if whole := i; i+1 < len(s) && s[i] == '.' {
		i++
		if digits() == 0 {
			return whole
		}
	}
	return i
}

// Nanoseconds turns one part of a duration, a number as written and a unit of
// time, into whole nanoseconds, exactly. It is an error if it is finer than a
// nanosecond or longer than 292 years.
func Nanoseconds(number string, u Unit) (int64, error) {
	r, ok := new(big.Rat).SetString(number)
	if !ok || u.Dimension() != Time {
		return 0, fmt.Errorf("%s %s is not a duration", number, u)
	}
	r.Mul(r, new(big.Rat).SetInt64(int64(u.factor)*int64(time.Millisecond)))
	switch {
	case !r.IsInt():
		return 0, fmt.Errorf("%s %s is finer than a nanosecond", number, u)
	case !r.Num().IsInt64():
		return 0, fmt.Errorf("%s %s is longer than 292 years", number, u)
	}
	return r.Num().Int64(), nil
}

// DurationOf turns a computed time quantity into nanoseconds, to the nearest.
// It is an error if it is not a time above 0 and below 292 years.
func DurationOf(q Quantity) (int64, error) {
	if q.Unit.Dimension() != Time {
		return 0, fmt.Errorf("%s is no time", q)
	}
	ns := q.Value * q.Unit.factor * float64(time.Millisecond)
	if !(ns >= 1 && ns < math.MaxInt64) {
		return 0, fmt.Errorf("%s is not a time above 0 and below 292 years", q)
	}
	return int64(math.Round(ns)), nil
}

// ParseDuration reads a duration above 0, single or compound with the largest
// unit first: "500 ms", "1.5h", "1 h 30 min".
func ParseDuration(s string) (int64, error) {
	var total int64
	rest, last := strings.TrimSpace(s), math.Inf(1)
	for rest != "" {
		n := numberLength(rest)
		u, length := Longest(strings.TrimSpace(rest[n:]))
		if n == 0 || length == 0 || u.Dimension() != Time {
			return 0, fmt.Errorf("%q is not a duration; write one such as 500 ms or 1 h 30 min", s)
		}
		if u.factor >= last {
			return 0, fmt.Errorf("%q: the parts of a duration go from the largest unit down", s)
		}
		ns, err := Nanoseconds(rest[:n], u)
		if err != nil {
			return 0, err
		}
		if ns < 0 {
			return 0, fmt.Errorf("%q is not above 0", s)
		}
		if total > math.MaxInt64-ns {
			return 0, fmt.Errorf("%q is longer than 292 years", s)
		}
		total, last = total+ns, u.factor
		rest = strings.TrimSpace(strings.TrimSpace(rest[n:])[length:])
	}
	if total <= 0 {
		return 0, fmt.Errorf("%q is not above 0", s)
	}
	return total, nil
}

// Larger tells whether u is the larger of two units of one dimension; the
// parts of a compound duration go from the largest down.
func (u Unit) Larger(v Unit) bool { return u.factor > v.factor }

// FormatDuration prints nanoseconds as people say them: "45 s", "1 h 30 min",
// "2.5 s". It loses nothing: ParseDuration gives back the same.
func FormatDuration(ns int64) string {
	if ns < 0 {
		return "-" + FormatDuration(-ns)
	}
	var parts []string
	for _, p := range []struct {
		size int64
		name string
	}{{int64(24 * time.Hour), "d"}, {int64(time.Hour), "h"}, {int64(time.Minute), "min"}} {
		if n := ns / p.size; n > 0 {
			parts = append(parts, strconv.FormatInt(n, 10)+" "+p.name)
			ns %= p.size
		}
	}
	second, name := int64(time.Second), "s"
	if ns < second && len(parts) == 0 {
		second, name = int64(time.Millisecond), "ms"
	}
	if ns > 0 || len(parts) == 0 {
		parts = append(parts, FormatDecimal(ns, second)+" "+name)
	}
	return strings.Join(parts, " ")
}

// FormatDecimal prints n/scale exactly, without trailing zeros; scale is a
// power of ten.
func FormatDecimal(n, scale int64) string {
	sign := ""
	if n < 0 {
		sign, n = "-", -n
	}
	s := strconv.FormatInt(n/scale, 10)
	if rest := n % scale; rest != 0 {
		digits := strconv.FormatInt(scale+rest, 10)[1:]
		s += "." + strings.TrimRight(digits, "0")
	}
	return sign + s
}

// Short prints a value in the shortest form of at most four significant
// digits. Digits before the decimal point are never dropped: 18012 counts stay
// 18012.
func Short(v float64) string { return Significant(v, 4) }

// ShortPair prints two values like Short, with more digits where fewer would
// make the printed ones compare otherwise than the real ones: 5.9996 and 6
// print as they are, never as 6 and 6.
func ShortPair(a, b float64) (string, string) {
	for digits := 4; digits < 17; digits++ {
		x, y := Significant(a, digits), Significant(b, digits)
		p, errX := strconv.ParseFloat(x, 64)
		q, errY := strconv.ParseFloat(y, 64)
		if errX == nil && errY == nil && (p < q) == (a < b) && (p > q) == (a > b) {
			return x, y
		}
	}
	return Quantity{Value: a}.Number(), Quantity{Value: b}.Number()
}

// Significant prints a value in the shortest form of at most so many significant
// digits; digits before the decimal point are never dropped.
func Significant(v float64, digits int) string {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	after := 0
	if v != 0 {
		after = digits - 1 - int(math.Floor(math.Log10(math.Abs(v))))
	}
	after = min(max(after, 0), 20)
	s := strconv.FormatFloat(v, 'f', after, 64)
	if after > 0 {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	if s == "-0" {
		return "0"
	}
	return s
}

// Steps are the quantities of a table, from one to another so far apart, in the unit of
// the first. It is an error if they are of different dimensions, or none, or more than
// so many.
func Steps(from, to, step Quantity, most int) ([]Quantity, error) {
	for _, q := range []Quantity{to, step} {
		if !q.Unit.Comparable(from.Unit) {
			return nil, fmt.Errorf("%s is %s and %s %s; a table has one unit", q, q.Unit.Describe(), from, from.Unit.Describe())
		}
	}
	u := from.Unit
	apart := step.Unit.ConvertDifference(step.Value, u)
	n := math.Floor((to.In(u)-from.Value)/apart + 1e-9)
	if !(apart > 0 && n >= 0 && n < float64(most)) {
		return nil, fmt.Errorf("from %s to %s in steps of %s is no table of 1 to %d values", from, to, step, most)
	}
	all := make([]Quantity, int(n)+1)
	for i := range all {
		v := from.Value + float64(i)*apart
		all[i] = Quantity{Value: v, Unit: u, Text: Significant(v, 12)}
	}
	return all, nil
}
