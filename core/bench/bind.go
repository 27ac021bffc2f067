// Package bench tests rules away from the plant: it plays recordings through a
// compiled job and tells what the rules would have done, when, and why.
package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A binding joins a column of a recording to an input of a job.
type binding struct {
	column  *recording.Column
	input   int
	at      int // the place of the input's chain at which the values stand
	from    unit.Unit
	to      unit.Unit // of that place
	convert bool      // from is another unit than to
}

func (b *binding) value(v float64) float64 {
	if b.convert {
		return b.from.Convert(v, b.to)
	}
	return v
}

// bind finds a column for every input. What may make the answer another than is
// thought is a warning, what is only to be known a note.
func bind(p *logic.Program, r *recording.Recording) (bound []binding, warnings, notes []string, err error) {
	for i := range p.Inputs {
		in := &p.Inputs[i]
		c := r.Column(in.Name)
		if c == nil {
			if in.Used() && !p.Watched(logic.Ref{Kind: logic.InputKind, Index: int32(i)}) {
				warnings = append(
					warnings,
					fmt.Sprintf(
						"the recording has no column %s, which rules need; it is never read (--map COLUMN=%s names one)",
						in.Name,
						in.Name,
					),
				)
			}
			continue
		}
		b, err := bindColumn(p, i, c, r.Clock)
		if err != nil {
			return nil, nil, nil, err
		}
		bound = append(bound, b)
		if doubt := otherUnit(in, c); doubt != "" {
			warnings = append(warnings, doubt)
		}
	}
	used := func(in logic.Input) bool { return in.Used() }
	if slices.ContainsFunc(p.Inputs, used) && !slices.ContainsFunc(bound, func(b binding) bool { return used(p.Inputs[b.input]) }) {
		warnings = append(warnings, "nothing is compared: the recording has no column of an input that rules read")
	}
	for _, c := range r.Columns {
		switch {
		case p.Index(logic.OutputKind, c.Name) >= 0:
			if err := Fits(p, c, r.Clock); err != nil {
				return nil, nil, nil, err
			}
		case p.Index(logic.DerivedKind, c.Name) >= 0:
			notes = append(notes, fmt.Sprintf("column %s is a derived value; it is computed anew from its inputs", c.Name))
		case p.Index(logic.InputKind, c.Name) < 0:
			notes = append(notes, fmt.Sprintf("column %s is no point of this job%s", c.Name, p.Job.DidYouMean(c.Name, "input", "output")))
		}
	}
	return bound, warnings, notes, nil
}

// mostJudged is how many readings of a column without a unit are looked at.
const mostJudged = 4096

// otherUnit tells of a column without a unit whose readings are nearly all bad as raw ones,
// but good at another place of the chain, that they may stand there; empty of any other.
func otherUnit(in *logic.Input, c *recording.Column) string {
	if in.Chain == nil || c.Unit != "" {
		return ""
	}
	n, good := 0, make([]int, len(in.Chain.Units))
	c.Each(func(_ int64, v float64) bool {
		for at := range good {
			if !math.IsNaN(v) && in.Chain.Judge(v, at) == signal.None {
				good[at]++
			}
		}
		n++
		return n < mostJudged && good[0] <= mostJudged/10 // more are raw, as they should be
	})
	if n == 0 || good[0]*10 > n {
		return ""
	}
	for at := len(good) - 1; at > 0; at-- {
		if good[at]*10 < n*9 {
			continue
		}
		share, which := "all", fmt.Sprintf("%d readings of %s", n, c.Name)
		if good[0] > 0 {
			share = fmt.Sprintf("%d of", n-good[0])
		}
		if n == mostJudged {
			share += " the first"
		}
		other := in.Chain.Units[at].Name()
		return fmt.Sprintf(
			"%s %s are bad as %s; are they in %s? Then head the column %s [%s]",
			share,
			which,
			in.Chain.Units[0].Describe(),
			other,
			c.Name,
			other,
		)
	}
	return ""
}

