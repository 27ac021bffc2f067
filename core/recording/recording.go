// Package recording keeps recorded signals: columns of times and values, in
// blocks that know their smallest and largest value, so that a replay or a plot
// can pass over what it does not need.
//
// Readers of file formats are in packages below this one.
package recording

import (
	"fmt"
	"math"
	"math/bits"
	"slices"
	"sort"
)

// BlockSize is the largest number of samples in a block.
const BlockSize = 4096

// A Recording is a set of columns, one a point, with their times.
type Recording struct {
	Columns []*Column
	Origin  int64 // the time that offsets count from: the first row's, also of a part that was cut out
	Start   int64 // the first row's time, whether or not it holds a reading
	End     int64 // the last row's time
	Rows    int   // that the file held
	Clock   Clock
	Notes   []string // what a person should know of how it was read

	Understood Understood
}

// Samples is the number of readings in all columns.
func (r *Recording) Samples() int {
	n := 0
	for _, c := range r.Columns {
		n += c.Len()
	}
	return n
}

// Column finds a column by name; nil if there is none.
func (r *Recording) Column(name string) *Column {
	i := slices.IndexFunc(r.Columns, func(c *Column) bool { return c.Name == name })
	if i < 0 {
		return nil
	}
	return r.Columns[i]
}

// A Column is the readings of one point, in order of time; no two of one time.
// NaN is a bad reading.
type Column struct {
	Name   string
	Unit   string // as the heading says it; empty if it says none
	Blocks []*Block
	Word   *Word // the first cell that held a word such as `open`; nil if all were numbers
}

// A Word is a word for on or off in a cell, with its place in the file.
type Word struct {
	Text         string
	Line, Column int
}

// Len is the number of readings.
func (c *Column) Len() int {
	n := 0
	for _, b := range c.Blocks {
		n += b.Len()
	}
	return n
}

// Each calls f for every reading, in order, until it returns false.
func (c *Column) Each(f func(t int64, v float64) bool) {
	for _, b := range c.Blocks {
		for i, t := range b.Times {
			if !f(t, b.At(i)) {
				return
			}
		}
	}
}

// Held is the value at a time: that of the last reading up to it. Read is false
// before the first.
func (c *Column) Held(t int64) (v float64, read bool) {
	i := sort.Search(len(c.Blocks), func(i int) bool { return c.Blocks[i].Times[0] > t })
	if i == 0 {
		return 0, false
	}
	b := c.Blocks[i-1]
	k := sort.Search(b.Len(), func(k int) bool { return b.Times[k] > t })
	return b.At(k - 1), true
}

// NotDiscrete finds the first reading that is neither 0, 1 nor bad.
func (c *Column) NotDiscrete() (t int64, v float64, found bool) {
	for _, b := range c.Blocks {
		if b.Values == nil {
			continue
		}
		for i, v := range b.Values {
			if v != 0 && v != 1 && !math.IsNaN(v) && !math.IsInf(v, 0) {
				return b.Times[i], v, true
			}
		}
	}
	return 0, 0, false
}

// A Block is at most BlockSize readings. Times may be shared with the blocks of
// columns that were sampled together and must not be changed.
type Block struct {
	Times  []int64
	Values []float64 // nil if all readings are 0, 1 or bad; then On and NotGood hold them
	On     []uint64  // a bit a reading
	Broken []uint64  // a bit a bad reading; nil if there is none

	Min, Max    float64 // of the good readings; NaN if there is none
	First, Last float64
	AnyBad      bool

	extents []extent // of the stretches of Values
}

// NewBlock summarises readings, and packs them into bits if it can.
func NewBlock(times []int64, values []float64) *Block {
	b := &Block{Times: times, Values: values, Min: math.NaN(), Max: math.NaN(), First: values[0], Last: values[len(values)-1]}
	b.extents = extents(values)
	low, high := math.Inf(1), math.Inf(-1)
	for i, e := range b.extents {
		if e.low <= e.high {
			low, high = min(low, e.low), max(high, e.high)
			continue
		}
		b.AnyBad = true
		for _, v := range values[i*stretch : min((i+1)*stretch, len(values))] {
			if v-v == 0 {
				low, high = min(low, v), max(high, v)
			}
		}
	}
	if low <= high {
		b.Min, b.Max = low, high
	}
	if !(low < 0 || high > 1) && onlyBits(values) {
		b.pack()
	}
	return b
}

