package logic

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"slices"

	"rectura/core/sheet"
	"rectura/core/sheet/visits"
	"rectura/core/unit"
)

// Check parses, checks and compiles a job. Beside what sheet.Parse finds it finds
// what can only be seen with the chains of the inputs: conditions that can never,
// or must always, be true, and hysteresis too small to do anything. The program
// is nil if there are errors.
func Check(sources []sheet.Source) (*sheet.Job, *Program, []sheet.Finding) {
	job, found := sheet.Parse(sources)
	if sheet.HasErrors(found) {
		return job, nil, job.Findings(findingsOfRest(sources, found)...)
	}
	p, err := Compile(job)
	if err != nil {
		// A job without errors compiles, unless it is too large; one that does
		// not is told as it is.
		f := sheet.Finding{
			Place:    sheet.Place{File: job.Files[0].Name, Line: 1, Column: 1},
			Severity: sheet.Error,
			Code:     "internal",
			Text:     err.Error(),
		}
		if errors.As(err, new(limitError)) {
			f.Code = "limit"
		}
		return job, nil, job.Findings(f)
	}
	found = job.Findings(p.findings()...)
	if sheet.HasErrors(found) {
		return job, nil, found
	}
	return job, p, found
}

// What follows from an error is taken out with it so many times at the most; and of a
// text of more bytes than these, which is no person's, only the errors are told.
const (
	mostRests   = 4
	largestRest = 1 << 20
)

// findingsOfRest is what the chains show of a job with errors: of those of its
// declarations that neither have one, nor name one that has.
func findingsOfRest(sources []sheet.Source, found []sheet.Finding) []sheet.Finding {
	size := 0
	for _, s := range sources {
		size += len(s.Text)
	}
	if size > largestRest {
		return nil
	}
	for range mostRests {
		rest, less := blankedOut(sources, found)
		if !less {
			return nil
		}
		job, left := sheet.Parse(rest)
		if !sheet.HasErrors(left) {
			p, err := Compile(job)
			if err != nil {
				return nil // the errors that are told already come first
			}
			return p.findings()
		}
		sources, found = rest, left
	}
	return nil
}

// blankedOut are sheets in which the declarations that have errors are blank lines; less
// tells whether there were any.
func blankedOut(sources []sheet.Source, found []sheet.Finding) (rest []sheet.Source, less bool) {
	wrong := map[string]map[int]bool{}
	for _, f := range found {
		if f.Severity != sheet.Error {
			continue
		}
		if wrong[f.File] == nil {
			wrong[f.File] = map[int]bool{}
		}
		wrong[f.File][f.Line] = true
	}
	for _, s := range sources {
		lines := bytes.Split(s.Text, []byte("\n"))
		for from := 0; from < len(lines); {
			to, has := from, false
			for ; to < len(lines) && (to == from || !beginsDeclaration(lines[to])); to++ {
				has = has || wrong[s.Name][to+1]
			}
			for i := from; has && i < to; i++ {
				less = less || len(lines[i]) > 0
				lines[i] = nil
			}
			from = to
		}
		rest = append(rest, sheet.Source{Name: s.Name, Text: bytes.Join(lines, []byte("\n"))})
	}
	return rest, less
}

func beginsDeclaration(line []byte) bool { return len(line) > 0 && line[0] != ' ' && line[0] != '#' }

// An inspector looks at the conditions of a program with what its inputs can
// read.
type inspector struct {
	*Program
	settings []float64
	spans    []span // of values, as they are found
	known    []bool
	reaches  map[int32]span        // of inputs
	limits   map[int32]sheet.Place // of bands, by condition
	judged   map[string]bool       // the inputs that have trip points
	told     map[sheet.Finding]bool
	found    []sheet.Finding
}

// A span is the lowest and the highest that a value can be.
type span struct{ low, high float64 }

var anything = span{math.Inf(-1), math.Inf(1)}

