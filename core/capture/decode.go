package capture

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"

	"rectura/core/memo"
)

// errStretch is the error of bytes that no Encoder has written.
var errStretch = errors.New("this is no stretch of a capture, or one without those before it")

// A Decoder reads the stretches of a segment, in their order. Its zero value is ready for use. It is for one goroutine.
type Decoder struct {
	model
	events []Event
}

// Read hands the events of a stretch to each, as many at once as enter a job at one time. They are overwritten by the next. An
// error of each ends it. After an error nothing more can be read of the segment.
func (d *Decoder) Read(data []byte, each func([]Event) error) error {
	if len(data) == 0 {
		return nil
	}
	switch data[0] {
	case begins:
		d.model = model{}
	case goesOn:
	default: // of an earlier program
		events, err := Read(data)
		if err != nil {
			return err
		}
		return inGroups(events, each)
	}
	d.begin()
	r := reader{data: data[1:]}
	d.readShapes(&r)
	single := readSingle(&r)
	frames := r.unsigned()
	if r.failed || frames > mostFrames {
		return fmt.Errorf("reading a capture: %w", errStretch)
	}
	c := newReader(r.data)
	d.events = d.events[:0]
	left := mostEvents
	for range frames {
		before := len(d.events)
		if err := d.readFrame(&c, &single); err != nil {
			return fmt.Errorf("reading a capture: %w", err)
		}
		if left -= len(d.events) - before; left < 0 {
			return fmt.Errorf("reading a capture: %w", errStretch)
		}
		if before > 0 && !together(&d.events[0], &d.events[before]) {
			if err := each(d.events[:before]); err != nil {
				return err
			}
			d.events = d.events[:copy(d.events, d.events[before:])]
		}
	}
	if !c.ended() || len(single) > 0 {
		return fmt.Errorf("reading a capture: %w", errStretch)
	}
	if len(d.events) == 0 {
		return nil
	}
	return each(d.events)
}

// inGroups hands events on, as many at once as are of one time.
func inGroups(events []Event, each func([]Event) error) error {
	for len(events) > 0 {
		n := 1
		for n < len(events) && together(&events[0], &events[n]) {
			n++
		}
		if err := each(events[:n]); err != nil {
			return err
		}
		events = events[n:]
	}
	return nil
}

func (d *Decoder) readShapes(r *reader) {
	for range r.count(3) {
		n := r.count(2)
		slots := make([]slot, 0, n)
		for range n {
			s := slot{kind: Reading, of: r.number()}
			if s.at = r.number() - 1; s.at < 0 {
				s.kind, s.at, s.text = Failing, 0, string(r.bytes(r.count(1)))
			}
			slots = append(slots, s)
		}
		if r.failed = r.failed || n == 0 || len(d.shapes) > mostShapes; r.failed {
			return
		}
		d.shapes = append(d.shapes, newShape(slots))
	}
}

// readSingle reads the events that are no readings.
func readSingle(r *reader) (single []Event) {
	err := memo.Read(r.bytes(r.count(1)), func(f *memo.Fields) {
		n := 0
		f.Many(1, &n, func(f *memo.Fields, i int) {
			single = append(single, Event{})
			single[i].fields(f)
		})
	})
	r.failed = r.failed || err != nil
	return single
}

// readFrame adds the events of the next frame.
func (d *Decoder) readFrame(c *coder, single *[]Event) error {
	before := &d.shapes[d.now]
	k := before.follows
	if c.read(&before.steady) {
		k = int(c.readBits(bits.Len(uint(len(d.shapes) - 1))))
		before.follows = min(k, len(d.shapes)-1)
	}
	if k >= len(d.shapes) || c.spent > 0 {
		return errStretch
	}
	s := &d.shapes[k]
	d.now = k
	s.last += c.readNumber(&d.times, &s.step)
	if k == 0 {
		if len(*single) == 0 {
			return errStretch
		}
		e := (*single)[0]
		e.T, *single = s.last, (*single)[1:]
		d.events = append(d.events, e)
		return nil
	}
	for i := range s.columns {
		x := &s.columns[i]
		v, ok := c.readReading(&d.readings, x)
		if !ok {
			return errStretch
		}
		d.events = append(d.events, Event{Kind: x.kind, T: s.last, Of: x.of, At: x.at, Text: x.text, Value: v})
	}
	return nil
}

// readNumber reads a number that is expected to be about another.
func (c *coder) readNumber(s *[64]sizes, f *forecast) int64 {
	expected, size := f.next()
	z, escape := c.readSize(&s[size], lowBits(size))
	if escape {
		c.spent = math.MaxInt32 // which no time is written by
		return 0
	}
	n := expected + unzigzag(z)
	f.saw(n)
	return n
}

func (c *coder) readReading(s *[64]sizes, x *column) (v float64, ok bool) {
	if x.kind == Failing {
		return 0, true
	}
	expected, size := x.next()
	z, escape := c.readSize(&s[size], lowBits(size))
	if !escape {
		if x.unit >= unitForms {
			return 0, false
		}
		n := expected + unzigzag(z)
		x.saw(n)
		return reading(n, x.unit), true
	}
	if x.unit = byte(c.readBits(4)); x.unit >= unitForms {
		return 0, false
	}
	n := int64(c.readBits(64))
	x.began(n)
	return reading(n, x.unit), true
}

// A reader takes numbers from bytes, until one is missing.
type reader struct {
	data   []byte
	failed bool
}

func (r *reader) unsigned() uint64 {
	v, n := binary.Uvarint(r.data)
	if n <= 0 {
		r.failed, r.data = true, nil
		return 0
	}
	r.data = r.data[n:]
	return v
}

func (r *reader) number() int32 {
	v := r.unsigned()
	if v > math.MaxInt32 {
		r.failed = true
		return 0
	}
	return int32(v)
}

// count is a number of things of so many bytes each at least: no more than there are bytes for.
func (r *reader) count(each int) int {
	v := r.unsigned()
	if v > uint64(len(r.data)/each) {
		r.failed, r.data = true, nil
		return 0
	}
	return int(v)
}

func (r *reader) bytes(n int) []byte {
	b := r.data[:n]
	r.data = r.data[n:]
	return b
}
