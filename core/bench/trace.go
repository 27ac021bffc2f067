package bench

import (
	"math"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/signal"
	"rectura/core/unit"
)

// Trace is the value of an analog input as the rules see it, scaled and
// filtered, at each of its readings and whenever it turns bad or good between
// them; NaN where it is bad. Of a discrete input it is its state as 0 or 1. It
// is nil if the recording has no such column.
func Trace(p *logic.Program, r *recording.Recording, input int, stop Stop) (*recording.Column, error) {
	in := &p.Inputs[input]
	c := r.Column(in.Name)
	if c == nil {
		return nil, nil
	}
	b, err := bindColumn(p, input, c, r.Clock)
	if err != nil {
		return nil, err
	}
	e := &eye{in: in}
	if in.Chain != nil {
		e.analog = signal.NewAnalog(in.Chain)
	} else {
		e.contact = logic.NewContact(p, input)
	}
	if j := in.Junction(); j >= 0 {
		if e.junction, err = Trace(p, r, j, stop); err != nil {
			return nil, err
		}
		e.from = p.Inputs[j].Chain.Engineering()
	}
	trace := &recording.Column{Name: in.Name}
	if in.Chain != nil {
		trace.Unit = in.Chain.Engineering().Name()
	}
	w := writer{column: trace}
	for _, block := range c.Blocks {
		if err := stop.now(); err != nil {
			return nil, err
		}
		if e.timeless() {
			trace.Blocks = append(trace.Blocks, e.readAll(block, &b))
			continue
		}
		for i, t := range block.Times {
			for due := e.due(); due < t; due = e.due() {
				w.add(due, e.tick(due))
			}
			w.add(t, e.read(t, b.value(block.At(i)), b.at))
		}
		w.flush(block.Times)
	}
	patience := patience{stop: stop}
	for due := e.due(); due <= r.End; due = e.due() {
		if err := patience.over(); err != nil {
			return nil, err
		}
		w.add(due, e.tick(due))
	}
	w.flush(nil)
	return trace, nil
}

