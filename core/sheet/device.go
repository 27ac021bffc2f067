package sheet

import (
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
)

// A Device is where live points are wired: a Modbus server that is reached over TCP, or over a serial
// line (MODBUS Application Protocol 1.1b3, Messaging on TCP/IP 1.0b, and over Serial Line 1.02). On the
// bench it is only checked.
type Device struct {
	Head
	Serial    bool   // reached over a serial line
	Address   string // HOST:PORT, or the serial line, as the operating system names it
	AddressAt Place
	Baud      int    // of a serial line, in bits a second
	Frame     string // of a serial line: data bits, parity and stop bits, such as 8E1
	Unit      int    // the unit identifier, 0 to 247; on a serial line 1 to 247
	UnitAt    Place
	Poll      *DurationClause // how often its points are read, if they do not say otherwise
	Timeout   *DurationClause
	WordOrder *WordClause // low or high, which is first; of values in several registers
	ByteOrder *WordClause // of the two bytes of a register
	Heartbeat *WireClause // the coil or register that is toggled for a watchdog in the device
	Beat      *Duration   // how often
	Lost      *WordClause // the priority of the alarm that it raises when it does not answer
	answers   *Input      // the contact that says whether it does
}

// Keyword is the word that the declaration begins with.
func (*Device) Keyword() string { return "device" }

// frames are how a character may lie on a serial line: eight data bits, as RTU has them, parity (even, odd, none), stop bits.
var frames = strings.Fields("8E1 8O1 8N1 8N2")

// usualPoll is how often a point is read where nobody says, in nanoseconds.
const usualPoll = 1e9

func (p *parser) device(h Head) Declaration {
	d := &Device{Head: h}
	p.name(&d.Head)
	t := p.peek()
	d.Serial = p.accept("modbus", "rtu")
	if !d.Serial && !p.accept("modbus", "tcp") {
		p.fail(t, "%s where the kind of device must stand: modbus tcp or modbus rtu", t.source())
	}
	t = p.next()
	d.Address, d.AddressAt = t.text, p.place(t)
	if t.kind != tokString {
		what, example := "the device's address", "127.0.0.1:502"
		if d.Serial {
			what, example = "the serial line", "/dev/ttyS1"
		}
		p.fail(t, "%s where %s must stand, in quotes: %q", t.source(), what, example)
	}
	if d.Serial {
		d.Baud = p.wholeUpTo("the speed of the line in bits a second", 10_000_000)
		d.Frame = p.frame()
	}
	p.expect("unit", "before the device's unit number")
	d.UnitAt = p.place(p.peek())
	d.Unit = p.wholeUpTo("the unit number", 247)
	return d
}

// frame reads how a character lies on a serial line, such as 8E1.
func (p *parser) frame() string {
	t := p.peek()
	text := ""
	for p.peek().kind != tokEnd && !p.at("unit") && len(text) < 3 {
		text += p.next().text
	}
	if !slices.Contains(frames, text) {
		p.fail(t, "%s where the frame of the line must stand: data bits, parity and stop bits, one of %s", t.source(), List(frames, "or"))
	}
	return text
}

func (d *Device) words() []string {
	how := []string{d.Name, d.label(), "modbus tcp", quote(d.Address)}
	if d.Serial {
		how = []string{d.Name, d.label(), "modbus rtu", quote(d.Address), strconv.Itoa(d.Baud), d.Frame}
	}
	return append(how, "unit "+strconv.Itoa(d.Unit))
}

func (d *Device) rows() []row {
	return d.rowsWith(false, durationRow("poll", &d.Poll), durationRow("timeout", &d.Timeout),
		firstRow("word order", &d.WordOrder), firstRow("byte order", &d.ByteOrder),
		row{keyword: "heartbeat", read: d.readHeartbeat, print: d.printHeartbeat, durations: func() []*Duration { return []*Duration{d.Beat} }},
		row{keyword: "alarm when lost",
			read: func(p *parser, c Clause) {
				p.expect("priority", "before the priority of the alarm")
				d.Lost = &WordClause{c, p.oneOf("the priority", Priorities...)}
			},
			print: func(p *printer) {
				if d.Lost != nil {
					p.clause(d.Lost.Clause, "alarm when lost priority "+d.Lost.Word)
				}
			}})
}

func (d *Device) readHeartbeat(p *parser, c Clause) {
	w := &WireClause{Clause: c, Device: &Name{c.At, d.Name}, Bit: noBit, Size: 1}
	w.Table = p.oneOf("the table", "coil", "holding")
	w.Address = p.wholeUpTo("the address", lastAddress)
	p.expect("every", "before the time between two beats")
	d.Heartbeat, d.Beat = w, p.duration()
}

func (d *Device) printHeartbeat(p *printer) {
	if w := d.Heartbeat; w != nil {
		p.clause(w.Clause, "heartbeat "+w.Table+" "+strconv.Itoa(w.Address)+" every "+d.Beat.String())
	}
}

// isLine tells whether an address can be that of a serial line: a device file, or a port of Windows. No other
// file is to be opened because a sheet names it.
func isLine(address string) bool {
	if port, is := strings.CutPrefix(address, "COM"); is {
		n, err := strconv.Atoi(port)
		return err == nil && n > 0
	}
	return strings.HasPrefix(address, "/dev/") && path.Clean(address) == address
}

// firstRow is that of a clause that says which comes first: `word order low first`.
func firstRow(keyword string, to **WordClause) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) { *to = &WordClause{c, p.first()} },
		print: func(p *printer) {
			if c := *to; c != nil {
				p.clause(c.Clause, keyword+" "+c.Word+" first")
			}
		}}
}

// first reads `low first` or `high first`.
func (p *parser) first() string {
	word := p.oneOf("what comes first", "low", "high")
	p.expect("first", "after "+word)
	return word
}

func (c *checker) device(d *Device) {
	if d.Serial {
		if !isLine(d.Address) {
			c.errorf(d.AddressAt, "address", "%q is no serial line; write its device file, such as /dev/ttyS1, or COM3", d.Address)
		}
		if d.Baud < 300 {
			c.errorf(d.AddressAt, "address", "the line of %s runs at %d bits a second; the least is 300", d.Name, d.Baud)
		}
		if d.Unit == 0 {
			c.errorf(d.UnitAt, "address", "unit 0 of a serial line is everybody, and nobody answers; a device has a unit from 1 to 247")
		}
	} else if host, port, err := net.SplitHostPort(d.Address); err != nil || host == "" || port == "" {
		c.errorf(d.AddressAt, "address", "%q is no address of a device; write host and port, such as 127.0.0.1:502", d.Address)
	}
	c.clauses(d.rows())
	if w := d.Heartbeat; w != nil {
		c.claim(w, claim{"the heartbeat of " + d.Name, w.At.Line, noBit, w.String()})
	}
}
