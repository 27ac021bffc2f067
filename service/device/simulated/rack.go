// Package simulated is a rack of remote I/O that nobody needs to wire: a Modbus server that writes down whatever is
// written to it, and that does on request what racks do at night.
package simulated

import (
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"sync"
	"time"

	"github.com/simonvetter/modbus"
)

// A Write is one that the rack has taken, in the order in which they came.
type Write struct {
	At      time.Time
	Table   string // coil or holding
	Address int
	Value   uint16 // of a coil 1 or 0
}

// A Fault is what the rack does with its answers.
type Fault int

// The faults.
const (
	None        Fault = iota
	Silent            // no answer comes
	Closing           // the connection is closed instead of an answer
	Half              // only the first half of an answer comes
	Misnumbered       // an answer has the number of another request
	Unreadable        // an answer is garbage
	Slow              // an answer comes late
)

// A Rack is a simulated one. It answers for every unit that is not dead.
type Rack struct {
	listener net.Listener // where it is reached
	server   *modbus.ModbusServer
	behind   string // the server's address

	mu       sync.Mutex
	bits     map[string]map[int]bool   // by table
	words    map[string]map[int]uint16 // by table
	refused  map[string]map[int]error  // by table and address: an exception
	rejected map[string]map[int]error  // as refused, of writes alone
	stuck    map[string]map[int]bool   // bits that nothing sets
	reads    []Read
	writes   []Write
	fault    Fault
	delay    time.Duration
	dead     map[byte]int // units that do not answer: how often they were asked
	conns    map[net.Conn]bool
	closed   bool
}

// A Read is a request that the rack was asked to read by.
type Read struct {
	Table        string
	First, Count int
}

// Start starts a rack on loopback, on a free port.
func Start() (*Rack, error) { return StartAt("127.0.0.1:0") }

// StartAt starts one at an address.
func StartAt(address string) (*Rack, error) {
	r := &Rack{
		bits:     map[string]map[int]bool{"coil": {}, "discrete": {}},
		words:    map[string]map[int]uint16{"holding": {}, "input": {}},
		refused:  map[string]map[int]error{"coil": {}, "discrete": {}, "holding": {}, "input": {}},
		rejected: map[string]map[int]error{"coil": {}, "holding": {}},
		stuck:    map[string]map[int]bool{"coil": {}, "discrete": {}},
		conns:    map[net.Conn]bool{},
	}
	var err error
	if r.behind, err = freePort(); err != nil {
		return nil, fmt.Errorf("starting the rack: %w", err)
	}
	r.server, err = modbus.NewServer(&modbus.ServerConfiguration{URL: "tcp://" + r.behind, Timeout: time.Hour, MaxClients: 100,
		Logger: log.New(io.Discard, "", 0)}, r)
	if err != nil {
		return nil, fmt.Errorf("starting the rack: %w", err)
	}
	if err := r.server.Start(); err != nil {
		return nil, fmt.Errorf("starting the rack: %w", err)
	}
	if r.listener, err = net.Listen("tcp", address); err != nil {
		return nil, errors.Join(fmt.Errorf("starting the rack: %w", err), r.server.Stop())
	}
	go r.accept()
	return r, nil
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}

// Address is HOST:PORT of the rack.
func (r *Rack) Address() string { return r.listener.Addr().String() }

// Close ends the rack and its connections. Closing it again does nothing.
func (r *Rack) Close() error {
	r.mu.Lock()
	before := r.closed
	r.closed = true
	r.mu.Unlock()
	if before {
		return nil
	}
	r.Drop()
	return errors.Join(r.listener.Close(), r.server.Stop())
}

// Drop closes all connections.
func (r *Rack) Drop() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for c := range r.conns {
		_ = c.Close() // which it may be already
	}
}

// Misbehave makes the rack answer so from now on; slowly, so much later.
func (r *Rack) Misbehave(f Fault, delay time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.fault, r.delay = f, delay
}

// Dead makes a unit behind the rack one that does not answer.
func (r *Rack) Dead(unit byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.dead == nil {
		r.dead = map[byte]int{}
	}
	r.dead[unit] = 0
}

// Asked is how often a dead unit was asked.
func (r *Rack) Asked(unit byte) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.dead[unit]
}

