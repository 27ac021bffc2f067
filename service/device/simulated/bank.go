package simulated

import (
	"sync"
	"time"
)

// A Write is one that the rack has taken, in the order in which they came.
type Write struct {
	At      time.Time
	Table   string // coil or holding
	Address int
	Value   uint16 // of a coil 1 or 0
}

// A Read is a request that the rack was asked to read by.
type Read struct {
	Table        string
	First, Count int
}

// A Bank is what a rack holds: its coils, inputs and registers, what becomes of writes to them, and a log of all that was asked of it.
// Its methods may be called concurrently.
type Bank struct {
	mu       sync.Mutex
	bits     map[string]map[int]bool   // by table
	words    map[string]map[int]uint16 // by table
	refused  map[string]map[int]error  // by table and address: an exception
	rejected map[string]map[int]error  // as refused, of writes alone
	unread   map[string]map[int]error  // as refused, of reads alone
	stuck    map[string]map[int]bool   // bits that nothing sets
	reads    []Read
	writes   []Write
}

// NewBank returns one in which everything is 0.
func NewBank() *Bank {
	return &Bank{
		bits:     map[string]map[int]bool{"coil": {}, "discrete": {}},
		words:    map[string]map[int]uint16{"holding": {}, "input": {}},
		refused:  map[string]map[int]error{"coil": {}, "discrete": {}, "holding": {}, "input": {}},
		rejected: map[string]map[int]error{"coil": {}, "holding": {}},
		unread:   map[string]map[int]error{"coil": {}, "discrete": {}, "holding": {}, "input": {}},
		stuck:    map[string]map[int]bool{"coil": {}, "discrete": {}},
	}
}

// Refuse makes the rack answer requests that reach an address with an exception; nil takes that back.
func (b *Bank) Refuse(table string, address int, exception error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if exception == nil {
		delete(b.refused[table], address)
		return
	}
	b.refused[table][address] = exception
}

// RefuseWrites makes the rack answer writes that reach an address with an exception; nil takes that back.
func (b *Bank) RefuseWrites(table string, address int, exception error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if exception == nil {
		delete(b.rejected[table], address)
		return
	}
	b.rejected[table][address] = exception
}

// RefuseReads makes the rack answer reads that reach an address with an exception; nil takes that back.
func (b *Bank) RefuseReads(table string, address int, exception error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if exception == nil {
		delete(b.unread[table], address)
		return
	}
	b.unread[table][address] = exception
}

// Stick holds a bit, whatever is written to it: a relay that is welded, or one whose coil has burnt out.
func (b *Bank) Stick(table string, address int, on bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.stuck[table][address] = on
	b.bits[table][address] = on
}

// Unstick lets it go.
func (b *Bank) Unstick(table string, address int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.stuck[table], address)
}

// Reboot sets everything that can be written to 0, and keeps the connections.
func (b *Bank) Reboot() {
	b.mu.Lock()
	defer b.mu.Unlock()
	clear(b.bits["coil"])
	clear(b.words["holding"])
}

// SetBit sets a coil or a discrete input, as the plant does.
func (b *Bank) SetBit(table string, address int, on bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.bits[table][address] = on
}

// SetWords sets registers, as the plant does.
func (b *Bank) SetWords(table string, address int, words ...uint16) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, w := range words {
		b.words[table][address+i] = w
	}
}

// Bit returns the value of a coil or a discrete input.
func (b *Bank) Bit(table string, address int) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.bits[table][address]
}

// Word returns the value of a register.
func (b *Bank) Word(table string, address int) uint16 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.words[table][address]
}

// Writes are all that the rack has taken.
func (b *Bank) Writes() []Write {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Write(nil), b.writes...)
}

// Reads are all that it was asked to read by, refused ones included.
func (b *Bank) Reads() []Read {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Read(nil), b.reads...)
}

func (b *Bank) single(table string, first, n int, write bool, args []bool) ([]bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.begin(table, first, n, write); err != nil {
		return nil, err
	}
	all := make([]bool, n)
	for i := range all {
		if write {
			if _, stuck := b.stuck[table][first+i]; !stuck {
				b.bits[table][first+i] = args[i]
			}
			v := uint16(0)
			if args[i] {
				v = 1
			}
			b.writes = append(b.writes, Write{time.Now(), table, first + i, v})
		}
		all[i] = b.bits[table][first+i]
	}
	return all, nil
}

func (b *Bank) registers(table string, first, n int, write bool, args []uint16) ([]uint16, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.begin(table, first, n, write); err != nil {
		return nil, err
	}
	all := make([]uint16, n)
	for i := range all {
		if write {
			b.words[table][first+i] = args[i]
			b.writes = append(b.writes, Write{time.Now(), table, first + i, args[i]})
		}
		all[i] = b.words[table][first+i]
	}
	return all, nil
}

// begin notes a request, and refuses it where it reaches an address that is refused.
func (b *Bank) begin(table string, first, n int, write bool) error {
	if !write {
		b.reads = append(b.reads, Read{table, first, n})
	}
	for a := first; a < first+n; a++ {
		if err := b.refused[table][a]; err != nil {
			return err
		}
		if err := b.rejected[table][a]; err != nil && write {
			return err
		}
		if err := b.unread[table][a]; err != nil && !write {
			return err
		}
	}
	return nil
}
