package simulated

import (
	"errors"
	"io"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/simonvetter/modbus"
)

// A Port is where racks in memory are reached, without a network: what happens there takes time by the clock of whoever waits, which
// may be that of testing/synctest. Its methods may be called concurrently.
type Port struct {
	mu         sync.Mutex
	units      map[byte]*Bank
	latency    time.Duration
	fault      Fault
	delay      time.Duration
	off        bool // nobody accepts connections
	generation int  // of connections: those of an earlier one have ended
	hung       chan struct{}
	chance     func() (Fault, time.Duration) // of each request; nil for none
	dials      int
}

// NewPort returns the port of a rack that is one unit, whatever its number is.
func NewPort(b *Bank) *Port { return &Port{units: map[byte]*Bank{0: b}} }

// NewGateway returns the port of several units.
func NewGateway(units map[byte]*Bank) *Port { return &Port{units: units} }

// Misbehave makes the port answer so from now on; slowly, so much later.
func (p *Port) Misbehave(f Fault, delay time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.fault, p.delay = f, delay
}

// Take makes every answer take so long.
func (p *Port) Take(latency time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.latency = latency
}

// ByChance has each request fare as a function says.
func (p *Port) ByChance(f func() (Fault, time.Duration)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.chance = f
}

// Switch switches the rack off or on. What it was connected to ends.
func (p *Port) Switch(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.off = !on
	p.generation++
}

// Drop ends all connections.
func (p *Port) Drop() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.generation++
}

// Hang has requests hang, whatever their time-out is, until it is called again.
func (p *Port) Hang(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if on {
		p.hung = make(chan struct{})
		return
	}
	close(p.hung)
	p.hung = nil
}

// Dials returns the number of connections so far.
func (p *Port) Dials() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.dials
}

// errOff is the error of a connection that nobody accepts.
var errOff = errors.New("connection refused")

// A Client asks a port as a client of the modbus library asks a rack. It is for one goroutine.
type Client struct {
	port       *Port
	timeout    time.Duration
	unit       byte
	open       bool
	generation int
}

// Client returns one whose requests wait for so long for an answer.
func (p *Port) Client(timeout time.Duration) *Client { return &Client{port: p, timeout: timeout} }

// Open connects.
func (c *Client) Open() error {
	c.port.mu.Lock()
	defer c.port.mu.Unlock()
	if c.port.off {
		return errOff
	}
	c.open, c.generation = true, c.port.generation
	c.port.dials++
	return nil
}

// Close ends the connection.
func (c *Client) Close() error {
	c.open = false
	return nil
}

// SetUnitId says of whom the next requests are.
func (c *Client) SetUnitId(id uint8) error {
	c.unit = id
	return nil
}

// do makes a request as the port lets it.
func (c *Client) do(request func(b *Bank) error) error {
	p := c.port
	p.mu.Lock()
	fault, delay, latency, hung, ended := p.fault, p.delay, p.latency, p.hung, c.generation != p.generation || p.off
	if fault == None && p.chance != nil {
		fault, delay = p.chance()
	}
	b := p.units[c.unit]
	if b == nil && len(p.units) == 1 {
		b = p.units[0]
	}
	p.mu.Unlock()
	if !c.open || ended || fault == Closing {
		c.open = false
		return io.EOF
	}
	if hung != nil {
		<-hung
		return modbus.ErrRequestTimedOut
	}
	switch {
	case fault == Silent, b == nil:
		time.Sleep(c.timeout)
		return modbus.ErrRequestTimedOut
	case fault == Half, fault == Misnumbered, fault == Unreadable: // it is done, and nobody can tell
		_ = request(b)
		time.Sleep(c.timeout)
		return modbus.ErrRequestTimedOut
	case fault == Busy:
		time.Sleep(latency)
		return modbus.ErrServerDeviceBusy
	case fault == Slow:
		latency += delay
	}
	if latency >= c.timeout { // it is done, and the answer comes too late
		time.Sleep(c.timeout)
		_ = request(b)
		return modbus.ErrRequestTimedOut
	}
	time.Sleep(latency)
	return request(b)
}

// ReadCoils reads coils.
func (c *Client) ReadCoils(addr, quantity uint16) (all []bool, err error) {
	err = c.do(func(b *Bank) (err error) {
		all, err = b.single("coil", int(addr), int(quantity), false, nil)
		return err
	})
	return all, err
}

// ReadDiscreteInputs reads discrete inputs.
func (c *Client) ReadDiscreteInputs(addr, quantity uint16) (all []bool, err error) {
	err = c.do(func(b *Bank) (err error) {
		all, err = b.single("discrete", int(addr), int(quantity), false, nil)
		return err
	})
	return all, err
}

// ReadRegisters reads registers.
func (c *Client) ReadRegisters(addr, quantity uint16, of modbus.RegType) (all []uint16, err error) {
	table := "holding"
	if of == modbus.INPUT_REGISTER {
		table = "input"
	}
	err = c.do(func(b *Bank) (err error) {
		all, err = b.registers(table, int(addr), int(quantity), false, nil)
		return err
	})
	return all, err
}

// ReadRegister reads one register.
func (c *Client) ReadRegister(addr uint16, of modbus.RegType) (uint16, error) {
	all, err := c.ReadRegisters(addr, 1, of)
	if err != nil {
		return 0, err
	}
	return all[0], nil
}

// WriteCoil writes a coil.
func (c *Client) WriteCoil(addr uint16, value bool) error { return c.WriteCoils(addr, []bool{value}) }

// WriteCoils writes neighbouring coils.
func (c *Client) WriteCoils(addr uint16, values []bool) error {
	return c.do(func(b *Bank) error { _, err := b.single("coil", int(addr), len(values), true, values); return err })
}

// WriteRegister writes a register.
func (c *Client) WriteRegister(addr, value uint16) error {
	return c.WriteRegisters(addr, []uint16{value})
}

// WriteRegisters writes neighbouring registers.
func (c *Client) WriteRegisters(addr uint16, values []uint16) error {
	return c.do(func(b *Bank) error {
		_, err := b.registers("holding", int(addr), len(values), true, values)
		return err
	})
}

// Mishaps returns what ByChance takes: of so many requests in a thousand each fault befalls one.
func Mishaps(r *rand.Rand, inThousand int, delay time.Duration) func() (Fault, time.Duration) {
	var mu sync.Mutex
	return func() (Fault, time.Duration) {
		mu.Lock()
		defer mu.Unlock()
		if r.IntN(1000) >= inThousand {
			return None, 0
		}
		return []Fault{Silent, Closing, Half, Busy, Slow, Slow}[r.IntN(6)], time.Duration(r.Int64N(int64(delay)))
	}
}
