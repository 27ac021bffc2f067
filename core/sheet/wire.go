package sheet

import (
	"slices"
	"strconv"
)

// A WireClause is `source DEVICE TABLE ADDRESS` or `drives …`: where a point is wired, and in what form
// it stands there.
type WireClause struct {
	Clause
	Device  *Name
	Table   string // holding, input, discrete or coil
	Address int    // of the protocol, from 0
	Type    string // of a number, of IEC 61131-3: int, real, …; empty for one register without a sign
	Size    int    // the registers that it takes, or 1 for a single bit
	Bit     int    // of a register, from 0, the lowest; -1 where it is the whole
	// low or high, which comes first; empty where the device's is meant
	WordOrder, ByteOrder string

	TableAt, FormAt Place
}

// noBit is the bit of what is no bit of a register.
const noBit = -1

// lastAddress is the last of a table.
const lastAddress = 65535

// tables are the four of the Modbus data model; the first two hold numbers.
var tables = []string{"holding", "input", "discrete", "coil"}

// wireTypes are the types of numbers (IEC 61131-3, 6.4.2.1), each with the number of registers that it takes.
var wireTypes = []struct {
	name      string
	registers int
}{{"int", 1}, {"uint", 1}, {"dint", 2}, {"udint", 2}, {"real", 2}, {"lint", 4}, {"ulint", 4}, {"lreal", 4}}

// numbers tells whether the table holds 16-bit registers, not single bits.
func (w *WireClause) numbers() bool { return w.Table == "holding" || w.Table == "input" }

func (w *WireClause) String() string {
	s := w.Device.Name + " " + w.Table + " " + strconv.Itoa(w.Address)
	if w.Type != "" {
		s += " " + w.Type
	}
	if w.Bit != noBit {
		s += " bit " + strconv.Itoa(w.Bit)
	}
	if w.WordOrder != "" {
		s += " word order " + w.WordOrder + " first"
	}
	if w.ByteOrder != "" {
		s += " byte order " + w.ByteOrder + " first"
	}
	return s
}

// wireRow is that of where a point is wired.
func wireRow(keyword string, to **WireClause) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) { *to = p.wire(c) },
		print: func(p *printer) {
			if w := *to; w != nil {
				p.clause(w.Clause, keyword+" "+w.String())
			}
		}}
}

// wholeUpTo reads a whole number from 0.
func (p *parser) wholeUpTo(what string, most int) int {
	t := p.next()
	n, err := strconv.Atoi(t.text)
	if t.kind != tokNumber || err != nil || n > most {
		p.fail(t, "%s where %s must stand, from 0 to %d", t.source(), what, most)
	}
	return n
}

func (p *parser) wire(c Clause) *WireClause {
	w := &WireClause{Clause: c, Device: p.aName(), Bit: noBit, Size: 1}
	w.TableAt = p.place(p.peek())
	w.Table = p.oneOf("the table", tables...)
	w.Address = p.wholeUpTo("the address", lastAddress)
	w.FormAt = p.place(p.peek())
	for _, t := range wireTypes {
		if p.accept(t.name) {
			w.Type, w.Size = t.name, t.registers
			break
		}
	}
	if p.accept("bit") {
		w.Bit = p.wholeUpTo("the bit", 15)
	}
	if p.accept("word", "order") {
		w.WordOrder = p.first()
	}
	if p.accept("byte", "order") {
		w.ByteOrder = p.first()
	}
	return w
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
	c.form(w, point, numbers)
	if writable := w.Table == "holding" || w.Table == "coil"; drives && !writable {
		c.errorf(w.TableAt, "wrong-kind", "the table %s can only be read, and %s is driven; write coil or holding", w.Table, point.Name)
	}
	c.claim(w, claim{point.Name, point.At.Line, w.Bit, w.String()})
}

// form checks in what form a point stands where it is wired.
func (c *checker) form(w *WireClause, point *Head, numbers bool) {
	last := w.Address + w.Size - 1
	switch {
	case numbers && !w.numbers():
		c.errorf(
			w.TableAt,
			"wrong-kind",
			"%s has a value, and the table %s holds single bits; write holding or input",
			point.Name,
			w.Table,
		)
	case numbers && w.Bit != noBit:
		c.errorf(w.FormAt, "wrong-kind", "%s has a value, and a bit is on or off; take `bit %d` out", point.Name, w.Bit)
	case !numbers && w.numbers() && (w.Bit == noBit || w.Type != ""):
		c.errorf(
			w.TableAt,
			"wrong-kind",
			"%s is on or off, and the table %s holds registers; write discrete or coil, or say which bit of the register: bit 3",
			point.Name,
			w.Table,
		)
	case !numbers && !w.numbers() && (w.Bit != noBit || w.Type != "" || w.ByteOrder != ""):
		c.errorf(w.FormAt, "wrong-kind", "the table %s holds single bits, which have no type, bit or order; take that out", w.Table)
	case w.WordOrder != "" && w.Size == 1:
		c.errorf(w.FormAt, "wrong-kind", "%s stands in one register, which has no word order; take it out, or say its type", point.Name)
	case last > lastAddress:
		c.errorf(
			w.FormAt,
			"address",
			"%s as %s reaches from %d to %d; the last address is %d",
			point.Name,
			w.Type,
			w.Address,
			last,
			lastAddress,
		)
	}
}

// A claim is a point, or what else is wired, at an address.
type claim struct {
	what  string
	line  int
	bit   int
	where string // as it is written
}

// claim takes the addresses of what is wired, and reports another that has one of them.
func (c *checker) claim(w *WireClause, mine claim) {
	for a := w.Address; a < w.Address+w.Size && a <= lastAddress; a++ {
		key := w.Device.Name + " " + w.Table + " " + strconv.Itoa(a)
		i := slices.IndexFunc(c.wires[key], func(o claim) bool { return o.bit == mine.bit || o.bit == noBit || mine.bit == noBit })
		if i < 0 {
			c.wires[key] = append(c.wires[key], mine)
			continue
		}
		other := c.wires[key][i]
		if other.where == w.String() {
			c.errorf(w.At, "same-address", "%s is wired to %s, as %s is in line %d; one of the two addresses is wrong",
				mine.what, w, other.what, other.line)
		} else {
			c.errorf(w.At, "same-address", "%s is wired to %s, and %s in line %d to %s: both take %s; one of the two addresses is wrong",
				mine.what, w, other.what, other.line, other.where, key)
		}
		return
	}
}
