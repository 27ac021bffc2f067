// Package unit knows the units that a controls technician writes beside a
// number: what dimension each has, how to convert between those of one
// dimension, and how to read and print quantities and durations without loss.
//
// A unit outside the list is written in quotes in a sheet, `40 "fish/m3"`, and
// equals only itself. A bare number has the zero Unit.
//
// Conversions multiply and divide by factors that are whole numbers wherever
// the definition allows it (the smallest common unit has factor 1), so that
// 500 mA is exactly 0.5 A and back.
package unit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// A Dimension is what a unit measures. Two quantities can be compared or added
// only if their dimensions are equal.
type Dimension string

// The dimensions that code outside this package asks for by name.
const (
	Bare        Dimension = "bare number"
	Time        Dimension = "time"
	Current     Dimension = "current"
	Temperature Dimension = "temperature"
	Counts      Dimension = "counts"
)

// A Unit is one of the known units, a quoted one, or (the zero value) none, as
// a bare number has.
type Unit struct {
	name   string
	dim    Dimension
	factor float64 // how many of the dimension's base unit one of this unit is
	offset float64 // where the base unit's zero stands on this unit's scale
}

// known lists every unit of the language. Factors are exact by definition
// (SI brochure; the international inch and pound of 1959; NIST SP 811 for psi,
// the US gallon and the conventional inch of water), each a multiple of the
// dimension's smallest unit. Temperatures are based on kelvin.
var known = []Unit{
	{name: "ms", dim: Time, factor: 1},
	{name: "s", dim: Time, factor: 1000},
	{name: "min", dim: Time, factor: 60_000},
	{name: "h", dim: Time, factor: 3_600_000},
	{name: "d", dim: Time, factor: 86_400_000},
	{name: "mA", dim: Current, factor: 1},
	{name: "A", dim: Current, factor: 1000},
	{name: "mV", dim: "voltage", factor: 1},
	{name: "V", dim: "voltage", factor: 1000},
	{name: "ohm", dim: "resistance", factor: 1},
	{name: "kohm", dim: "resistance", factor: 1000},
	{name: "K", dim: Temperature, factor: 1},
	{name: "degC", dim: Temperature, factor: 1, offset: -273.15},
	{name: "degF", dim: Temperature, factor: 5.0 / 9, offset: -459.67},
	{name: "Pa", dim: "pressure", factor: 1},
	{name: "hPa", dim: "pressure", factor: 100},
	{name: "kPa", dim: "pressure", factor: 1000},
	{name: "MPa", dim: "pressure", factor: 1_000_000},
	{name: "bar", dim: "pressure", factor: 100_000},
	{name: "mbar", dim: "pressure", factor: 100},
	{name: "psi", dim: "pressure", factor: 6894.757293168},
	{name: "inH2O", dim: "pressure", factor: 249.08891},
	{name: "L/s", dim: "flow", factor: 3600},
	{name: "L/min", dim: "flow", factor: 60},
	{name: "m3/h", dim: "flow", factor: 1000},
	{name: "gpm", dim: "flow", factor: 227.12470704},
	{name: "kg/h", dim: "mass flow", factor: 1},
	{name: "kg/s", dim: "mass flow", factor: 3600},
	{name: "m/s", dim: "speed", factor: 1},
	{name: "L", dim: "volume", factor: 1},
	{name: "m3", dim: "volume", factor: 1000},
	{name: "gal", dim: "volume", factor: 3.785411784},
	{name: "mm", dim: "length", factor: 1},
	{name: "cm", dim: "length", factor: 10},
	{name: "m", dim: "length", factor: 1000},
	{name: "in", dim: "length", factor: 25.4},
	{name: "ft", dim: "length", factor: 304.8},
	{name: "g", dim: "mass", factor: 1},
	{name: "kg", dim: "mass", factor: 1000},
	{name: "lb", dim: "mass", factor: 453.59237},
	{name: "ug/L", dim: "concentration", factor: 1},
	{name: "mg/L", dim: "concentration", factor: 1000},
	{name: "ppm", dim: "parts per million", factor: 1},
	{name: "lx", dim: "illuminance", factor: 1},
	{name: "Hz", dim: "frequency", factor: 1},
	{name: "kHz", dim: "frequency", factor: 1000},
	{name: "rpm", dim: "rotation", factor: 1},
	{name: "W", dim: "power", factor: 1},
	{name: "kW", dim: "power", factor: 1000},
	{name: "kWh", dim: "energy", factor: 1},
	{name: "uS/cm", dim: "conductivity", factor: 1},
	{name: "mS/cm", dim: "conductivity", factor: 1000},
	{name: "NTU", dim: "turbidity", factor: 1},
	{name: "pH", dim: "pH", factor: 1},
	{name: "%", dim: "percent", factor: 1},
	{name: "counts", dim: Counts, factor: 1},
}

