package modbus

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is written down for each type and order is what the standards say of them.
func TestValues(t *testing.T) {
	for _, c := range []struct {
		wire  Wire
		value float64
		words []uint16
	}{
		{Wire{Type: "uint", Size: 1}, 65535, []uint16{0xffff}},
		{Wire{Type: "int", Size: 1}, -2, []uint16{0xfffe}},
		{Wire{Type: "int", Size: 1, LowByteFirst: true}, -2, []uint16{0xfeff}},
		{Wire{Type: "dint", Size: 2}, -2, []uint16{0xffff, 0xfffe}},
		{Wire{Type: "udint", Size: 2}, 0x12345678, []uint16{0x1234, 0x5678}},
		{Wire{Type: "udint", Size: 2, LowWordFirst: true}, 0x12345678, []uint16{0x5678, 0x1234}},
		{Wire{Type: "udint", Size: 2, LowByteFirst: true}, 0x12345678, []uint16{0x3412, 0x7856}},
		{Wire{Type: "udint", Size: 2, LowWordFirst: true, LowByteFirst: true}, 0x12345678, []uint16{0x7856, 0x3412}},
		{Wire{Type: "real", Size: 2}, 7.25, []uint16{0x40e8, 0x0000}},
		{Wire{Type: "lint", Size: 4}, -3, []uint16{0xffff, 0xffff, 0xffff, 0xfffd}},
		{Wire{Type: "ulint", Size: 4, LowWordFirst: true}, 1 << 40, []uint16{0, 0, 0x100, 0}},
		{Wire{Type: "lreal", Size: 4}, -0.5, []uint16{0xbfe0, 0, 0, 0}},
	} {
		assert.Equal(t, c.value, c.wire.value(c.words), "%+v", c.wire)
		words, err := c.wire.words(c.value)
		require.NoError(t, err)
		assert.Equal(t, c.words, words, "%+v", c.wire)
	}
	bit := Wire{Type: "bool", Size: 1, Bit: 3}
	assert.Equal(t, []float64{1, 0}, []float64{bit.value([]uint16{0x0008}), bit.value([]uint16{0xfff7})})
}

// A number is held as it is, or refused: none is wrapped round.
func TestNothingIsWrapped(t *testing.T) {
	for typ, size := range map[string]int{"int": 1, "uint": 1, "dint": 2, "udint": 2, "lint": 4, "ulint": 4, "real": 2, "lreal": 4} {
		w := Wire{Point: "pump_speed", Type: typ, Size: size}
		for _, v := range []float64{math.NaN(), math.Inf(1), math.Inf(-1), forms[typ].high * 2, forms[typ].low*2 - 1} {
			if v >= forms[typ].low && v <= forms[typ].high {
				continue // twice the largest fraction is infinite, and so is tried already
			}
			_, err := w.words(v)
			assert.ErrorContains(t, err, "pump_speed cannot be ", "%s %v", typ, v)
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		typ := rapid.SampledFrom([]string{"int", "uint", "dint", "udint", "lint", "ulint", "real", "lreal"}).Draw(t, "type")
		w := Wire{
			Type:         typ,
			Size:         map[string]int{"int": 1, "uint": 1, "dint": 2, "udint": 2, "real": 2}[typ],
			LowWordFirst: rapid.Bool().Draw(t, "words"),
			LowByteFirst: rapid.Bool().Draw(t, "bytes"),
		}
		if w.Size == 0 {
			w.Size = 4
		}
		f := forms[typ]
		v := rapid.Float64Range(f.low, f.high).Draw(t, "value")
		words, err := w.words(v)
		require.NoError(t, err)
		want := v
		switch {
		case typ == "real":
			want = float64(float32(v))
		case !f.fraction:
			want = math.RoundToEven(v)
		}
		require.Equal(t, want, w.value(words))
	})
}
