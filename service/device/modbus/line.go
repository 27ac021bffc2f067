package modbus

import (
	"errors"
	"fmt"
	"io"
	"log"
	"math"
	"time"

	"github.com/simonvetter/modbus"
)

// ErrNoAnswer is the error of a request that nobody has answered in time, twice, or not as the protocol wants it.
var ErrNoAnswer = errors.New("no answer")

// A Line is the connection to one address, which the units behind it share: those of a serial line, or of a
// gateway. One goroutine uses it: one request follows the other, and dialling and closing take what they take.
// It dials when it is first used, and again after a failure.
type Line struct {
	client  *modbus.ModbusClient
	name    string // of the device, for people
	timeout time.Duration
	serial  bool
	open    bool
	once    bool            // nothing is asked twice: the device is lost already
	apart   map[gapped]bool // the requests that are refused as joined ones, on this connection
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

// NewLine is the line to a device. What the library has to say goes to a log; nil for nowhere.
func NewLine(d *Device, to *log.Logger) (*Line, error) {
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
		if w := &d.Wires[i]; !w.Heartbeat && w.Table == r.Table && w.Every == r.Every && w.Address >= r.First &&
			w.Address+w.Size-1 <= r.Last() {
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
		first, n := uint16(r.First), uint16(r.Count)
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
		if err == nil || exception(err) {
			return words, bits, err
		}
		l.fail()
	}
	return nil, nil, fmt.Errorf("asking %s: %w: %w", l.name, ErrNoAnswer, err)
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
	err := l.dial()
	if err == nil {
		err = l.client.SetUnitId(uint8(d.Unit))
	}
	if err == nil {
		err = l.put(w, words, value != 0)
	}
	if err == nil {
		return nil
	}
	if exception(err) {
		return fmt.Errorf("%s refuses to write %s to %s %d: %w", l.name, w.Point, w.Table, w.Address, err)
	}
	l.fail()
	return fmt.Errorf("writing %s to %s: %w: %w", w.Point, l.name, ErrNoAnswer, err)
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
// A serial line is left alone meanwhile, until whatever comes late has come.
func (l *Line) fail() {
	if l.serial {
		time.Sleep(l.timeout)
	}
	_ = l.Close() // it is given up, whatever becomes of it
}

// exception tells whether a device has answered a request with an exception (MODBUS Application Protocol 1.1b3, 7).
func exception(err error) bool {
	for _, e := range []error{
		modbus.ErrIllegalFunction, modbus.ErrIllegalDataAddress, modbus.ErrIllegalDataValue, modbus.ErrServerDeviceFailure,
		modbus.ErrAcknowledge, modbus.ErrServerDeviceBusy, modbus.ErrMemoryParityError, modbus.ErrGWPathUnavailable,
		modbus.ErrGWTargetFailedToRespond,
	} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}
