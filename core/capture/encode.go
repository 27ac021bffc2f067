package capture

import (
	"encoding/binary"
	"math"
	"math/bits"

	"rectura/core/memo"
)

// A segment of a capture is a sequence of stretches, each of which is read after those before it:
//
//	byte     begins for the first stretch of an Encoder, goesOn for those after it; what begins otherwise is a list of events,
//	         one by one, as an earlier program wrote it
//	uvarint  the number of new shapes; of each, the number of its points, and these
//	uvarint  the bytes of the events that are no readings, then these, in the form of package memo
//	uvarint  the number of frames, then the frames, by the coder
//
// A frame is what came at once of the same points: the answer of a device to a request. Its shape names them, once a segment. Of a
// frame are written whether its shape is the one that followed last time, by how much its time strays from the step of its shape,
// and of each point by how much its reading strays from what it was expected to be: the last one, or the mean of the last
// ones, whichever was nearer so far.
const (
	begins     = 2
	goesOn     = 3
	mostPlaces = 6 // of a reading in decimals
	asFloat32  = 7 // the unit of a reading that is no short decimal: the next number of 32 bits
	asFloat64  = 8 // or of 64
	unitForms  = 9 // how many there are
	mostShapes = 1 << 16
	mostFrames = 1 << 20 // of a stretch
	mostEvents = 1 << 22
)

// A slot is a point of a shape: an input and the place of its chain at which it is read, or that it has no reading, and why.
type slot struct {
	kind   Kind // Reading or Failing
	of, at int32
	text   string
}

// name writes what a slot is.
func (s *slot) name(to []byte) []byte {
	to = binary.AppendUvarint(to, uint64(s.of))
	if s.kind == Reading {
		return binary.AppendUvarint(to, uint64(s.at)+1)
	}
	to = append(to, 0)
	to = binary.AppendUvarint(to, uint64(len(s.text)))
	return append(to, s.text...)
}

func slotOf(e *Event) slot {
	if e.Kind == Failing {
		return slot{Failing, e.Of, 0, e.Text}
	}
	return slot{Reading, e.Of, e.At, ""}
}

// A forecast is what is expected of the next of some whole numbers.
type forecast struct {
	last      int64
	mean      int64 // of the last ones, times 16
	lastError int64 // how far from each the numbers were, on average, times 16
	meanError int64
}

// next is the number that is expected, and about how far from it numbers are, as a power of two.
func (f *forecast) next() (n int64, size int) {
	if f.meanError < f.lastError {
		return (f.mean + 8) >> 4, bits.Len64(uint64(f.meanError))
	}
	return f.last, bits.Len64(uint64(f.lastError))
}

// saw notes a number.
func (f *forecast) saw(n int64) {
	f.lastError += (distance(n, f.last)<<4 - f.lastError) >> 4
	f.meanError += (distance(n, (f.mean+8)>>4)<<4 - f.meanError) >> 4
	f.last = n
	f.mean += (n<<4 - f.mean) >> 3
}

// began notes a first number, of which nothing was expected.
func (f *forecast) began(n int64) { *f = forecast{last: n, mean: n << 4} }

// distance returns the absolute difference of two numbers, limited so that averages do not overflow.
func distance(a, b int64) int64 {
	d := a - b
	return int64(min(uint64(max(d, -d)), 1<<56)) // an overflow counts as far
}

// A column is a slot of a shape, and what is expected of it; its unit is unitForms before its first reading.
type column struct {
	slot
	unit byte
	forecast
}

// A shape is the points that come together.
type shape struct {
	columns []column
	step    forecast // of the times between its frames
	last    int64    // the time of its last frame
	follows int      // the shape that came after it last
	steady  chance   // that it does again
}

func newShape(slots []slot) shape {
	s := shape{columns: make([]column, len(slots)), steady: even}
	for i := range slots {
		s.columns[i] = column{slot: slots[i], unit: unitForms}
	}
	return s
}

// A model is what is known of a segment as far as it has been written, or read.
type model struct {
	shapes   []shape // 0 is that of the events that are no readings
	now      int     // the shape of the last frame
	readings [64]sizes
	times    [64]sizes
}

func (m *model) begin() {
	if m.shapes == nil {
		m.shapes, m.readings, m.times = []shape{newShape(nil)}, newSizes(), newSizes()
	}
}

// An Encoder packs the events of a segment. Its zero value is ready for use. It is for one goroutine.
type Encoder struct {
	model
	numbers map[string]int // by what a shape is made of: its number
	key     []byte
	fresh   int // how many shapes were written
	frames  []frame
	values  []float64 // of the frames, one after the other
	single  []byte    // events that are no readings
	size    int       // about how many bytes are waiting, at most
}

type frame struct {
	shape int
	t     int64
}

// Add takes events of one time.
func (e *Encoder) Add(events []Event) {
	e.begin()
	for len(events) > 0 {
		n := 0
		for n < len(events) && (events[n].Kind == Reading || events[n].Kind == Failing) && events[n].T == events[0].T {
			n++
		}
		if n == 0 || len(e.shapes) > mostShapes {
			before, event := len(e.single), events[0]
			event.T = 0 // it is that of the frame
			e.single = memo.Write(e.single, func(f *memo.Fields) { f.Group(1, event.fields) })
			e.frames = append(e.frames, frame{0, events[0].T})
			e.size += len(e.single) - before + 2
			events = events[1:]
			continue
		}
		k := e.shapeOf(events[:n])
		for i := range events[:n] {
			e.values = append(e.values, events[i].Value)
		}
		e.frames = append(e.frames, frame{k, events[0].T})
		e.size += n + 4
		events = events[n:]
	}
}

