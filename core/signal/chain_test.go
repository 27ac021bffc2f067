package signal_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/signal"
	"rectura/core/unit"
)

// The dump of a chain names all that was compiled.
func TestChainString(t *testing.T) {
	for clauses, want := range map[string]string{
		loop: "counts (0,0)-(4095,20) mA (4,0)-(20,20) mg/L; healthy 3.6..21 mA",
		"  unit V\n  healthy 0..10 V\n  stale after 1 min\n  frozen after 5 min within 10 mV\n  unsteady beyond 1 V within 10 s\n  bad after 2 s\n  good after 3 s\n  skip first 4 samples\n  smooth lag 5 s\n  clamp 1..9 V\n  round nearest 0.1 V\n  ignore changes under 0.2 V\n": "V; healthy 0..10 V; stale 1 min; frozen 5 min within 0.01 V; unsteady 1 V within 10 s; bad after 2 s; good after 3 s; skip 4; lag 5 s; clamp 1..9; round nearest 0.1; ignore 0.2",
		"  unit V\n  smooth average 3 samples\n  round down 1 V\n":                                        "V; average 3; round down 1",
		"  curve thermocouple k to degF cold junction 25 degC\n  correct 50 degF to 51 degF\n":            "mV thermocouple k, junction 25 degC degF correct [50 51] to [51 52] degF",
		"  divider 10 kohm to ground 5 V\n  curve ntc 10 kohm at 25 degC beta 3950 to degC\n":             "V divider 10 to ground 5 kohm ntc 10000 ohm at 298.15 K beta 3950 degC",
		"  root 4..20 mA to 0..80 L/s\n":                                                                  "mA root (4,0)-(20,80) L/s",
		"  curve table ohm to lx: 500 = 1000, 2000 = 180\n":                                               "ohm table of 2 points lx",
		"  curve ntc steinhart 0.001 0.0002 0.0000001 to K\n":                                             "ohm ntc steinhart 0.001 0.0002 1e-07 K",
		"  scale 0..100 counts to 0..200 ohm\n  curve pt100 to degC\n  smooth median 5 samples\n":         "counts (0,0)-(100,200) ohm platinum 100 ohm degC; median 5",
		"  scale 0..100 counts to 0..2 kohm\n  curve nickel 1000 ohm at 0 degC to degC\n  clamp 0..9 K\n": "counts (0,0)-(100,2) kohm nickel 1000 ohm degC; clamp -273.15..-264.15",
	} {
		assert.Equal(t, want, chain(t, clauses).String())
	}
}

// What a chain is made for, and what its converter can tell apart.
func TestSpans(t *testing.T) {
	for _, c := range []struct {
		clauses           string
		low, high         float64
		ok                bool
		resolution        float64
		readLow, readHigh float64
	}{
		{loop, 0, 20, true, 20 / 4095.0 * 20 / 16, 0, 4095},
		{"  scale 0..5 V to 10..0 mg/L\n", 0, 10, true, 0, 0, 5},
		{"  scale -32768..32767 counts to -10..10 V\n  scale 0..10 V to 0..60 mbar\n", 0, 60, true, 20 / 65535.0 * 6, -32768, 32767},
		{"  unit pH\n  healthy 2..12 pH\n", 2, 12, true, 0, 2, 12},
		{"  unit pH\n", 0, 0, false, 0, 0, 100},
		{"  scale 0..32000 counts to 0..3200 ohm\n  curve pt1000 to degC\n  healthy 1000..1385.055 ohm\n", 0, 100, true, 0.02597, 0, 32000},
		{"  root 4..20 mA to 0..80 L/s\n", 0, 80, true, 0, 4, 20},
		{"  divider 10 kohm to supply 5 V\n", 0, 0, false, 0, 0.05, 4.95},
		{"  curve table ohm to lx: 500 = 1000, 2000 = 180, 10000 = 20\n", 20, 1000, true, 0, 500, 10000},
		{"  curve pt100 to degC\n", 0, 0, false, 0, 100, 138.5055},
		{"  scale 4..20 mA to 0..20 mg/L\n  correct 0 mg/L to 1 mg/L\n", 1, 21, true, 0, 4, 20},
	} {
		x := chain(t, c.clauses)
		low, high, ok := x.Span()
		assert.Equal(t, c.ok, ok, c.clauses)
		assert.InDelta(t, c.low, low, 1e-3, c.clauses)
		assert.InDelta(t, c.high, high, 1e-3, c.clauses)
		assert.InDelta(t, c.resolution, x.Resolution(), 1e-4, c.clauses)
		a, b := x.ReadingSpan()
		assert.InDelta(t, c.readLow, a, 1e-3, c.clauses)
		assert.InDelta(t, c.readHigh, b, 1e-3, c.clauses)
	}
}

