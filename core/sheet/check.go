package sheet

import (
	"errors"
	"maps"
	"slices"
	"strings"

	"rectura/core/unit"
)

// A Source is the text of one sheet.
type Source struct {
	Name string
	Text []byte
}

// Parse reads all sheets of a job, in order of file name, and checks them. The
// findings are sorted by place. A job with an error among them must not be run.
func Parse(sources []Source) (*Job, []Finding) {
	j := &Job{names: map[string]Declaration{}, uses: map[string][]Place{}, callers: map[string][]string{}, distances: map[string]string{}}
	r := &reading{}
	for _, s := range sources {
		j.Files = append(j.Files, parseFile(s.Name, s.Text, r))
	}
	if r.full { // what was not read would be missed everywhere
		j.found = r.list
		return j, j.Findings()
	}
	c := &checker{
		job:     j,
		list:    r.list,
		wires:   map[string][]claim{},
		doubted: map[Declaration]bool{},
		slowest: map[*Derived]*Input{},
		unread:  len(r.all) > 0,
	}
	c.collect()
	c.declarations()
	if !HasErrors(c.all) {
		c.unused()
		c.doubts()
	}
	j.found = c.list
	return j, j.Findings()
}

// A checker goes through a job's declarations and reports what is wrong or
// doubtful about them.
type checker struct {
	list
	job     *Job
	wires   map[string][]claim   // by address: what is wired there
	doubted map[Declaration]bool // inputs and derived values of whose loss nobody is told, and that have been looked at
	slowest map[*Derived]*Input  // of the inputs behind a derived value, the one that is read most seldom
	unread  bool                 // some text could not be read, so a missing name may stand there
	names   []string             // of the job, sorted, for near names
	hints   int                  // how much looking for near names has cost
}

// mostHints bounds the search for near names, in letters compared: a job with a
// wrong name in each of very many rules is to be refused at once, too.
const mostHints = 20_000_000

// collect files every declaration under its name and kind.
func (c *checker) collect() {
	var head *JobHead
	for _, f := range c.job.Files {
		for _, d := range f.Declarations {
			h := d.Base()
			if j, ok := d.(*JobHead); ok {
				if head != nil {
					c.errorf(h.At, "repeated-job", "a second `job`; the first is %s; keep one of the two", head.At)
					continue
				}
				head = j
				c.job.Title, c.job.Settle, c.job.StartsApart = j.Label, nil, nil
				if j.Timezone != nil {
					c.job.Timezone = j.Timezone.Text
				}
				if j.Settle != nil {
					c.job.Settle = j.Settle.Duration
				}
				if j.Apart != nil {
					c.job.StartsApart = j.Apart.Duration
				}
				continue
			}
			if h.Name == "" {
				continue
			}
			if before := c.job.names[h.Name]; before != nil {
				c.errorf(
					h.NameAt,
					"repeated-name",
					"the name %s is already that of the %s at %s; choose another",
					h.Name,
					before.Keyword(),
					before.Base().NameAt,
				)
				continue
			}
			c.job.names[h.Name] = d
			switch d := d.(type) {
			case *Device:
				c.job.Devices = append(c.job.Devices, d)
			case *Input:
				c.job.Inputs = append(c.job.Inputs, d)
				if d.BadAlarm != nil {
					a := d.BadAlarm.alarm(d)
					c.job.Alarms = append(c.job.Alarms, a)
					c.job.names[a.Name] = a
				}
			case *Derived:
				c.job.Derived = append(c.job.Derived, d)
			case *Setpoint:
				c.job.Setpoints = append(c.job.Setpoints, d)
			case *Output:
				c.job.Outputs = append(c.job.Outputs, d)
				if d.Proven != nil {
					a := d.Proven.alarm(d)
					c.job.Alarms = append(c.job.Alarms, a)
					c.job.names[a.Name] = a
				}
			case *Rule:
				c.job.Rules = append(c.job.Rules, d)
			case *Follow:
				c.job.Follows = append(c.job.Follows, d)
			case *Loop:
				c.job.Loops = append(c.job.Loops, d)
			case *Bands:
				c.job.Bands = append(c.job.Bands, d)
			case *Alarm:
				c.job.Alarms = append(c.job.Alarms, d)
			case *Recipient:
				if !d.broken {
					c.recipient(d)
				}
			case *Message:
				c.job.Messages = append(c.job.Messages, d)
			case *Trial:
				c.job.Trials = append(c.job.Trials, d)
			}
		}
	}
	c.watch()
	c.job.collectCallers()
	if head == nil && len(c.job.Files) > 0 && !c.unread {
		c.errorf(Place{c.job.Files[0].Name, 1, 1}, "no-job", "no sheet of this folder holds the job; begin one with: job \"Title\"")
	}
}

