package sheet

import (
	"slices"
	"strconv"
	"strings"

	"rectura/core/unit"
)

// A Trial plays a recording through the job and says what is expected of it.
type Trial struct {
	Head
	Play   *TextClause // the recording's path in the job's folder
	Maps   []*MapClause
	With   []*WithClause
	Scan   *DurationClause
	At     []*CommandClause
	Expect []*ExpectClause
}

// MapClause is `map "COLUMN" to POINT`.
type MapClause struct {
	Clause
	Column string
	Point  *Name
}

// WithClause is `with SETPOINT VALUE`.
type WithClause struct {
	Clause
	Name    *Name
	Value   Amount
	ValueAt Place
}

// A Moment is a time of a recording as a trial names it: a time of day, a full
// RFC 3339 time, or an offset from its start.
type Moment struct {
	At   Place
	Text string
}

// CommandClause is `at TIME COMMAND NAME [VALUE]`.
type CommandClause struct {
	Clause
	Time    Moment
	Do      string // one of Commands
	Name    *Name
	Value   *Amount // of set, pin, and hand of what is analog
	State   string  // on, off or bad, of hand and pin
	ValueAt Place
}

// Commands are what a trial's person can do.
var Commands = []string{"reset", "set", "hand", "off", "auto", "pin", "unpin", "acknowledge"}

// ExpectClause is `expect …`.
type ExpectClause struct {
	Clause
	Expectation
}

// An Expectation is one sentence that a trial must bear out.
type Expectation struct {
	Form Form
	Name *Name
	On   bool // of a state

	Within   *Duration // of a time
	Around   bool      // before it as well as after
	From, To Moment    // To only of a span

	Least bool // of a count or a total: at least, not at most
	Count int
	Total *Duration

	Low, High unit.Quantity
	ValueAt   Place
	Never     Condition
}

// A Form is what an expectation is about.
type Form uint8

// The forms.
const (
	Turns      Form = iota // NAME turns on within D of T
	Sometime               // NAME on within D of T
	Throughout             // NAME on from T to T
	Always                 // NAME on always
	Instant                // NAME on at T
	Starts                 // NAME starts at most N
	Lasts                  // NAME on at least D
	ValueAt                // NAME between A and B at T
	ValueSpan              // NAME between A and B from T to T
	ValueAll               // NAME between A and B always
	NeverHolds             // never (CONDITION)
)

// Keyword is the word that the declaration begins with.
func (*Trial) Keyword() string { return "trial" }

func (e *Expectation) String() string {
	state := " off"
	if e.On {
		state = " on"
	}
	near := func() string {
		word := " of "
		if e.Around {
			word = " around "
		}
		return " within " + e.Within.String() + word + e.From.Text
	}
	limit := " at most "
	if e.Least {
		limit = " at least "
	}
	between := func() string { return e.Name.Name + " between " + e.Low.String() + " and " + e.High.String() }
	switch e.Form {
	case Turns:
		return e.Name.Name + " turns" + state + near()
	case Sometime:
		return e.Name.Name + state + near()
	case Throughout:
		return e.Name.Name + state + " from " + e.From.Text + " to " + e.To.Text
	case Always:
		return e.Name.Name + state + " always"
	case Instant:
		return e.Name.Name + state + " at " + e.From.Text
	case Starts:
		return e.Name.Name + " starts" + limit + strconv.Itoa(e.Count)
	case Lasts:
		return e.Name.Name + state + limit + e.Total.String()
	case ValueAt:
		return between() + " at " + e.From.Text
	case ValueSpan:
		return between() + " from " + e.From.Text + " to " + e.To.Text
	case ValueAll:
		return between() + " always"
	}
	return "never (" + e.Never.String() + ")"
}

func (c *CommandClause) String() string {
	return joinWords([]string{"at", c.Time.Text, c.Do, c.Name.Name, c.valueText()})
}

func (c *CommandClause) valueText() string {
	if c.Value != nil {
		return c.Value.String()
	}
	return c.State
}

func (m *MapClause) String() string { return "map " + quote(m.Column) + " to " + m.Point.Name }

func (w *WithClause) String() string { return "with " + w.Name.Name + " " + w.Value.String() }

func (p *parser) trial(h Head) Declaration {
	d := &Trial{Head: h}
	p.name(&d.Head)
	return d
}