func (p *Program) findings() []sheet.Finding {
	n := &inspector{Program: p, settings: p.written(nil), spans: make([]span, len(p.values)), known: make([]bool, len(p.values)),
		reaches: map[int32]span{}, limits: map[int32]sheet.Place{}, judged: map[string]bool{}, told: map[sheet.Finding]bool{}}
	for i, b := range p.Bands {
		for k, band := range b.Bands {
			if band.limit >= 0 {
				n.limits[band.limit] = p.Job.Bands[i].Bands[k].Limit.Place()
			}
		}
	}
	for i := range p.values { // in order, so that none waits for another
		n.span(int32(i))
	}
	for i := range p.conds {
		n.condition(int32(i))
	}
	for i := range p.Rules {
		n.offAtTrip(&p.Rules[i])
	}
	n.equalityGaps()
	n.ignored()
	return n.found
}

func (n *inspector) add(at sheet.Place, s sheet.Severity, code, format string, args ...any) {
	f := sheet.Finding{Place: at, Severity: s, Code: code, Text: fmt.Sprintf(format, args...)}
	if !n.told[f] {
		n.told[f] = true
		n.found = append(n.found, f)
	}
}

// span is what a value can be.
func (n *inspector) span(i int32) span {
	if !n.known[i] {
		n.spans[i], n.known[i] = n.work(&n.values[i]), true
	}
	return n.spans[i]
}

func (n *inspector) work(v *valueNode) span {
	visits.Add()
	switch v.op {
	case valueConst:
		return span{v.k, v.k}
	case valueSetting:
		return span{n.settings[v.a], n.settings[v.a]}
	case valueInput:
		return n.reach(v.a)
	case valueOutput:
		return span{n.Outputs[v.a].Low, n.Outputs[v.a].High}
	case valueNegate:
		a := n.span(v.a)
		return span{-a.high, -a.low}
	case valueConvert:
		a, by := n.span(v.a), n.conversions[v.b]
		return span{convert(by, a.low), convert(by, a.high)}
	case valueAdd:
		a, b := n.span(v.a), n.span(v.b)
		return span{a.low + b.low, a.high + b.high}
	case valueSub:
		a, b := n.span(v.a), n.span(v.b)
		return span{a.low - b.high, a.high - b.low}
	case valueMul:
		return n.corners(v, func(x, y float64) float64 { return x * y })
	case valueDiv:
		if b := n.span(v.b); b.low <= 0 && b.high >= 0 {
			return anything
		}
		return n.corners(v, func(x, y float64) float64 { return x / y })
	}
	return n.function(v)
}

// corners is the span of what grows or falls with either of two values.
func (n *inspector) corners(v *valueNode, f func(x, y float64) float64) span {
	a, b := n.span(v.a), n.span(v.b)
	s := span{math.Inf(1), math.Inf(-1)}
	for _, x := range []float64{a.low, a.high} {
		for _, y := range []float64{b.low, b.high} {
			z := f(x, y)
			if math.IsNaN(z) {
				return anything
			}
			s.low, s.high = min(s.low, z), max(s.high, z)
		}
	}
	return s
}

func (n *inspector) function(v *valueNode) span {
	var lows, highs []float64
	for _, a := range n.args[v.a : v.a+v.b] {
		s := n.span(a)
		lows, highs = append(lows, s.low), append(highs, s.high)
	}
	switch v.op {
	case valueMin:
		return span{slices.Min(lows), slices.Min(highs)}
	case valueMax:
		return span{slices.Max(lows), slices.Max(highs)}
	case valueAbs:
		s := span{lows[0], highs[0]}
		if s.low >= 0 {
			return s
		}
		return span{max(0, -s.high), max(-s.low, s.high)}
	}
	// Average and median leave out what is not known.
	return span{slices.Min(lows), slices.Max(highs)}
}

func (n *inspector) reach(input int32) span {
	s, ok := n.reaches[input]
	if !ok {
		s = anything
		if low, high, ok := n.Inputs[input].Chain.Reach(); ok {
			s = span{low, high}
		}
		n.reaches[input] = s
	}
	return s
}