func (c *checker) declarations() {
	for _, d := range []*Duration{c.job.Settle, c.job.StartsApart} {
		if d != nil {
			c.duration(d)
		}
	}
	for _, s := range c.job.Setpoints {
		if !s.broken {
			c.setpoint(s)
		}
	}
	for _, d := range c.job.Devices {
		if !d.broken {
			c.device(d)
		}
	}
	for _, in := range c.job.Inputs {
		c.wire(in.Source, &in.Head, !in.Discrete, false)
		switch {
		case in.broken:
		case in.Discrete:
			c.clauses(in.rows())
		default:
			c.chain(in)
		}
	}
	c.deriveds()
	for _, b := range c.job.Bands {
		c.bands(b)
	}
	for _, r := range c.job.Rules {
		c.rule(r)
	}
	for _, f := range c.job.Follows {
		c.follow(f)
	}
	for _, l := range c.job.Loops {
		c.loop(l)
	}
	for _, o := range c.job.Outputs {
		c.proof(o)
	}
	for _, a := range c.job.Alarms {
		c.alarm(a)
	}
	for _, m := range c.job.Messages {
		c.message(m)
	}
	c.ruleOrder()
	for _, o := range c.job.Outputs {
		if !o.broken {
			c.output(o)
		}
	}
	for _, t := range c.job.Trials {
		if !t.broken {
			c.trial(t)
		}
	}
}

func (c *checker) setpoint(s *Setpoint) {
	q := s.Value.Quantity()
	if s.Difference && q.Unit.Dimension() != unit.Temperature {
		c.errorf(s.ValueAt, "unit-mismatch", "only a temperature can be a `difference`, and %s is none; take the word out", q)
	}
	if s.Constant {
		return
	}
	if s.Allow == nil {
		c.warnf(s.NameAt, "no-allow", "the setpoint %s has no limits; add a line such as: allow A..B %s", s.Name, q.Unit)
		return
	}
	r := s.Allow.Range
	if !r.To.Unit.Comparable(q.Unit) {
		c.errorf(r.At, "unit-mismatch", "limits in %s for a setpoint in %s; write them in %s", r.To.Unit.Describe(), q.Unit.Describe(), q.Unit)
		return
	}
	convert := r.To.Unit.Convert
	if s.Difference {
		convert = r.To.Unit.ConvertDifference
	}
	if low, high := convert(r.From.Value, q.Unit), convert(r.To.Value, q.Unit); q.Value < low || q.Value > high {
		c.errorf(s.ValueAt, "setpoint-limits", "the setpoint %s is %s, outside its own limits %s; change one of the two", s.Name, s.Value, r)
	}
}

// hasInput tells whether a value depends on an input.
func (c *checker) hasInput(e Expr) bool { return c.job.HasInput(e) }

// HasInput tells whether a value of a checked job depends on an input, or on
// the value of an analog output.
func (j *Job) HasInput(e Expr) bool {
	has := false
	Names(e, func(n *Name) {
		switch d := j.names[n.Name].(type) {
		case *Input, *Derived:
			has = true
		case *Output: // by its value, which is a signal too
			has = has || d.Range != nil
		}
	})
	return has
}

// describe is a declaration as a message names it.
func describe(d Declaration) string {
	switch d := d.(type) {
	case *Input:
		if d.Discrete {
			return "a discrete input"
		}
		return "an analog input"
	case *Output:
		if d.Range != nil {
			return "an analog output"
		}
		return "an output"
	case nil:
		return "not declared"
	case *Derived:
		return "a derived value"
	case *Bands:
		return "a set of bands"
	case *Alarm:
		return "an alarm"
	}
	return "a " + d.Keyword()
}

