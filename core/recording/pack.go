package recording

import (
	"encoding/binary"
	"math/bits"
)

// groupSize is how many numbers are packed to one width.
const groupSize = 64

// appendNumbers packs numbers that are mostly small, of either sign: the first
// two, which are often large, as varints; then groups of up to 64, each a byte
// for the width of its widest number in bits and all of them at that width, one
// after the other from the lowest bit on, filled up to a whole byte. The sign is
// folded into the lowest bit, as varints do.
func appendNumbers(data []byte, numbers []int64) []byte {
	loose := min(len(numbers), 2)
	for _, v := range numbers[:loose] {
		data = binary.AppendVarint(data, v)
	}
	var group [groupSize]uint64
	for rest := numbers[loose:]; len(rest) > 0; {
		n := min(len(rest), groupSize)
		all := uint64(0)
		for i, v := range rest[:n] {
			group[i] = uint64(v)<<1 ^ uint64(v>>63)
			all |= group[i]
		}
		rest = rest[n:]
		width := bits.Len64(all)
		data = append(data, byte(width))
		if width == 0 {
			continue
		}
		word, filled := uint64(0), 0
		for _, v := range group[:n] {
			word |= v << filled
			if filled += width; filled >= 64 {
				data = binary.LittleEndian.AppendUint64(data, word)
				filled -= 64
				word = v >> (width - filled)
			}
		}
		for ; filled > 0; filled -= 8 {
			data = append(data, byte(word))
			word >>= 8
		}
	}
	return data
}

// readNumbers fills numbers from what appendNumbers made, and gives what is
// left; not ok where the data ends early.
func readNumbers(data []byte, numbers []int64) (rest []byte, ok bool) {
	loose := min(len(numbers), 2)
	if data, ok = readVarints(data, numbers[:loose]); !ok {
		return nil, false
	}
	for left := numbers[loose:]; len(left) > 0; {
		n := min(len(left), groupSize)
		if len(data) == 0 || data[0] > 64 {
			return nil, false
		}
		width := uint(data[0])
		size := int(uint(n)*width+7) / 8
		if data = data[1:]; len(data) < size {
			return nil, false
		}
		unpack(data[:size], width, left[:n])
		data, left = data[size:], left[n:]
	}
	return data, true
}

// unpack fills numbers from as many of some width.
func unpack(packed []byte, width uint, numbers []int64) {
	if width == 0 {
		clear(numbers)
		return
	}
	i, at := 0, uint(0)
	if width <= 57 { // eight bytes hold it, wherever in the first of them it begins
		mask := uint64(1)<<width - 1
		for ; i < len(numbers) && int(at/8)+8 <= len(packed); i++ {
			v := binary.LittleEndian.Uint64(packed[at/8:]) >> (at % 8) & mask
			numbers[i] = int64(v>>1) ^ -int64(v&1)
			at += width
		}
	}
	for ; i < len(numbers); i++ {
		v := bitsAt(packed, at, width)
		numbers[i] = int64(v>>1) ^ -int64(v&1)
		at += width
	}
}

// bitsAt is the number of some width that begins at a bit.
func bitsAt(packed []byte, at, width uint) uint64 {
	var word [16]byte // with room for a number that begins within a byte
	copy(word[:9], packed[at/8:])
	low := binary.LittleEndian.Uint64(word[:]) >> (at % 8)
	high := uint64(word[8]) << (64 - at%8)
	return (low | high) & (1<<width - 1)
}

// readVarints is readNumbers for numbers that are all varints.
func readVarints(data []byte, numbers []int64) (rest []byte, ok bool) {
	for i := range numbers {
		v, size := binary.Varint(data)
		if size <= 0 {
			return nil, false
		}
		numbers[i], data = v, data[size:]
	}
	return data, true
}
