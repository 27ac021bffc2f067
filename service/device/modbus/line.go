package modbus

import (
	"errors"
	"fmt"
	"io"
	"log"
	"math"
	"syscall"
	"time"

	"github.com/simonvetter/modbus"
)

// ErrNoAnswer is the error of a request that nobody answered in time, twice, or not as the protocol wants it.
var ErrNoAnswer = errors.New("no answer")

// errFunction is the exception of a device that does not know the function of a request.
var errFunction error = modbus.ErrIllegalFunction

// A Line is the connection to one address, which the units behind it share: those of a serial line, or of a
// gateway. One goroutine uses it: one request follows the other, and dialling and closing take their time.
// It dials when it is first used, and again after a failure.
type Line struct {
	client  Client
	name    string // of the device, for people
	timeout time.Duration
	serial  bool
	open    bool
	once    bool            // nothing is asked twice: the device is lost already
	apart   map[gapped]bool // the requests that are refused as joined ones, on this connection
	traffic *traffic        // nil for none
	gone    bool            // the other end has ended a connection since ended was last called
}

// A gapped request is one of a unit that reads along what nobody asks for.
type gapped struct {
	unit         int
	table        string
	first, count int
}

// A Reading is what a device says of one of its points.
type Reading struct {
	*Wire
	Value float64 // as it stands in the device; of a single bit 0 or 1
	Fault string  // why there is none, in words; empty where there is
}

// A Client makes requests of one device after the other: that of the library, or one of a rack in memory.
type Client interface {
	Open() error
	Close() error
	SetUnitId(id uint8) error
	ReadCoils(addr, quantity uint16) ([]bool, error)
	ReadDiscreteInputs(addr, quantity uint16) ([]bool, error)
	ReadRegisters(addr, quantity uint16, of modbus.RegType) ([]uint16, error)
	ReadRegister(addr uint16, of modbus.RegType) (uint16, error)
	WriteCoil(addr uint16, value bool) error
	WriteCoils(addr uint16, values []bool) error
	WriteRegister(addr, value uint16) error
	WriteRegisters(addr uint16, values []uint16) error
}

// A Dialer returns the client of a device's line, which is not open yet; nil for the library's.
type Dialer func(d *Device, timeout time.Duration) Client

// NewLine returns the line to a device. What the library has to say goes to a log; nil for nowhere.
func NewLine(d *Device, to *log.Logger) (*Line, error) { return newLine(d, nil, to) }

func newLine(d *Device, dial Dialer, to *log.Logger) (*Line, error) {
	if dial != nil {
		return &Line{client: dial(d, d.Timeout), name: d.Name, timeout: d.Timeout, serial: d.Serial}, nil
	}
	if to == nil {
		to = log.New(io.Discard, "", 0)
	}
	c := modbus.ClientConfiguration{URL: "tcp://" + d.Address, Timeout: d.Timeout, Logger: to}
	if d.Serial {
		c.URL, c.Speed, c.DataBits, c.StopBits = "rtu://"+d.Address, uint(d.Baud), uint(d.Frame[0]-'0'), uint(d.Frame[2]-'0')
		c.Parity = map[byte]uint{'N': modbus.PARITY_NONE, 'E': modbus.PARITY_EVEN, 'O': modbus.PARITY_ODD}[d.Frame[1]]
	}
	client, err := modbus.NewClient(&c)
	if err != nil {
		return nil, fmt.Errorf("reaching %s at %s: %w", d.Name, d.Address, err)
	}
	return &Line{client: client, name: d.Name, timeout: d.Timeout, serial: d.Serial}, nil
}

// Close ends the connection, if there is one.
func (l *Line) Close() error {
	if !l.open {
		return nil
	}
	l.open = false
	if err := l.client.Close(); err != nil {
		return fmt.Errorf("closing the line to %s: %w", l.name, err)
	}
	return nil
}

