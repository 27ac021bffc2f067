package sheet

import (
	"net"
	"strconv"
)

// A Device is where live points are wired: for now a Modbus server that is
// reached over TCP (MODBUS Application Protocol 1.1b3, and Messaging on TCP/IP
// 1.0b). On the bench it is only checked.
type Device struct {
	Head
	Address   string // HOST:PORT
	AddressAt Place
	Unit      int // the unit identifier, 0 to 247
	Poll      *DurationClause
	Timeout   *DurationClause
}

// A WireClause is `source DEVICE TABLE ADDRESS` or `drives …`.
type WireClause struct {
	Clause
	Device  *Name
	Table   string // holding, input, discrete or coil
	Address int    // of the protocol, from 0
	TableAt Place
}

// Keyword is the word that the declaration begins with.
func (*Device) Keyword() string { return "device" }

// tables are the four of the Modbus data model; the first two hold numbers.
var tables = []string{"holding", "input", "discrete", "coil"}

// numbers tells whether the table holds 16-bit registers, not single bits.
func (w *WireClause) numbers() bool { return w.Table == "holding" || w.Table == "input" }

func (w *WireClause) String() string {
	return w.Device.Name + " " + w.Table + " " + strconv.Itoa(w.Address)
}

func (p *printer) wire(keyword string, w *WireClause) {
	if w != nil {
		p.clause(w.Clause, keyword+" "+w.String())
	}
}

func (p *parser) device(h Head) Declaration {
	d := &Device{Head: h}
	p.name(&d.Head)
	if t := p.peek(); !p.accept("modbus", "tcp") {
		p.fail(t, "%s where the kind of device must stand: modbus tcp", t.source())
	}
	t := p.next()
	d.Address, d.AddressAt = t.text, p.place(t)
	if t.kind != tokString {
		p.fail(t, "%s where the device's address must stand, in quotes: \"127.0.0.1:502\"", t.source())
	}
	p.expect("unit", "before the device's unit number")
	d.Unit = p.whole16("the unit number", 247)
	return d
}

func (d *Device) words() []string {
	return []string{d.Name, d.label(), "modbus tcp", quote(d.Address), "unit " + strconv.Itoa(d.Unit)}
}

func (d *Device) rows() []row {
	return d.rowsWith(false, durationRow("poll", &d.Poll), durationRow("timeout", &d.Timeout))
}

// wireRow is that of where a point is wired.
func wireRow(keyword string, to **WireClause) row {
	return row{keyword: keyword,
		read:  func(p *parser, c Clause) { *to = p.wire(c) },
		print: func(p *printer) { p.wire(keyword, *to) }}
}

// whole16 reads a whole number from 0.
func (p *parser) whole16(what string, most int) int {
	t := p.next()
	n, err := strconv.Atoi(t.text)
	if t.kind != tokNumber || err != nil || n > most {
		p.fail(t, "%s where %s must stand, from 0 to %d", t.source(), what, most)
	}
	return n
}

func (p *parser) wire(c Clause) *WireClause {
	w := &WireClause{Clause: c, Device: p.aName()}
	w.TableAt = p.place(p.peek())
	w.Table = p.oneOf("the table", tables...)
	w.Address = p.whole16("the address", 65535)
	return w
}

func (c *checker) device(d *Device) {
	if host, port, err := net.SplitHostPort(d.Address); err != nil || host == "" || port == "" {
		c.errorf(d.AddressAt, "address", "%q is no address of a device; write host and port, such as 127.0.0.1:502", d.Address)
	}
	c.clauses(d.rows())
}

// wire checks where a point is wired, and that no other is wired there.
func (c *checker) wire(w *WireClause, point *Head, numbers, drives bool) {
	if w == nil {
		return
	}
	if d := c.resolve(w.Device); d != nil {
		if _, is := d.(*Device); !is {
			c.errorf(w.Device.At, "wrong-kind", "%s is %s; a point is wired to a device", w.Device.Name, describe(d))
		}
	}
	writable := w.Table == "holding" || w.Table == "coil"
	switch {
	case numbers != w.numbers() && numbers:
		c.errorf(w.TableAt, "wrong-kind", "%s has a value, and the table %s holds single bits; write holding or input", point.Name, w.Table)
	case numbers != w.numbers():
		c.errorf(w.TableAt, "wrong-kind", "%s is on or off, and the table %s holds registers; write discrete or coil", point.Name, w.Table)
	case drives && !writable:
		c.errorf(w.TableAt, "wrong-kind", "the table %s can only be read, and %s is driven; write coil or holding", w.Table, point.Name)
	}
	if before := c.wires[w.String()]; before != nil {
		c.errorf(
			w.At,
			"same-address",
			"%s is wired to %s, as %s is in line %d; one of the two addresses is wrong",
			point.Name,
			w,
			before.Name,
			before.At.Line,
		)
		return
	}
	c.wires[w.String()] = point
}
