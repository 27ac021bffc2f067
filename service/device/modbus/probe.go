package modbus

import (
	"errors"
	"fmt"
	"math"

	"github.com/simonvetter/modbus"
)

// A Probe is what stands in a device where a point is wired, whatever the point takes it for.
type Probe struct {
	*Wire
	Words []uint16 // as many as the longest type takes, or as the device gives; none of a single bit
	On    bool     // of a single bit, or of a bit of a register
	Forms []Form
}

// A Form is a type and an order of bytes, and the value that the words are by them; NaN if it is no number.
type Form struct {
	Type, Order string
	Value       float64
	Wired       bool // so is the point wired
}

// types are those of numbers, the shortest first.
var types = []struct {
	name string
	size int
}{{"uint", 1}, {"int", 1}, {"udint", 2}, {"dint", 2}, {"real", 2}, {"ulint", 4}, {"lint", 4}, {"lreal", 4}}

// Probe reads what stands where a wire is. It reads as far as the longest type goes; where the device refuses that,
// no further than the wire. The error is ErrNoAnswer where the device does not answer, or the exception's.
func (l *Line) Probe(d *Device, w *Wire) (*Probe, error) {
	p := &Probe{Wire: w}
	r := Request{Table: w.Table, First: w.Address, Count: 1}
	if w.Registers() {
		r.Count = min(types[len(types)-1].size, math.MaxUint16+1-w.Address)
	}
	words, bits, err := l.twice(d.Unit, r)
	if errors.Is(err, modbus.ErrIllegalDataAddress) && r.Count > w.Size {
		r.Count = w.Size
		words, bits, err = l.twice(d.Unit, r)
	}
	if exception(err) {
		return nil, fmt.Errorf("the device %s refuses to read %s %d: %w", l.name, w.Table, w.Address, err)
	}
	if err != nil {
		return nil, err
	}
	if !w.Registers() {
		p.On = bits[0]
		return p, nil
	}
	p.Words, p.On = words, w.Bit >= 0 && words[0]>>w.Bit&1 == 1
	for _, t := range types {
		if t.size > len(words) {
			break
		}
		for order := range 4 {
			x := Wire{Type: t.name, Size: t.size, LowWordFirst: order&1 != 0, LowByteFirst: order&2 != 0}
			if x.LowWordFirst && t.size == 1 {
				continue
			}
			wired := x.Type == w.Type && x.LowWordFirst == w.LowWordFirst && x.LowByteFirst == w.LowByteFirst
			p.Forms = append(p.Forms, Form{t.name, x.Order(), x.value(words[:t.size]), wired})
		}
	}
	return p, nil
}
