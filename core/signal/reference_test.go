package signal_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/signal"
)

// The tables printed in the standards, to their last digit.
func TestReferenceValues(t *testing.T) {
	for _, c := range []struct {
		source, curve string
		digits        int // of the reading as printed
		values        map[float64]float64
	}{
		{"IEC 60751:2022, table 1", "pt100", 2, map[float64]float64{-200: 18.52, -50: 80.31, 0: 100, 100: 138.51, 200: 175.86, 850: 390.48}},
		{"IEC 60751:2022, table 1, ten times", "pt1000", 1, map[float64]float64{-200: 185.2, -50: 803.1, 0: 1000, 100: 1385.1, 200: 1758.6, 850: 3904.8}},
		{"DIN 43760, table 1", "ni1000", 0, map[float64]float64{-60: 695, -20: 893, 0: 1000, 50: 1291, 100: 1618, 200: 2407, 250: 2892}},
		{"NIST Monograph 175, type B", "thermocouple b", 3, map[float64]float64{100: 0.033, 500: 1.242, 1000: 4.834, 1500: 10.099, 1820: 13.820}},
		{"NIST Monograph 175, type E", "thermocouple e", 3, map[float64]float64{-200: -8.825, -100: -5.237, 100: 6.319, 500: 37.005, 1000: 76.373}},
		{"NIST Monograph 175, type J", "thermocouple j", 3, map[float64]float64{-200: -7.890, -100: -4.633, 100: 5.269, 500: 27.393, 1200: 69.553}},
		{"NIST Monograph 175, type K", "thermocouple k", 3, map[float64]float64{-200: -5.891, -100: -3.554, 100: 4.096, 500: 20.644, 1000: 41.276, 1372: 54.886}},
		{"NIST Monograph 175, type N", "thermocouple n", 3, map[float64]float64{-200: -3.990, -100: -2.407, 100: 2.774, 500: 16.748, 1300: 47.513}},
		{"NIST Monograph 175, type R", "thermocouple r", 3, map[float64]float64{-50: -0.226, 100: 0.647, 500: 4.471, 1000: 10.506, 1500: 17.451, 1768: 21.101}},
		{"NIST Monograph 175, type S", "thermocouple s", 3, map[float64]float64{-50: -0.236, 100: 0.646, 500: 4.233, 1000: 9.587, 1500: 15.582, 1768: 18.693}},
		{"NIST Monograph 175, type T", "thermocouple t", 3, map[float64]float64{-200: -5.603, -100: -3.379, 100: 4.279, 200: 9.288, 400: 20.872}},
	} {
		clause := "  curve " + c.curve + " to degC"
		if strings.HasPrefix(c.curve, "thermocouple") {
			clause += " cold junction 0 degC"
		}
		curve := chain(t, clause+"\n")
		for celsius, reading := range c.values {
			got := curve.Carry(celsius, 1, 0)
			assert.Equal(t, fmt.Sprintf("%.*f", c.digits, reading), fmt.Sprintf("%.*f", c.digits, got), "%s at %g °C", c.source, celsius)
			// The inverse, to 0.001 K for thermocouples and better for the rest.
			assert.InDelta(t, celsius, curve.Carry(got, 0, 1), 0.001, "%s, %g back", c.source, got)
		}
	}
}

// Pieces of a thermocouple's reference function meet where one ends and the
// next begins, and the cold junction's millivolts are added.
func TestThermocoupleJunction(t *testing.T) {
	cold, warm := chain(
		t,
		"  curve thermocouple k to degC cold junction 0 degC\n",
	), chain(
		t,
		"  curve thermocouple k to degC cold junction 25 degC\n",
	)
	assert.InDelta(t, cold.Carry(100, 1, 0)-cold.Carry(25, 1, 0), warm.Carry(100, 1, 0), 1e-12)
	assert.InDelta(t, 25, warm.Carry(0, 0, 1), 1e-9)
	for letter, joint := range map[string]float64{"b": 630.615, "e": 0, "j": 760, "k": 0, "n": 0, "r": 1064.18, "s": 1664.5, "t": 0} {
		c := chain(t, "  curve thermocouple "+letter+" to degC cold junction 25 degC\n")
		assert.InDelta(t, c.Carry(joint-1e-6, 1, 0), c.Carry(joint+1e-6, 1, 0), 1e-5, "type %s at %g", letter, joint)
	}
	f := warm.Judge(80, 0)
	assert.Equal(t, signal.NoAnswer, f)
	assert.Equal(t, "80 mV is above 53.89 mV, where the curve of type k ends", warm.Explain(f, 80, 0))
}