func (d *Trial) words() []string { return []string{d.Name, d.label()} }

func (d *Trial) rows() []row {
	return d.rowsWith(false,
		textRow("play", &d.Play, "path of the recording"),
		manyRow("map", &d.Maps, func(p *parser, c Clause) *MapClause {
			m := &MapClause{Clause: c, Column: p.text(c, "heading of the column").Text}
			p.expect("to", "before the point that the column is of")
			m.Point = p.aName()
			return m
		}),
		manyRow("with", &d.With, func(p *parser, c Clause) *WithClause {
			w := &WithClause{Clause: c, Name: p.aName()}
			w.ValueAt, w.Value = p.place(p.peek()), p.amount()
			return w
		}),
		durationRow("scan", &d.Scan),
		manyRow("at", &d.At, (*parser).command),
		row{keyword: "expect", many: true,
			read: func(p *parser, c Clause) { d.Expect = append(d.Expect, &ExpectClause{c, p.expectation()}) },
			print: func(p *printer) {
				for _, e := range d.Expect {
					p.clause(e.Clause, "expect "+e.String())
				}
			}})
}

// aName reads the name of a declaration.
func (p *parser) aName() *Name {
	t := p.next()
	if t.kind != tokName || slices.Contains(reserved, t.text) {
		p.fail(t, "%s where a name must stand", t.source())
	}
	return &Name{p.place(t), t.text}
}

// moment reads a time of a recording.
func (p *parser) moment() Moment {
	first := p.peek()
	m := Moment{At: p.place(first)}
	if p.accept("+") {
		if t := p.peek(); t.text == "0" { // no duration, but a moment: the start
			if q := p.quantity(); q.Unit.Dimension() != unit.Time {
				p.fail(t, "%s is no time; an offset is written as +75 s", q)
			}
			m.Text = "+0 s"
			return m
		}
		m.Text = "+" + p.duration().Amount.String()
		if m.Text == "+" {
			p.fail(first, "an offset is written as +75 s")
		}
		return m
	}
	if first.kind != tokNumber {
		p.fail(first, "%s where a time must stand: 02:14:00, 2026-03-02T02:14:00Z or +75 s", first.source())
	}
	var b strings.Builder
	for end := first.col; ; {
		t := p.peek()
		if t.kind == tokEnd || t.line != first.line || t.col != end {
			break
		}
		p.next()
		b.WriteString(t.text)
		end = t.col + len(t.text)
	}
	m.Text = b.String()
	if !strings.Contains(m.Text, ":") {
		p.fail(first, "%s is no time; write 02:14:00, 2026-03-02T02:14:00Z or +75 s", m.Text)
	}
	return m
}

func (p *parser) command(c Clause) *CommandClause {
	x := &CommandClause{Clause: c, Time: p.moment()}
	x.Do = p.oneOf("what a person does", Commands...)
	x.Name = p.aName()
	t := p.peek()
	x.ValueAt = p.place(t)
	if x.Do != "set" && x.Do != "hand" && x.Do != "pin" {
		return x
	}
	if x.Do != "set" {
		for _, w := range []string{"on", "off", "bad"} {
			if p.accept(w) {
				x.State = w
				return x
			}
		}
	}
	if t.kind != tokNumber && !p.at("-") {
		p.fail(t, "%s where the value must stand, such as 5.5 mg/L or on", t.source())
	}
	a := p.amount()
	x.Value = &a
	return x
}

func (p *parser) expectation() Expectation {
	var e Expectation
	if p.at("never", "(") {
		p.next()
		e.Form, e.Never = NeverHolds, ungroup(p.condition())
		return e
	}
	e.Name = p.aName()
	switch {
	case p.accept("turns"):
		e.Form, e.On = Turns, p.onOff()
		p.near(&e)
	case p.accept("starts"):
		e.Form = Starts
		p.limit(&e)
		t := p.next()
		n, err := strconv.Atoi(t.text)
		if t.kind != tokNumber || err != nil {
			p.fail(t, "%s where a whole number of starts must stand", t.source())
		}
		e.Count = n
	case p.accept("between"):
		e.ValueAt = p.place(p.peek())
		e.Low = p.quantity()
		p.expect("and", "between the two ends")
		e.High = p.quantity()
		switch {
		case p.accept("always"):
			e.Form = ValueAll
		case p.accept("at"):
			e.Form, e.From = ValueAt, p.moment()
		default:
			e.Form = ValueSpan
			p.spanOfTime(&e)
		}
	default:
		p.expectState(&e)
	}
	return e
}

