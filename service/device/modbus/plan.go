package modbus

import (
	"slices"
	"time"
)

// The limits of a request (MODBUS Application Protocol 1.1b3, 6.1 to 6.4), and how much that nobody asks for is
// read along between two points.
const (
	mostRegisters = 125
	mostBits      = 2000
	mostWritten   = 100 // registers or bits that one request writes; the last point may go beyond
	gapRegisters  = 8
	gapBits       = 16 * gapRegisters
)

// A Request reads neighbouring registers or bits at once.
type Request struct {
	Table  string
	First  int // address
	Count  int // registers, or bits
	Every  time.Duration
	Points []string
}

// Function is the code of the function that makes the request.
func (r *Request) Function() int {
	return map[string]int{"coil": 1, "discrete": 2, "holding": 3, "input": 4}[r.Table]
}

// Last is the last address that is read.
func (r *Request) Last() int { return r.First + r.Count - 1 }

// reads reports whether the request reads a wire.
func (r *Request) reads(w *Wire) bool {
	return !w.Heartbeat && w.Table == r.Table && w.Every == r.Every && w.Address >= r.First && w.Address+w.Size-1 <= r.Last()
}

// Requests are those that read the points of a device, and its outputs back: as few as can be, at each pace for
// itself, the quickest first. No value is split across two of them. A heartbeat is written only.
func (d *Device) Requests() []Request { return join(d.Wires, gapRegisters, gapBits) }

// join joins wires that are in the order of tables and addresses, and lie no further apart than gaps.
func join(wires []Wire, registers, bits int) []Request {
	var all []Request
	open := map[pace]int{} // the last request of a table at a pace
	for _, w := range wires {
		if w.Heartbeat {
			continue
		}
		gap, most := bits, mostBits
		if w.Registers() {
			gap, most = registers, mostRegisters
		}
		key := pace{w.Table, w.Every}
		if i, is := open[key]; is {
			r := &all[i]
			end := max(r.Last(), w.Address+w.Size-1)
			if w.Address-r.Last()-1 <= gap && end-r.First < most {
				r.Count = end - r.First + 1
				r.Points = append(r.Points, w.Point)
				continue
			}
		}
		open[key] = len(all)
		all = append(all, Request{Table: w.Table, First: w.Address, Count: w.Size, Every: w.Every, Points: []string{w.Point}})
	}
	slices.SortStableFunc(all, func(a, b Request) int { return int(min(max(a.Every-b.Every, -1), 1)) })
	return all
}

type pace struct {
	table string
	every time.Duration
}