// Refuse makes the rack answer requests that reach an address with an exception; nil takes that back.
func (r *Rack) Refuse(table string, address int, exception error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if exception == nil {
		delete(r.refused[table], address)
		return
	}
	r.refused[table][address] = exception
}

// RefuseWrites makes the rack answer writes that reach an address with an exception; nil takes that back.
func (r *Rack) RefuseWrites(table string, address int, exception error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if exception == nil {
		delete(r.rejected[table], address)
		return
	}
	r.rejected[table][address] = exception
}

// Stick holds a bit, whatever is written to it: a relay that is welded, or one whose coil has burnt out.
func (r *Rack) Stick(table string, address int, on bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.stuck[table][address] = on
	r.bits[table][address] = on
}

// Unstick lets it go.
func (r *Rack) Unstick(table string, address int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.stuck[table], address)
}

// Reboot sets everything that can be written to 0, and keeps the connections.
func (r *Rack) Reboot() {
	r.mu.Lock()
	defer r.mu.Unlock()
	clear(r.bits["coil"])
	clear(r.words["holding"])
}

// SetBit sets a coil or a discrete input, as the plant does.
func (r *Rack) SetBit(table string, address int, on bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.bits[table][address] = on
}

// SetWords sets registers, as the plant does.
func (r *Rack) SetWords(table string, address int, words ...uint16) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, w := range words {
		r.words[table][address+i] = w
	}
}

// Bit is what a coil or a discrete input has.
func (r *Rack) Bit(table string, address int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.bits[table][address]
}

// Word is what a register has.
func (r *Rack) Word(table string, address int) uint16 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.words[table][address]
}

// Writes are all that the rack has taken.
func (r *Rack) Writes() []Write {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Write(nil), r.writes...)
}

// Reads are all that it was asked to read by, refused ones included.
func (r *Rack) Reads() []Read {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Read(nil), r.reads...)
}

// HandleCoils reads and writes coils; it is called by the server.
func (r *Rack) HandleCoils(q *modbus.CoilsRequest) ([]bool, error) {
	return r.single("coil", int(q.Addr), int(q.Quantity), q.IsWrite, q.Args)
}

// HandleDiscreteInputs reads discrete inputs; it is called by the server.
func (r *Rack) HandleDiscreteInputs(q *modbus.DiscreteInputsRequest) ([]bool, error) {
	return r.single("discrete", int(q.Addr), int(q.Quantity), false, nil)
}

// HandleHoldingRegisters reads and writes holding registers; it is called by the server.
func (r *Rack) HandleHoldingRegisters(q *modbus.HoldingRegistersRequest) ([]uint16, error) {
	return r.registers("holding", int(q.Addr), int(q.Quantity), q.IsWrite, q.Args)
}

// HandleInputRegisters reads input registers; it is called by the server.
func (r *Rack) HandleInputRegisters(q *modbus.InputRegistersRequest) ([]uint16, error) {
	return r.registers("input", int(q.Addr), int(q.Quantity), false, nil)
}

func (r *Rack) single(table string, first, n int, write bool, args []bool) ([]bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.begin(table, first, n, write); err != nil {
		return nil, err
	}
	all := make([]bool, n)
	for i := range all {
		if write {
			if _, stuck := r.stuck[table][first+i]; !stuck {
				r.bits[table][first+i] = args[i]
			}
			v := uint16(0)
			if args[i] {
				v = 1
			}
			r.writes = append(r.writes, Write{time.Now(), table, first + i, v})
		}
		all[i] = r.bits[table][first+i]
	}
	return all, nil
}

func (r *Rack) registers(table string, first, n int, write bool, args []uint16) ([]uint16, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.begin(table, first, n, write); err != nil {
		return nil, err
	}
	all := make([]uint16, n)
	for i := range all {
		if write {
			r.words[table][first+i] = args[i]
			r.writes = append(r.writes, Write{time.Now(), table, first + i, args[i]})
		}
		all[i] = r.words[table][first+i]
	}
	return all, nil
}

// begin notes a request, and refuses it where it reaches an address that is refused.
func (r *Rack) begin(table string, first, n int, write bool) error {
	if !write {
		r.reads = append(r.reads, Read{table, first, n})
	}
	for a := first; a < first+n; a++ {
		if err := r.refused[table][a]; err != nil {
			return err
		}
		if err := r.rejected[table][a]; err != nil && write {
			return err
		}
	}
	return nil
}
