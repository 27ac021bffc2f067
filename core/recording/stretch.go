package recording

import (
	"math"
	"math/bits"
)

// A stretch is so many readings of a block, of which the lowest and the highest are kept, so that
// who looks for the next one that matters need not read them.
const stretch = 64

// An extent is the lowest and the highest reading of a stretch; NaN if any of them is bad.
type extent struct{ low, high float64 }

// within tells whether all readings lie between two values, ends excluded.
func (e extent) within(low, high float64) bool { return e.low > low && e.high < high }

// extents are those of every stretch.
func extents(values []float64) []extent {
	all := make([]extent, 0, (len(values)+stretch-1)/stretch)
	for len(values) > 0 {
		n := min(stretch, len(values))
		all = append(all, extentOf(values[:n]))
		values = values[n:]
	}
	return all
}

// extentOf is the extent of some values: v − v is NaN for a NaN and for an infinity. Two sums need not
// wait for each other.
func extentOf(values []float64) extent {
	low, high := math.Inf(1), math.Inf(-1)
	var even, odd float64
	for ; len(values) >= 2; values = values[2:] {
		v, w := values[0], values[1]
		even += v - v
		odd += w - w
		if v < low {
			low = v
		}
		if v > high {
			high = v
		}
		if w < low {
			low = w
		}
		if w > high {
			high = w
		}
	}
	if len(values) > 0 {
		v := values[0]
		even += v - v
		low, high = min(low, v), max(high, v)
	}
	if even+odd != 0 {
		return extent{math.NaN(), math.NaN()}
	}
	return extent{low, high}
}

// Outside is the first reading of a block, from one on, that does not lie between two values, ends
// excluded; the block's length if all do. A bad one lies nowhere.
func (b *Block) Outside(from int, low, high float64) int {
	switch {
	case from == 0 && !b.AnyBad && b.Min > low && b.Max < high:
		return b.Len()
	case b.Values == nil:
		return b.otherBit(from, low, high)
	}
	for from < len(b.Values) {
		end := min((from/stretch+1)*stretch, len(b.Values))
		if !b.extents[from/stretch].within(low, high) {
			for i, v := range b.Values[from:end] {
				if !(v > low && v < high) {
					return from + i
				}
			}
		}
		from = end
	}
	return b.Len()
}

// otherBit is Outside of a block of bits.
func (b *Block) otherBit(from int, low, high float64) int {
	zero, one := low < 0 && high > 0, low < 1 && high > 1
	for word := from / 64; word < len(b.On); word++ {
		other := uint64(0)
		if !zero {
			other |= ^b.On[word]
		}
		if !one {
			other |= b.On[word]
		}
		if b.Broken != nil {
			other |= b.Broken[word]
		}
		if word == from/64 {
			other &= ^uint64(0) << (from % 64)
		}
		if other != 0 {
			return min(word*64+bits.TrailingZeros64(other), b.Len())
		}
	}
	return b.Len()
}
