package recording

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// The encoding of a block, for keeping it in a store:
//
//	byte     1, the version
//	byte     0: float64 values; 1: bits; 2: bits, with a second set for bad
//	         readings; 3: decimals
//	uvarint  the number of readings
//	varint   the first time, then the first step, then each change of the step
//	values   8 bytes each, little endian; or 8 bytes for each 64 bits; or, for
//	         decimals, a byte for their places after the point, then the first
//	         as a varint of units in the last place, then each difference
//
// Cards and loggers give whole numbers or a few decimals, so that most blocks
// are decimals, at one to three bytes a reading. Regular times and steady
// signals leave long runs of equal bytes, which a general compressor then takes
// care of.
const (
	version   = 1
	asValues  = 0
	asBits    = 1
	asBitsBad = 2
	asDecimal = 3
)

// maxPlaces is the largest number of places after the point of a decimal block.
const maxPlaces = 6

// decimals gives values as whole numbers of units in the last place, if they
// all are such numbers and come back from them bit for bit.
func decimals(values []float64) (units []int64, places int, ok bool) {
	const most = 1 << 53
	for places = 0; places <= maxPlaces; places++ {
		scale := tens[places]
		if x := values[0] * scale; math.Round(x)/scale == values[0] && math.Abs(x) < most {
			break
		}
	}
	units = make([]int64, len(values))
	for places <= maxPlaces {
		scale, exact := tens[places], true
		for i, v := range values {
			x := math.RoundToEven(v * scale) // one instruction, and the comparison below decides
			if !(math.Abs(x) < most) || math.Float64bits(float64(int64(x))/scale) != math.Float64bits(v) {
				exact = false
				break
			}
			units[i] = int64(x)
		}
		if exact {
			return units, places, true
		}
		places++
	}
	return nil, 0, false
}

// EncodeTimes is how a block's encoding gives its times. Columns that were read
// together share their times, and need it once.
func EncodeTimes(times []int64) []byte {
	data := binary.AppendUvarint(make([]byte, 0, len(times)+16), uint64(len(times)))
	var last, step int64
	for _, t := range times {
		data = binary.AppendVarint(data, t-last-step)
		step, last = t-last, t
	}
	return data
}

// Encode is the block's encoding. times is what EncodeTimes makes of its Times,
// or nil.
func (b *Block) Encode(times []byte) []byte {
	if times == nil {
		times = EncodeTimes(b.Times)
	}
	form := byte(asValues)
	units, places, decimal := []int64(nil), 0, false
	if b.Values == nil {
		form = asBits
		if b.Broken != nil {
			form = asBitsBad
		}
	} else if units, places, decimal = decimals(b.Values); decimal {
		form = asDecimal
	}
	data := make([]byte, 0, len(times)+4*b.Len())
	data = append(data, version, form)
	data = append(data, times...)
	if decimal {
		data = append(data, byte(places))
		before := int64(0)
		for _, u := range units {
			data = binary.AppendVarint(data, u-before)
			before = u
		}
		return data
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

// errCorrupt is the error of data that Encode has not made.
var errCorrupt = errors.New("not an encoded block")

// DecodeBlock reads what Encode wrote. The summary is computed anew.
func DecodeBlock(data []byte) (*Block, error) {
	if len(data) < 2 || data[0] != version || data[1] > asDecimal {
		return nil, fmt.Errorf("decoding: %w: unknown form", errCorrupt)
	}
	form, rest := data[1], data[2:]
	n, size := binary.Uvarint(rest)
	if size <= 0 || n == 0 || n > BlockSize {
		return nil, fmt.Errorf("decoding: %w: bad number of readings", errCorrupt)
	}
	rest = rest[size:]
	times := make([]int64, n)
	var last, step int64
	for i := range times {
		change, size := binary.Varint(rest)
		if size <= 0 {
			return nil, fmt.Errorf("decoding: %w: times end early", errCorrupt)
		}
		rest = rest[size:]
		times[i] = last + step + change
		if i > 0 && times[i] <= last {
			return nil, fmt.Errorf("decoding: %w: times go back", errCorrupt)
		}
		step, last = times[i]-last, times[i]
	}
	if form == asDecimal {
		return decodeDecimals(times, rest)
	}
	sets := map[byte]int{asValues: int(n), asBits: int(n+63) / 64, asBitsBad: 2 * (int(n+63) / 64)}[form]
	if len(rest) != 8*sets {
		return nil, fmt.Errorf("decoding: %w: %d bytes of readings instead of %d", errCorrupt, len(rest), 8*sets)
	}
	word := func(i int) uint64 { return binary.LittleEndian.Uint64(rest[8*i:]) }
	values := make([]float64, n)
	for i := range values {
		bit := uint64(1) << (i % 64)
		switch {
		case form == asValues:
			values[i] = math.Float64frombits(word(i))
		case form == asBitsBad && word(sets/2+i/64)&bit != 0:
			values[i] = math.NaN()
		case word(i/64)&bit != 0:
			values[i] = 1
		}
	}
	return NewBlock(times, values), nil
}

func decodeDecimals(times []int64, rest []byte) (*Block, error) {
	if len(rest) == 0 || rest[0] > maxPlaces {
		return nil, fmt.Errorf("decoding: %w: bad number of places", errCorrupt)
	}
	scale := tens[rest[0]]
	rest = rest[1:]
	values := make([]float64, len(times))
	before := int64(0)
	for i := range values {
		change, size := binary.Varint(rest)
		if size <= 0 {
			return nil, fmt.Errorf("decoding: %w: readings end early", errCorrupt)
		}
		rest = rest[size:]
		before += change
		values[i] = float64(before) / scale
	}
	if len(rest) > 0 {
		return nil, fmt.Errorf("decoding: %w: %d bytes behind the readings", errCorrupt, len(rest))
	}
	return NewBlock(times, values), nil
}