// A unit says at which place of a chain a reading stands: the value where that
// has it, so that a corrected one is meant.
func TestParseReading(t *testing.T) {
	corrected := chain(t, loop+"  correct 1 mg/L to 2 mg/L, 9 mg/L to 9 mg/L\n")
	for _, c := range []struct {
		text  string
		at    int
		value float64
		err   string
	}{
		{"2048", 0, 2048, ""},
		{"2048 counts", 0, 2048, ""},
		{"12mA", 1, 12, ""},
		{"0.012 A", 1, 12, ""},
		{"9 mg/L", 3, 9, ""},
		{"9000 ug/L", 3, 9, ""},
		{"9 V", 0, 0, "9 V is in V (voltage), and the chain of oxygen has counts, mA, mg/L as read, mg/L"},
		{"much", 0, 0, `"much" does not begin with a number; write a value such as 12 mA`},
	} {
		v, at, err := corrected.ParseReading("oxygen", c.text)
		if c.err != "" {
			assert.EqualError(t, err, c.err)
			continue
		}
		require.NoError(t, err, c.text)
		assert.Equal(t, c.at, at, c.text)
		assert.InDelta(t, c.value, v, 1e-9, c.text)
	}
	// Of a corrected value the reading behind it is found.
	assert.InDelta(t, 12, corrected.Carry(corrected.Carry(12, 1, 3), 3, 1), 1e-9)
	assert.InDelta(t, 2, corrected.Carry(1, 2, 3), 1e-12)
}

// A measured cold junction moves the chain of one input and no other.
func TestMeasuredColdJunction(t *testing.T) {
	c := chain(t, "  unit degC\ninput hot\n  curve thermocouple t to degC cold junction x\n")
	a, b := signal.NewAnalog(c), signal.NewAnalog(c)
	a.Junction(0)
	a.Read(0, 4.279, 0)
	assert.InDelta(t, 100, a.Value, 0.02)
	b.Junction(40)
	b.Read(0, 4.279, 0)
	assert.InDelta(t, 133.61, b.Value, 0.02)
	a.Read(1, 4.279, 0)
	assert.InDelta(t, 100, a.Value, 0.02, "it has its own junction")
	assert.InDelta(t, a.Value, c.With(0).Carry(4.279, 0, 1), 1e-9)
	assert.Equal(t, 25.0, c.Cold(), "as long as nobody has measured it")
	a.Junction(math.NaN())
	a.Read(2, 4.279, 0)
	assert.Equal(t, signal.NoJunction, a.Fault)
	assert.Equal(t, "the cold junction, x, is bad", a.Chain.Explain(a.Fault, 4.279, 0))
	b.Junction(5000)
	b.Read(2, 4.279, 0)
	assert.Equal(t, "the cold junction's 5000 degC is beyond the curve of type t", b.Chain.Explain(b.Fault, 4.279, 0))
	assert.Equal(t, unit.MustLookup("degC"), c.Engineering())
}

// A table that rises and falls has no way back; one that falls has.
func TestTablesBackward(t *testing.T) {
	falling := chain(t, "  curve table ohm to lx: 500 = 1000, 2000 = 180, 10000 = 20\n")
	for _, x := range []float64{500, 750, 2000, 9000, 10000} {
		assert.InDelta(t, x, falling.Carry(falling.Carry(x, 0, 1), 1, 0), 1e-9)
	}
	assert.True(t, math.IsNaN(falling.Carry(2000, 1, 0)))
	assert.True(t, math.IsNaN(falling.Carry(10, 1, 0)))
	rising := chain(t, "  curve table counts to m3: 0 = 0, 100 = 5, 200 = 20\n")
	assert.InDelta(t, 150, rising.Carry(12.5, 1, 0), 1e-9)
	hill := chain(t, "  curve table counts to m3: 0 = 0, 100 = 5, 200 = 1\n")
	assert.InDelta(t, 3, hill.Carry(150, 0, 1), 1e-9)
	assert.True(t, math.IsNaN(hill.Carry(3, 1, 0)))
}
