package bench

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A Reading is what an input showed and what a reference showed beside it.
// Measured may stand at any stage of the chain, Reference is a value of the
// input; a number without a unit is in the input's own.
type Reading struct {
	Measured, Reference unit.Quantity
	AsRead              bool // measured before the correction that is there
}

// ParseReading reads what was measured, perhaps with "as read" behind it, and its reference.
func ParseReading(measured, reference string) (r Reading, err error) {
	measured, r.AsRead = signal.AsRead(measured)
	if r.Measured, err = unit.ParseQuantity(measured); err != nil {
		return r, fmt.Errorf("measured: %w", err)
	}
	if r.Reference, err = unit.ParseQuantity(reference); err != nil {
		return r, fmt.Errorf("reference: %w", err)
	}
	return r, nil
}

// A Calibration is a `correct` clause for an input, and what it does.
type Calibration struct {
	Input  string
	Unit   unit.Unit // of the errors below, beside percent
	Span   float64   // of the input, in that unit; 0 if nothing says it
	Points []CalibrationPoint
	Clause string // as it stands in the sheet
	Sheet  string // the name of the sheet with the input
	Text   string // that sheet with the clause
}

// A CalibrationPoint is one reading before and after: errors are what the input
// shows less what is true, in the input's unit.
type CalibrationPoint struct {
	Measured, Reference float64
	AsFound, AsLeft     float64
}

// Percent is an error in percent of the span; NaN where there is no span.
func (c *Calibration) Percent(e float64) float64 {
	if c.Span == 0 {
		return math.NaN()
	}
	return 100 * e / c.Span
}

// closest is how near two calibration readings may lie, as a part of the span:
// nearer ones are no base for a line.
const closest = 0.05

// Calibrate makes the `correct` clause of an input from one reading, which
// shifts, or from more, which lines join, and puts it into the input's sheet in
// the place of one that is there. The comment is written beside it.
func Calibrate(sources []sheet.Source, input string, readings []Reading, comment string) (*Calibration, error) {
	p, err := compileSources(sources)
	if err != nil {
		return nil, err
	}
	i := p.Index(logic.InputKind, input)
	switch {
	case i < 0:
		return nil, fmt.Errorf("no input is named %s%s", input, p.Job.DidYouMean(input, "input"))
	case p.Inputs[i].Chain == nil:
		return nil, fmt.Errorf("%s is a discrete input and cannot be calibrated", input)
	case len(readings) == 0:
		return nil, errors.New("a calibration needs at least one reading and its reference")
	}
	chain, in := p.Inputs[i].Chain, p.Job.Inputs[i]
	c := &Calibration{Input: input, Unit: chain.Engineering()}
	if low, high, ok := chain.Span(); ok {
		c.Span = high - low
	}
	stages, comments := in.Stages, sheet.Comments{}
	if n := len(stages); n > 0 {
		if old, ok := stages[n-1].(*sheet.Correct); ok {
			stages, comments = stages[:n-1], old.Comments
		}
	}
	correct := &sheet.Correct{Clause: sheet.Clause{Comments: comments}}
	if comment != "" {
		correct.Beside = "# " + comment
	}
	last := len(chain.Units) - 1
	var raw []float64
	for _, r := range readings {
		// A number alone is in the input's own unit.
		for _, q := range []*unit.Quantity{&r.Measured, &r.Reference} {
			if q.Unit == (unit.Unit{}) {
				q.Unit = c.Unit
			}
		}
		at, ok := chain.Place(r.Measured.Unit)
		if r.AsRead {
			if at, ok = chain.PlaceAsRead(r.Measured.Unit); !ok {
				at, ok = chain.Place(r.Measured.Unit) // without a correction, all is as read
			}
		}
		if !ok {
			return nil, fmt.Errorf("%s is in %s, which is no unit of the chain of %s", r.Measured, r.Measured.Unit.Describe(), input)
		}
		if !r.Reference.Unit.Comparable(c.Unit) {
			return nil, fmt.Errorf(
				"the reference %s is in %s, but %s is in %s",
				r.Reference,
				r.Reference.Unit.Describe(),
				input,
				c.Unit.Describe(),
			)
		}
		v, reference := r.Measured.In(chain.Units[at]), r.Reference.In(c.Unit)
		if f := chain.Judge(v, at); f != signal.None {
			return nil, fmt.Errorf("%s is a bad reading: %s; calibrate with good ones", r.Measured, chain.Explain(f, v, at))
		}
		shown := chain.Carry(v, at, last)
		read := chain.Carry(v, at, len(stages))
		raw = append(raw, read)
		c.Points = append(c.Points, CalibrationPoint{Measured: shown, Reference: reference, AsFound: shown - reference})
		correct.Pairs = append(correct.Pairs, sheet.Pair{From: figures(read, chain.Units[len(stages)]), To: figures(reference, c.Unit)})
	}
	if err := c.check(raw, readings); err != nil {
		return nil, err
	}
	slices.SortFunc(correct.Pairs, func(a, b sheet.Pair) int {
		switch {
		case a.From.Value < b.From.Value:
			return -1
		case a.From.Value > b.From.Value:
			return 1
		}
		return 0
	})
	in.Stages = append(slices.Clone(stages), correct)
	c.Clause = correct.String()
	after := signal.NewChain(in, p.Job.DurationValue)
	for k := range c.Points {
		c.Points[k].AsLeft = after.Carry(raw[k], len(stages), len(after.Units)-1) - c.Points[k].Reference
	}
	c.Sheet, c.Text = in.At.File, fileText(p.Job, in.At.File)
	return c, checkChanged(sources, c.Sheet, c.Text)
}