// expectState reads what follows the name of something that is on or off.
func (p *parser) expectState(e *Expectation) {
	if t := p.peek(); !p.at("on") && !p.at("off") {
		p.fail(t, "%s where what is expected must stand: on, off, turns on, turns off, starts at most, between", t.source())
	}
	e.On = p.onOff()
	switch {
	case p.accept("always"):
		e.Form = Always
	case p.at("at", "least"), p.at("at", "most"):
		e.Form = Lasts
		p.limit(e)
		e.Total = p.duration()
	case p.accept("at"):
		e.Form, e.From = Instant, p.moment()
	case p.at("within"):
		e.Form = Sometime
		p.near(e)
	default:
		e.Form = Throughout
		p.spanOfTime(e)
	}
}

func (p *parser) onOff() bool { return p.oneOf("the state", "on", "off") == "on" }

func (p *parser) near(e *Expectation) {
	p.expect("within", "before how near to a time it must be")
	e.Within = p.duration()
	if e.Around = p.accept("around"); !e.Around {
		p.expect("of", "before the time; or write around")
	}
	e.From = p.moment()
}

func (p *parser) limit(e *Expectation) {
	p.expect("at", "before most or least")
	e.Least = p.oneOf("the kind of limit", "most", "least") == "least"
}

func (p *parser) spanOfTime(e *Expectation) {
	if t := p.peek(); !p.accept("from") {
		p.fail(t, "%s where a time must follow: always, at 02:14:00, from 02:14:00 to 02:40:00, or within 60 s of 02:14:00", t.source())
	}
	e.From = p.moment()
	p.expect("to", "between the two times")
	e.To = p.moment()
}

// trial checks that what a trial names is there, and of the right kind.
func (c *checker) trial(d *Trial) {
	if d.Play == nil {
		c.errorf(d.NameAt, "missing-clause", "the trial %s plays no recording; add a line such as: play \"recordings/night.csv\"", d.Name)
	}
	if len(d.Expect) == 0 {
		c.errorf(d.NameAt, "missing-clause", "the trial %s expects nothing; add a line such as: expect OUTPUT off always", d.Name)
	}
	for _, m := range d.Maps {
		if x := c.resolve(m.Point); x != nil {
			switch x.(type) {
			case *Input, *Output:
			default:
				c.errorf(m.Point.At, "wrong-kind", "%s is %s; a column is of an input or an output", m.Point.Name, describe(x))
			}
		}
	}
	for _, w := range d.With {
		c.value(w.Name, w.Value.Quantity(), w.ValueAt)
	}
	if d.Scan != nil {
		c.duration(d.Scan.Duration)
	}
	for _, x := range d.At {
		c.command(x)
	}
	for _, e := range d.Expect {
		c.expectation(&e.Expectation)
	}
}

// value checks a value for a setpoint or constant.
func (c *checker) value(n *Name, q unit.Quantity, at Place) {
	d := c.resolve(n)
	if d == nil || d.Base().broken {
		return
	}
	s, ok := d.(*Setpoint)
	if !ok {
		c.errorf(n.At, "wrong-kind", "%s is %s; only a setpoint or a constant is given a value", n.Name, describe(d))
		return
	}
	if t := s.Type(); !q.Unit.Comparable(t.Unit) {
		c.errorf(at, "unit-mismatch", "%s is in %s and cannot be %s, which is %s", s.Name, t.Unit.Describe(), q, inUnit(q.Unit))
	}
}

