package simulated

import (
	"encoding/binary"
	"io"
	"net"
	"time"
)

// headed is the length of the header of a frame (Modbus Messaging on TCP/IP 1.0b, 3.1.3), of which the fifth and sixth
// byte say how many follow the sixth.
const headed = 7

// accept takes connections and hands them on to the server behind, whose answers it spoils as it was told.
func (r *Rack) accept() {
	for {
		client, err := r.listener.Accept()
		if err != nil {
			return // closed
		}
		server, err := net.Dial("tcp", r.behind)
		if err != nil || !r.keep(client, server) {
			_ = client.Close() // nobody is behind it
			continue
		}
		go func() {
			_, _ = io.Copy(server, client) // until one of the two ends
			r.end(client, server)
		}()
		go func() {
			r.answer(client, server)
			r.end(client, server)
		}()
	}
}

// keep remembers connections, unless the rack is closed.
func (r *Rack) keep(some ...net.Conn) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range some {
		if r.closed {
			_ = c.Close() // unused so far
			continue
		}
		r.conns[c] = true
	}
	return !r.closed
}

func (r *Rack) end(some ...net.Conn) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range some {
		_ = c.Close() // which it may be already
		delete(r.conns, c)
	}
}

// answer hands answers on, frame by frame, until a connection ends.
func (r *Rack) answer(client io.Writer, server io.Reader) {
	for {
		frame := make([]byte, headed)
		if _, err := io.ReadFull(server, frame); err != nil {
			return
		}
		rest := make([]byte, max(int(binary.BigEndian.Uint16(frame[4:]))-1, 0))
		if _, err := io.ReadFull(server, rest); err != nil {
			return
		}
		frame = append(frame, rest...)
		r.mu.Lock()
		fault, delay := r.fault, r.delay
		if asked, dead := r.dead[frame[headed-1]]; dead {
			r.dead[frame[headed-1]] = asked + 1
			fault = Silent
		}
		r.mu.Unlock()
		switch fault {
		case Silent:
			continue
		case Closing:
			return
		case Half:
			frame = frame[:len(frame)/2]
		case Misnumbered:
			frame[1]++
		case Unreadable:
			for i := range frame {
				frame[i] ^= 0x5a
			}
		case Slow:
			time.Sleep(delay)
		}
		if _, err := client.Write(frame); err != nil {
			return
		}
	}
}