// figures is a value with as many digits as a calibration is good for.
func figures(v float64, u unit.Unit) unit.Quantity {
	text := unit.Significant(v, 6)
	v, _ = parseFloat(text)
	return unit.Quantity{Value: v, Unit: u, Text: text}
}

// check refuses readings that define no line.
func (c *Calibration) check(raw []float64, readings []Reading) error {
	for i := range raw {
		for k := range i {
			a, b := readings[k], readings[i]
			apart, real := raw[i]-raw[k], c.Points[i].Reference-c.Points[k].Reference
			switch {
			case c.Span > 0 && math.Abs(apart) < closest*c.Span, apart == 0:
				return fmt.Errorf(
					"%s and %s are too close together to define a line, %s %% of the span; take readings at least %g %% apart",
					a.Measured,
					b.Measured,
					unit.Short(math.Abs(c.Percent(apart))),
					closest*100,
				)
			case apart*real <= 0:
				return fmt.Errorf(
					"%s for %s contradicts %s for %s: a higher reading must be a higher value",
					b.Measured,
					b.Reference,
					a.Measured,
					a.Reference,
				)
			}
		}
	}
	return nil
}

// compileSources parses and compiles a job; the first error in it is the error.
func compileSources(sources []sheet.Source) (*logic.Program, error) {
	job, found := sheet.Parse(sources)
	for _, f := range found {
		if f.Severity == sheet.Error {
			return nil, fmt.Errorf("the job has an error, and is changed only once it is mended: %s", f)
		}
	}
	return logic.Compile(job)
}

// fileText is the text of one sheet as it stands in the model.
func fileText(job *sheet.Job, name string) string {
	for _, f := range job.Files {
		if f.Name == name {
			return f.String()
		}
	}
	return ""
}

// checkChanged makes sure that a job with one sheet changed has no errors.
func checkChanged(sources []sheet.Source, name, text string) error {
	_, err := compileSources(Changed(sources, name, text))
	return err
}

// Changed is a job's sheets with the text of one replaced.
func Changed(sources []sheet.Source, name, text string) []sheet.Source {
	changed := slices.Clone(sources)
	for i := range changed {
		if changed[i].Name == name {
			changed[i].Text = []byte(text)
		}
	}
	return changed
}