// shapeOf is the number of the shape of readings that came together.
func (e *Encoder) shapeOf(events []Event) int {
	e.key = e.key[:0]
	for i := range events {
		s := slotOf(&events[i])
		e.key = s.name(e.key)
	}
	if k := e.numbers[string(e.key)]; k > 0 {
		return k
	}
	slots := make([]slot, len(events))
	for i := range events {
		slots[i] = slotOf(&events[i])
	}
	if e.numbers == nil {
		e.numbers = map[string]int{}
	}
	e.numbers[string(e.key)] = len(e.shapes)
	e.shapes = append(e.shapes, newShape(slots))
	e.size += len(e.key)
	return len(e.shapes) - 1
}

// Size is about how many bytes are waiting to be written, at most.
func (e *Encoder) Size() int { return e.size }

// Full reports whether the stretch has reached its limit and must be flushed.
func (e *Encoder) Full() bool { return len(e.frames) >= mostFrames/2 || len(e.values) >= mostEvents/2 }

// Flush gives what was added since the last Flush as a stretch; nothing where there is nothing.
func (e *Encoder) Flush() []byte {
	if len(e.frames) == 0 {
		return nil
	}
	first := byte(goesOn)
	if e.fresh == 0 {
		first, e.fresh = begins, 1
	}
	out := append(make([]byte, 0, e.size/2+64), first)
	out = binary.AppendUvarint(out, uint64(len(e.shapes)-e.fresh))
	for ; e.fresh < len(e.shapes); e.fresh++ {
		s := &e.shapes[e.fresh]
		out = binary.AppendUvarint(out, uint64(len(s.columns)))
		for i := range s.columns {
			out = s.columns[i].name(out)
		}
	}
	out = binary.AppendUvarint(out, uint64(len(e.single)))
	out = append(out, e.single...)
	out = binary.AppendUvarint(out, uint64(len(e.frames)))
	c, values := newWriter(out), e.values
	for _, f := range e.frames {
		before, s := &e.shapes[e.now], &e.shapes[f.shape]
		c.writeShape(before, f.shape, len(e.shapes))
		e.now = f.shape
		c.writeNumber(&e.times, &s.step, f.t-s.last)
		s.last = f.t
		for i := range s.columns {
			c.writeReading(&e.readings, &s.columns[i], values[i])
		}
		values = values[len(s.columns):]
	}
	e.frames, e.values, e.single, e.size = e.frames[:0], e.values[:0], e.single[:0], 0
	return c.close()
}

// writeShape writes which of so many shapes follows one.
func (c *coder) writeShape(before *shape, k, of int) {
	if c.write(&before.steady, k != before.follows); k != before.follows {
		c.writeBits(uint64(k), bits.Len(uint(of-1)))
		before.follows = k
	}
}

// writeNumber writes a number that is expected to be about another.
func (c *coder) writeNumber(s *[64]sizes, f *forecast, n int64) {
	expected, size := f.next()
	z, low := zigzag(n-expected), lowBits(size)
	c.writeSize(&s[size], z, low, false)
	f.saw(n)
}

func zigzag(d int64) uint64 { return uint64(d)<<1 ^ uint64(d>>63) }

func unzigzag(z uint64) int64 { return int64(z>>1) ^ -int64(z&1) }

// lowBits returns the number of low bits that are random in numbers of about the given size.
func lowBits(size int) int { return max(size-4, 0) }

// writeReading writes a reading in the unit of the one before, or else in the first that it is a whole number of.
func (c *coder) writeReading(s *[64]sizes, x *column, v float64) {
	if x.kind == Failing {
		return
	}
	if n, ok := units(v, x.unit); ok {
		c.writeNumber(s, &x.forecast, n)
		return
	}
	_, size := x.next()
	c.writeSize(&s[size], 0, 0, true)
	n, ok := int64(0), false
	for x.unit = 0; ; x.unit++ {
		if n, ok = units(v, x.unit); ok {
			break
		}
	}
	c.writeBits(uint64(x.unit), 4)
	c.writeBits(uint64(n), 64)
	x.began(n)
}

var tens = [mostPlaces + 1]float64{1, 10, 100, 1e3, 1e4, 1e5, 1e6}

// units is a reading as a whole number of a unit, if it comes back from that bit for bit. Every number does from asFloat64.
func units(v float64, unit byte) (n int64, ok bool) {
	switch {
	case unit <= mostPlaces:
		x := math.RoundToEven(v * tens[unit])
		ok := math.Abs(x) < 1<<53 && math.Float64bits(float64(int64(x))/tens[unit]) == math.Float64bits(v)
		return int64(x), ok
	case unit == asFloat32:
		x := float32(v)
		return inOrder(int64(int32(math.Float32bits(x))), 31), math.Float64bits(float64(x)) == math.Float64bits(v)
	case unit == asFloat64:
		return inOrder(int64(math.Float64bits(v)), 63), true
	}
	return 0, false
}

// reading is the reading that units made a number of.
func reading(n int64, unit byte) float64 {
	switch unit {
	case asFloat32:
		return float64(math.Float32frombits(uint32(inOrder(n, 31))))
	case asFloat64:
		return math.Float64frombits(uint64(inOrder(n, 63)))
	}
	return float64(n) / tens[unit]
}

// inOrder makes the bits of a number that follow each other as numbers do, and takes that back.
func inOrder(bits int64, sign int) int64 {
	if bits < 0 {
		return bits ^ (1<<sign - 1)
	}
	return bits
}