// Read makes a request of a unit and gives what it says of the wires that the request reads. What is refused makes
// the readings bad, with the exception's name; a request that reads along what nobody asked for, and is refused
// for an address, is made again without that. The error is ErrNoAnswer where the unit does not answer at all.
func (l *Line) Read(d *Device, r Request) ([]Reading, error) {
	var wires []*Wire
	for i := range d.Wires {
		if w := &d.Wires[i]; r.reads(w) {
			wires = append(wires, w)
		}
	}
	key := gapped{d.Unit, r.Table, r.First, r.Count}
	if !l.apart[key] {
		readings, refused, err := l.ask(d.Unit, r, wires)
		if err != nil || !errors.Is(refused, modbus.ErrIllegalDataAddress) || len(wires) < 2 {
			return readings, err
		}
		l.apart[key] = true
	}
	var alone []Wire
	for _, w := range wires {
		alone = append(alone, *w)
	}
	var all []Reading
	for _, part := range join(alone, 0, 0) {
		readings, _, err := l.ask(d.Unit, part, within(wires, part))
		if err != nil {
			return nil, err
		}
		all = append(all, readings...)
	}
	return all, nil
}

func within(wires []*Wire, r Request) []*Wire {
	var some []*Wire
	for _, w := range wires {
		if w.Address >= r.First && w.Address+w.Size-1 <= r.Last() {
			some = append(some, w)
		}
	}
	return some
}

// ask makes a request, and once more if it is not answered. Refused is the exception that answers it.
func (l *Line) ask(unit int, r Request, wires []*Wire) (readings []Reading, refused, err error) {
	words, bits, err := l.twice(unit, r)
	if exception(err) {
		for _, w := range wires {
			readings = append(
				readings,
				Reading{Wire: w, Fault: fmt.Sprintf("%s refuses to read %s %d: %v", l.name, w.Table, w.Address, err)},
			)
		}
		return readings, err, nil
	}
	if err != nil {
		return nil, nil, err
	}
	for _, w := range wires {
		x := Reading{Wire: w}
		at := w.Address - r.First
		switch {
		case w.Registers():
			x.Value = w.value(words[at : at+w.Size])
		case bits[at]:
			x.Value = 1
		}
		if math.IsNaN(x.Value) {
			x.Value, x.Fault = 0, fmt.Sprintf("%s has no number in %s %d", l.name, w.Table, w.Address)
		}
		readings = append(readings, x)
	}
	return readings, nil, nil
}

// twice makes a request, and once more if it is not answered.
func (l *Line) twice(unit int, r Request) (words []uint16, bits []bool, err error) {
	for tries := range 2 {
		if tries > 0 && l.once {
			break
		}
		if err = l.dial(); err != nil {
			continue
		}
		if err = l.client.SetUnitId(uint8(unit)); err != nil {
			return nil, nil, fmt.Errorf("asking %s: %w", l.name, err)
		}
		first, n, began := uint16(r.First), uint16(r.Count), time.Now()
		switch r.Table {
		case "coil":
			bits, err = l.client.ReadCoils(first, n)
		case "discrete":
			bits, err = l.client.ReadDiscreteInputs(first, n)
		case "holding":
			words, err = l.client.ReadRegisters(first, n, modbus.HOLDING_REGISTER)
		default:
			words, err = l.client.ReadRegisters(first, n, modbus.INPUT_REGISTER)
		}
		l.traffic.count(unit, began, err)
		if err == nil || exception(err) {
			return words, bits, err
		}
		l.fail(err)
	}
	return nil, nil, fmt.Errorf("asking %s: %w: %w", l.name, ErrNoAnswer, err)
}

// has reads what stands where an output is written.
func (l *Line) has(d *Device, w *Wire) (float64, error) {
	readings, _, err := l.ask(d.Unit, Request{Table: w.Table, First: w.Address, Count: w.Size}, []*Wire{w})
	if err != nil {
		return 0, err
	}
	if readings[0].Fault != "" {
		return 0, errors.New(readings[0].Fault)
	}
	return readings[0].Value, nil
}

