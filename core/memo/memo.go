// Package memo gives what lasts of a run a stated form: fields by number that can
// be written, read back and moved in time.
//
// A thing that remembers lists its fields once, in a method that hands each to
// Fields with its number:
//
//	func (c *Contact) Fields(f *memo.Fields) {
//		f.Bool(1, &c.On)
//		f.Time(2, &c.since)
//	}
//
// Whether they are written, read or shifted is up to the Fields. The form is the
// wire format of Protocol Buffers: a field that has its zero value is left out, one
// that is not known is passed over. So a later program reads what an earlier one
// wrote, as long as no number is used again for something else.
package memo

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"google.golang.org/protobuf/encoding/protowire"
)

// The times that stand for none; they are not moved.
const (
	Always = math.MinInt64
	Never  = math.MaxInt64
)

// Fields are those of one thing, being written, read or moved in time.
type Fields struct {
	do    deed
	out   []byte
	found []field
	by    int64
	err   error
}

type deed uint8

const (
	writing deed = iota
	reading
	shifting
)

// A field that was read.
type field struct {
	number protowire.Number
	bits   uint64 // of a number
	bytes  []byte // of text, a group, or many
}

// Write appends the fields that list hands over to a buffer.
func Write(to []byte, list func(*Fields)) []byte {
	f := Fields{do: writing, out: to}
	list(&f)
	return f.out
}

// Read gives the fields that list hands over the values that were written. What
// was left out becomes zero. It is an error if the bytes are no fields, or do not
// fit those that are asked for.
func Read(data []byte, list func(*Fields)) error {
	f := Fields{do: reading}
	if err := f.parse(data); err != nil {
		return err
	}
	list(&f)
	return f.err
}

// Shift moves every time by so many nanoseconds, within the range of times.
func Shift(by int64, list func(*Fields)) { list(&Fields{do: shifting, by: by}) }

var errForm = errors.New("this is no memory, or only a part of one")

func (f *Fields) parse(data []byte) error {
	for len(data) > 0 {
		number, kind, n := protowire.ConsumeTag(data)
		if n < 0 {
			return errForm
		}
		data = data[n:]
		x := field{number: number}
		switch kind {
		case protowire.VarintType:
			x.bits, n = protowire.ConsumeVarint(data)
		case protowire.Fixed64Type:
			x.bits, n = protowire.ConsumeFixed64(data)
		case protowire.BytesType:
			x.bytes, n = protowire.ConsumeBytes(data)
			if n >= 0 && x.bytes == nil {
				x.bytes = []byte{}
			}
		default:
			n = protowire.ConsumeFieldValue(number, kind, data)
		}
		if n < 0 {
			return errForm
		}
		data = data[n:]
		f.found = append(f.found, x)
	}
	return nil
}

// take finds the field of a number and removes it, so that a number that is
// written several times is met in its order.
func (f *Fields) take(number int) (x field, some bool) {
	for i := range f.found {
		if f.found[i].number == protowire.Number(number) {
			x, f.found[i].number = f.found[i], 0
			if i == 0 { // the usual case: fields are read as they were written
				f.found = f.found[1:]
			}
			return x, true
		}
	}
	return x, false
}

func (f *Fields) fail(number int, what string) {
	if f.err == nil {
		f.err = fmt.Errorf("field %d: %s", number, what)
	}
}

// number is the number of a field, written as it is.
func (f *Fields) number(number int, v uint64) {
	if v != 0 {
		f.out = protowire.AppendTag(f.out, protowire.Number(number), protowire.VarintType)
		f.out = protowire.AppendVarint(f.out, v)
	}
}

func (f *Fields) readNumber(number int) uint64 {
	x, some := f.take(number)
	if some && x.bytes != nil {
		f.fail(number, "a number was expected")
	}
	return x.bits
}

// Bool is a field that is true or not.
func (f *Fields) Bool(number int, v *bool) {
	switch f.do {
	case writing:
		f.number(number, protowire.EncodeBool(*v))
	case reading:
		*v = f.readNumber(number) != 0
	}
}

// Int is a field that is a count or another whole number.
func Int[T ~int | ~int32 | ~int64 | ~uint8](f *Fields, number int, v *T) {
	switch f.do {
	case writing:
		f.number(number, protowire.EncodeZigZag(int64(*v)))
	case reading:
		x := protowire.DecodeZigZag(f.readNumber(number))
		if *v = T(x); int64(*v) != x {
			f.fail(number, "a number that is too large")
		}
	}
}

// One is a field that is one of the first n numbers, such as a state.
func One[T ~uint8](f *Fields, number int, n T, v *T) {
	if Int(f, number, v); f.do == reading && *v >= n {
		f.fail(number, fmt.Sprintf("%d is none of the %d that it can be", *v, n))
		*v = 0
	}
}