var (
	byName  = map[string]Unit{}
	longest [256][]string // names by their first byte, longest first, for Longest
)

func init() {
	for _, u := range known {
		byName[u.name] = u
	}
	byName["°C"], byName["°F"] = byName["degC"], byName["degF"]
	for name := range byName {
		longest[name[0]] = append(longest[name[0]], name)
	}
	for _, names := range longest {
		slices.SortFunc(names, func(a, b string) int { return cmp.Or(len(b)-len(a), strings.Compare(a, b)) })
	}
}

// Lookup finds a known unit by its name; `°C` and `°F` are other spellings of
// degC and degF.
func Lookup(name string) (Unit, bool) {
	u, ok := byName[name]
	return u, ok
}

// MustLookup is Lookup for names that are constants of the program; it panics
// if there is no such unit.
func MustLookup(name string) Unit {
	u, ok := byName[name]
	if !ok {
		panic("unit: no unit is named " + name)
	}
	return u
}

// Quoted gives the unit that a sheet writes in quotes. It has a dimension of
// its own. The name of a known unit in quotes is that known unit.
func Quoted(name string) Unit {
	if u, ok := byName[name]; ok {
		return u
	}
	return Unit{name: name, dim: Dimension(`"` + name + `"`), factor: 1}
}

// Named is Quoted for a unit that may also be none: the empty name gives the
// zero Unit.
func Named(name string) Unit {
	if name == "" {
		return Unit{}
	}
	return Quoted(name)
}

// Longest finds the longest known unit at the start of s that does not end in
// the middle of a word, and its length in bytes; 0 if there is none.
func Longest(s string) (Unit, int) {
	if s == "" {
		return Unit{}, 0
	}
	for _, name := range longest[s[0]] {
		if strings.HasPrefix(s, name) && !(endsInLetter(name) && startsWithWord(s[len(name):])) {
			return byName[name], len(name)
		}
	}
	return Unit{}, 0
}

func endsInLetter(name string) bool { return name[len(name)-1] != '%' }

func startsWithWord(s string) bool {
	return s != "" && (s[0] == '_' || '0' <= s[0] && s[0] <= '9' || 'a' <= s[0]|0x20 && s[0]|0x20 <= 'z')
}

// Name is the unit as it is shown beside a number; empty for a bare number.
func (u Unit) Name() string { return u.name }

// String is the unit as a sheet writes it: quoted if it is not a known one.
func (u Unit) String() string {
	if _, ok := byName[u.name]; ok || u.name == "" {
		return u.name
	}
	return quote(u.name)
}

// quote writes a string as the sheet language does: only `"` and `\` escaped.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Dimension is what the unit measures.
func (u Unit) Dimension() Dimension {
	if u.name == "" {
		return Bare
	}
	return u.dim
}

// Comparable tells whether values in u and v can be compared and added.
func (u Unit) Comparable(v Unit) bool { return u.Dimension() == v.Dimension() }

// Describe names the unit with its dimension, for messages: "mA (current)".
func (u Unit) Describe() string {
	d := string(u.Dimension())
	if u.name == "" {
		return "a bare number"
	}
	if d == u.name || strings.HasPrefix(d, `"`) {
		return u.String()
	}
	return fmt.Sprintf("%s (%s)", u.name, d)
}

// Convert turns a value in u into one in v, which must be Comparable. Between
// equal units it is the identity.
func (u Unit) Convert(value float64, v Unit) float64 {
	if u.name == v.name {
		return value
	}
	return (value-u.offset)*u.factor/v.factor + v.offset
}

// ConvertDifference turns a difference of two values in u into one in v: a
// temperature's zero point does not count.
func (u Unit) ConvertDifference(value float64, v Unit) float64 {
	if u.name == v.name {
		return value
	}
	return value * u.factor / v.factor
}

// Names lists all known units, in the order of the language's description.
func Names() []string {
	names := make([]string, len(known))
	for i, u := range known {
		names[i] = u.name
	}
	return names
}
