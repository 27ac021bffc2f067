package sheet

import (
	"slices"
	"strconv"
	"strings"

	"rectura/core/unit"
)

// sensors are the curves that a word alone names, with the resistance at 0 °C:
// IEC 60751 and DIN 43760.
var sensors = map[string]struct {
	sensor Sensor
	ohms   float64
}{"pt100": {Platinum, 100}, "pt1000": {Platinum, 1000}, "ni1000": {Nickel, 1000}}

// thermocouples are the letter designations of IEC 60584-1 that the ITS-90
// reference functions cover.
const thermocouples = "b e j k n r s t"

func (p *parser) input(h Head) Declaration {
	d := &Input{Head: h}
	p.name(&d.Head)
	d.Discrete = p.accept("discrete")
	return d
}

func (d *Input) words() []string {
	kind := ""
	if d.Discrete {
		kind = "discrete"
	}
	return []string{d.Name, d.label(), kind}
}

func (d *Input) rows() []row {
	bad := ownRow("alarm when bad", &d.BadAlarm, (*parser).badAlarm)
	if d.Discrete {
		return d.rowsWith(true, wireRow("source", &d.Source), durationRow("poll", &d.Poll),
			flagRow("inverted", &d.Inverted),
			durationRow("debounce", &d.Debounce),
			ownRow("words", &d.Words, func(p *parser, c Clause) *WordsClause {
				on := p.quoted("the word for on")
				p.expect(",", "between the word for on and the one for off")
				return &WordsClause{c, on, p.quoted("the word for off")}
			}),
			bad)
	}
	frozen := ownRow("frozen after", &d.Frozen, func(p *parser, c Clause) *Frozen {
		f := &Frozen{Clause: c, After: p.duration()}
		p.expect("within", "after the time of `frozen`")
		f.Within, f.At = p.difference(true)
		return f
	}).with(func() []*Duration {
		if d.Frozen == nil {
			return nil
		}
		return []*Duration{d.Frozen.After}
	})
	unsteady := ownRow("unsteady beyond", &d.Unsteady, func(p *parser, c Clause) *Unsteady {
		u := &Unsteady{Clause: c}
		u.Beyond, u.At = p.difference(false)
		p.expect("within", "after the spread of `unsteady`")
		u.Within = p.duration()
		return u
	}).with(func() []*Duration {
		if d.Unsteady == nil {
			return nil
		}
		return []*Duration{d.Unsteady.Within}
	})
	smooth := ownRow("smooth", &d.Smooth, (*parser).smooth).with(func() []*Duration {
		if d.Smooth == nil {
			return nil
		}
		return []*Duration{d.Smooth.Lag}
	})
	skip := ownRow("skip first", &d.Skip, func(p *parser, c Clause) *CountClause { return &CountClause{c, p.samples(1)} })
	round := ownRow("round", &d.Round, func(p *parser, c Clause) *Round {
		r := &Round{Down: p.oneOf("the way to round", "nearest", "down") == "down"}
		r.Clause = c
		r.Quantity, r.AmountAt = p.difference(false)
		return r
	})
	return d.rowsWith(true, append(append([]row{wireRow("source", &d.Source), durationRow("poll", &d.Poll)}, stageRows(&d.Stages)...),
		ownRow("unit", &d.Unit, func(p *parser, c Clause) *UnitClause { return &UnitClause{c, p.unitAlone()} }),
		rangeRow("healthy", &d.Healthy),
		durationRow("stale after", &d.Stale),
		frozen, unsteady,
		durationRow("bad after", &d.BadAfter),
		durationRow("good after", &d.GoodAfter),
		bad, skip, smooth,
		rangeRow("clamp", &d.Clamp),
		round,
		quantityRow("ignore changes under", &d.Ignore, aboveZero))...)
}

// stageRows are those of the stages of a chain, which are laid out in their order by
// the first of the rows.
func stageRows(to *[]Stage) []row {
	stage := func(keyword string, read func(p *parser, c Clause) Stage) row {
		return row{keyword: keyword, many: true,
			read:  func(p *parser, c Clause) { *to = append(*to, read(p, c)) },
			print: func(*printer) {}}
	}
	scale := scaleRow(to)
	return []row{scale,
		stage("curve", (*parser).curve),
		stage("divider", (*parser).divider),
		stage("root", func(p *parser, c Clause) Stage { s := &Root{Clause: c}; p.ends(&s.From, &s.To); return s }),
		stage("correct", (*parser).correct)}
}

// scaleRow is that of a `scale` among stages; it lays out all of them.
func scaleRow(to *[]Stage) row {
	return row{keyword: "scale", many: true,
		read: func(p *parser, c Clause) {
			s := &Scale{Clause: c}
			p.ends(&s.From, &s.To)
			*to = append(*to, s)
		},
		print: func(p *printer) {
			for _, s := range *to {
				p.clause(*s.base(), s.String())
			}
		}}
}

