package signal

import (
	"fmt"
	"math"

	"rectura/core/unit"
)

// A sensor gives the temperature in degrees Celsius at which it has a
// resistance in ohms, and the other way round; NaN beyond its curve.
type sensor interface {
	celsius(ohms float64) float64
	ohms(celsius float64) float64
	limits() (low, high float64) // of its curve, in degrees Celsius
	String() string
}

// inUnit makes a stage of a sensor that gives temperatures in a unit.
func inUnit(s sensor, to unit.Unit) stage { return &thermometer{s, to} }

type thermometer struct {
	sensor
	to unit.Unit
}

func (t *thermometer) forward(x float64) float64 { return celsius.Convert(t.celsius(x), t.to) }

func (t *thermometer) backward(y float64) float64 {
	c := t.to.Convert(y, celsius)
	if low, high := t.limits(); !(c >= low && c <= high) {
		return math.NaN()
	}
	return t.ohms(c)
}

func (t *thermometer) refuse(x float64) string {
	low, high := t.limits()
	a, b := t.ohms(low), t.ohms(high)
	text := beyond(x, min(a, b), max(a, b), ohm, "the curve of the sensor")
	if x > max(a, b) {
		return text + ": open sensor or broken wire"
	}
	return text + ": short circuit"
}

func (t *thermometer) ends() (low, high float64, _ bool) { return 0, 0, false }

// platinum is the resistance thermometer of IEC 60751:2022 with a resistance at
// 0 °C, from −200 to 850 °C.
type platinum struct{ r0 float64 }

// The constants of IEC 60751, section 4.2.
const (
	platinumA = 3.9083e-3
	platinumB = -5.775e-7
	platinumC = -4.183e-12
)

// printed is how far a value that stands in a table of resistances, which are printed to
// 0.01 ohm for a sensor of 100 ohm, may lie beside the formula, for each ohm at 0 °C.
const printed = 0.5e-4

func (p platinum) limits() (low, high float64) { return -200, 850 }

func (p platinum) ohms(t float64) float64 {
	r := 1 + t*(platinumA+t*platinumB)
	if t < 0 {
		r += platinumC * (t - 100) * t * t * t
	}
	return p.r0 * r
}

func (p platinum) celsius(r float64) float64 {
	low, high := p.limits()
	if slack := p.r0 * printed; !(r >= p.ohms(low)-slack && r <= p.ohms(high)+slack) {
		return math.NaN()
	}
	// The quadratic of the positive side, exactly; below 0 °C it is the first
	// guess, which Newton's method makes good to the last bits.
	ratio := r / p.r0
	t := (-platinumA + math.Sqrt(platinumA*platinumA-4*platinumB*(1-ratio))) / (2 * platinumB)
	if r >= p.r0 {
		return min(t, high)
	}
	for range 8 {
		slope := platinumA + 2*platinumB*t + platinumC*(4*t*t*t-300*t*t)
		step := (p.ohms(t)/p.r0 - ratio) / slope
		t -= step
		if math.Abs(step) < 1e-12 {
			break
		}
	}
	return min(max(t, low), high)
}

func (p platinum) String() string { return fmt.Sprintf("platinum %g ohm", p.r0) }

// nickel is the resistance thermometer of DIN 43760 (6180 ppm/K), from −60 to
// 250 °C.
type nickel struct{ r0 float64 }

// The polynomial of DIN 43760 for R(t)/R(0).
var nickelTerms = [...]float64{1, 5.485e-3, 6.65e-6, 0, 2.805e-11, 0, -2e-17}

// newNickel takes a resistance at a temperature to the one at 0 °C.
func newNickel(ohms, at float64) nickel { return nickel{ohms / nickel{1}.ohms(at)} }

func (n nickel) limits() (low, high float64) { return -60, 250 }

func (n nickel) ohms(t float64) float64 { return n.r0 * polynomial(nickelTerms[:], t) }

