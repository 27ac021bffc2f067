package bench

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"rectura/core/logic"
	"rectura/core/recording"
)

// A Comparison is what the plant did with an output, by the recording, beside
// what the rules would have done.
type Comparison struct {
	Output    int
	Plant     []Span // by the recording
	Parted    bool   // they were different for longer than rows lie apart
	At        int64  // when they first parted
	Did       logic.State
	Would     logic.State
	Different int64 // nanoseconds in which they were different, in all
}

// Plant compares the outputs that the recording has columns of. What lasts no
// longer than two rows is no difference: a logger writes a state down late.
func (r *Result) Plant() []Comparison {
	var all []Comparison
	for i := range r.Program.Outputs {
		if c := r.Recording.Column(r.Program.Outputs[i].Name); c != nil && c.Len() > 0 && !r.Program.Outputs[i].Analog() {
			all = append(all, r.compare(i, c))
		}
	}
	return all
}

func (r *Result) compare(output int, c *recording.Column) Comparison {
	x := Comparison{Output: output, Plant: plantSpans(c, r.Recording)}
	patience := 2 * spacing(c)
	would := r.Spans(logic.Ref{Kind: logic.OutputKind, Index: int32(output)})
	for _, did := range x.Plant {
		for len(would) > 1 && would[0].To <= did.From {
			would = would[1:]
		}
		if did.State != logic.On && did.State != logic.Off {
			continue
		}
		for _, w := range would {
			if w.From >= did.To {
				break
			}
			from, to := max(did.From, w.From), min(did.To, w.To)
			if w.State == did.State || from >= to {
				continue
			}
			x.Different += to - from
			if !x.Parted && to-from > patience {
				x.Parted, x.At, x.Did, x.Would = true, from, did.State, w.State
			}
		}
	}
	return x
}

// plantSpans are the states of a column of 0 and 1: undecided until it is read,
// bad where it is.
func plantSpans(c *recording.Column, r *recording.Recording) []Span {
	spans := []Span{{From: r.Start, Stand: logic.Stand{State: logic.Undecided}}}
	c.Each(func(t int64, v float64) bool {
		state := logic.Off
		switch {
		case math.IsNaN(v) || math.IsInf(v, 0):
			state = logic.Bad
		case v != 0:
			state = logic.On
		}
		spans = next(spans, t, logic.Stand{State: state})
		return true
	})
	return end(spans, r.End)
}

// spacing is how far apart the readings of a column usually lie, in
// nanoseconds.
func spacing(c *recording.Column) int64 {
	var gaps []int64
	for _, b := range c.Blocks {
		for i := 1; i < b.Len(); i++ {
			gaps = append(gaps, b.Times[i]-b.Times[i-1])
		}
		if len(gaps) > recording.BlockSize {
			break
		}
	}
	if len(gaps) == 0 {
		return 0
	}
	slices.SortFunc(gaps, cmp.Compare[int64])
	return gaps[len(gaps)/2]
}

// judgePlant says of each output in the recording where the plant parted from
// the rules.
func (r *Result) judgePlant() {
	clock := r.Recording.Clock
	for _, c := range r.Plant() {
		name := r.Program.Outputs[c.Output].Name
		if !c.Parted {
			r.Notes = append(r.Notes, agreed(name))
			continue
		}
		r.Warnings = append(
			r.Warnings,
			fmt.Sprintf(
				"column %s is an output: the plant first did otherwise at %s, %s where the rules say %s; readings after that come from a plant that was driven otherwise",
				name,
				clock.Format(c.At),
				c.Did,
				c.Would,
			),
		)
	}
	for i := range r.Program.Outputs {
		if o := &r.Program.Outputs[i]; o.Analog() && r.levels != nil {
			if c := r.Recording.Column(o.Name); c != nil && c.Len() > 0 {
				r.judgeLevel(o, c, r.levels[i])
			}
		}
	}
}

func agreed(output string) string {
	return fmt.Sprintf("column %s is an output: the plant did what the rules say", output)
}

// judgeLevel says how far the plant was from where the rules put an analog
// output.
func (r *Result) judgeLevel(o *logic.Output, did, would *recording.Column) {
	far, at := 0.0, int64(0)
	from, err := outputColumn(o, did)
	if err != nil {
		r.Warnings = append(r.Warnings, err.Error())
		return
	}
	did.Each(func(t int64, v float64) bool {
		v = from.Convert(v, o.Unit)
		if w, known := would.Held(t); known && math.Abs(v-w) > far {
			far, at = math.Abs(v-w), t
		}
		return true
	})
	if far == 0 {
		r.Notes = append(r.Notes, agreed(o.Name))
		return
	}
	r.Warnings = append(r.Warnings, fmt.Sprintf(
		"column %s is an output: the plant was up to %s from where the rules put it, at %s; readings come from a plant that was driven otherwise",
		o.Name,
		withUnit(far, o.Unit),
		r.Recording.Clock.Format(at),
	))
}

// hasLevels tells whether a recording has what the plant did with an analog output.
func hasLevels(p *logic.Program, r *recording.Recording) bool {
	for i := range p.Outputs {
		if p.Outputs[i].Analog() && r.Column(p.Outputs[i].Name) != nil {
			return true
		}
	}
	return false
}

// WithOutputs is the recording with what the rules did with each output as a
// further column, at the times at which that changed. A column that the plant
// had recorded under that name is kept as NAME.plant.
func (r *Result) WithOutputs() *recording.Recording {
	out := *r.Recording
	out.Columns = nil
	for _, c := range r.Recording.Columns {
		if r.Program.Index(logic.OutputKind, c.Name) >= 0 {
			renamed := *c
			renamed.Name += ".plant"
			c = &renamed
		}
		out.Columns = append(out.Columns, c)
	}
	for i, o := range r.Program.Outputs {
		if o.Analog() {
			out.Columns = append(out.Columns, r.levels[i])
			continue
		}
		w := writer{column: &recording.Column{Name: o.Name}}
		for _, span := range r.Spans(logic.Ref{Kind: logic.OutputKind, Index: int32(i)}) {
			v := 0.0
			if span.State == logic.On {
				v = 1
			}
			w.add(span.From, v)
		}
		w.flush(nil)
		out.Columns = append(out.Columns, w.column)
	}
	return &out
}
