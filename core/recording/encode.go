package recording

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// The encoding of a block, for keeping it in a store:
//
//	byte     2, the version
//	byte     0: float64 values; 1: bits; 2: bits, with a second set for bad
//	         readings; 3: decimals
//	uvarint  the number of readings
//	numbers  the first time, then the first step, then each change of the step
//	values   8 bytes each, little endian; or 8 bytes for each 64 bits; or, for
//	         decimals, a byte for their places after the point, then as numbers
//	         the first in units of the last place, then each difference
//
// Numbers are packed as appendNumbers says; in version 1 each was a varint. Cards and loggers give whole numbers or a few decimals, so that most
// blocks are decimals, at one to three bytes a reading, and regular times take
// nothing. What repeats in longer patterns is left to a general compressor.
const (
	version   = 2
	varints   = 1 // the version before
	asValues  = 0
	asBits    = 1
	asBitsBad = 2
	asDecimal = 3
)

// maxPlaces is the largest number of places after the point of a decimal block.
const maxPlaces = 6

// decimals sets units to values as whole numbers of units in the last place, if
// they all are such numbers and come back from them bit for bit.
func decimals(units []int64, values []float64) (places int, ok bool) {
	const most = 1 << 53
	for places = 0; places <= maxPlaces; places++ {
		scale := tens[places]
		if x := values[0] * scale; math.Round(x)/scale == values[0] && math.Abs(x) < most {
			break
		}
	}
	for ; places <= maxPlaces; places++ {
		if exact(units, values, tens[places]) {
			return places, true
		}
	}
	return 0, false
}

func exact(units []int64, values []float64, scale float64) bool {
	const most = 1 << 53
	for i, v := range values {
		x := math.RoundToEven(v * scale) // one instruction, and the comparison below decides
		if !(math.Abs(x) < most) || math.Float64bits(float64(int64(x))/scale) != math.Float64bits(v) {
			return false
		}
		units[i] = int64(x)
	}
	return true
}

// EncodeTimes is how a block's encoding gives its times. Columns that were read
// together share their times, and need it once.
func EncodeTimes(times []int64) []byte {
	changes := make([]int64, len(times))
	var last, step int64
	for i, t := range times {
		changes[i] = t - last - step
		step, last = t-last, t
	}
	data := binary.AppendUvarint(make([]byte, 0, len(times)/32+64), uint64(len(times)))
	return appendNumbers(data, changes)
}

// AppendEncoding appends the block's encoding. times is what EncodeTimes makes of
// its Times, or nil.
func (b *Block) AppendEncoding(data, times []byte) []byte {
	if times == nil {
		times = EncodeTimes(b.Times)
	}
	form := byte(asValues)
	var room [BlockSize]int64
	units, places, decimal := room[:b.Len()], 0, false
	if b.Values == nil {
		form = asBits
		if b.Broken != nil {
			form = asBitsBad
		}
	} else if places, decimal = decimals(units, b.Values); decimal {
		form = asDecimal
	}
	data = append(data, version, form)
	data = append(data, times...)
	if decimal {
		data = append(data, byte(places))
		before := int64(0)
		for i, u := range units {
			units[i], before = u-before, u
		}
		return appendNumbers(data, units)
	}
	for _, v := range b.Values {
		data = binary.LittleEndian.AppendUint64(data, math.Float64bits(v))
	}
	for _, words := range [][]uint64{b.On, b.Broken} {
		for _, w := range words {
			data = binary.LittleEndian.AppendUint64(data, w)
		}
	}
	return data
}

// errCorrupt is the error of data that AppendEncoding has not made.
var errCorrupt = errors.New("not an encoded block")

// DecodeBlock reads what AppendEncoding wrote, now or in version 1. The summary is
// computed anew.
func DecodeBlock(data []byte) (*Block, error) {
	var d Decoder
	return d.Block(data)
}

// A Decoder reads the blocks of columns that were read together: the times that they share, it decodes
// once, and the blocks share them. Its zero value is ready for use.
type Decoder struct {
	version byte
	encoded []byte  // the last times, as they were written
	times   []int64 // and as they are
	units   []int64 // room for readings
}

// Block is DecodeBlock. Data is not to be changed as long as the decoder is used.
func (d *Decoder) Block(data []byte) (*Block, error) {
	if len(data) < 2 || data[0] != version && data[0] != varints || data[1] > asDecimal {
		return nil, fmt.Errorf("decoding: %w: unknown form", errCorrupt)
	}
	numbers := readNumbers
	if data[0] == varints {
		numbers = readVarints
	}
	form, rest := data[1], data[2:]
	if d.times != nil && data[0] == d.version && bytes.HasPrefix(rest, d.encoded) {
		rest = rest[len(d.encoded):]
	} else {
		times, behind, err := decodeTimes(rest, numbers)
		if err != nil {
			return nil, err
		}
		d.version, d.encoded, d.times = data[0], rest[:len(rest)-len(behind)], times
		rest = behind
	}
	n := len(d.times)
	if form != asDecimal {
		return decodePlain(d.times, form, rest)
	}
	if len(rest) == 0 || rest[0] > maxPlaces {
		return nil, fmt.Errorf("decoding: %w: bad number of places", errCorrupt)
	}
	if d.units == nil {
		d.units = make([]int64, BlockSize)
	}
	units, scale, ok := d.units[:n], tens[rest[0]], true
	if rest, ok = numbers(rest[1:], units); !ok || len(rest) > 0 {
		return nil, fmt.Errorf("decoding: %w: readings end early, or %d bytes behind them", errCorrupt, len(rest))
	}
	values := make([]float64, n)
	before := int64(0)
	for i, change := range units {
		before += change
		values[i] = float64(before) / scale
	}
	return NewBlock(d.times, values), nil
}

// decodeTimes reads what EncodeTimes made, and gives what is behind it.
func decodeTimes(data []byte, numbers func([]byte, []int64) ([]byte, bool)) (times []int64, behind []byte, err error) {
	n, size := binary.Uvarint(data)
	if size <= 0 || n == 0 || n > BlockSize {
		return nil, nil, fmt.Errorf("decoding: %w: bad number of readings", errCorrupt)
	}
	times = make([]int64, n)
	rest, ok := numbers(data[size:], times)
	if !ok {
		return nil, nil, fmt.Errorf("decoding: %w: times end early", errCorrupt)
	}
	var last, step int64
	for i, change := range times {
		times[i] = last + step + change
		if i > 0 && times[i] <= last {
			return nil, nil, fmt.Errorf("decoding: %w: times go back", errCorrupt)
		}
		step, last = times[i]-last, times[i]
	}
	return times, rest, nil
}

// decodePlain reads readings that stand as they are: in full, or as bits.
func decodePlain(times []int64, form byte, data []byte) (*Block, error) {
	n := len(times)
	words := (n + 63) / 64
	sets := map[byte]int{asValues: n, asBits: words, asBitsBad: 2 * words}[form]
	if len(data) != 8*sets {
		return nil, fmt.Errorf("decoding: %w: %d bytes of readings instead of %d", errCorrupt, len(data), 8*sets)
	}
	all := make([]uint64, sets)
	for i := range all {
		all[i] = binary.LittleEndian.Uint64(data[8*i:])
	}
	if form == asValues {
		values := make([]float64, n)
		for i, w := range all {
			values[i] = math.Float64frombits(w)
		}
		return NewBlock(times, values), nil
	}
	return bitBlock(times, all[:words:words], all[words:]), nil
}
