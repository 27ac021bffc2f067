package unit

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestConvert(t *testing.T) {
	for _, c := range []struct {
		from, to         string
		value, want      float64
		difference, same float64 // want of ConvertDifference
	}{
		{from: "mA", to: "A", value: 500, want: 0.5, difference: 0.5},
		{from: "degF", to: "degC", value: 2, want: -16.666666666666686, difference: 10.0 / 9},
		{from: "degC", to: "K", value: 20, want: 293.15, difference: 20},
		{from: "°C", to: "degF", value: 100, want: 212, difference: 180},
		{from: "bar", to: "mbar", value: 1.5, want: 1500, difference: 1500},
		{from: "psi", to: "kPa", value: 1, want: 6.894757293168, difference: 6.894757293168},
		{from: "inH2O", to: "Pa", value: 1, want: 249.08891, difference: 249.08891},
		{from: "L/s", to: "m3/h", value: 10, want: 36, difference: 36},
		{from: "gpm", to: "L/min", value: 1, want: 3.785411784, difference: 3.785411784},
		{from: "lb", to: "kg", value: 1, want: 0.45359237, difference: 0.45359237},
		{from: "gal", to: "L", value: 2, want: 7.570823568, difference: 7.570823568},
		{from: "ug/L", to: "mg/L", value: 250, want: 0.25, difference: 0.25},
		{from: "h", to: "min", value: 1.5, want: 90, difference: 90},
	} {
		from, to := MustLookup(c.from), MustLookup(c.to)
		assert.InDelta(t, c.want, from.Convert(c.value, to), 1e-11, "%s to %s", c.from, c.to)
		assert.InDelta(t, c.difference, from.ConvertDifference(c.value, to), 1e-12, "%s to %s, difference", c.from, c.to)
	}
}

// Every pair of units of one dimension converts there and back, and no
// dimension is left with a unit that nothing can be compared with by accident.
func TestConvertRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		u := MustLookup(rapid.SampledFrom(Names()).Draw(t, "from"))
		v := MustLookup(rapid.SampledFrom(Names()).Draw(t, "to"))
		x := rapid.Float64Range(-1e6, 1e6).Draw(t, "x")
		if u.Comparable(v) {
			require.InDelta(t, x, v.Convert(u.Convert(x, v), u), 1e-6)
			require.InDelta(t, x, v.ConvertDifference(u.ConvertDifference(x, v), u), 1e-9)
		} else {
			require.NotEqual(t, u.Dimension(), v.Dimension())
		}
	})
}

func TestDimensionsOfTheirOwn(t *testing.T) {
	for _, a := range []string{"NTU", "pH", "%", "counts", "ppm", "uS/cm"} {
		assert.False(t, MustLookup(a).Comparable(Unit{}), a)
		for _, b := range []string{"NTU", "pH", "%", "counts", "ppm", "uS/cm"} {
			assert.Equal(t, a == b, MustLookup(a).Comparable(MustLookup(b)), "%s and %s", a, b)
		}
	}
	fish := Quoted("fish/m3")
	assert.True(t, fish.Comparable(Quoted("fish/m3")))
	assert.False(t, fish.Comparable(Quoted("fish/m2")))
	assert.Equal(t, `"fish/m3"`, fish.String())
	assert.Equal(t, MustLookup("mA"), Quoted("mA"))
}

func TestLongest(t *testing.T) {
	for in, want := range map[string]string{
		"mg/L for 45 s": "mg/L", "m3/h": "m3/h", "m3": "m3", "min": "min", "minutes": "", "m": "m",
		"samples": "", "s and": "s", "%": "%", "%x": "%", "°C": "degC", "L / 2": "L", "L/s": "L/s", "kWh": "kWh", "": "",
	} {
		u, n := Longest(in)
		assert.Equal(t, want, u.Name(), in)
		assert.Equal(t, want == "", n == 0, in)
	}
}

func TestParseQuantity(t *testing.T) {
	for in, want := range map[string]string{
		"12mA": "12 mA", " 6.0 mg/L ": "6.0 mg/L", "-3.50degC": "-3.50 degC", "2048 counts": "2048 counts",
		"7": "7", `40 "fish/m3"`: `40 "fish/m3"`, "5 °C": "5 degC",
	} {
		q, err := ParseQuantity(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, q.String())
	}
	for in, want := range map[string]string{
		"mA": "does not begin with a number", "": "does not begin with a number", "+5 mA": "does not begin with a number",
		"5 miles": `miles is no known unit`, "1e5 mA": `e5 mA is no known unit`, "5 mA x": "no known unit",
	} {
		_, err := ParseQuantity(in)
		assert.ErrorContains(t, err, want, in)
	}
}

func TestDurations(t *testing.T) {
	for in, want := range map[string]int64{
		"45 s": 45e9, "500ms": 5e8, "1 h 30 min": 5400e9, "1.5 h": 5400e9, "0.000000001 s": 1, "2 d": 172800e9, "1 min 0.5 s": 60.5e9,
	} {
		got, err := ParseDuration(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for in, want := range map[string]string{
		"0 s": "not above 0", "-5 s": "not above 0", "30 min 1 h": "from the largest unit down", "5 mA": "is not a duration", "5": "is not a duration",
		"1 s 1 s": "from the largest unit down", "0.0000000001 s": "finer than a nanosecond", "200000 d": "longer than 292 years", "": "not above 0",
		"106751 d 24 h": "longer than 292 years",
	} {
		_, err := ParseDuration(in)
		assert.ErrorContains(t, err, want, in)
	}
	rapid.Check(t, func(t *rapid.T) {
		ns := rapid.Int64Range(1, math.MaxInt64).Draw(t, "ns")
		got, err := ParseDuration(FormatDuration(ns))
		require.NoError(t, err)
		require.Equal(t, ns, got, FormatDuration(ns))
	})
}

func TestShort(t *testing.T) {
	for v, want := range map[float64]string{5.93: "5.93", 6: "6", 0: "0", 8.796093: "8.796", 18012: "18012", 0.0001234567: "0.0001235", -1.20: "-1.2", 1234.5: "1234", math.Inf(1): "+Inf"} {
		assert.Equal(t, want, Short(v))
	}
	a, b := ShortPair(5.9996, 6)
	assert.Equal(t, "5.9996", a)
	assert.Equal(t, "6", b)
	rapid.Check(t, func(t *rapid.T) {
		x := rapid.Float64Range(-1e5, 1e5).Draw(t, "x")
		y := x + rapid.Float64Range(-1e-6, 1e-6).Draw(t, "dy")
		p, q := ShortPair(x, y)
		qx, errX := ParseQuantity(p)
		qy, errY := ParseQuantity(q)
		require.NoError(t, errX)
		require.NoError(t, errY)
		require.Equal(t, x < y, qx.Value < qy.Value, "%s %s", p, q)
	})
}

func TestMeant(t *testing.T) {
	for word, want := range map[string]string{
		"sec": "s", "Minutes": "min", "hrs": "h", "C": "degC", "Bar": "bar", "barg": "bar", "ma": "mA", "µS/cm": "uS/cm", "μS/cm": "uS/cm",
		"m³/h": "m3/h", "m³/hr": "m3/h", "mg/l": "mg/L", "percent": "%", "kΩ": "kohm", "furlong": "", "": "",
	} {
		assert.Equal(t, want, Meant(word), word)
	}
}
