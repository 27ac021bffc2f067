package signal

import (
	"fmt"
	"math"
	"sort"

	"rectura/core/unit"
)

// A thermocouple takes the millivolts of a thermocouple of one of the letter
// types, with its cold junction at a temperature, to the temperature of the hot
// one: the junction's own millivolts are added, and the sum is looked up in the
// reference function, whose inverse is found on the function itself.
type thermocouple struct {
	kind     *thermocoupleType
	to       unit.Unit
	junction float64 // mV of the cold junction
	cold     float64 // its temperature in degrees Celsius
}

// roomTemperature is where a measured cold junction is taken to be as long as
// nobody has measured it, in degrees Celsius.
const roomTemperature = 25

func newThermocouple(letter string, to unit.Unit) *thermocouple {
	t := &thermocouple{kind: thermocoupleTypes[letter], to: to}
	t.setJunction(roomTemperature)
	return t
}

// setJunction says how warm the cold junction is, in degrees Celsius.
func (t *thermocouple) setJunction(c float64) {
	if c != t.cold || t.junction == 0 {
		t.cold, t.junction = c, t.kind.millivolts(c)
	}
}

func (t *thermocouple) forward(x float64) float64 {
	return celsius.Convert(t.kind.celsius(x+t.junction), t.to)
}

func (t *thermocouple) backward(y float64) float64 {
	return t.kind.millivolts(t.to.Convert(y, celsius)) - t.junction
}

func (t *thermocouple) refuse(x float64) string {
	if math.IsNaN(t.junction) {
		return fmt.Sprintf("the cold junction's %s degC is beyond the curve of type %s", unit.Short(t.cold), t.kind.letter)
	}
	last := len(t.kind.grid) - 1
	return beyond(x, t.kind.grid[0]-t.junction, t.kind.grid[last]-t.junction, millivolt, "the curve of type "+t.kind.letter)
}

func (t *thermocouple) ends() (low, high float64, _ bool) { return 0, 0, false }

func (t *thermocouple) String() string {
	return fmt.Sprintf("thermocouple %s, junction %g degC", t.kind.letter, t.cold)
}

var millivolt = unit.MustLookup("mV")

// A thermocoupleType is the reference function of a type.
type thermocoupleType struct {
	letter string
	low    float64 // degrees Celsius from which on the function rises, and is inverted
	pieces []piece
	grid   []float64 // mV at low + k·gridStep, and at the upper end
}

// A piece is the function up to a temperature in degrees Celsius: a polynomial
// and, for type K above 0 °C, a0·exp(a1·(t − a2)²).
type piece struct {
	to          float64
	terms       []float64
	exponential bool
}

// gridStep is how far apart, in degrees, the values lie between which an
// inverse is sought.
const gridStep = 10

func (k *thermocoupleType) high() float64 { return k.pieces[len(k.pieces)-1].to }

// millivolts is the reference function, with the cold junction at 0 °C; NaN
// beyond it.
func (k *thermocoupleType) millivolts(t float64) float64 {
	if !(t >= k.bottom()) {
		return math.NaN()
	}
	for _, p := range k.pieces {
		if t > p.to {
			continue
		}
		e := polynomial(p.terms, t)
		if p.exponential {
			e += 0.118597600000 * math.Exp(-0.118343200000e-3*(t-126.9686)*(t-126.9686))
		}
		return e
	}
	return math.NaN()
}

// bottom is the lowest temperature of the function, of which type B's is not
// where its inverse begins.
func (k *thermocoupleType) bottom() float64 {
	if k.letter == "b" {
		return 0
	}
	return k.low
}

// celsius is the inverse of the reference function; NaN beyond it.
func (k *thermocoupleType) celsius(e float64) float64 {
	n := len(k.grid)
	i := sort.SearchFloat64s(k.grid, e)
	switch {
	case i == n || i == 0 && k.grid[0] != e:
		return math.NaN()
	case k.grid[i] == e:
		return min(k.low+float64(i)*gridStep, k.high())
	}
	low := k.low + float64(i-1)*gridStep
	return solve(k.millivolts, e, low, min(low+gridStep, k.high()))
}

func init() {
	for letter, k := range thermocoupleTypes {
		k.letter = letter
		for t := k.low; t < k.high(); t += gridStep {
			k.grid = append(k.grid, k.millivolts(t))
		}
		k.grid = append(k.grid, k.millivolts(k.high()))
	}
}