// resolve finds what a name stands for, or reports that there is no such thing.
func (c *checker) resolve(n *Name) Declaration {
	d := c.job.names[n.Name]
	if d != nil && n.At == (Place{}) { // of what is watched, where nothing is written
		return d
	}
	if d != nil {
		c.job.uses[n.Name] = append(c.job.uses[n.Name], n.At)
		if of := ownerOf(n.Name); of != "" { // with which it is renamed
			c.job.uses[of] = append(c.job.uses[of], n.At)
		}
		return d
	}
	switch d := c.job.names[ownerOf(n.Name)].(type) {
	case *Input:
		c.errorf(n.At, "unknown-name", "the input %s has no alarm of its own; add to it: alarm when bad", d.Name)
		return nil
	case *Output:
		if strings.HasSuffix(n.Name, unprovenSuffix) {
			c.errorf(n.At, "unknown-name", "the output %s has no alarm of its own; add to it: proven by INPUT within 5 s", d.Name)
		} else {
			c.errorf(n.At, "unknown-name", "the output %s is not wired, so that nobody reads it back; add to it: drives DEVICE coil 0", d.Name)
		}
		return nil
	}
	if c.names == nil {
		c.names = slices.Sorted(maps.Keys(c.job.names))
	}
	hint := ""
	if c.hints += len(c.names) * len(n.Name) * usualName; c.hints <= mostHints {
		hint = didYouMean(n.Name, c.names)
		if u := unit.Meant(n.Name); u != "" && u != n.Name && hint == "" {
			hint = "; if it is a unit, write " + u
		}
	}
	if hint == "" {
		hint = "; declare it, or correct the name"
	}
	c.errorf(n.At, "unknown-name", "nothing is named %s%s", n.Name, hint)
	return nil
}

func (c *checker) duration(d *Duration) {
	if d.Name == "" {
		return
	}
	decl := c.resolve(&Name{d.At, d.Name})
	if decl == nil || decl.Base().broken {
		return
	}
	s, ok := decl.(*Setpoint)
	if !ok {
		c.errorf(d.At, "wrong-kind", "%s is %s; a duration is an amount of time or a setpoint or constant of time", d.Name, describe(decl))
		return
	}
	if why := notATime(s.Value); why != "" {
		c.errorf(d.At, "unit-mismatch", "%s cannot be a duration: %s", d.Name, why)
	}
}

func (c *checker) condition(cond Condition) {
	walk(cond, func(x Condition) {
		switch x := x.(type) {
		case *Test:
			d := c.resolve(x.Name)
			if d == nil || d.Base().broken {
				return
			}
			if device, is := d.(*Device); is && x.OfQuality() {
				d = device.answers
			}
			in, isInput := d.(*Input)
			_, isDerived := d.(*Derived)
			isRule := c.job.RuleOf(x.Name.Name) != nil
			output, isOutput := d.(*Output)
			bands, isBands := d.(*Bands)
			switch {
			case isBands:
				c.ofBand(x, bands)
				return
			case x.OfAlarm():
				if _, is := d.(*Alarm); !is {
					c.errorf(x.Place(), "wrong-kind", "%s is %s; only an alarm is %s", x.Name, describe(d), x.Is)
				}
				return
			case x.OfBand():
				c.errorf(x.Place(), "wrong-kind", "%s is %s and has no band named %s; it may be on, off, good or bad", x.Name, describe(d), x.Is)
				return
			case isInput && in.watched && !x.OfQuality():
				c.errorf(x.Place(), "wrong-kind", "%s is watched, and is good or bad; write %s is bad", x.Name, x.Name)
				return
			case x.OfQuality() && !isInput && !isDerived:
				c.errorf(x.Place(), "wrong-kind", "%s is %s; only a signal is good or bad", x.Name, describe(d))
				return
			case isOutput && output.Range != nil:
				c.errorf(
					x.Place(),
					"wrong-kind",
					"%s is an analog output and is not on or off; compare its value: %s > %s",
					x.Name,
					x.Name,
					output.Range.From,
				)
				return
			case x.OfQuality(), isInput && in.Discrete, isRule, isOutput:
				return
			}
			if _, is := d.(*Device); is {
				c.errorf(x.Place(), "wrong-kind", "%s is a device, which answers or does not; write %s is bad, or %s is good", x.Name, x.Name, x.Name)
				return
			}
			c.errorf(x.Place(), "wrong-kind", "%s is %s, not a condition; compare it with a value by < <= > or >=", x.Name, describe(d))
		case *Turn:
			c.turn(x)
		case *For:
			c.duration(x.Duration)
			if x.Crossing() == nil && Momentary(x.X) {
				c.errorf(
					x.Place(),
					"momentary",
					"%s is true for an instant only and cannot last for %s; of such conditions only `crosses` takes a `for`",
					x.X,
					x.Duration,
				)
			}
		case *Daytime:
			if c.job.Timezone == "" {
				c.errorf(
					x.At,
					"no-timezone",
					"a time of day needs to know the clock on the wall; add a line to the job, such as: timezone Europe/Dublin",
				)
			}
		case *Compare:
			if left, ok := c.pair(x.L, x.R); ok {
				c.distance("deadband", x.Deadband, x.L, left)
				c.distance("hysteresis", x.Hysteresis, x.L, left)
			}
		case *Between:
			c.between(x)
		case *Near:
			if left, ok := c.pair(x.L, x.R); ok {
				c.distance("`within`", x.Within, x.L, left)
			}
		case *Cross:
			c.pair(x.X, x.V)
		case *Slope:
			c.slope(x)
		}
	})
}

