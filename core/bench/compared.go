package bench

import (
	"math"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/unit"
)

// A Compared is between which values a signal lay in a replay, beside the points
// that rules compare it with.
type Compared struct {
	Name   string
	Low    float64 // NaN if no value was good; of a contact 0 or 1
	High   float64
	Unit   unit.Unit // none of a contact
	Points []logic.RulePoint
	Bad    bool // it was bad at some time

	Contact bool
}

// Compared lists the inputs that rules read, and the derived values that have points: what a
// person wants to know where nothing changed. It plays the recording again.
func (r *Result) Compared() ([]Compared, error) {
	var all []Compared
	points := r.Program.PointsBySignal(r.Settings)
	for i := range r.Program.Inputs {
		in := &r.Program.Inputs[i]
		if !in.Used() {
			continue
		}
		trace, err := r.Trace(i)
		if err != nil {
			return nil, err
		}
		c := Compared{Name: in.Name, Points: points[in.Name], Contact: in.Chain == nil}
		if in.Chain != nil {
			c.Unit = in.Chain.Units[len(in.Chain.Units)-1]
		}
		c.Low, c.High, c.Bad = extremes(trace)
		all = append(all, c)
	}
	for i := range r.Program.Derived {
		d := &r.Program.Derived[i]
		if len(points[d.Name]) == 0 {
			continue
		}
		trace, err := r.TraceDerived(i)
		if err != nil {
			return nil, err
		}
		c := Compared{Name: d.Name, Unit: d.Unit, Points: points[d.Name]}
		c.Low, c.High, c.Bad = extremes(trace)
		all = append(all, c)
	}
	return all, nil
}

// extremes are the lowest and the highest good value of a trace; nil for one of an
// input that was never read.
func extremes(trace *recording.Column) (low, high float64, bad bool) {
	low, high = math.Inf(1), math.Inf(-1)
	if trace != nil {
		for _, b := range trace.Blocks {
			bad = bad || b.AnyBad
			if !math.IsNaN(b.Min) {
				low, high = min(low, b.Min), max(high, b.Max)
			}
		}
	}
	if low > high {
		return math.NaN(), math.NaN(), bad
	}
	return low, high, bad
}