// Write writes a value where a wire stands: of a single bit anything but 0 is on. It is not repeated.
func (l *Line) Write(d *Device, w *Wire, value float64) error {
	var words []uint16
	if w.Type != "bool" {
		var err error
		if words, err = w.words(value); err != nil {
			return err
		}
	}
	err := l.send(d, func() error { return l.put(w, words, value != 0) })
	if exception(err) {
		return fmt.Errorf("%s refuses to write %s to %s: %w", l.name, w.Point, w.place(), err)
	}
	if err != nil {
		return fmt.Errorf("%s did not answer when %s was written: %w: %w", l.name, w.Point, ErrNoAnswer, err)
	}
	return nil
}

// WriteAll writes values of neighbouring wires in one request. It is not repeated.
func (l *Line) WriteAll(d *Device, wires []*Wire, values []float64) error {
	var words []uint16
	var bits []bool
	for i, w := range wires {
		if w.Type == "bool" {
			bits = append(bits, values[i] != 0)
			continue
		}
		some, err := w.words(values[i])
		if err != nil {
			return err
		}
		words = append(words, some...)
	}
	at := uint16(wires[0].Address)
	err := l.send(d, func() error {
		if len(bits) > 0 {
			return l.client.WriteCoils(at, bits)
		}
		return l.client.WriteRegisters(at, words)
	})
	last := wires[len(wires)-1]
	if exception(err) {
		return fmt.Errorf("%s refuses to write %s to %d: %w", l.name, wires[0].place(), last.Address, err)
	}
	if err != nil {
		return fmt.Errorf("%s did not answer when %s to %d were written: %w: %w", l.name, wires[0].place(), last.Address, ErrNoAnswer, err)
	}
	return nil
}

// send has something written to a device.
func (l *Line) send(d *Device, write func() error) error {
	err := l.dial()
	if err == nil {
		err = l.client.SetUnitId(uint8(d.Unit))
	}
	if err == nil {
		began := time.Now()
		err = write()
		l.traffic.count(d.Unit, began, err)
	}
	if err != nil && !exception(err) {
		l.fail(err)
	}
	return err
}

func (l *Line) put(w *Wire, words []uint16, on bool) error {
	at := uint16(w.Address)
	switch {
	case !w.Registers():
		return l.client.WriteCoil(at, on)
	case w.Type == "bool": // the other bits of the register stay as they are
		word, err := l.client.ReadRegister(at, modbus.HOLDING_REGISTER)
		if err != nil {
			return err
		}
		if word &^= 1 << w.Bit; on {
			word |= 1 << w.Bit
		}
		return l.client.WriteRegister(at, word)
	case len(words) == 1:
		return l.client.WriteRegister(at, words[0])
	}
	return l.client.WriteRegisters(at, words)
}

func (l *Line) dial() error {
	if l.open {
		return nil
	}
	if err := l.client.Open(); err != nil {
		return err
	}
	l.open, l.apart = true, map[gapped]bool{}
	return nil
}

// fail ends a connection on which an answer is missing: a late one would be taken for that of the next request.
// A serial line is left alone meanwhile, until a late answer has come. That a gateway has had no answer from a unit says
// nothing about the connection, which stays.
func (l *Line) fail(err error) {
	if errors.Is(err, modbus.ErrGWTargetFailedToRespond) || errors.Is(err, modbus.ErrGWPathUnavailable) {
		return
	}
	l.gone = l.gone || l.open && hungUp(err)
	if l.serial {
		time.Sleep(l.timeout)
	}
	_ = l.Close() // it is given up, whatever becomes of it
}

// hungUp reports whether an error says that the other end has ended the connection.
func hungUp(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)
}

// ended reports whether the other end has ended a connection since it was last called. Whoever did may have been switched off
// and on: nothing that was known of the devices holds.
func (l *Line) ended() bool {
	gone := l.gone
	l.gone = false
	return gone
}

// exception reports whether a device has answered a request with an exception (MODBUS Application Protocol 1.1b3, 7).
func exception(err error) bool {
	for _, e := range []error{
		modbus.ErrIllegalFunction, modbus.ErrIllegalDataAddress, modbus.ErrIllegalDataValue, modbus.ErrServerDeviceFailure,
		modbus.ErrAcknowledge, modbus.ErrServerDeviceBusy, modbus.ErrMemoryParityError,
	} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}
