package service

import (
	"net"
	"sync"
	"time"
)

// The limits of connections. One address may have no more than a part of all, so
// that whoever opens very many leaves others in.
const (
	mostConnections = 1024
	mostOfAddress   = 256
)

// patience is how long a part of an answer may take to be taken, so that nobody
// holds a connection by reading nothing.
const patience = 20 * time.Second

// A door lets connections in, as many as there is room for.
type door struct {
	net.Listener

	mu    sync.Mutex
	total int
	of    map[string]int // by address
}

func newDoor(l net.Listener) *door { return &door{Listener: l, of: map[string]int{}} }

// Accept waits for a connection that there is room for; others are closed at
// once.
func (d *door) Accept() (net.Conn, error) {
	for {
		c, err := d.Listener.Accept()
		if err != nil {
			return nil, err
		}
		address, _, err := net.SplitHostPort(c.RemoteAddr().String())
		if err == nil && d.enter(address) {
			return &guest{c, sync.OnceFunc(func() { d.leave(address) })}, nil
		}
		_ = c.Close() // there is nobody to tell
	}
}

func (d *door) enter(address string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.total >= mostConnections || d.of[address] >= mostOfAddress {
		return false
	}
	d.total++
	d.of[address]++
	return true
}

func (d *door) leave(address string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.total--
	if d.of[address]--; d.of[address] == 0 {
		delete(d.of, address)
	}
}

// A guest is a connection that came in by the door.
type guest struct {
	net.Conn
	leave func()
}

// Write gives every part of an answer a while to be taken.
func (g *guest) Write(p []byte) (int, error) {
	const part = 16 << 10
	sent := 0
	for len(p) > 0 {
		if err := g.SetWriteDeadline(time.Now().Add(patience)); err != nil {
			return sent, err
		}
		n, err := g.Conn.Write(p[:min(len(p), part)])
		sent += n
		if err != nil {
			return sent, err
		}
		p = p[n:]
	}
	return sent, nil
}

// Close makes room for another.
func (g *guest) Close() error {
	g.leave()
	return g.Conn.Close()
}