// derived reads `derived NAME "label" = VALUE`.
func (p *parser) derived(h Head) Declaration {
	d := &Derived{Head: h}
	p.name(&d.Head)
	p.expect("=", "before the value that is derived")
	d.Value = p.asValue(p.sum())
	return d
}

func (d *Derived) words() []string { return []string{d.Name, d.label(), "= " + d.Value.String()} }

func (d *Derived) rows() []row { return d.rowsWith(false) }

// aboveZero reads a quantity that is how far two values lie apart.
func aboveZero(p *parser) (unit.Quantity, Place) { return p.difference(false) }

// quoted reads a string that is not empty.
func (p *parser) quoted(what string) string {
	t := p.next()
	if t.kind != tokString || t.text == "" {
		p.fail(t, "%s where %s must stand, in quotes", t.source(), what)
	}
	return t.text
}

// difference reads a quantity that is how far two values lie apart, above 0 or,
// if zero is allowed, 0.
func (p *parser) difference(zero bool) (unit.Quantity, Place) {
	at := p.place(p.peek())
	q := p.quantity()
	switch {
	case zero && q.Value < 0:
		p.report(at, "syntax", "%s is below 0", q)
	case !zero && q.Value <= 0:
		p.report(at, "syntax", "%s is not above 0", q)
	}
	return q, at
}

// ends reads the two ranges of a stage that goes through two points.
func (p *parser) ends(from, to *Range) {
	*from = p.span()
	p.expect("to", "between the two ranges of a stage")
	*to = p.span()
	for _, r := range []*Range{from, to} {
		if r.From.Value == r.To.Value {
			p.report(r.At, "chain", "the range %s has no width; a line needs two different points", r)
		}
	}
}

func (p *parser) curve(c Clause) Stage {
	t := p.next()
	s := &Curve{Clause: c, SensorAt: p.place(t)}
	if t.kind != tokName {
		p.fail(t, "%s where the sensor must stand: pt100, pt1000, ni1000, nickel, thermocouple, ntc or table", t.source())
	}
	known, ok := sensors[t.text]
	switch {
	case ok:
		s.Sensor, s.word = known.sensor, t.text
		s.Resistance, s.Reference = unit.Quantity{Value: known.ohms, Unit: ohm}, unit.Quantity{Unit: unit.MustLookup("degC")}
	case t.text == "nickel":
		s.Sensor = Nickel
		p.resistanceAt(s)
	case t.text == "thermocouple":
		s.Sensor = Thermocouple
		s.Type = p.oneOf("the type of thermocouple", strings.Fields(thermocouples)...)
	case t.text == "ntc" && p.accept("steinhart"):
		s.Sensor = SteinhartThermistor
		for i := range s.Steinhart {
			s.Steinhart[i].Text, s.Steinhart[i].Value = p.number()
		}
	case t.text == "ntc":
		s.Sensor = BetaThermistor
		p.resistanceAt(s)
		p.expect("beta", "after the thermistor's resistance")
		at := p.place(p.peek())
		s.Beta = p.quantity()
		if s.Beta.Value <= 0 || s.Beta.Unit != (unit.Unit{}) && s.Beta.Unit.Name() != "K" {
			p.report(at, "chain", "a beta of %s; it is a number above 0, in K", s.Beta)
		}
	case t.text == "table":
		s.Sensor = Table
		s.From = p.unitUntil("to")
	default:
		p.fail(
			t,
			"%s is no sensor whose curve is known%s",
			t.text,
			orList(didYouMean(t.text, []string{"pt100", "pt1000", "ni1000", "nickel", "thermocouple", "ntc", "table"}),
				"; it is one of pt100, pt1000, ni1000, nickel, thermocouple, ntc, table"),
		)
	}
	p.expect("to", "before the unit that the curve gives")
	if s.Sensor == Table {
		s.To = p.unitUntil(":")
		p.expect(":", "before the points of the table")
		p.tablePairs(s)
		return s
	}
	at := p.place(p.peek())
	s.To = p.unitUntil("cold", "with")
	if s.To.Dimension() != unit.Temperature {
		p.report(at, "chain", "this curve gives a temperature, not %s; write degC, degF or K", s.To.Describe())
	}
	if s.Sensor == Thermocouple {
		s.Junction = p.junction()
	}
	return s
}

func orList(hint, otherwise string) string {
	if hint != "" {
		return hint
	}
	return otherwise
}

