// Package modbus is what a job has in a Modbus device (MODBUS Application Protocol 1.1b3): where each of its
// points stands, in what form, and which requests read them.
package modbus

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// What is used where a device's declaration says nothing.
const (
	DefaultPoll    = time.Second
	DefaultTimeout = time.Second
)

// A Wire is a point of a job, or a heartbeat, where it stands in a device.
type Wire struct {
	Point     string
	Driven    bool   // it is written
	Heartbeat bool   // and is no point
	Table     string // holding, input, discrete or coil
	Address   int    // of the protocol, from 0
	Size      int    // in registers, or 1 for a single bit
	Type      string // of IEC 61131-3: uint, real, …; bool for a single bit or a bit of a register
	Bit       int    // of a register, from 0, the lowest; -1 where it is the whole

	LowWordFirst, LowByteFirst bool

	Every   time.Duration // how often it is read, or read back; of a heartbeat, toggled
	Refresh time.Duration // how often it is written even if it has not changed; 0 for never
	Fail    string        // what it goes to where the rules cannot decide, which is to be set in the device, too
}

// Registers tells whether the wire stands in registers, not among single bits.
func (w *Wire) Registers() bool { return w.Table == "holding" || w.Table == "input" }

// Reference is the number that the wire's first register, or its bit, has in the manuals of many devices: the
// table's digit, and a number from 1.
func (w *Wire) Reference() string {
	digit := map[string]int{"coil": 0, "discrete": 1, "input": 3, "holding": 4}[w.Table]
	return fmt.Sprintf("%d%05d", digit, w.Address+1)
}

// place is where the wire stands in its device, in words.
func (w *Wire) place() string {
	if w.Registers() && w.Bit >= 0 {
		return fmt.Sprintf("%s %d bit %d", w.Table, w.Address, w.Bit)
	}
	return fmt.Sprintf("%s %d", w.Table, w.Address)
}

// key identifies the place of the wire and how its value stands there.
func (w *Wire) key(d *Device) string {
	return fmt.Sprintf("%s unit %d %s %s %s", d.line(), d.Unit, w.place(), w.Type, w.Order())
}

// joins reports whether the wire can be written in one request with its neighbours: a bit of a register cannot.
func (w *Wire) joins() bool { return !w.Registers() || w.Type != "bool" }

// Order is how the bytes of a value that takes several registers follow each other, A being the highest: ABCD,
// CDAB; of a single register AB or BA; empty of a bit.
func (w *Wire) Order() string {
	if w.Type == "bool" {
		return ""
	}
	var order []byte
	for i := range 2 * w.Size {
		order = append(order, 'A'+byte(i))
	}
	if w.LowByteFirst {
		for i := 0; i < len(order); i += 2 {
			order[i], order[i+1] = order[i+1], order[i]
		}
	}
	if w.LowWordFirst {
		var words []byte
		for i := len(order) - 2; i >= 0; i -= 2 {
			words = append(words, order[i], order[i+1])
		}
		order = words
	}
	return string(order)
}

// A Device is a device of a job with all that is wired to it, in the order of tables and addresses.
type Device struct {
	*sheet.Device
	Timeout time.Duration
	Wires   []Wire
	Settle  time.Duration // of the job
	poll    time.Duration // of points that do not say otherwise
}

// Devices are those of a job, in the order of its sheets.
func Devices(p *logic.Program) []*Device {
	var all []*Device
	named := map[string]*Device{}
	for _, d := range p.Job.Devices {
		of := &Device{
			Device:  d,
			Timeout: lasting(p, d.Timeout, DefaultTimeout),
			Settle:  time.Duration(sheet.DefaultSettle),
			poll:    lasting(p, d.Poll, DefaultPoll),
		}
		if s := p.Job.Settle; s != nil {
			of.Settle = long(p, s)
		}
		if w := d.Heartbeat; w != nil {
			x := of.wire("heartbeat", w)
			x.Heartbeat, x.Driven, x.Every, x.Type = true, true, long(p, d.Beat), "bool"
			of.Wires = append(of.Wires, x)
		}
		all, named[d.Name] = append(all, of), of
	}
	for _, in := range p.Job.Inputs {
		if w := in.Source; w != nil {
			of := named[w.Device.Name]
			x := of.wire(in.Name, w)
			x.Every = lasting(p, in.Poll, of.poll)
			of.Wires = append(of.Wires, x)
		}
	}
	for _, o := range p.Job.Outputs {
		if w := o.Drives; w != nil {
			of := named[w.Device.Name]
			x := of.wire(o.Name, w)
			x.Driven, x.Every, x.Refresh, x.Fail = true, of.poll, lasting(p, o.Refresh, 0), failOf(o)
			of.Wires = append(of.Wires, x)
		}
	}
	for _, d := range all {
		slices.SortStableFunc(d.Wires, func(a, b Wire) int {
			return cmp.Or(slices.Index(tables, a.Table)-slices.Index(tables, b.Table), a.Address-b.Address, a.Bit-b.Bit)
		})
	}
	return all
}

// tables are the four of the Modbus data model, in the order of the functions that read them.
var tables = []string{"coil", "discrete", "holding", "input"}

func (d *Device) wire(point string, w *sheet.WireClause) Wire {
	x := Wire{Point: point, Table: w.Table, Address: w.Address, Size: w.Size, Bit: w.Bit, Type: w.Type}
	if x.Type == "" {
		x.Type = "uint"
		if w.Bit >= 0 || !x.Registers() {
			x.Type = "bool"
		}
	}
	first := func(own string, of *sheet.WordClause) bool {
		if own == "" && of != nil {
			own = of.Word
		}
		return own == "low"
	}
	x.LowWordFirst, x.LowByteFirst = w.Size > 1 && first(w.WordOrder, d.WordOrder), x.Registers() && first(w.ByteOrder, d.ByteOrder)
	return x
}

// Watchdog is how long a watchdog in the device, that looks at the heartbeat, must wait at the least to outlast a
// restart of the service: until its devices have answered or timed out, and the job has settled, it is not
// toggled. What the machine takes to start the service comes on top.
func (d *Device) Watchdog() time.Duration {
	for _, w := range d.Wires {
		if w.Heartbeat {
			return d.Settle + 2*d.Timeout + 2*w.Every
		}
	}
	return 0
}

// failOf is what an output goes to where its callers cannot decide.
func failOf(o *sheet.Output) string {
	switch {
	case o.Fail == nil && o.Range != nil:
		return o.Range.From.String()
	case o.Fail == nil:
		return "off"
	case o.Fail.Value != nil:
		return o.Fail.Value.String()
	}
	return o.Fail.Word
}

// lasting is how long a clause says, or else a usual time.
func lasting(p *logic.Program, d *sheet.DurationClause, usual time.Duration) time.Duration {
	if d == nil {
		return usual
	}
	return long(p, d.Duration)
}

// long is how long a duration is, by the written value of the setpoint or constant where it names one.
func long(p *logic.Program, d *sheet.Duration) time.Duration {
	if d.Name == "" {
		return time.Duration(d.Amount.Nanoseconds())
	}
	written := p.Settings[p.Index(logic.SettingKind, d.Name)].Value
	return time.Duration(math.Round(written.In(unit.MustLookup("s")) * 1e9))
}