// condition finds what a condition says of signals that they can never, or must
// always, be.
func (n *inspector) condition(i int32) {
	c := &n.conds[i]
	source := n.sources[i]
	switch c.op {
	case condBelow, condAtMost, condAbove, condAtLeast:
		never, always := n.judge(c)
		at, isBand := n.limits[i]
		if !isBand {
			at = source.compare.Place()
		}
		n.verdict(at, n.compared(source.compare, c.b, source.unit), c.a, never, always, source.unit)
		if !never && !always {
			n.neverResets(i, at, source.compare.String(), source.unit)
		}
		n.hysteresis(c, source.compare.Hysteresis, source.unit)
	case condBetween, condOutside:
		x, low, high := n.span(c.a), n.span(c.b), n.span(c.n)
		apart, inside := x.high < low.low || x.low > high.high, x.low >= low.high && x.high <= high.low
		if c.op == condOutside {
			apart, inside = inside, x.high < low.low || x.low > high.high
		}
		n.verdict(source.from.Place(), source.from.String(), c.a, apart, inside, source.unit)
		if b, ok := source.from.(*sheet.Between); ok {
			n.hysteresis(c, b.Hysteresis, source.unit)
		}
	case condCrosses:
		x, y := n.span(c.a), n.span(c.b)
		n.verdict(source.from.Place(), source.from.String(), c.a, x.high < y.low || x.low > y.high, false, source.unit)
	case condAnd:
		n.contradiction(c)
	}
}

// judge tells whether a comparison can never be true, or must be.
func (n *inspector) judge(c *condNode) (never, always bool) {
	x, t := n.span(c.a), n.span(c.b)
	if c.deadband >= 0 {
		d := n.span(c.deadband)
		if c.op == condAbove || c.op == condAtLeast {
			t = span{t.low + d.low, t.high + d.high}
		} else {
			t = span{t.low - d.high, t.high - d.low}
		}
	}
	switch c.op {
	case condBelow:
		return x.low >= t.high, x.high < t.low
	case condAtMost:
		return x.low > t.high, x.high <= t.low
	case condAbove:
		return x.high <= t.low, x.low > t.high
	default:
		return x.high < t.low, x.low >= t.high
	}
}

// compared is a comparison with the number that a setpoint or constant puts in.
func (n *inspector) compared(x *sheet.Compare, right int32, u unit.Unit) string {
	s := n.span(right)
	if _, written := x.R.(*sheet.Literal); written || s.low != s.high {
		return x.String()
	}
	return x.String() + ", " + withUnit(unit.Short(s.low), u) + ","
}

func (n *inspector) verdict(at sheet.Place, what string, value int32, never, always bool, u unit.Unit) {
	if name, chain, ok := n.measured(value); ok && chain != nil {
		n.judged[name] = true
	}
	if !never && !always {
		return
	}
	s := n.span(value)
	reads := fmt.Sprintf("%s is from %s to %s", n.describe(value), withUnit(unit.Short(s.low), u), withUnit(unit.Short(s.high), u))
	if never {
		n.add(at, sheet.Error, "never-true", "%s can never be true: %s; correct the number, or the chain", what, reads)
		return
	}
	n.add(at, sheet.Error, "always-true", "%s is always true: %s; correct the number, or the chain", what, reads)
}

// describe names a value, or says that it is computed.
func (n *inspector) describe(value int32) string {
	if name, chain, ok := n.measured(value); ok && chain != nil {
		return "what " + name + " can read"
	} else if ok {
		return "what " + name + " can be"
	}
	return "the left side"
}

// A hold is where a comparison with fixed points trips, and how far it then holds: from
// its trip point, and from its reset point, upwards or downwards. At an open point it does
// not trip, or does not hold any more.
type hold struct {
	cond                int32
	rising              bool
	trip, reset         float64
	tripOpen, resetOpen bool
}

