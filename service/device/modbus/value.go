package modbus

import (
	"fmt"
	"math"

	"rectura/core/unit"
)

// A form is how a type stands in registers: as a whole number between two ends, or as a fraction (IEEE 754).
type form struct {
	low, high float64 // what it holds
	fraction  bool
}

// forms are those of the types. The ends of the longest are the furthest numbers of 64 bits that a value can be.
var forms = map[string]form{
	"int":   {low: math.MinInt16, high: math.MaxInt16},
	"uint":  {high: math.MaxUint16},
	"dint":  {low: math.MinInt32, high: math.MaxInt32},
	"udint": {high: math.MaxUint32},
	"lint":  {low: math.MinInt64, high: 1<<63 - 1<<10},
	"ulint": {high: 1<<64 - 1<<11},
	"real":  {low: -math.MaxFloat32, high: math.MaxFloat32, fraction: true},
	"lreal": {low: -math.MaxFloat64, high: math.MaxFloat64, fraction: true},
}

// value is what the registers of a wire hold. A fraction that is no number is given as that.
func (w *Wire) value(words []uint16) float64 {
	if w.Type == "bool" {
		return float64(words[0] >> w.Bit & 1)
	}
	bits := uint64(0)
	for i := range words {
		at := i
		if w.LowWordFirst {
			at = len(words) - 1 - i
		}
		bits = bits<<16 | uint64(w.turned(words[at]))
	}
	switch w.Type {
	case "int":
		return float64(int16(bits))
	case "dint":
		return float64(int32(bits))
	case "lint":
		return float64(int64(bits))
	case "real":
		return float64(math.Float32frombits(uint32(bits)))
	case "lreal":
		return math.Float64frombits(bits)
	}
	return float64(bits)
}

// words are the registers that hold a value, which is rounded to a whole number where the type holds no other. A
// value that the type cannot hold is an error: no number is wrapped round.
func (w *Wire) words(v float64) ([]uint16, error) {
	f, is := forms[w.Type]
	if !is {
		return nil, fmt.Errorf("%s is a single bit, and takes no number", w.Point)
	}
	if !f.fraction {
		v = math.RoundToEven(v)
	}
	if !(v >= f.low && v <= f.high) { // which nothing that is no number is
		return nil, fmt.Errorf(
			"%s cannot be %s: as %s it holds from %s to %s",
			w.Point,
			unit.Short(v),
			w.Type,
			unit.Short(f.low),
			unit.Short(f.high),
		)
	}
	var bits uint64
	switch {
	case w.Type == "real":
		bits = uint64(math.Float32bits(float32(v)))
	case f.fraction:
		bits = math.Float64bits(v)
	case f.low < 0:
		bits = uint64(int64(v))
	default:
		bits = uint64(v)
	}
	words := make([]uint16, w.Size)
	for i := range words {
		at := len(words) - 1 - i
		if w.LowWordFirst {
			at = i
		}
		words[at] = w.turned(uint16(bits))
		bits >>= 16
	}
	return words, nil
}

// turned turns the bytes of a register round where the low one comes first.
func (w *Wire) turned(word uint16) uint16 {
	if w.LowByteFirst {
		return word<<8 | word>>8
	}
	return word
}