// TraceDerived is a derived value at every time at which it has changed; NaN where it
// is not known.
func TraceDerived(p *logic.Program, r *recording.Recording, derived int, stop Stop) (*recording.Column, error) {
	all, err := traceDerived(p, r, []int{derived}, stop)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// traceDerived traces some derived values in one replay.
func traceDerived(p *logic.Program, r *recording.Recording, some []int, stop Stop) ([]*recording.Column, error) {
	traces := make([]*recording.Column, len(some))
	writers := make([]writer, len(some))
	last := make([]float64, len(some))
	for i, d := range some {
		traces[i] = &recording.Column{Name: p.Derived[d].Name, Unit: p.Derived[d].Unit.Name()}
		writers[i].column = traces[i]
	}
	begun := false
	look := func(s *logic.Stepper, t int64) {
		for i, d := range some {
			v, known := s.DerivedValue(d)
			if !known {
				v = math.NaN()
			}
			if w := &writers[i]; !begun || !same(v, last[i]) {
				w.add(t, v)
				if len(w.times) == recording.BlockSize {
					w.flush(nil)
				}
			}
			last[i] = v
		}
		begun = true
	}
	if _, err := replay(p, r, Options{Most: 1, Stop: stop, Overlook: true}, look); err != nil {
		return nil, err
	}
	for i := range writers {
		writers[i].flush(nil)
	}
	return traces, nil
}

// Trace is Trace of the replayed recording, for as long as the replay's Stop
// allows.
func (r *Result) Trace(input int) (*recording.Column, error) {
	if r.traced != nil {
		if c := r.traced(r.Program.Inputs[input].Name); c != nil {
			return c, nil
		}
	}
	return Trace(r.Program, r.Recording, input, r.stop)
}

// TraceDerived is TraceDerived in the same way. All derived values are traced at the first
// call.
func (r *Result) TraceDerived(derived int) (*recording.Column, error) {
	if r.derived == nil {
		every := make([]int, len(r.Program.Derived))
		for i := range every {
			every[i] = i
		}
		all, err := traceDerived(r.Program, r.Recording, every, r.stop)
		if err != nil {
			return nil, err
		}
		r.derived = all
	}
	return r.derived[derived], nil
}

// A writer collects the values of a trace into blocks.
type writer struct {
	column *recording.Column
	times  []int64
	values []float64
}

func (w *writer) add(t int64, v float64) { w.times, w.values = append(w.times, t), append(w.values, v) }

// flush ends a block, which shares the times of the readings where they are the
// same.
func (w *writer) flush(times []int64) {
	if len(w.times) == len(times) { // nothing happened between the readings
		w.times = times
	}
	for len(w.values) > 0 {
		n := min(len(w.values), recording.BlockSize)
		w.column.Blocks = append(w.column.Blocks, recording.NewBlock(w.times[:n:n], w.values[:n:n]))
		w.times, w.values = w.times[n:], w.values[n:]
	}
	w.times, w.values = nil, nil
}

// An eye sees one input as rules do.
type eye struct {
	in       *logic.Input
	analog   signal.Analog
	contact  signal.Contact
	junction *recording.Column // the trace of the cold junction
	from     unit.Unit         // of that
	now      int64
}

// timeless tells whether nothing happens between the readings, because of the time.
func (e *eye) timeless() bool {
	if e.in.Chain != nil {
		return !e.in.Chain.Timed() && e.in.Junction() < 0
	}
	return e.contact.Debounce == 0
}

// readAll reads a whole block, if nothing happens between its readings. One of contacts as they are
// is what is seen of it.
func (e *eye) readAll(block *recording.Block, b *binding) *recording.Block {
	if e.in.Chain == nil && block.Values == nil && !e.contact.Inverted {
		e.contact.Read(block.Times[block.Len()-1], block.At(block.Len()-1))
		return block
	}
	values := make([]float64, block.Len())
	for i, t := range block.Times {
		values[i] = e.read(t, b.value(block.At(i)), b.at)
	}
	return recording.NewBlock(block.Times, values)
}

func (e *eye) due() int64 {
	if e.in.Chain != nil {
		return e.analog.Due(e.now)
	}
	return e.contact.Due()
}

func (e *eye) tick(t int64) float64 {
	e.now = t
	if e.in.Chain != nil {
		e.analog.Tick(t)
	} else {
		e.contact.Tick(t)
	}
	return e.value()
}

func (e *eye) read(t int64, reading float64, at int) float64 {
	e.now = t
	if e.in.Chain == nil {
		e.contact.Read(t, reading)
		return e.value()
	}
	if e.in.Junction() >= 0 {
		cold := math.NaN()
		if e.junction != nil {
			if v, read := e.junction.Held(t); read {
				cold = e.from.Convert(v, unit.MustLookup("degC"))
			}
		}
		e.analog.Junction(cold)
	}
	e.analog.Read(t, reading, at)
	return e.value()
}

// value is what rules see: NaN while it is bad.
func (e *eye) value() float64 {
	switch {
	case e.in.Chain != nil && e.analog.Fault == signal.None:
		return e.analog.Value
	case e.in.Chain != nil || e.contact.Fault != signal.None:
		return math.NaN()
	case e.contact.On:
		return 1
	}
	return 0
}

// A Span is a stretch of time in one state.
type Span struct {
	From, To int64
	logic.Stand
}

// spans collect the states of all that has any, as a replay goes on.
type spans struct {
	rules, alarms, bands, outputs, messages [][]Span

	start int64
}

func newSpans(p *logic.Program, start int64) spans {
	all := func(n int, first func(i int) logic.State) [][]Span {
		of := make([][]Span, n)
		for i := range of {
			of[i] = []Span{{From: start, Stand: logic.Stand{State: first(i)}}}
		}
		return of
	}
	off := func(int) logic.State { return logic.Off }
	none := func(int) logic.State { return logic.Undecided }
	return spans{
		all(len(p.Rules)-len(p.Alarms), off),
		all(len(p.Alarms), off),
		all(len(p.Bands), none),
		all(len(p.Outputs), off),
		make([][]Span, len(p.Messages)),
		start,
	}
}

func (x *spans) of(kind logic.Kind) [][]Span {
	switch kind {
	case logic.RuleKind:
		return x.rules
	case logic.AlarmKind:
		return x.alarms
	case logic.BandsKind:
		return x.bands
	case logic.OutputKind:
		return x.outputs
	case logic.MessageKind:
		return x.messages
	}
	return nil
}

func (x *spans) take(t *logic.Transition) {
	switch all := x.of(t.Kind); {
	case all == nil || t.LevelOnly():
	case t.Kind == logic.MessageKind: // which is on for a moment
		last := x.start
		if n := len(all[t.Index]); n > 0 {
			last = all[t.Index][n-1].To
		}
		all[t.Index] = append(all[t.Index], Span{last, t.Time, logic.Stand{}}, Span{t.Time, t.Time, logic.Stand{State: logic.On}})
	default:
		all[t.Index] = next(all[t.Index], t.Time, t.To)
	}
}

// end closes the last span of each.
func (x *spans) end(t int64) {
	for _, all := range [][][]Span{x.rules, x.alarms, x.bands, x.outputs} {
		for _, some := range all {
			end(some, t)
		}
	}
	for i, some := range x.messages {
		from := x.start
		if n := len(some); n > 0 {
			from = some[n-1].To
		}
		x.messages[i] = append(some, Span{From: from, To: t})
	}
}

// Spans are the states of one rule, alarm, bands, message or output over the
// whole replay; they are not to be changed. A message is on for the moment at
// which it is sent.
func (r *Result) Spans(of logic.Ref) []Span { return r.spans.of(of.Kind)[of.Index] }

// ContactSpans are the states of a discrete input over the whole replay: on,
// off, or bad; undecided stands for "not read yet".
func (r *Result) ContactSpans(input int) ([]Span, error) {
	trace, err := Trace(r.Program, r.Recording, input, r.stop)
	if err != nil {
		return nil, err
	}
	spans := []Span{{From: r.Recording.Start, Stand: logic.Stand{State: logic.Undecided}}}
	if trace == nil {
		return end(spans, r.Recording.End), nil
	}
	trace.Each(func(t int64, v float64) bool {
		state := logic.Off
		switch {
		case math.IsNaN(v):
			state = logic.Bad
		case v != 0:
			state = logic.On
		}
		spans = next(spans, t, logic.Stand{State: state})
		return true
	})
	return end(spans, r.Recording.End), nil
}

// next begins another span where the state changes.
func next(spans []Span, t int64, stand logic.Stand) []Span {
	last := &spans[len(spans)-1]
	if last.Stand == stand {
		return spans
	}
	if last.From == t {
		last.Stand = stand
		return spans
	}
	last.To = t
	return append(spans, Span{From: t, Stand: stand})
}

func end(spans []Span, t int64) []Span {
	spans[len(spans)-1].To = t
	return spans
}