// holdOf is that of a comparison; known is false where a point can move.
func (n *inspector) holdOf(cond int32) (h hold, known bool) {
	c := &n.conds[cond]
	if c.op > condAtLeast {
		return h, false
	}
	rising, open := c.op == condAbove || c.op == condAtLeast, c.op == condAbove || c.op == condBelow
	h = hold{cond: cond, rising: rising, tripOpen: open, resetOpen: open}
	limit, deadband, hysteresis := n.span(c.b), span{}, span{}
	if c.deadband >= 0 {
		deadband = n.span(c.deadband)
	}
	if c.hysteresis >= 0 {
		hysteresis = n.span(c.hysteresis)
	}
	if limit.low != limit.high || deadband.low != deadband.high || hysteresis.low != hysteresis.high {
		return h, false
	}
	way := 1.0
	if !rising {
		way = -1
	}
	h.trip = limit.low + way*deadband.low
	h.reset = limit.low
	if c.hysteresis >= 0 {
		h.reset = h.trip - way*hysteresis.low
	}
	return h, true
}

// meet tells whether a value lies beyond two points, from the one upwards and from the
// other downwards.
func meet(up float64, upOpen bool, down float64, downOpen bool) bool {
	return up < down || up == down && !upOpen && !downOpen
}

// together tells whether a signal can make a rising and a falling comparison true at one
// time: it trips the one, and then the other where the first still holds.
func together(up, down hold) bool {
	return meet(up.reset, up.resetOpen, down.trip, down.tripOpen) || meet(up.trip, up.tripOpen, down.reset, down.resetOpen)
}

// mostTogether is how many comparisons of one signal are held against each other.
const mostTogether = 32

// contradiction finds comparisons of one signal that cannot be true together, however
// the signal moves.
func (n *inspector) contradiction(c *condNode) {
	signals := map[int32][]hold{}
	for _, a := range n.args[c.a : c.a+c.b] {
		for n.conds[a].op == condFor || n.conds[a].op == condForStrict {
			a = n.conds[a].a
		}
		h, known := n.holdOf(a)
		if !known {
			continue
		}
		others := signals[n.conds[a].a]
		for _, other := range others {
			if other.rising == h.rising {
				continue
			}
			up, down := other, h
			if h.rising {
				up, down = h, other
			}
			if together(up, down) {
				continue
			}
			first, second := n.sources[min(other.cond, a)].compare, n.sources[max(other.cond, a)].compare
			n.add(second.Place(), sheet.Error, "never-true", "%s and %s can never be true together; correct a number, or write `or`", first, second)
			return
		}
		if len(others) < mostTogether {
			signals[n.conds[a].a] = append(others, h)
		}
	}
}

// neverResets finds a comparison whose reset point the signal cannot reach.
func (n *inspector) neverResets(i int32, at sheet.Place, what string, u unit.Unit) {
	h, known := n.holdOf(i)
	x := n.span(n.conds[i].a)
	if !known || n.conds[i].hysteresis < 0 && n.conds[i].deadband < 0 {
		return
	}
	reached := x.low < h.reset || x.low == h.reset && h.resetOpen
	if !h.rising {
		reached = x.high > h.reset || x.high == h.reset && h.resetOpen
	}
	if reached {
		return
	}
	n.add(
		at,
		sheet.Error,
		"never-true",
		"%s never lets go: its reset point is %s, and %s is from %s to %s; make the hysteresis smaller, or correct the chain",
		what,
		withUnit(unit.Short(h.reset), u),
		n.describe(n.conds[i].a),
		withUnit(unit.Short(x.low), u),
		withUnit(unit.Short(x.high), u),
	)
}

// hysteresis warns of one that the signal's own steps are wider than.
func (n *inspector) hysteresis(c *condNode, written sheet.Expr, u unit.Unit) {
	if written == nil || c.hysteresis < 0 {
		return
	}
	_, chain, ok := n.measured(c.a)
	h := n.span(c.hysteresis)
	if !ok || chain == nil || h.low != h.high {
		return
	}
	name, _, _ := n.measured(c.a)
	if step := chain.Resolution(); h.low < step {
		n.add(
			written.Place(),
			sheet.Warning,
			"small-hysteresis",
			"a hysteresis of %s is less than one count of %s, %s, so it does nothing; make it larger",
			withUnit(unit.Short(h.low), u),
			name,
			withUnit(unit.Short(step), u),
		)
	} else if ignore := chain.Ignore(); h.low < ignore {
		n.add(
			written.Place(),
			sheet.Warning,
			"small-hysteresis",
			"a hysteresis of %s is less than the changes of %s that are ignored, %s, so it does nothing; make it larger",
			withUnit(unit.Short(h.low), u),
			name,
			withUnit(unit.Short(ignore), u),
		)
	}
}

