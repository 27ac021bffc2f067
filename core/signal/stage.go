package signal

import (
	"fmt"
	"math"
	"sort"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// A stage computes one step of a chain, forward and, where it can, backward.
// Where it has no answer, the answer is NaN, and refuse says why in words.
type stage interface {
	forward(x float64) float64
	backward(y float64) float64
	refuse(x float64) string           // why forward(x) has no answer
	ends() (low, high float64, _ bool) // the results that the stage is made for
	String() string
}

// newStage compiles a stage whose readings stand in a unit, which may be
// another of the dimension that the stage is written in.
func newStage(s sheet.Stage, in unit.Unit) stage {
	var st stage
	switch s := s.(type) {
	case *sheet.Scale: // its ends are converted instead of every reading
		return line{s.From.From.In(in), s.From.To.In(in), s.To.From.Value, s.To.To.Value}
	case *sheet.Root:
		return root{line{s.From.From.In(in), s.From.To.In(in), s.To.From.Value, s.To.To.Value}}
	case *sheet.Correct:
		return newCorrection(s, in)
	case *sheet.Divider:
		st = &divider{s.Fixed.Value, s.Supply.Value, s.ToGround, s.Supply.Unit, s.Fixed.Unit}
	case *sheet.Curve:
		st = newCurve(s)
	default:
		panic(fmt.Sprintf("signal: unknown stage %T", s))
	}
	if s.In() != in {
		return &converted{st, in, s.In()}
	}
	return st
}

// newCurve compiles a sensor's curve.
func newCurve(s *sheet.Curve) stage {
	celsius := unit.MustLookup("degC")
	kelvin := unit.MustLookup("K")
	switch s.Sensor {
	case sheet.Table:
		t := table{in: s.From, out: s.To}
		for _, p := range s.Pairs {
			t.x, t.y = append(t.x, p.From.Value), append(t.y, p.To.Value)
		}
		t.monotone = isMonotone(t.y)
		return t
	case sheet.Platinum:
		return inUnit(platinum{s.Resistance.In(ohm)}, s.To)
	case sheet.Nickel:
		return inUnit(newNickel(s.Resistance.In(ohm), s.Reference.In(celsius)), s.To)
	case sheet.BetaThermistor:
		return inUnit(betaThermistor{s.Resistance.In(ohm), s.Reference.In(kelvin), s.Beta.Value}, s.To)
	case sheet.SteinhartThermistor:
		return inUnit(steinhart{s.Steinhart[0].Value, s.Steinhart[1].Value, s.Steinhart[2].Value}, s.To)
	}
	t := newThermocouple(s.Type, s.To)
	if s.Junction.Name == nil {
		t.setJunction(s.Junction.Quantity.In(celsius))
	}
	return t
}

var (
	ohm     = unit.MustLookup("ohm")
	celsius = unit.MustLookup("degC")
)

// A line is the straight line through (a,c) and (b,d).
type line struct{ a, b, c, d float64 }

func (l line) forward(x float64) float64         { return l.c + (x-l.a)*(l.d-l.c)/(l.b-l.a) }
func (l line) backward(y float64) float64        { return l.a + (y-l.c)*(l.b-l.a)/(l.d-l.c) }
func (l line) refuse(float64) string             { return "" }
func (l line) ends() (low, high float64, _ bool) { return min(l.c, l.d), max(l.c, l.d), true }
func (l line) String() string                    { return fmt.Sprintf("(%g,%g)-(%g,%g)", l.a, l.c, l.b, l.d) }

// root is square-root extraction: flow grows with the root of the differential
// pressure (ISO 5167-1). Below the lower end there is no flow; noise round zero
// is no fault.
type root struct{ line }

func (r root) forward(x float64) float64 {
	part := (x - r.a) / (r.b - r.a)
	return r.c + (r.d-r.c)*math.Sqrt(max(part, 0))
}

func (r root) backward(y float64) float64 {
	part := (y - r.c) / (r.d - r.c)
	if part < 0 {
		return math.NaN()
	}
	return r.a + (r.b-r.a)*part*part
}

func (r root) String() string { return "root " + r.line.String() }

// converted is a stage whose readings come in another unit of its dimension.
type converted struct {
	stage
	from, to unit.Unit
}

func (c *converted) forward(x float64) float64  { return c.stage.forward(c.from.Convert(x, c.to)) }
func (c *converted) backward(y float64) float64 { return c.to.Convert(c.stage.backward(y), c.from) }
func (c *converted) refuse(x float64) string    { return c.stage.refuse(c.from.Convert(x, c.to)) }

// divider takes the volts at the middle of a resistive divider to the ohms of
// the sensor in it.
type divider struct {
	fixed, supply float64
	toGround      bool // the fixed resistor sits between the middle and ground
	in, out       unit.Unit
}

func (d *divider) forward(x float64) float64 {
	switch {
	case x < 0 || x > d.supply:
		return math.NaN()
	case d.toGround && x == 0, !d.toGround && x == d.supply:
		return math.NaN()
	case d.toGround:
		return d.fixed * (d.supply - x) / x
	}
	return d.fixed * x / (d.supply - x)
}

func (d *divider) backward(y float64) float64 {
	switch {
	case !(y >= 0):
		return math.NaN()
	case d.toGround:
		return d.supply * d.fixed / (d.fixed + y)
	}
	return d.supply * y / (d.fixed + y)
}

func (d *divider) refuse(x float64) string {
	shown, supply := unit.ShortPair(x, d.supply)
	switch open := "open sensor or broken wire"; {
	case x >= d.supply && !d.toGround:
		return fmt.Sprintf("%s %s is the whole supply of %s %s: %s", shown, d.in.Name(), supply, d.in.Name(), open)
	case x <= 0 && d.toGround:
		return fmt.Sprintf("%s %s at the divider: %s", shown, d.in.Name(), open)
	case x < 0:
		return fmt.Sprintf("%s %s at the divider: reversed polarity", shown, d.in.Name())
	}
	return fmt.Sprintf("%s %s is beyond the supply of %s %s: wrong supply or wiring", shown, d.in.Name(), supply, d.in.Name())
}

func (d *divider) ends() (low, high float64, _ bool) { return 0, 0, false }

func (d *divider) String() string {
	where := "supply"
	if d.toGround {
		where = "ground"
	}
	return fmt.Sprintf("divider %g to %s %g", d.fixed, where, d.supply)
}

// table joins listed points by straight lines and has no answer beyond them.
type table struct {
	x, y     []float64
	monotone bool
	in, out  unit.Unit
}

func isMonotone(y []float64) bool {
	rising := y[len(y)-1] > y[0]
	for i := 1; i < len(y); i++ {
		if rising && y[i] <= y[i-1] || !rising && y[i] >= y[i-1] {
			return false
		}
	}
	return true
}

func (t table) forward(x float64) float64 { return between(t.x, t.y, x) }

func (t table) backward(y float64) float64 {
	if !t.monotone {
		return math.NaN()
	}
	if t.y[0] < t.y[len(t.y)-1] {
		return between(t.y, t.x, y)
	}
	n := len(t.y)
	i := sort.Search(n, func(i int) bool { return t.y[i] <= y })
	switch {
	case i == n || i == 0 && t.y[0] != y:
		return math.NaN()
	case t.y[i] == y:
		return t.x[i]
	}
	return line{t.y[i-1], t.y[i], t.x[i-1], t.x[i]}.forward(y)
}

// between interpolates in points whose x rise; NaN beyond them.
func between(xs, ys []float64, x float64) float64 {
	i := sort.SearchFloat64s(xs, x)
	switch {
	case i == len(xs) || i == 0 && xs[0] != x:
		return math.NaN()
	case xs[i] == x:
		return ys[i]
	}
	return line{xs[i-1], xs[i], ys[i-1], ys[i]}.forward(x)
}

func (t table) refuse(x float64) string { return beyond(x, t.x[0], t.x[len(t.x)-1], t.in, "the table") }

// beyond says that a value lies outside a curve.
func beyond(x, low, high float64, u unit.Unit, what string) string {
	limit, word := low, "below"
	if x > high {
		limit, word = high, "above"
	}
	shown, bound := unit.ShortPair(x, limit)
	return fmt.Sprintf("%s is %s %s, where %s ends", withUnit(shown, u), word, withUnit(bound, u), what)
}

func withUnit(number string, u unit.Unit) string {
	if u.Name() == "" {
		return number
	}
	return number + " " + u.Name()
}

func (t table) ends() (low, high float64, _ bool) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, y := range t.y {
		low, high = min(low, y), max(high, y)
	}
	return low, high, true
}

