package parquet

import (
	"encoding/binary"
	"errors"
	"math"
)

// A walker goes through a structure in Thrift's compact protocol, in which
// Parquet writes what it says of itself, without making anything of it: it finds
// whether every list and text that is announced is really there, so that whoever
// makes room for them makes it for what exists.
//
// https://github.com/apache/thrift/blob/master/doc/specs/thrift-compact-protocol.md
type walker struct {
	data     []byte
	elements int // that may still come, in all lists together
}

// The limits of what a Parquet file says of itself.
const (
	mostElements = 1_000_000
	deepest      = 24
)

var (
	errCut     = errors.New("it announces more than it holds")
	errMany    = errors.New("it has more columns and row groups than any recording")
	errStrange = errors.New("it is not written as Parquet is")
)

func (w *walker) varint() (uint64, error) {
	v, n := binary.Uvarint(w.data)
	if n <= 0 {
		return 0, errCut
	}
	w.data = w.data[n:]
	return v, nil
}

func (w *walker) integer() (int64, error) {
	v, err := w.varint()
	return int64(v>>1) ^ -int64(v&1), err
}

func (w *walker) take(n uint64) error {
	if n > uint64(len(w.data)) {
		return errCut
	}
	w.data = w.data[n:]
	return nil
}

func (w *walker) one() (byte, error) {
	if len(w.data) == 0 {
		return 0, errCut
	}
	b := w.data[0]
	w.data = w.data[1:]
	return b, nil
}

// structure goes through a structure. number is told of every whole number that
// stands in it directly, and inner whether a structure in it is to be told of as
// well, by the function that it gives.
func (w *walker) structure(depth int, number func(field int16, v int64), inner func(field int16) func(field int16, v int64)) error {
	if depth > deepest {
		return errStrange
	}
	id := int16(0)
	for {
		b, err := w.one()
		if err != nil || b == 0 {
			return err
		}
		if delta := int16(b >> 4); delta > 0 {
			id += delta
		} else {
			v, err := w.integer()
			if err != nil {
				return err
			}
			if v < math.MinInt16 || v > math.MaxInt16 {
				return errStrange
			}
			id = int16(v)
		}
		switch kind := b & 0x0f; kind {
		case 1, 2: // true, false
			if number != nil {
				number(id, int64(2-kind))
			}
		case 4, 5, 6: // whole numbers
			v, err := w.integer()
			if err != nil {
				return err
			}
			if number != nil {
				number(id, v)
			}
		case 12:
			var within func(int16, int64)
			if inner != nil {
				within = inner(id)
			}
			if err := w.structure(depth+1, within, nil); err != nil {
				return err
			}
		default:
			if err := w.value(kind, depth); err != nil {
				return err
			}
		}
	}
}

// value passes over a value that stands in a structure or a list.
func (w *walker) value(kind byte, depth int) error {
	switch kind {
	case 1, 2, 3:
		_, err := w.one()
		return err
	case 4, 5, 6:
		_, err := w.varint()
		return err
	case 7: // a float64
		return w.take(8)
	case 8: // a text
		n, err := w.varint()
		if err != nil {
			return err
		}
		return w.take(n)
	case 9, 10: // a list or a set
		b, err := w.one()
		if err != nil {
			return err
		}
		n := uint64(b >> 4)
		if n == 15 {
			if n, err = w.varint(); err != nil {
				return err
			}
		}
		return w.list(n, depth, b&0x0f)
	case 11: // a map
		n, err := w.varint()
		if err != nil || n == 0 {
			return err
		}
		b, err := w.one()
		if err != nil {
			return err
		}
		return w.list(n, depth, b>>4, b&0x0f)
	case 12:
		return w.structure(depth+1, nil, nil)
	}
	return errStrange
}

// list passes over so many elements, each of some values.
func (w *walker) list(n uint64, depth int, kinds ...byte) error {
	if n > uint64(len(w.data)) {
		return errCut
	}
	if n > uint64(w.elements) {
		return errMany
	}
	w.elements -= int(n)
	for range n {
		for _, k := range kinds {
			if err := w.value(k, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}