// thermocoupleTypes are the reference functions E(t) in mV of IEC 60584-1:2013,
// which are those of the ITS-90 (G. W. Burns et al., NIST Monograph 175, 1993,
// tables 1 to 8).
var thermocoupleTypes = map[string]*thermocoupleType{
	// Type B falls below 21.02 °C; its inverse begins there.
	"b": {low: 21.0203, pieces: []piece{
		{
			to: 630.615,
			terms: []float64{
				0,
				-0.246508183460e-3,
				0.590404211710e-5,
				-0.132579316360e-8,
				0.156682919010e-11,
				-0.169445292400e-14,
				0.629903470940e-18,
			},
		},
		{
			to: 1820,
			terms: []float64{-0.389381686210e1, 0.285717474700e-1, -0.848851047850e-4, 0.157852801640e-6, -0.168353448640e-9, 0.111097940130e-12,
				-0.445154310330e-16, 0.989756408210e-20, -0.937913302890e-24},
		},
	}},
	"e": {low: -270, pieces: []piece{
		{
			to: 0,
			terms: []float64{
				0,
				0.586655087080e-1,
				0.454109771240e-4,
				-0.779980486860e-6,
				-0.258001608430e-7,
				-0.594525830570e-9,
				-0.932140586670e-11,
				-0.102876055340e-12,
				-0.803701236210e-15,
				-0.439794973910e-17,
				-0.164147763550e-19,
				-0.396736195160e-22,
				-0.558273287210e-25,
				-0.346578420130e-28,
			},
		},
		{
			to: 1000,
			terms: []float64{
				0,
				0.586655087100e-1,
				0.450322755820e-4,
				0.289084072120e-7,
				-0.330568966520e-9,
				0.650244032700e-12,
				-0.191974955040e-15,
				-0.125366004970e-17,
				0.214892175690e-20,
				-0.143880417820e-23,
				0.359608994810e-27,
			},
		},
	}},
	"j": {low: -210, pieces: []piece{
		{
			to: 760,
			terms: []float64{
				0,
				0.503811878150e-1,
				0.304758369300e-4,
				-0.856810657200e-7,
				0.132281952950e-9,
				-0.170529583370e-12,
				0.209480906970e-15,
				-0.125383953360e-18,
				0.156317256970e-22,
			},
		},
		{
			to:    1200,
			terms: []float64{0.296456256810e3, -0.149761277860e1, 0.317871039240e-2, -0.318476867010e-5, 0.157208190040e-8, -0.306913690560e-12},
		},
	}},
	"k": {low: -270, pieces: []piece{
		{
			to: 0,
			terms: []float64{
				0,
				0.394501280250e-1,
				0.236223735980e-4,
				-0.328589067840e-6,
				-0.499048287770e-8,
				-0.675090591730e-10,
				-0.574103274280e-12,
				-0.310888728940e-14,
				-0.104516093650e-16,
				-0.198892668780e-19,
				-0.163226974860e-22,
			},
		},
		{
			to:          1372,
			exponential: true,
			terms: []float64{-0.176004136860e-1, 0.389212049750e-1, 0.185587700320e-4, -0.994575928740e-7, 0.318409457190e-9,
				-0.560728448890e-12, 0.560750590590e-15, -0.320207200030e-18, 0.971511471520e-22, -0.121047212750e-25},
		},
	}},
	"n": {low: -270, pieces: []piece{
		{
			to: 0,
			terms: []float64{
				0,
				0.261591059620e-1,
				0.109574842280e-4,
				-0.938411115540e-7,
				-0.464120397590e-10,
				-0.263033577160e-11,
				-0.226534380030e-13,
				-0.760893007910e-16,
				-0.934196678350e-19,
			},
		},
		{
			to: 1300,
			terms: []float64{
				0,
				0.259293946010e-1,
				0.157101418800e-4,
				0.438256272370e-7,
				-0.252611697940e-9,
				0.643118193390e-12,
				-0.100634715190e-14,
				0.997453389920e-18,
				-0.608632456070e-21,
				0.208492293390e-24,
				-0.306821961510e-28,
			},
		},
	}},
	"r": {low: -50, pieces: []piece{
		{to: 1064.18, terms: []float64{0, 0.528961729765e-2, 0.139166589782e-4, -0.238855693017e-7, 0.356916001063e-10, -0.462347666298e-13,
			0.500777441034e-16, -0.373105886191e-19, 0.157716482367e-22, -0.281038625251e-26}},
		{
			to:    1664.5,
			terms: []float64{0.295157925316e1, -0.252061251332e-2, 0.159564501865e-4, -0.764085947576e-8, 0.205305291024e-11, -0.293359668173e-15},
		},
		{to: 1768.1, terms: []float64{0.152232118209e3, -0.268819888545, 0.171280280471e-3, -0.345895706453e-7, -0.934633971046e-14}},
	}},
	"s": {low: -50, pieces: []piece{
		{to: 1064.18, terms: []float64{0, 0.540313308631e-2, 0.125934289740e-4, -0.232477968689e-7, 0.322028823036e-10, -0.331465196389e-13,
			0.255744251786e-16, -0.125068871393e-19, 0.271443176145e-23}},
		{to: 1664.5, terms: []float64{0.132900444085e1, 0.334509311344e-2, 0.654805192818e-5, -0.164856259209e-8, 0.129989605174e-13}},
		{to: 1768.1, terms: []float64{0.146628232636e3, -0.258430516752, 0.163693574641e-3, -0.330439046987e-7, -0.943223690612e-14}},
	}},
	"t": {low: -270, pieces: []piece{
		{
			to: 0,
			terms: []float64{
				0,
				0.387481063640e-1,
				0.441944343470e-4,
				0.118443231050e-6,
				0.200329735540e-7,
				0.901380195590e-9,
				0.226511565930e-10,
				0.360711542050e-12,
				0.384939398830e-14,
				0.282135219250e-16,
				0.142515947790e-18,
				0.487686622860e-21,
				0.107955392700e-23,
				0.139450270620e-26,
				0.797951539270e-30,
			},
		},
		{
			to: 400,
			terms: []float64{
				0,
				0.387481063640e-1,
				0.332922278800e-4,
				0.206182434040e-6,
				-0.218822568460e-8,
				0.109968809280e-10,
				-0.308157587720e-13,
				0.454791352900e-16,
				-0.275129016730e-19,
			},
		},
	}},
}
