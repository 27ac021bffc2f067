package sheet

import (
	"strconv"
	"strings"

	"rectura/core/unit"
)

// A Stage is one step of an input's chain: *Scale, *Curve, *Divider, *Root or
// *Correct.
type Stage interface {
	In() unit.Unit
	Out() unit.Unit
	base() *Clause
	String() string
}

// Scale is `scale A..B U to C..D V`: the straight line through (A,C) and (B,D).
type Scale struct {
	Clause
	From, To Range
}

// Root is `root A..B U to C..D V`: square-root extraction.
type Root struct {
	Clause
	From, To Range
}

// Divider is `divider R to supply E`, or `to ground E`: volts at the middle of
// a divider fed by E, to the sensor's ohms. R is the fixed resistor, and where
// it sits is said.
type Divider struct {
	Clause
	Fixed    unit.Quantity
	ToGround bool
	Supply   unit.Quantity
	FixedAt  Place
	SupplyAt Place
}

// A Sensor is what a Curve is the curve of.
type Sensor uint8

// The sensors.
const (
	Platinum Sensor = iota
	Nickel
	Thermocouple
	BetaThermistor
	SteinhartThermistor
	Table
)

// Curve is `curve SENSOR to U`: a sensor's curve from ohms, or mV, to degrees;
// or a table between any two units.
type Curve struct {
	Clause
	Sensor     Sensor
	SensorAt   Place
	Resistance unit.Quantity    // of a platinum or nickel sensor and a thermistor, at Reference
	Reference  unit.Quantity    // a temperature
	Beta       unit.Quantity    // of a thermistor, in K
	Steinhart  [3]unit.Quantity // A, B, C; bare numbers
	Type       string           // of a thermocouple: b e j k n r s t
	Junction   *Junction        // of a thermocouple
	From, To   unit.Unit        // of a table, From too
	Pairs      []Pair           // of a table
	word       string           // pt100, pt1000, ni1000; empty where the resistance is written
}

// A Junction is the cold junction of a thermocouple: a temperature, or the name
// of a point that has one.
type Junction struct {
	Quantity unit.Quantity
	Name     *Name
}

// A Pair is one point of a table, or one of a calibration: as read, and true.
type Pair struct {
	At       Place
	From, To unit.Quantity
}

// Correct is `correct A to B, …`: a calibration, as read to true. One pair
// shifts, more are joined by straight lines.
type Correct struct {
	Clause
	Pairs []Pair
}

var (
	ohm       = unit.MustLookup("ohm")
	millivolt = unit.MustLookup("mV")
)

// In is the unit the stage reads.
func (s *Scale) In() unit.Unit { return s.From.From.Unit }

// Out is the unit of the stage's result.
func (s *Scale) Out() unit.Unit { return s.To.From.Unit }

// In is the unit the stage reads.
func (s *Root) In() unit.Unit { return s.From.From.Unit }

// Out is the unit of the stage's result.
func (s *Root) Out() unit.Unit { return s.To.From.Unit }

// In is the unit the stage reads.
func (s *Divider) In() unit.Unit { return s.Supply.Unit }

// Out is the unit of the stage's result.
func (s *Divider) Out() unit.Unit { return s.Fixed.Unit }

// In is the unit the stage reads.
func (s *Curve) In() unit.Unit {
	switch s.Sensor {
	case Table:
		return s.From
	case Thermocouple:
		return millivolt
	}
	return ohm
}

// Out is the unit of the stage's result.
func (s *Curve) Out() unit.Unit { return s.To }

// In is the unit the stage reads.
func (s *Correct) In() unit.Unit { return s.Pairs[0].From.Unit }

// Out is the unit of the stage's result.
func (s *Correct) Out() unit.Unit { return s.Pairs[0].To.Unit }

func (s *Scale) String() string { return "scale " + s.From.String() + " to " + s.To.String() }
func (s *Root) String() string  { return "root " + s.From.String() + " to " + s.To.String() }

func (s *Divider) String() string {
	where := " to supply "
	if s.ToGround {
		where = " to ground "
	}
	return "divider " + s.Fixed.String() + where + s.Supply.String()
}

func (s *Curve) String() string {
	to := " to " + s.To.String()
	switch s.Sensor {
	case Nickel:
		if s.word == "" {
			return "curve nickel " + s.Resistance.String() + " at " + s.Reference.String() + to
		}
	case Thermocouple:
		return "curve thermocouple " + s.Type + to + " cold junction " + s.Junction.String()
	case BetaThermistor:
		return "curve ntc " + s.Resistance.String() + " at " + s.Reference.String() + " beta " + s.Beta.String() + to
	case SteinhartThermistor:
		return "curve ntc steinhart " + s.Steinhart[0].Number() + " " + s.Steinhart[1].Number() + " " + s.Steinhart[2].Number() + to
	case Table:
		pairs := make([]string, len(s.Pairs))
		for i, p := range s.Pairs {
			pairs[i] = p.From.Number() + " = " + p.To.Number()
		}
		return "curve table " + s.From.String() + to + ": " + strings.Join(pairs, ", ")
	}
	return "curve " + s.word + to
}

func (j *Junction) String() string {
	if j.Name != nil {
		return j.Name.Name
	}
	return j.Quantity.String()
}

func (s *Correct) String() string {
	pairs := make([]string, len(s.Pairs))
	for i, p := range s.Pairs {
		pairs[i] = p.From.String() + " to " + p.To.String()
	}
	return "correct " + strings.Join(pairs, ", ")
}

// Frozen is `frozen after D within X`: bad once the reading stayed within X for
// longer than D.
type Frozen struct {
	Clause
	After  *Duration
	Within unit.Quantity
	At     Place
}

// Unsteady is `unsteady beyond X within D`: bad while readings spread by more
// than X in the last D.
type Unsteady struct {
	Clause
	Beyond unit.Quantity
	At     Place
	Within *Duration
}

// CountClause is `skip first N samples`.
type CountClause struct {
	Clause
	Count int
}

// Smooth is `smooth average N samples`, `smooth median N samples` or `smooth
// lag D`.
type Smooth struct {
	Clause
	Method  string // average, median or lag
	Samples int
	Lag     *Duration
}

func (s *Smooth) String() string {
	if s.Lag != nil {
		return "smooth lag " + s.Lag.String()
	}
	return "smooth " + s.Method + " " + strconv.Itoa(s.Samples) + " samples"
}

// Round is `round nearest X` or `round down X`.
type Round struct {
	QuantityClause
	Down bool
}

// WordsClause is `words "healthy", "failed"`: how on and off are called.
type WordsClause struct {
	Clause
	On, Off string
}

func (c *UnitClause) String() string { return "unit " + c.Unit.String() }

func (c *Frozen) String() string {
	return "frozen after " + c.After.String() + " within " + c.Within.String()
}

func (c *Unsteady) String() string {
	return "unsteady beyond " + c.Beyond.String() + " within " + c.Within.String()
}

func (c *CountClause) String() string { return "skip first " + strconv.Itoa(c.Count) + " samples" }

func (c *Round) String() string {
	if c.Down {
		return "round down " + c.Quantity.String()
	}
	return "round nearest " + c.Quantity.String()
}

func (c *WordsClause) String() string { return "words " + quote(c.On) + ", " + quote(c.Off) }