func (n nickel) celsius(r float64) float64 {
	low, high := n.limits()
	if slack, a, b := n.r0*printed, n.ohms(low), n.ohms(high); r >= a-slack && r <= b+slack {
		r = min(max(r, a), b)
	}
	return solve(n.ohms, r, low, high)
}

func (n nickel) String() string { return fmt.Sprintf("nickel %g ohm", n.r0) }

// kelvin is 0 °C.
const kelvin = 273.15

// betaThermistor is R = R0·exp(B·(1/T − 1/T0)), T in kelvin.
type betaThermistor struct{ r0, t0, beta float64 }

func (n betaThermistor) limits() (low, high float64) { return -100, 350 }

func (n betaThermistor) ohms(t float64) float64 {
	return n.r0 * math.Exp(n.beta*(1/(t+kelvin)-1/n.t0))
}

func (n betaThermistor) celsius(r float64) float64 {
	low, high := n.limits()
	if !(r > 0) {
		return math.NaN()
	}
	t := 1/(1/n.t0+math.Log(r/n.r0)/n.beta) - kelvin
	return within(t, low, high)
}

func (n betaThermistor) String() string {
	return fmt.Sprintf("ntc %g ohm at %g K beta %g", n.r0, n.t0, n.beta)
}

// steinhart is 1/T = A + B·ln R + C·(ln R)³, T in kelvin (Steinhart and Hart,
// Deep-Sea Research 15, 1968).
type steinhart struct{ a, b, c float64 }

func (n steinhart) limits() (low, high float64) { return -100, 350 }

func (n steinhart) celsius(r float64) float64 {
	low, high := n.limits()
	if !(r > 0) {
		return math.NaN()
	}
	l := math.Log(r)
	return within(1/(n.a+n.b*l+n.c*l*l*l)-kelvin, low, high)
}

// ohms solves the cubic for ln R: by Cardano where C is not 0.
func (n steinhart) ohms(t float64) float64 {
	y := n.a - 1/(t+kelvin)
	if n.c == 0 {
		return math.Exp(-y / n.b)
	}
	p, q := n.b/n.c, y/n.c
	root := math.Sqrt(q*q/4 + p*p*p/27)
	return math.Exp(math.Cbrt(-q/2+root) + math.Cbrt(-q/2-root))
}

func (n steinhart) String() string { return fmt.Sprintf("ntc steinhart %g %g %g", n.a, n.b, n.c) }

// within is t, or NaN where t lies clearly outside; what rounding put just
// beyond an end is at it.
func within(t, low, high float64) float64 {
	const slack = 1e-9
	if !(t >= low-slack && t <= high+slack) {
		return math.NaN()
	}
	return min(max(t, low), high)
}

func polynomial(terms []float64, x float64) float64 {
	y := 0.0
	for i := len(terms) - 1; i >= 0; i-- {
		y = y*x + terms[i]
	}
	return y
}

// solve finds where a rising function has a value between two ends, by the
// secants of regula falsi with the Illinois correction (Dowell and Jarratt,
// BIT 11, 1971), to the last bits; NaN if it is not there.
func solve(f func(float64) float64, want, low, high float64) float64 {
	a, b := f(low)-want, f(high)-want
	switch {
	case !(a <= 0 && b >= 0):
		return math.NaN()
	case a == 0:
		return low
	case b == 0:
		return high
	}
	side := 0
	for range 200 {
		x := high - b*(high-low)/(b-a)
		if !(x > low && x < high) {
			x = low + (high-low)/2
		}
		y := f(x) - want
		switch {
		case y == 0:
			return x
		case y < 0:
			low, a = x, y
			if side < 0 {
				b /= 2
			}
			side = -1
		default:
			high, b = x, y
			if side > 0 {
				a /= 2
			}
			side = 1
		}
		if high-low < 1e-12*max(1, math.Abs(low)) {
			break
		}
	}
	return low + (high-low)/2
}