func TestOtherSensors(t *testing.T) {
	for _, c := range []struct {
		clauses       string
		reading, want float64
	}{
		// Beta and Steinhart–Hart: the resistance at the reference temperature,
		// and worked by hand from the formula.
		{"  curve ntc 10 kohm at 25 degC beta 3950 to degC\n", 10_000, 25},
		{"  curve ntc 10 kohm at 25 degC beta 3950 to degC\n", 10_000 * math.Exp(3950*(1/273.15-1/298.15)), 0},
		{"  curve ntc steinhart 0.001129148 0.000234125 0.0000000876741 to degC\n", 10_000, 1/(0.001129148+0.000234125*math.Log(1e4)+0.0000000876741*math.Pow(math.Log(1e4), 3)) - 273.15},
		// Nickel made to another point: 1000 ohm at 21.1 degC.
		{"  curve nickel 1000 ohm at 21.1 degC to degC\n", 1000, 21.1},
		{"  curve table ohm to lx: 500 = 1000, 2000 = 180, 10000 = 20\n", 1250, 590},
		{"  curve table ohm to lx: 500 = 1000, 2000 = 180, 10000 = 20\n", 10_000, 20},
		// A divider of 10 kohm and 5 kohm on 5 V, both ways round.
		{"  divider 10 kohm to supply 5 V\n", 5.0 / 3, 5},
		{"  divider 10 kohm to ground 5 V\n", 10.0 / 3, 5},
		// A flow of half the span at a quarter of the pressure.
		{"  root 4..20 mA to 0..80 L/s\n", 8, 40},
		{"  root 4..20 mA to 0..80 L/s\n", 3.98, 0},
		{"  scale 4..20 mA to 0..20 mg/L\n  correct 0.12 mg/L to 0 mg/L\n", 12, 9.88},
		{"  scale 4..20 mA to 0..20 mg/L\n  correct 0 mg/L to 1 mg/L, 10 mg/L to 12 mg/L, 20 mg/L to 20 mg/L\n", 16, 16},
		{"  unit mg/L\n  correct 0 mg/L to 1 mg/L, 10 mg/L to 12 mg/L\n", 20, 23},
	} {
		x := chain(t, c.clauses)
		last := len(x.Units) - 1
		assert.InDelta(t, c.want, x.Carry(c.reading, 0, last), 1e-9*math.Max(1, math.Abs(c.want)), c.clauses)
	}
}

// Every way in which a stage can have no answer is said in a sentence.
func TestNoAnswer(t *testing.T) {
	for _, c := range []struct {
		clauses string
		reading float64
		want    string
	}{
		{"  divider 10 kohm to supply 5 V\n", 5, "5 V is the whole supply of 5 V: open sensor or broken wire"},
		{"  divider 10 kohm to ground 5 V\n", 0, "0 V at the divider: open sensor or broken wire"},
		{"  divider 10 kohm to ground 5 V\n", 5.2, "5.2 V is beyond the supply of 5 V: wrong supply or wiring"},
		{"  divider 10 kohm to supply 5 V\n", -1, "-1 V at the divider: reversed polarity"},
		{"  curve table ohm to lx: 500 = 1000, 2000 = 180\n", 2500, "2500 ohm is above 2000 ohm, where the table ends"},
		{"  curve pt100 to degC\n", 5000, "5000 ohm is above 390.5 ohm, where the curve of the sensor ends: open sensor or broken wire"},
		{"  curve pt100 to degF\n", 2, "2 ohm is below 18.52 ohm, where the curve of the sensor ends: short circuit"},
		{"  scale -32768..32767 counts to -10..10 V\n", 65012, "65012 counts is more than a signed card gives (32767): -524 counts was taken as unsigned"},
	} {
		x := chain(t, c.clauses)
		f := x.Judge(c.reading, 0)
		assert.NotEqual(t, signal.None, f, c.clauses)
		assert.Equal(t, c.want, x.Explain(f, c.reading, 0))
	}
}

// Random chains of every kind of stage: a value goes backwards through the
// chain and forwards again to the same, within 1e-9 of span.
func TestRandomChainsBothWays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		number := func(name string, low, high float64) float64 {
			return math.Round(rapid.Float64Range(low, high).Draw(t, name)*100) / 100
		}
		var text, unit string
		low, high := 0.0, 0.0
		switch rapid.IntRange(0, 8).Draw(t, "sensor") {
		case 0:
			text, unit, low, high = "  scale 0..4095 counts to 0..20 mA\n  scale 4..20 mA to 0..20 mg/L\n", "mg/L", 0, 20
		case 1:
			text, unit, low, high = "  scale -32768..32767 counts to 10..-10 V\n  scale 0..10 V to 0..60 mbar\n", "mbar", 0, 60
		case 2:
			text, unit, low, high = "  curve pt100 to degF\n", "degF", -300, 1500
		case 3:
			text, unit, low, high = "  scale 4..20 mA to 0..4000 ohm\n  curve ni1000 to K\n", "K", 215, 520
		case 4:
			letter := rapid.SampledFrom([]string{"e", "j", "k", "n", "t"}).Draw(t, "type")
			text, unit, low, high = "  curve thermocouple "+letter+" to degC cold junction 21.5 degC\n", "degC", -190, 390
		case 5:
			text, unit, low, high = "  scale 0..1023 counts to 0..5 V\n  divider 10 kohm to supply 5 V\n  curve ntc 10 kohm at 25 degC beta 3950 to degC\n", "degC", -30, 120
		case 6:
			text, unit, low, high = "  divider 4.7 kohm to ground 5000 mV\n  curve ntc steinhart 0.001129148 0.000234125 0.0000000876741 to degC\n", "degC", -30, 120
		case 7:
			text, unit, low, high = "  curve table ohm to lx: 500 = 1000, 2000 = 180, 10000 = 20\n", "lx", 20, 1000
		default:
			text, unit, low, high = "  root 4..20 mA to 0..80 L/s\n", "L/s", 0, 80
		}
		if rapid.Bool().Draw(t, "corrected") {
			a := number("read", 0.1, 1) * (high - low) / 2
			text += fmt.Sprintf(
				"  correct %.4f %s to %.4f %s, %.4f %s to %.4f %s\n",
				low,
				unit,
				low,
				unit,
				low+a,
				unit,
				low+a*number("gain", 0.9, 1.1),
				unit,
			)
		}
		c := chain(t, text)
		last := len(c.Units) - 1
		y := rapid.Float64Range(low+(high-low)*0.01, high-(high-low)*0.2).Draw(t, "value")
		x := c.Carry(y, last, 0)
		slack := 1e-9 * (high - low)
		require.InDelta(t, y, c.Carry(x, 0, last), slack, "%s: %g gives %g", text, y, x)
	})
}