// bare is the comparison that a condition is, but for its delay; nil if it is
// something else.
func (n *inspector) bare(cond int32) (c *condNode, at int32) {
	for cond >= 0 && (n.conds[cond].op == condFor || n.conds[cond].op == condForStrict) {
		cond = n.conds[cond].a
	}
	if cond < 0 || n.conds[cond].op > condAtLeast {
		return nil, 0
	}
	return &n.conds[cond], cond
}

// trip is the trip point of a comparison with what no input changes.
func (n *inspector) trip(c *condNode) (float64, bool) {
	t := n.span(c.b)
	if t.low != t.high || math.IsInf(t.low, 0) {
		return 0, false
	}
	if c.deadband >= 0 {
		d := n.span(c.deadband)
		if d.low != d.high {
			return 0, false
		}
		if c.op == condAbove || c.op == condAtLeast {
			return t.low + d.low, true
		}
		return t.low - d.low, true
	}
	return t.low, true
}

// offAtTrip warns of a rule whose `off when` is true already where its `on when`
// comes true.
func (n *inspector) offAtTrip(r *Rule) {
	on, _ := n.bare(r.on)
	off, at := n.bare(r.off)
	if on == nil || off == nil || on.a != off.a {
		return
	}
	x, ok := n.trip(on)
	y, known := n.trip(off)
	if !ok || !known {
		return
	}
	switch on.op { // the first value that trips
	case condBelow:
		x = math.Nextafter(x, math.Inf(-1))
	case condAbove:
		x = math.Nextafter(x, math.Inf(1))
	}
	if already := map[condOp]bool{condBelow: x < y, condAtMost: x <= y, condAbove: x > y, condAtLeast: x >= y}[off.op]; already {
		s := n.sources[at]
		n.add(
			s.compare.Place(),
			sheet.Warning,
			"off-at-trip",
			"%s is true already at the trip point of %s, %s, so the rule would not stay on; put the reset point on the other side of it",
			s.compare,
			r.Name,
			withUnit(unit.Short(x), s.unit),
		)
	}
}

// equalityGaps warns of two rules of which one is for above and one for below a
// value, and none for the value itself.
func (n *inspector) equalityGaps() {
	type limit struct {
		signal int32
		value  float64
	}
	above, below := map[limit]int32{}, map[limit]int32{}
	for i := range n.Rules {
		c, at := n.bare(n.Rules[i].on)
		if c == nil || c.deadband >= 0 || c.op != condBelow && c.op != condAbove {
			continue
		}
		x, ok := n.trip(c)
		if !ok {
			continue
		}
		own, other := above, below
		if c.op == condBelow {
			own, other = below, above
		}
		key := limit{c.a, x}
		if _, again := own[key]; !again {
			own[key] = at
		}
		if first, pair := other[key]; pair {
			a, b := n.sources[first], n.sources[at]
			n.add(
				b.compare.Place(),
				sheet.Warning,
				"equality-gap",
				"neither %s nor %s is true at %s itself; write `>=` or `<=` in one of them",
				a.compare,
				b.compare,
				withUnit(unit.Short(x), b.unit),
			)
		}
	}
}

// ignored warns of an input with trip points whose changes are ignored by more
// than a hundredth of its span.
func (n *inspector) ignored() {
	for i := range n.Inputs {
		in := &n.Inputs[i]
		if in.Chain == nil || in.Chain.Ignore() == 0 || !n.judged[in.Name] {
			continue
		}
		low, high, ok := in.Chain.Span()
		if ignore := in.Chain.Ignore(); ok && ignore > (high-low)/100 {
			u := in.Chain.Engineering()
			n.add(
				n.Job.Inputs[i].Ignore.At,
				sheet.Warning,
				"coarse-input",
				"changes under %s are ignored, more than 1 %% of the span of %s, so its trip points are that blurred; ignore less, or smooth",
				withUnit(unit.Short(ignore), u),
				in.Name,
			)
		}
	}
}
