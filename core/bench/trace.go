package bench

import (
	"math"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/signal"
)

// Trace is the value of an analog input as the rules see it, scaled and
// filtered, at each of its readings; NaN where it is bad. Of a discrete input
// it is its state as 0 or 1. It is nil if the recording has no such column.
func Trace(p *logic.Program, r *recording.Recording, input int) (*recording.Column, error) {
	in := &p.Inputs[input]
	c := r.Column(in.Name)
	if c == nil {
		return nil, nil
	}
	b, err := bindColumn(p, input, c, r.Clock)
	if err != nil {
		return nil, err
	}
	trace := &recording.Column{Name: in.Name}
	if in.Chain != nil {
		trace.Unit = in.Chain.Engineering().Name()
	}
	read := newSeer(in)
	for _, block := range c.Blocks {
		values := make([]float64, block.Len())
		for i := range values {
			values[i] = read(b.value(block.At(i)), b.at)
		}
		trace.Blocks = append(trace.Blocks, recording.NewBlock(block.Times, values))
	}
	return trace, nil
}

// A Span is a stretch of time in one state.
type Span struct {
	From, To int64
	State    logic.State
}

// Spans are the states of one rule or output over the whole replay.
func (r *Result) Spans(kind logic.Kind, index int) []Span {
	spans := []Span{{From: r.Recording.Start, State: logic.Off}}
	for _, t := range r.Transitions {
		if t.Kind == kind && int(t.Index) == index {
			spans = next(spans, t.Time, t.To)
		}
	}
	return end(spans, r.Recording.End)
}

// ContactSpans are the states of a discrete input over the whole replay: on,
// off, or bad; undecided stands for "not read yet".
func (r *Result) ContactSpans(input int) ([]Span, error) {
	trace, err := Trace(r.Program, r.Recording, input)
	if err != nil {
		return nil, err
	}
	spans := []Span{{From: r.Recording.Start, State: logic.Undecided}}
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
		spans = next(spans, t, state)
		return true
	})
	return end(spans, r.Recording.End), nil
}

// next begins another span where the state changes.
func next(spans []Span, t int64, state logic.State) []Span {
	last := &spans[len(spans)-1]
	if last.State == state {
		return spans
	}
	if last.From == t {
		last.State = state
		return spans
	}
	last.To = t
	return append(spans, Span{From: t, State: state})
}

func end(spans []Span, t int64) []Span {
	spans[len(spans)-1].To = t
	return spans
}

// newSeer gives a function that takes an input's readings one after the other
// and says what rules see of each: NaN while it is bad.
func newSeer(in *logic.Input) func(reading float64, at int) float64 {
	if in.Chain != nil {
		a := signal.NewAnalog(in.Chain)
		return func(reading float64, at int) float64 {
			a.Read(reading, at)
			if a.Fault != signal.None {
				return math.NaN()
			}
			return a.Value
		}
	}
	c := signal.NewContact(in.Inverted)
	return func(reading float64, _ int) float64 {
		c.Read(reading)
		switch {
		case c.Fault != signal.None:
			return math.NaN()
		case c.On:
			return 1
		}
		return 0
	}
}