// ofBand checks a test of which band is in force.
func (c *checker) ofBand(x *Test, d *Bands) {
	if x.Is != "" && d.Find(x.Is) >= 0 {
		return
	}
	var names []string
	for _, b := range d.Bands {
		if b.Name != "" {
			names = append(names, d.Name+" is "+b.Name)
		}
	}
	hint := "give its bands names"
	if len(names) > 0 {
		hint = "write " + List(names, "or")
	}
	c.errorf(x.Place(), "wrong-kind", "%s is true of no band of %s; %s", x, d.Name, hint)
}

// turn checks what turns or changes.
func (c *checker) turn(x *Turn) {
	d := c.resolve(x.Name)
	if d == nil || d.Base().broken {
		return
	}
	switch d := d.(type) {
	case *Rule, *Alarm:
		return
	case *Output:
		if d.Range == nil || x.How == "changes" {
			return
		}
	case *Input:
		if d.Discrete || x.How == "changes" {
			return
		}
	case *Derived:
		if x.How == "changes" {
			return
		}
	}
	c.errorf(x.Place(), "wrong-kind", "%s is %s; what %s is a discrete input, a rule or an output", x.Name, describe(d), x.How)
}

func (c *checker) between(x *Between) {
	left, ok := c.pair(x.X, x.Low)
	if _, also := c.pair(x.X, x.High); !ok || !also {
		return
	}
	c.distance("hysteresis", x.Hysteresis, x.X, left)
	low, lowOK := x.Low.(*Literal)
	high, highOK := x.High.(*Literal)
	if lowOK && highOK && low.Unit.Comparable(high.Unit) && low.Unit.Convert(low.Value, high.Unit) > high.Value {
		c.errorf(low.At, "syntax", "`%s` goes from the lower to the higher end; write %s and %s", x.word(), high.Quantity, low.Quantity)
	}
}

func (c *checker) slope(x *Slope) {
	c.duration(x.Over)
	if !c.resolveAll(x.X) {
		return
	}
	t, err := c.job.TypeOf(x.X)
	switch {
	case err != nil:
		c.typeError(err)
	case !x.Rate.Quantity.Unit.Comparable(t.Unit):
		c.errorf(
			x.Rate.At,
			"unit-mismatch",
			"a rate in %s per time beside %s, which is %s; write it in %s",
			x.Rate.Quantity.Unit.Describe(),
			x.X,
			inUnit(t.Unit),
			t.Unit,
		)
	}
}