// Fits tells why a column of a recording could not be played, if it could not.
func Fits(p *logic.Program, c *recording.Column, clock recording.Clock) error {
	if i := p.Index(logic.InputKind, c.Name); i >= 0 {
		_, err := bindColumn(p, i, c, clock)
		return err
	}
	o := p.Index(logic.OutputKind, c.Name)
	if o >= 0 && p.Outputs[o].Analog() {
		_, err := outputColumn(&p.Outputs[o], c)
		return err
	}
	if t, v, found := c.NotDiscrete(); o >= 0 && found {
		return fmt.Errorf(
			"column %s, at %s: %s is neither 0 nor 1, and %s is a discrete output",
			c.Name,
			clock.Format(t),
			unit.Short(v),
			c.Name,
		)
	}
	return nil
}

// outputColumn gives the unit in which a column holds an analog output.
func outputColumn(o *logic.Output, c *recording.Column) (unit.Unit, error) {
	if w := c.Word; w != nil {
		return unit.Unit{}, fmt.Errorf(
			"%d:%d: column %s holds the word %s, and %s is an analog output; a number must stand there",
			w.Line,
			w.Column,
			c.Name,
			w.Text,
			o.Name,
		)
	}
	if c.Unit == "" {
		return o.Unit, nil
	}
	u := unit.Named(c.Unit)
	if !u.Comparable(o.Unit) {
		return u, fmt.Errorf("column %s is in %s, and the output %s is in %s", c.Name, u.Describe(), o.Name, o.Unit.Describe())
	}
	return u, nil
}

func bindColumn(p *logic.Program, i int, c *recording.Column, clock recording.Clock) (binding, error) {
	b := binding{column: c, input: i}
	in := &p.Inputs[i]
	if in.Chain == nil {
		if c.Unit != "" {
			return b, fmt.Errorf(
				"column %s has the unit %s, but %s is a discrete input; take the unit out of the heading",
				c.Name,
				c.Unit,
				in.Name,
			)
		}
		if t, v, found := c.NotDiscrete(); found {
			return b, fmt.Errorf(
				"column %s, at %s: %s is neither 0 nor 1, and %s is a discrete input",
				c.Name,
				clock.Format(t),
				unit.Short(v),
				in.Name,
			)
		}
		return b, nil
	}
	if w := c.Word; w != nil {
		return b, fmt.Errorf(
			"%d:%d: column %s holds the word %s, and %s is an analog input; a number must stand there",
			w.Line,
			w.Column,
			c.Name,
			w.Text,
			in.Name,
		)
	}
	if c.Unit == "" {
		return b, nil
	}
	name, raw := signal.AsRead(c.Unit)
	b.from = unit.Named(name)
	at, ok := in.Chain.Place(b.from)
	if raw {
		at, ok = in.Chain.PlaceAsRead(b.from)
	}
	if !ok {
		names := in.Chain.PlaceNames()
		return b, fmt.Errorf(
			"column %s is in %s, which is no unit of the chain of %s: %s",
			c.Name,
			b.from.Describe(),
			in.Name,
			strings.Join(names, ", "),
		)
	}
	b.at, b.to = at, in.Chain.Units[at]
	b.convert = b.from != b.to
	return b, nil
}

// A cursor walks through the readings of a bound column.
type cursor struct {
	binding
	block *recording.Block
	next  int // of the block's readings
	rest  []*recording.Block
	time  int64 // of the reading it stands at; never after the last
}

const never = math.MaxInt64

func newCursor(b binding) cursor {
	c := cursor{binding: b, rest: b.column.Blocks}
	c.open()
	return c
}

// open goes to the first reading of the next block.
func (c *cursor) open() {
	if len(c.rest) == 0 {
		c.time = never
		return
	}
	c.block, c.rest, c.next = c.rest[0], c.rest[1:], 0
	c.time = c.block.Times[0]
}

// take returns the reading it stands at and goes to the next.
func (c *cursor) take() float64 {
	v := c.block.At(c.next)
	if c.next++; c.next == c.block.Len() {
		c.open()
	} else {
		c.time = c.block.Times[c.next]
	}
	return c.value(v)
}
