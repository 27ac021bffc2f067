package recording

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math"
	"math/bits"
	"strconv"
	"strings"
)

// words are the readings that are no numbers, in small letters.
var words = map[string]float64{
	"on": 1, "true": 1, "closed": 1, "off": 0, "false": 0, "open": 0,
	"nan": math.NaN(), "bad": math.NaN(), "null": math.NaN(),
	"inf": math.Inf(1), "+inf": math.Inf(1), "-inf": math.Inf(-1),
	"infinity": math.Inf(1), "+infinity": math.Inf(1), "-infinity": math.Inf(-1),
}

// ParseValue reads a reading: a number with a decimal mark, or a word, in any
// case of letters, of which `open` and the like are 0 and 1 and `bad` and the
// like are NaN. Word tells whether it was one for 0 or 1.
func ParseValue(b []byte, decimal byte) (v float64, word, ok bool) {
	if v, ok = ParseNumber(b, decimal); ok {
		return v, false, true
	}
	v, ok = words[strings.ToLower(string(b))]
	return v, ok && !math.IsNaN(v) && !math.IsInf(v, 0), ok
}

// FormatValue writes a reading so that ParseValue gives back the same bits; the
// payload of a NaN does not count.
func FormatValue(v float64) string {
	switch {
	case math.IsNaN(v):
		return "bad"
	case math.IsInf(v, 1):
		return "inf"
	case math.IsInf(v, -1):
		return "-inf"
	}
	if size := math.Abs(v); size != 0 && (size < 1e-6 || size >= 1e17) {
		return strconv.FormatFloat(v, 'e', -1, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}

// tens are the powers of ten that a float64 holds exactly.
var tens = [...]float64{1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11,
	1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// ParseNumber reads a number, correctly rounded. Short ones take the exact path
// of Clinger (How to read floating point numbers accurately, 1990): up to 15
// digits and a power of ten up to 22 are both exact, so one division rounds
// once. Everything else goes to strconv.
func ParseNumber(b []byte, decimal byte) (float64, bool) {
	v, n := Prefix(b, decimal)
	if n == len(b) && n > 0 {
		return v, true
	}
	return parseSlow(b, decimal)
}

// Prefix reads the short number that a text begins with, and its length in
// bytes; 0 where there is none, or none that the short way reads exactly.
//
// Eight bytes are looked at in one go, also beyond the text as far as its array
// goes: a byte is a digit if, without its 0x30, it is at most 9; the decimal
// mark is taken out, the digits moved to the end of the word, and added up in
// pairs, fours and eights (D. Lemire, Number parsing at a gigabyte per second,
// Software: Practice and Experience 51, 2021).
func Prefix(b []byte, decimal byte) (v float64, n int) {
	first := 0
	if len(b) > 0 && b[0] == '-' {
		first = 1
	}
	if cap(b) < first+8 {
		return prefixSlow(b, decimal)
	}
	const (
		low7  = 0x7f7f7f7f7f7f7f7f
		top   = 0x8080808080808080
		pairs = 0x000000ff000000ff
	)
	w := binary.LittleEndian.Uint64(b[first:first+8]) ^ 0x3030303030303030
	others := (((w & low7) + 0x7676767676767676) | w) & top
	// Shifts are by bits, and below 64, which the masks tell the compiler.
	k := uint(bits.TrailingZeros64(others)) &^ 7 // where the first byte stands that is no digit; 64 for none
	if k == 0 || k == 64 {
		return prefixSlow(b, decimal)
	}
	fraction := 0
	if byte(w>>(k&63))^0x30 == decimal {
		others &= others - 1
		end := uint(bits.TrailingZeros64(others)) &^ 7
		fraction = int(end-k)>>3 - 1
		if end == 64 || fraction == 0 {
			return prefixSlow(b, decimal)
		}
		n = int(end >> 3)
		w = (w&(1<<(k&63)-1) | w>>((k+8)&63)<<(k&63)) << ((72 - end) & 63)
	} else {
		n = int(k >> 3)
		w <<= (64 - k) & 63
	}
	if n += first; n > len(b) {
		return prefixSlow(b, decimal)
	}
	w = w*10 + w>>8
	v = float64(int64(((w&pairs)*0x000f424000000064 + (w>>16&pairs)*0x0000271000000001) >> 32))
	if fraction > 0 {
		v /= tens[fraction]
	}
	if first > 0 {
		v = -v
	}
	return v, n
}

// prefixSlow is Prefix, a digit at a time.
func prefixSlow(b []byte, decimal byte) (v float64, n int) {
	i, point := 0, 0
	if len(b) > 0 && b[0] == '-' {
		i = 1
	}
	first := i
	var mantissa uint64
	for ; i < len(b); i++ {
		if d := b[i] - '0'; d <= 9 {
			mantissa = mantissa*10 + uint64(d)
		} else if b[i] == decimal && point == 0 && i > first {
			point = i
		} else {
			break
		}
	}
	digits := i - first
	if point > 0 {
		digits--
	}
	if digits == 0 || digits > 15 || point == i-1 {
		return 0, 0
	}
	v = float64(int64(mantissa))
	if point > 0 {
		v /= tens[i-point-1]
	}
	if first > 0 {
		v = -v
	}
	return v, i
}

func isDigit(c byte) bool { return c-'0' <= 9 }

// parseSlow leaves to strconv what looks like a decimal number; its other
// forms are none here. A number beyond what a float64 holds is an infinity,
// which is a bad reading.
func parseSlow(b []byte, decimal byte) (float64, bool) {
	if decimal != '.' {
		if bytes.IndexByte(b, '.') >= 0 {
			return 0, false
		}
		b = bytes.Replace(b, []byte{decimal}, []byte{'.'}, 1)
	}
	for _, c := range b {
		if !isDigit(c) && c != '.' && c != '-' && c != '+' && c != 'e' && c != 'E' {
			return 0, false
		}
	}
	v, err := strconv.ParseFloat(string(b), 64)
	if err != nil && !errors.Is(err, strconv.ErrRange) {
		return 0, false
	}
	return v, true
}