// onlyBits tells whether all readings are 0, 1 or bad, and so can be kept as
// bits; an infinity cannot, nor a zero with a sign.
func onlyBits(values []float64) bool {
	for _, v := range values {
		if v != 1 && math.Float64bits(v) != 0 && !math.IsNaN(v) {
			return false
		}
	}
	return true
}

func (b *Block) pack() {
	words := (len(b.Values) + 63) / 64
	b.On = make([]uint64, words)
	if b.AnyBad {
		b.Broken = make([]uint64, words)
	}
	for i, v := range b.Values {
		bit := uint64(1) << (i % 64)
		switch {
		case math.IsNaN(v):
			b.Broken[i/64] |= bit
		case v == 1:
			b.On[i/64] |= bit
		}
	}
	b.Values, b.extents = nil, nil
}

// bitBlock is a block of readings that are bits already; broken is empty, or has those that are bad.
func bitBlock(times []int64, on, broken []uint64) *Block {
	b := &Block{Times: times, On: on, Min: math.NaN(), Max: math.NaN()}
	last := len(on) - 1
	some := ^uint64(0) >> (63 - (len(times)-1)%64) // the bits of the last word that are readings
	on[last] &= some
	zeros, ones := len(times), 0
	if len(broken) > 0 {
		broken[last] &= some
		for i, w := range broken {
			on[i] &^= w
			zeros -= bits.OnesCount64(w)
			b.AnyBad = b.AnyBad || w != 0
		}
	}
	if b.AnyBad {
		b.Broken = broken
	}
	for _, w := range on {
		ones += bits.OnesCount64(w)
	}
	zeros -= ones
	if ones > 0 {
		b.Min, b.Max = 1, 1
	}
	if zeros > 0 {
		b.Min = 0
		if ones == 0 {
			b.Max = 0
		}
	}
	b.First, b.Last = b.At(0), b.At(len(times)-1)
	return b
}

// Len is the number of readings.
func (b *Block) Len() int { return len(b.Times) }

// At is the i-th reading; NaN if it is bad.
func (b *Block) At(i int) float64 {
	if b.Values != nil {
		return b.Values[i]
	}
	bit := uint64(1) << (i % 64)
	if b.Broken != nil && b.Broken[i/64]&bit != 0 {
		return math.NaN()
	}
	if b.On[i/64]&bit != 0 {
		return 1
	}
	return 0
}

// Cut is the part of the recording from one time to another, both included. It
// shares the readings with the whole.
func (r *Recording) Cut(from, to int64) (*Recording, error) {
	if from <= r.Start && to >= r.End {
		return r, nil
	}
	cut := &Recording{Origin: r.Origin, Clock: r.Clock, Notes: r.Notes, Understood: r.Understood, Start: math.MaxInt64, End: math.MinInt64}
	for _, c := range r.Columns {
		part := &Column{Name: c.Name, Unit: c.Unit, Word: c.Word}
		for _, b := range c.Blocks {
			if piece := b.cut(from, to); piece != nil {
				part.Blocks = append(part.Blocks, piece)
				cut.Start = min(cut.Start, piece.Times[0])
				cut.End = max(cut.End, piece.Times[piece.Len()-1])
			}
		}
		cut.Columns = append(cut.Columns, part)
	}
	if cut.Start > cut.End {
		return nil, fmt.Errorf("no reading lies between %s and %s; the recording goes from %s to %s",
			r.Clock.Format(from), r.Clock.Format(to), r.Clock.Format(r.Start), r.Clock.Format(r.End))
	}
	return cut, nil
}