func (c *checker) command(x *CommandClause) {
	d := c.resolve(x.Name)
	if d == nil || d.Base().broken {
		return
	}
	want := ""
	switch x.Do {
	case "set":
		c.value(x.Name, x.Value.Quantity(), x.ValueAt)
	case "reset":
		if r := c.job.RuleOf(x.Name.Name); r == nil || r.Latch == nil && !r.broken {
			want = "a rule or an alarm with `latch`"
		}
	case "acknowledge":
		if _, ok := d.(*Alarm); !ok {
			want = "an alarm"
		}
	case "pin", "unpin":
		in, ok := d.(*Input)
		switch {
		case !ok:
			want = "an input"
		case x.Do == "unpin" || in.broken:
		case in.Discrete && x.State == "" || !in.Discrete && x.Value == nil:
			c.errorf(x.ValueAt, "wrong-kind", "%s is %s and cannot be pinned to %s", x.Name.Name, describe(d), x.valueText())
		case x.State == "bad":
			c.errorf(x.ValueAt, "wrong-kind", "an input is pinned to a good value; %s is none", x.State)
		case !in.Discrete && !x.Value.Quantity().Unit.Comparable(in.Engineering()):
			c.errorf(
				x.ValueAt,
				"unit-mismatch",
				"%s is in %s and cannot be pinned to %s, which is %s",
				x.Name.Name,
				in.Engineering().Describe(),
				x.Value,
				inUnit(x.Value.Quantity().Unit),
			)
		}
	default:
		o, ok := d.(*Output)
		switch {
		case !ok:
			want = "an output"
		case x.Do == "hand":
			c.inHand(x, o)
		}
	}
	if want != "" {
		c.errorf(x.Name.At, "wrong-kind", "%s is %s; `%s` is for %s", x.Name.Name, describe(d), x.Do, want)
	}
}

// inHand checks what an output is to be in hand.
func (c *checker) inHand(x *CommandClause, o *Output) {
	switch {
	case o.Range == nil && x.State != "on" && x.State != "off":
		c.errorf(x.ValueAt, "wrong-kind", "%s is a discrete output; in hand it is on or off", o.Name)
	case o.Range == nil:
	case x.Value == nil:
		c.errorf(x.ValueAt, "wrong-kind", "%s is an analog output; in hand it has a value, such as %s", o.Name, o.Range.To)
	case !x.Value.Quantity().Unit.Comparable(o.Unit()):
		c.errorf(
			x.ValueAt,
			"unit-mismatch",
			"%s is in %s and cannot be %s, which is %s",
			o.Name,
			o.Unit().Describe(),
			x.Value,
			inUnit(x.Value.Quantity().Unit),
		)
	case !o.covers(x.Value.Quantity().In(o.Unit())):
		c.errorf(x.ValueAt, "output-range", "%s is outside the range of %s, %s", x.Value, o.Name, o.Range)
	}
}

func (c *checker) expectation(e *Expectation) {
	if e.Within != nil {
		c.duration(e.Within)
	}
	if e.Total != nil {
		c.duration(e.Total)
	}
	if e.Form == NeverHolds {
		c.condition(e.Never)
		return
	}
	d := c.resolve(e.Name)
	if d == nil || d.Base().broken {
		return
	}
	in, isInput := d.(*Input)
	o, isOutput := d.(*Output)
	analog := isOutput && o.Range != nil
	switch d.(type) {
	case *Rule, *Output, *Alarm:
		if analog {
			break
		}
		if e.Form == ValueAt || e.Form == ValueSpan || e.Form == ValueAll {
			c.errorf(e.Name.At, "wrong-kind", "%s is %s; only a value lies between others", e.Name.Name, describe(d))
		}
		return
	}
	switch {
	case e.Form != ValueAt && e.Form != ValueSpan && e.Form != ValueAll:
		if !isInput || !in.Discrete {
			hint := ""
			if analog {
				hint = "; write " + e.Name.Name + " between A and B"
			}
			c.errorf(
				e.Name.At,
				"wrong-kind",
				"%s is %s; what is on or off is a rule, an alarm, a discrete output or a discrete input%s",
				e.Name.Name,
				describe(d),
				hint,
			)
		}
		return
	case isInput && in.Discrete:
		c.errorf(e.Name.At, "wrong-kind", "%s is a discrete input; it is on or off", e.Name.Name)
		return
	}
	t, err := c.job.TypeOf(e.Name)
	switch {
	case err != nil:
		c.typeError(err)
	case !e.Low.Unit.Comparable(t.Unit) || !e.High.Unit.Comparable(t.Unit):
		c.errorf(
			e.ValueAt,
			"unit-mismatch",
			"%s is %s, and its limits are %s and %s",
			e.Name.Name,
			inUnit(t.Unit),
			inUnit(e.Low.Unit),
			inUnit(e.High.Unit),
		)
	case e.Low.In(t.Unit) > e.High.In(t.Unit):
		c.errorf(e.ValueAt, "syntax", "`between` goes from the lower to the higher end; write %s and %s", e.High, e.Low)
	}
}