// resistanceAt reads `10 kohm at 25 degC`.
func (p *parser) resistanceAt(s *Curve) {
	at := p.place(p.peek())
	s.Resistance = p.quantity()
	if !s.Resistance.Unit.Comparable(ohm) || s.Resistance.Value <= 0 {
		p.report(at, "chain", "%s is no resistance above 0, which the sensor has at a temperature: 10 kohm at 25 degC", s.Resistance)
	}
	p.expect("at", "between the sensor's resistance and the temperature at which it has that")
	at = p.place(p.peek())
	s.Reference = p.quantity()
	if s.Reference.Unit.Dimension() != unit.Temperature {
		p.report(at, "chain", "%s is no temperature; write it in degC, degF or K", s.Reference)
	}
}

func (p *parser) junction() *Junction {
	p.accept("with")
	if !p.accept("cold", "junction") {
		p.fail(p.peek(), "%s where the cold junction must stand: cold junction 25 degC, or cold junction NAME", p.peek().source())
	}
	t := p.peek()
	if t.kind == tokName && !slices.Contains(reserved, t.text) {
		p.next()
		return &Junction{Name: &Name{p.place(t), t.text}}
	}
	j := &Junction{Quantity: p.quantity()}
	if j.Quantity.Unit.Dimension() != unit.Temperature {
		p.report(p.place(t), "chain", "%s is no temperature; a cold junction has one, in degC, degF or K", j.Quantity)
	}
	return j
}

func (p *parser) tablePairs(s *Curve) {
	for {
		pair := Pair{At: p.place(p.peek()), From: unit.Quantity{Unit: s.From}, To: unit.Quantity{Unit: s.To}}
		pair.From.Text, pair.From.Value = p.number()
		p.expect("=", "between the two values of a table's point")
		pair.To.Text, pair.To.Value = p.number()
		if n := len(s.Pairs); n > 0 && pair.From.Value <= s.Pairs[n-1].From.Value {
			p.report(
				pair.At,
				"chain",
				"%s comes after %s; the left sides of a table rise from point to point",
				pair.From.Number(),
				s.Pairs[n-1].From.Number(),
			)
		}
		s.Pairs = append(s.Pairs, pair)
		if !p.accept(",") {
			break
		}
	}
	if len(s.Pairs) < 2 {
		p.report(s.Pairs[0].At, "chain", "a table of one point; straight lines need at least two")
	}
}

func (p *parser) divider(c Clause) Stage {
	s := &Divider{Clause: c, FixedAt: p.place(p.peek())}
	s.Fixed = p.quantity()
	if !s.Fixed.Unit.Comparable(ohm) || s.Fixed.Value <= 0 {
		p.report(s.FixedAt, "chain", "%s is no resistance above 0; the fixed resistor of a divider has one, such as 10 kohm", s.Fixed)
	}
	p.expect("to", "before `supply` or `ground`, where the fixed resistor sits")
	s.ToGround = p.oneOf("the end at which the fixed resistor sits", "supply", "ground") == "ground"
	s.SupplyAt = p.place(p.peek())
	s.Supply = p.quantity()
	if !s.Supply.Unit.Comparable(millivolt) || s.Supply.Value <= 0 {
		p.report(s.SupplyAt, "chain", "%s is no voltage above 0; a divider is fed by one, such as 5 V", s.Supply)
	}
	return s
}

func (p *parser) correct(c Clause) Stage {
	s := &Correct{Clause: c}
	for {
		pair := Pair{At: p.place(p.peek()), From: p.quantity()}
		p.expect("to", "between what was read and what is true")
		pair.To = p.quantity()
		s.Pairs = append(s.Pairs, pair)
		if !p.accept(",") {
			return s
		}
	}
}

// samples reads a number of samples and the word behind it.
func (p *parser) samples(least int) int {
	t := p.next()
	n, err := strconv.Atoi(t.text)
	const most = 10_000
	if t.kind != tokNumber || err != nil || n < least || n > most {
		p.fail(t, "%s where a whole number of samples from %d to %d must stand", t.source(), least, most)
	}
	p.expect("samples", "after their number")
	return n
}

func (p *parser) smooth(c Clause) *Smooth {
	s := &Smooth{Clause: c, Method: p.oneOf("the kind of filter", "average", "median", "lag")}
	if s.Method == "lag" {
		s.Lag = p.duration()
	} else {
		s.Samples = p.samples(2)
	}
	return s
}

// unitUntil reads a unit that follows no number, up to one of a few words.
func (p *parser) unitUntil(stops ...string) unit.Unit {
	first := p.peek()
	if first.kind == tokString {
		return p.unit()
	}
	var b strings.Builder
	for t := p.peek(); t.kind != tokEnd && !(slices.Contains(stops, t.text) && t.kind != tokString); t = p.peek() {
		b.WriteString(t.source())
		p.next()
	}
	u, ok := unit.Lookup(b.String())
	if b.Len() == 0 {
		p.fail(first, "%s where a unit must stand", first.source())
	}
	if !ok {
		p.fail(first, "%s", unit.Unknown(b.String()))
	}
	return u
}