func (b *Block) cut(from, to int64) *Block {
	i, _ := slices.BinarySearch(b.Times, from)
	k, exact := slices.BinarySearch(b.Times, to)
	if exact {
		k++
	}
	if i >= k {
		return nil
	}
	if i == 0 && k == b.Len() {
		return b
	}
	values := make([]float64, 0, k-i)
	for n := i; n < k; n++ {
		values = append(values, b.At(n))
	}
	return NewBlock(b.Times[i:k], values)
}

// Histogram counts the good readings in equally wide bins from the lowest to
// the highest of them, and the bad ones.
func (c *Column) Histogram(bins int) (low, high float64, counts []int, bad int) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, b := range c.Blocks {
		if !math.IsNaN(b.Min) {
			low, high = min(low, b.Min), max(high, b.Max)
		}
	}
	counts = make([]int, bins)
	if low > high {
		low, high = 0, 0
	}
	width := high/float64(bins) - low/float64(bins) // which does not overflow
	c.Each(func(_ int64, v float64) bool {
		switch {
		case math.IsNaN(v) || math.IsInf(v, 0):
			bad++
		case width == 0:
			counts[0]++
		default:
			counts[min(int(v/width-low/width), bins-1)]++
		}
		return true
	})
	return low, high, counts, bad
}

// An Extent is the smallest and largest good reading in a stretch of time.
type Extent struct {
	Min, Max float64 // NaN if there is no good reading
	Last     float64 // what it ends with; NaN if that is bad
	Readings int
	Bad      bool // at least one reading is bad
}

// Extents divides the time from one instant to another into n equal stretches
// and gives the extent of each: what a plot of n pixels shows. No spike is
// averaged away. Blocks that lie within one stretch are not read.
func (c *Column) Extents(from, to int64, n int) []Extent {
	all := make([]Extent, n)
	for i := range all {
		all[i] = Extent{Min: math.NaN(), Max: math.NaN()}
	}
	if to <= from {
		return all
	}
	width := (float64(to) - float64(from)) / float64(n)
	stretch := func(t int64) int { return min(int(float64(t-from)/width), n-1) }
	for _, b := range c.Blocks {
		first, last := b.Times[0], b.Times[b.Len()-1]
		if last < from || first > to {
			continue
		}
		if first >= from && last <= to && stretch(first) == stretch(last) {
			e := &all[stretch(first)]
			e.add(b.Min, b.Max, b.Len(), b.AnyBad)
			e.Last = finite(b.At(b.Len() - 1))
			continue
		}
		i, _ := slices.BinarySearch(b.Times, from)
		for ; i < b.Len() && b.Times[i] <= to; i++ {
			v := finite(b.At(i))
			e := &all[stretch(b.Times[i])]
			e.add(v, v, 1, math.IsNaN(v))
			e.Last = v
		}
	}
	return all
}

// HeldExtents gives each of equally wide stretches from one time to another what a plot shows
// of it: its extent, or, where no reading came, the value that held, as an extent
// without readings. first is the first stretch of which anything is known.
func (c *Column) HeldExtents(from, to int64, n int) (all []Extent, first int) {
	all = c.Extents(from, to, n)
	last, read := c.Held(from)
	last = finite(last)
	for i := range all {
		switch e := &all[i]; {
		case e.Readings > 0:
			last, read = e.Last, true
		case !read:
			first = i + 1
		default:
			*e = Extent{Min: last, Max: last, Last: last, Bad: math.IsNaN(last)}
		}
	}
	return all, first
}

// finite is a reading, NaN if it is bad.
func finite(v float64) float64 {
	if math.IsInf(v, 0) {
		return math.NaN()
	}
	return v
}

func (e *Extent) add(low, high float64, readings int, bad bool) {
	e.Readings += readings
	e.Bad = e.Bad || bad
	if math.IsNaN(low) {
		return
	}
	if math.IsNaN(e.Min) {
		e.Min, e.Max = low, high
		return
	}
	e.Min, e.Max = min(e.Min, low), max(e.Max, high)
}