func (t table) String() string { return fmt.Sprintf("table of %d points", len(t.x)) }

// correction is a calibration: a shift, or straight lines through its pairs
// that go on beyond the first and the last.
type correction struct{ read, real []float64 }

func newCorrection(s *sheet.Correct, in unit.Unit) stage {
	out := s.Out()
	pairs := append([]sheet.Pair{}, s.Pairs...)
	sort.Slice(pairs, func(i, k int) bool { return pairs[i].From.In(in) < pairs[k].From.In(in) })
	var c correction
	for _, p := range pairs {
		c.read, c.real = append(c.read, p.From.In(in)), append(c.real, p.To.In(out))
	}
	if len(pairs) == 1 { // a shift, as read and true in their own units
		shift := pairs[0].To.In(out) - in.Convert(pairs[0].From.In(in), out)
		x := c.read[0]
		c.read = append(c.read, x+1)
		c.real = append(c.real, in.Convert(x+1, out)+shift)
	}
	return c
}

// segment is the line that holds at a value of one side.
func (c correction) segment(sorted []float64, v float64) line {
	i := min(max(sort.SearchFloat64s(sorted, v), 1), len(sorted)-1)
	return line{c.read[i-1], c.read[i], c.real[i-1], c.real[i]}
}

func (c correction) forward(x float64) float64         { return c.segment(c.read, x).forward(x) }
func (c correction) backward(y float64) float64        { return c.segment(c.real, y).backward(y) }
func (c correction) refuse(float64) string             { return "" }
func (c correction) ends() (low, high float64, _ bool) { return 0, 0, false }
func (c correction) String() string                    { return fmt.Sprintf("correct %g to %g", c.read, c.real) }