// Time is a field that is a time in nanoseconds, which a shift moves.
func (f *Fields) Time(number int, v *int64) {
	if f.do != shifting {
		Int(f, number, v)
		return
	}
	if *v == Always || *v == Never {
		return
	}
	switch moved := *v + f.by; {
	case f.by > 0 && moved < *v:
		*v = Never
	case f.by < 0 && moved > *v:
		*v = Always
	default:
		*v = moved
	}
}

// Usually is a field that is a time and usually the one given, which costs nothing to
// write.
func (f *Fields) Usually(number int, usual int64, v *int64) {
	if f.do == shifting {
		f.Time(number, v)
		return
	}
	x := exchange(*v, usual)
	f.Time(number, &x)
	*v = exchange(x, usual)
}

// exchange gives 0 for the usual time, and that for 0.
func exchange(t, usual int64) int64 {
	switch t {
	case usual:
		return 0
	case 0:
		return usual
	}
	return t
}

// Float is a field that is a number, NaN included.
func (f *Fields) Float(number int, v *float64) {
	switch f.do {
	case writing:
		if bits := math.Float64bits(*v); bits != 0 {
			f.out = protowire.AppendTag(f.out, protowire.Number(number), protowire.Fixed64Type)
			f.out = protowire.AppendFixed64(f.out, bits)
		}
	case reading:
		*v = math.Float64frombits(f.readNumber(number))
	}
}

// Print is a field that is a fingerprint.
func (f *Fields) Print(number int, v *uint64) {
	bits := math.Float64frombits(*v)
	if f.Float(number, &bits); f.do == reading {
		*v = math.Float64bits(bits)
	}
}

// Text is a field that is text.
func (f *Fields) Text(number int, v *string) {
	switch f.do {
	case writing:
		if *v != "" {
			f.out = protowire.AppendTag(f.out, protowire.Number(number), protowire.BytesType)
			f.out = protowire.AppendString(f.out, *v)
		}
	case reading:
		x, _ := f.take(number)
		*v = string(x.bytes)
	}
}

// Floats is a field of many numbers.
func (f *Fields) Floats(number int, v *[]float64) {
	switch f.do {
	case writing:
		if len(*v) == 0 {
			return
		}
		f.out = protowire.AppendTag(f.out, protowire.Number(number), protowire.BytesType)
		f.out = protowire.AppendVarint(f.out, uint64(8*len(*v)))
		for _, x := range *v {
			f.out = protowire.AppendFixed64(f.out, math.Float64bits(x))
		}
	case reading:
		x, _ := f.take(number)
		if len(x.bytes)%8 != 0 {
			f.fail(number, "numbers of 8 bytes were expected")
			return
		}
		*v = (*v)[:0]
		for b := x.bytes; len(b) > 0; b = b[8:] {
			bits, _ := protowire.ConsumeFixed64(b)
			*v = append(*v, math.Float64frombits(bits))
		}
	}
}

// Group is a field that has fields of its own.
func (f *Fields) Group(number int, list func(*Fields)) {
	switch f.do {
	case writing:
		f.out = protowire.AppendTag(f.out, protowire.Number(number), protowire.BytesType)
		at := len(f.out)
		f.out = append(f.out, 0) // its length, which seldom needs another byte
		list(f)
		n := len(f.out) - at - 1
		if more := protowire.SizeVarint(uint64(n)) - 1; more > 0 {
			f.out = append(f.out, make([]byte, more)...)
			copy(f.out[at+1+more:], f.out[at+1:at+1+n])
		}
		protowire.AppendVarint(f.out[:at], uint64(n))
	case reading:
		if x, some := f.take(number); some {
			f.readGroup(x, number, list)
		} else {
			list(&Fields{do: reading})
		}
	case shifting:
		list(f)
	}
}

func (f *Fields) readGroup(x field, number int, list func(*Fields)) {
	inner := Fields{do: reading}
	if x.bytes == nil {
		f.fail(number, "fields were expected")
	} else if err := inner.parse(x.bytes); err != nil {
		f.fail(number, err.Error())
	}
	if list(&inner); inner.err != nil {
		f.fail(number, inner.err.Error())
	}
}

// Many is a field that is there any number of times. While it is read, n becomes
// how many there are, before list is asked for each by its place.
func (f *Fields) Many(number int, n *int, list func(f *Fields, i int)) {
	if f.do == reading {
		var all []field
		f.found = slices.DeleteFunc(f.found, func(x field) bool {
			if x.number != protowire.Number(number) {
				return false
			}
			all = append(all, x)
			return true
		})
		*n = len(all)
		for i, x := range all {
			f.readGroup(x, number, func(f *Fields) { list(f, i) })
		}
		return
	}
	for i := range *n {
		f.Group(number, func(f *Fields) { list(f, i) })
	}
}

// Reading tells whether values are read just now.
func (f *Fields) Reading() bool { return f.do == reading }

// Shifting tells whether times are moved just now.
func (f *Fields) Shifting() bool { return f.do == shifting }

// Fail makes Read give an error: what was read cannot be.
func (f *Fields) Fail(format string, args ...any) {
	if f.err == nil {
		f.err = fmt.Errorf(format, args...)
	}
}
