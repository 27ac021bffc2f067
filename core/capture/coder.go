package capture

import (
	"math"
	"math/bits"
)

// Numbers are written by an adaptive binary range coder, the one of the LZMA format (7-Zip, public domain): a decision costs as
// many bits as it surprises, by what decisions in the same context were before. So a reading that stands still costs next to
// nothing, and noise costs the bits that it has, however short a stretch is.
const (
	scaleBits = 12 // a probability is a part of this power of two
	rate      = 5  // how fast one follows what it sees
	flushed   = 5  // bytes that a stretch ends with
)

// A chance is the probability that a decision is no.
type chance uint16

const even chance = 1 << (scaleBits - 1)

// A coder writes decisions, or reads them.
type coder struct {
	width uint32

	// Of one that writes.
	low   uint64
	held  byte // the last byte, which a carry may still change; the first is always 0
	count int  // it and how many bytes behind it a carry would run through
	out   []byte

	// Of one that reads.
	code  uint32
	data  []byte
	spent int // bytes that were read beyond the end
}

func newWriter(to []byte) coder { return coder{width: math.MaxUint32, count: 1, out: to} }

func newReader(data []byte) coder {
	c := coder{width: math.MaxUint32, data: data}
	for range flushed {
		c.code = c.code<<8 | uint32(c.next())
	}
	return c
}

// next is the next byte that is read; 0 beyond the end.
func (c *coder) next() byte {
	if len(c.data) == 0 {
		c.spent++
		return 0
	}
	b := c.data[0]
	c.data = c.data[1:]
	return b
}

// ended reports whether the decoder has read exactly the bytes that the encoder wrote.
func (c *coder) ended() bool { return c.spent == 0 && len(c.data) == 0 }

// write writes a decision.
func (c *coder) write(p *chance, yes bool) {
	bound := (c.width >> scaleBits) * uint32(*p)
	if yes {
		c.low += uint64(bound)
		c.width -= bound
		*p -= *p >> rate
	} else {
		c.width = bound
		*p += (1<<scaleBits - *p) >> rate
	}
	if c.width < 1<<24 {
		c.width <<= 8
		c.shift()
	}
}

// read reads one.
func (c *coder) read(p *chance) bool {
	bound := (c.width >> scaleBits) * uint32(*p)
	yes := c.code >= bound
	if yes {
		c.code -= bound
		c.width -= bound
		*p -= *p >> rate
	} else {
		c.width = bound
		*p += (1<<scaleBits - *p) >> rate
	}
	if c.width < 1<<24 { // once is enough: no probability is that small
		c.width <<= 8
		c.code = c.code<<8 | uint32(c.next())
	}
	return yes
}

// shift writes the highest byte, once no carry can change it.
func (c *coder) shift() {
	if uint32(c.low) < 0xff000000 || c.low > math.MaxUint32 {
		for carry := byte(c.low >> 32); c.count > 0; c.count-- {
			c.out = append(c.out, c.held+carry)
			c.held = 0xff
		}
		c.held = byte(c.low >> 24)
	}
	c.count++
	c.low = uint64(uint32(c.low) << 8)
}

// close ends what is written, and gives it.
func (c *coder) close() []byte {
	for range flushed {
		c.shift()
	}
	return c.out
}

// writeBits writes the lowest n bits of a number, none of which is expected.
func (c *coder) writeBits(v uint64, n int) {
	for n--; n >= 0; n-- {
		c.width >>= 1
		if v>>n&1 == 1 {
			c.low += uint64(c.width)
		}
		if c.width < 1<<24 {
			c.width <<= 8
			c.shift()
		}
	}
}

func (c *coder) readBits(n int) (v uint64) {
	for range n {
		c.width >>= 1
		bit := uint64(0)
		if c.code >= c.width {
			c.code -= c.width
			bit = 1
		}
		v = v<<1 | bit
		if c.width < 1<<24 {
			c.width <<= 8
			c.code = c.code<<8 | uint32(c.next())
		}
	}
	return v
}

// A sizes is what is expected of numbers of about one size: whether they are 0, and how large they are.
type sizes struct {
	zero  chance
	more  [mostSteps]chance
	wider [65]chance // of what is far larger: how many bits it has
}

// mostSteps is the ratio of a number to its usual size above which it is an outlier.
const mostSteps = 16

func newSizes() (all [64]sizes) {
	for i := range all {
		s := &all[i]
		s.zero = even
		for k := range s.more {
			s.more[k] = even
		}
		for k := range s.wider {
			s.wider[k] = even
		}
	}
	return all
}

// writeSize writes how large a number is, in steps of 2^low. What is far larger is written with its bits; escape is one that stands
// for something else.
func (c *coder) writeSize(s *sizes, v uint64, low int, escape bool) {
	if c.write(&s.zero, v != 0 || escape); v == 0 && !escape {
		return
	}
	v--
	q := v >> low
	if escape {
		q = math.MaxUint64
	}
	for i := range uint64(mostSteps) {
		if c.write(&s.more[i], q > i); q <= i {
			c.writeBits(v&(1<<low-1), low)
			return
		}
	}
	if escape {
		c.write(&s.wider[0], false)
		return
	}
	n := bits.Len64(v) // at least 5
	for i := range n {
		c.write(&s.wider[i], true)
	}
	if n < 64 {
		c.write(&s.wider[n], false)
	}
	c.writeBits(v, n-1)
}

// readSize reads it. It is what reading a capture costs, and so has the decisions of read written out.
func (c *coder) readSize(s *sizes, low int) (v uint64, escape bool) {
	width, code := c.width, c.code
	p := &s.zero
	for q := uint64(0); ; q++ {
		bound := (width >> scaleBits) * uint32(*p)
		no := code < bound
		if no {
			width = bound
			*p += (1<<scaleBits - *p) >> rate
		} else {
			code -= bound
			width -= bound
			*p -= *p >> rate
		}
		if width < 1<<24 {
			width <<= 8
			code = code<<8 | uint32(c.next())
		}
		switch {
		case no && q == 0:
			c.width, c.code = width, code
			return 0, false
		case no:
			c.width, c.code = width, code
			return ((q-1)<<low | c.readBits(low)) + 1, false
		case q == mostSteps:
			c.width, c.code = width, code
			return c.readWide(s)
		}
		p = &s.more[q]
	}
}

// readWide reads a number that is far larger than usual.
func (c *coder) readWide(s *sizes) (v uint64, escape bool) {
	n := 0
	for n < 64 && c.read(&s.wider[n]) {
		n++
	}
	if n == 0 {
		return 0, true
	}
	return (1<<(n-1) | c.readBits(n-1)) + 1, false
}