// pair checks that two values can be compared, and gives the type of the left
// one.
func (c *checker) pair(l, r Expr) (left Type, ok bool) {
	if known := c.resolveAll(l); !c.resolveAll(r) || !known {
		return left, false
	}
	for _, side := range [][2]Expr{{l, r}, {r, l}} {
		if in, _, ok := c.job.AtStage(side[0], side[1]); ok {
			return Type{Unit: in.Engineering()}, true
		}
	}
	left, right, err := c.job.CompareTypes(l, r)
	switch {
	case err != nil:
		c.typeError(err)
	case !left.Unit.Comparable(right.Unit):
		c.errorf(r.Place(), "unit-mismatch", "%s is %s and %s is %s; they cannot be compared", l, inUnit(left.Unit), r, inUnit(right.Unit))
	case left.Difference != right.Difference:
		c.errorf(r.Place(), "unit-mismatch", "%s is %s and %s is %s; they cannot be compared", l, left.temperature(), r, right.temperature())
	default:
		return left, true
	}
	return left, false
}

// distance checks a deadband, a hysteresis or the like beside a value; nil for
// none.
func (c *checker) distance(word string, e, beside Expr, left Type) {
	if e == nil {
		return
	}
	if l, ok := e.(*Literal); ok && l.Value < 0 {
		c.errorf(l.At, "syntax", "a %s of %s; it is never below 0", word, l.Quantity)
	}
	t, ok := c.difference(e)
	if ok {
		c.aboveZero(word, e, t.Unit)
	}
	if ok && !t.Unit.Comparable(left.Unit) {
		c.errorf(
			e.Place(),
			"unit-mismatch",
			"a %s in %s beside %s in %s; write it in %s",
			word,
			t.Unit.Describe(),
			beside,
			left.Unit.Describe(),
			left.Unit,
		)
	}
	if ok && t.Unit.Dimension() == unit.Temperature && !t.Difference {
		c.errorf(e.Place(), "unit-mismatch", "%s is a temperature, and a %s is a difference; declare it with the word `difference`", e, word)
	}
}

// aboveZero makes sure that a distance which setpoints and constants give is one, and
// stays one whatever they may be set to.
func (c *checker) aboveZero(word string, e Expr, u unit.Unit) {
	if _, literal := e.(*Literal); literal {
		return
	}
	word = strings.Trim(word, "`")
	if v, known := c.job.written(e, u); known && v <= 0 {
		c.errorf(e.Place(), "setpoint-limits", "%s as a %s is %s; it must be above 0", e, word, strings.TrimSpace(unit.Short(v)+" "+u.String()))
		return
	}
	n, is := unparen(e).(*Name)
	if !is {
		return
	}
	s, is := c.job.names[n.Name].(*Setpoint)
	if !is {
		return
	}
	c.job.distances[n.Name] = word
	if s.Allow != nil && s.Allow.Range.From.Value <= 0 {
		c.errorf(
			e.Place(),
			"setpoint-limits",
			"%s is allowed from %s, and as a %s it must be above 0; let its limits begin there",
			n.Name,
			s.Allow.Range.From,
			word,
		)
	}
}

func unparen(e Expr) Expr {
	for {
		p, is := e.(*Paren)
		if !is {
			return e
		}
		e = p.X
	}
}

// DistanceOf tells as what a setpoint or constant says how far values lie apart, such
// as a hysteresis; empty for none. It must be above 0 then.
func (j *Job) DistanceOf(name string) string { return j.distances[name] }

// resolveAll reports the unknown names in a value, and tells whether all are
// known and could be read.
func (c *checker) resolveAll(e Expr) bool {
	known := true
	Names(e, func(n *Name) {
		d := c.resolve(n)
		known = known && d != nil && !d.Base().broken
	})
	return known
}

func (c *checker) typeError(err error) {
	var t *typeError
	if errors.As(err, &t) {
		c.errorf(t.at, t.code, "%s", t.text)
	}
}

func (c *checker) difference(e Expr) (Type, bool) {
	if !c.resolveAll(e) {
		return Type{}, false
	}
	t, err := c.job.DifferenceType(e)
	c.typeError(err)
	return t, err == nil
}

// unused warns of points and setpoints that nothing uses.
func (c *checker) unused() {
	for _, f := range c.job.Files {
		for _, d := range f.Declarations {
			h := d.Base()
			switch d.(type) {
			case *Device, *Input, *Derived, *Setpoint, *Output, *Recipient:
				if !c.job.used(h.Name) {
					c.warnf(h.NameAt, "unused", "nothing uses the %s %s; use it or take it out", d.Keyword(), h.Name)
				}
			}
		}
	}
}
