// Package plot draws strip charts of a replay: the analog inputs with the trip
// and reset points of the rules that use them, analog outputs, and lanes for
// contacts, rules and outputs below, all on one time axis.
package plot

import (
	"math"
	"slices"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// A Chart is what is drawn. All its panels and lanes share the time axis.
type Chart struct {
	Title    string
	Subtitle string
	From, To int64
	Clock    recording.Clock
	Panels   []Panel
	Lanes    []Lane
}

// A Panel is one analog signal, or an analog output.
type Panel struct {
	Name, Unit string
	Signal     *recording.Column // as the rules see it; NaN where it is bad
	Span       float64           // what the chain can give, in the signal's unit; 0 if that is not known
	Points     []Point
	Output     bool // it is filled, as outputs are that are on, over its whole range
	Low, High  float64
}

// A Point is the value at which a rule trips or resets, or that a loop keeps.
type Point struct {
	Rule   string
	Value  float64
	Effect logic.Role
	Op     sheet.Op
}

// A Lane is the states of a contact, a rule or an output.
type Lane struct {
	Name  string
	Kind  logic.Kind
	Spans []bench.Span

	Starts int      // of a rule or an output
	Bands  []string // the titles of bands, from the outermost in
	Plant  bool     // it is what the plant did with an output, by the recording
}

// FromReplay makes a chart of everything that the rules of a replay use, or of
// the points and rules named alone.
func FromReplay(r *bench.Result, title, subtitle string, only ...string) (*Chart, error) {
	wanted := func(name string) bool { return len(only) == 0 || slices.Contains(only, name) }
	c := &Chart{Title: title, Subtitle: subtitle, From: r.Recording.Start, To: r.Recording.End, Clock: r.Recording.Clock}
	p := r.Program
	bySignal := p.PointsBySignal(r.Settings)
	for i := range p.Inputs {
		in := &p.Inputs[i]
		if !in.Used() || !wanted(in.Name) {
			continue
		}
		if in.Chain == nil {
			spans, err := r.ContactSpans(i)
			if err != nil {
				return nil, err
			}
			c.Lanes = append(c.Lanes, Lane{Name: in.Name, Kind: logic.InputKind, Spans: spans})
			continue
		}
		signal, err := r.Trace(i)
		if err != nil {
			return nil, err
		}
		if signal == nil {
			signal = &recording.Column{Name: in.Name}
		}
		panel := Panel{Name: in.Name, Unit: in.Chain.Engineering().Name(), Signal: signal, Points: points(bySignal[in.Name])}
		if low, high, ok := in.Chain.Span(); ok {
			panel.Span = high - low
		}
		c.Panels = append(c.Panels, panel)
	}
	for i, d := range p.Derived {
		if !wanted(d.Name) {
			continue
		}
		signal, err := r.TraceDerived(i)
		if err != nil {
			return nil, err
		}
		c.Panels = append(c.Panels, Panel{Name: d.Name, Unit: d.Unit.Name(), Signal: signal, Points: points(bySignal[d.Name])})
	}
	for i, o := range p.Outputs {
		if level := r.Level(i); level != nil && wanted(o.Name) {
			c.Panels = append(
				c.Panels,
				Panel{Name: o.Name, Unit: o.Unit.Name(), Signal: level, Output: true, Low: o.Low, High: o.High, Points: points(bySignal[o.Name])},
			)
		}
	}
	for i, b := range p.Bands {
		if !wanted(b.Name) {
			continue
		}
		lane := Lane{Name: b.Name, Kind: logic.BandsKind, Spans: r.Spans(logic.Ref{Kind: logic.BandsKind, Index: int32(i)})}
		for _, band := range b.Bands {
			lane.Bands = append(lane.Bands, band.Title)
		}
		c.Lanes = append(c.Lanes, lane)
	}
	for i := range p.Messages {
		if !wanted(p.Messages[i].Name) {
			continue
		}
		c.Lanes = append(c.Lanes, messageLane(r, i))
	}
	plant := r.Plant()
	for _, sum := range r.Summary {
		if sum.Range != nil || !wanted(sum.Name) {
			continue // it has a panel
		}
		c.Lanes = append(c.Lanes, Lane{Name: sum.Name, Kind: sum.Kind, Spans: r.Spans(sum.Ref), Starts: sum.Starts})
		if sum.Kind != logic.OutputKind {
			continue
		}
		for _, did := range plant {
			if did.Output == int(sum.Index) {
				c.Lanes = append(c.Lanes, Lane{Name: sum.Name, Kind: sum.Kind, Spans: did.Plant, Plant: true})
			}
		}
	}
	return c, nil
}

// messageLane has a moment for each time that a message was sent.
func messageLane(r *bench.Result, message int) Lane {
	spans := r.Spans(logic.Ref{Kind: logic.MessageKind, Index: int32(message)})
	return Lane{Name: r.Program.Messages[message].Name, Kind: logic.MessageKind, Spans: spans, Starts: len(spans) / 2}
}

func points(of []logic.RulePoint) []Point {
	var all []Point
	for _, pt := range of {
		all = append(all, Point{pt.Rule, pt.Value().Value, pt.Role, pt.Op})
	}
	return all
}

// Band is which band is in force where bands stand in a way, and its title.
func (l *Lane) Band(s logic.Stand) (band int, title string, ok bool) {
	if l.Bands == nil || s.State != logic.On {
		return 0, "", false
	}
	return int(s.Band), l.Bands[s.Band], true
}

// Depth is how far out a band is: 1 for the outermost, 0 for that without a limit.
func (l *Lane) Depth(band int) float64 {
	return 1 - float64(band)/float64(len(l.Bands)-1)
}

// Direction is an arrow for how the signal passes the point.
func (p Point) Direction() string {
	if p.Op.Falling() {
		return "↓"
	}
	return "↑"
}

// largest bounds an axis, so that what is worked out with its ends stays a number.
const largest = 1e300

// Limits are the lowest and highest value of a panel's axis: what the signal
// covers, and the points that are near enough not to press it flat; of an output
// its range.
func (p *Panel) Limits() (low, high float64) {
	if p.Output {
		margin := (p.High - p.Low) * 0.06
		return p.Low - margin, p.High + margin
	}
	low, high = math.Inf(1), math.Inf(-1)
	for _, b := range p.Signal.Blocks {
		if !math.IsNaN(b.Min) {
			low, high = min(low, b.Min), max(high, b.Max)
		}
	}
	if low > high {
		low, high = 0, 0
	}
	low, high = max(low, -largest), min(high, largest)
	least := max(p.Span/20, math.Abs(high+low)/40, 1e-9)
	if high-low < least {
		middle := (low + high) / 2
		low, high = middle-least/2, middle+least/2
	}
	near := 2 * (high - low)
	dataLow, dataHigh := low, high
	for _, pt := range p.Points {
		if pt.Value > dataLow-near && pt.Value < dataHigh+near {
			low, high = min(low, pt.Value), max(high, pt.Value)
		}
	}
	margin := (high - low) * 0.06
	return low - margin, high + margin
}

// ValueTicks are round values between two, at most n of them.
func ValueTicks(low, high float64, n int) []float64 {
	width := high - low
	if !(width > 0) || math.IsInf(width, 0) || n < 1 {
		return nil
	}
	for power := math.Pow(10, math.Floor(math.Log10(width/float64(n)))); ; power *= 10 {
		for _, m := range []float64{1, 2, 5} {
			step := m * power
			first, last := math.Ceil(low/step), math.Floor(high/step)
			if last-first+1 > float64(n) {
				continue
			}
			var ticks []float64
			for k := first; k <= last; k++ {
				ticks = append(ticks, k*step)
			}
			return ticks
		}
	}
}

// timeSteps are the distances between time ticks, in seconds.
var timeSteps = []int64{1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400}

// TimeTicks are round times between two, at most n of them. They are round on
// the clock's own face, or counted from 0 for elapsed time.
func TimeTicks(from, to int64, clock recording.Clock, n int) []int64 {
	const second = int64(1e9)
	step := second
	for _, s := range timeSteps {
		if step = s * second; (to-from)/step <= int64(n) {
			break
		}
	}
	for (to-from)/step > int64(n) {
		step *= 2
	}
	offset := int64(clock.OffsetAt(from)) * second
	first := (from + offset) / step * step
	if first < from+offset {
		first += step
	}
	var ticks []int64
	for t := first - offset; t <= to; t += step {
		ticks = append(ticks, t)
	}
	return ticks
}

// label is a point in words: "6 ↓ trips standby_blower".
func (p Point) label() string {
	if p.Effect == logic.Keeps {
		return unit.Short(p.Value) + " kept by " + p.Rule
	}
	return unit.Short(p.Value) + " " + p.Direction() + " " + p.Effect.String() + " " + p.Rule
}
