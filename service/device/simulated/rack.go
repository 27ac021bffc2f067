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
	Busy              // the answer is the exception that the device is busy; of a Port alone
)

// A Rack is a simulated one. It answers for every unit that is not dead.
type Rack struct {
	*Bank
	listener net.Listener // where it is reached
	server   *modbus.ModbusServer
	behind   string // the server's address

	mu     sync.Mutex
	fault  Fault
	delay  time.Duration
	dead   map[byte]int // units that do not answer: how often they were asked
	conns  map[net.Conn]bool
	closed bool
}

// Start starts a rack on loopback, on a free port.
func Start() (*Rack, error) { return StartAt("127.0.0.1:0") }

// StartAt starts one at an address.
func StartAt(address string) (*Rack, error) {
	r := &Rack{Bank: NewBank(), conns: map[net.Conn]bool{}}
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

// HandleCoils reads and writes coils; it is called by the server.
func (r *Rack) HandleCoils(q *modbus.CoilsRequest) ([]bool, error) {
	return r.Bank.single("coil", int(q.Addr), int(q.Quantity), q.IsWrite, q.Args)
}

// HandleDiscreteInputs reads discrete inputs; it is called by the server.
func (r *Rack) HandleDiscreteInputs(q *modbus.DiscreteInputsRequest) ([]bool, error) {
	return r.Bank.single("discrete", int(q.Addr), int(q.Quantity), false, nil)
}

// HandleHoldingRegisters reads and writes holding registers; it is called by the server.
func (r *Rack) HandleHoldingRegisters(q *modbus.HoldingRegistersRequest) ([]uint16, error) {
	return r.Bank.registers("holding", int(q.Addr), int(q.Quantity), q.IsWrite, q.Args)
}

// HandleInputRegisters reads input registers; it is called by the server.
func (r *Rack) HandleInputRegisters(q *modbus.InputRegistersRequest) ([]uint16, error) {
	return r.Bank.registers("input", int(q.Addr), int(q.Quantity), false, nil)
}
