package sheet

import (
	"cmp"
	"slices"
	"strings"

	"rectura/core/unit"
)

// chain checks that the stages of an analog input join, and that what refers
// to a quantity of the chain is in a unit that occurs there.
func (c *checker) chain(in *Input) {
	switch {
	case len(in.Stages) == 0 && in.Unit == nil:
		c.errorf(
			in.NameAt,
			"chain",
			"the input %s has no unit; add stages such as `scale`, or `unit` if its readings are in engineering units, or write `input %s discrete` if it is a contact",
			in.Name,
			in.Name,
		)
		return
	case len(in.Stages) > 0 && in.Unit != nil && !onlyCorrected(in):
		c.errorf(in.Unit.At, "exclusive-clauses", "`unit` beside stages: the last stage says the unit already; take one of the two out")
	}
	before := unit.Unit{}
	joins := in.Unit != nil && onlyCorrected(in)
	if joins {
		before = in.Unit.Unit
	}
	if len(in.Stages) > MaxStages {
		c.errorf(in.Stages[MaxStages].base().At, "limit", "%s has more than %d stages; join some of them", in.Name, MaxStages)
		return
	}
	for i, s := range in.Stages {
		if (i > 0 || joins) && !before.Comparable(s.In()) {
			c.errorf(
				s.base().At,
				"chain",
				"this stage begins in %s, but the one before it ends in %s; stages must join",
				s.In().Describe(),
				before.Describe(),
			)
		}
		before = s.Out()
		c.stage(in, s)
	}
	c.health(in)
	if in.Healthy == nil {
		for _, s := range in.Stages {
			if scale, ok := s.(*Scale); ok && isLoop(scale.From) {
				c.warnf(
					in.NameAt,
					"no-healthy",
					"%s is a 4–20 mA input without `healthy`: a broken loop would read as a low value; add: healthy 3.6..21 mA",
					in.Name,
				)
			}
		}
	}
	engineering := in.Engineering()
	if r := in.Clamp; r != nil && !r.Range.To.Unit.Comparable(engineering) {
		c.errorf(r.Range.At, "unit-mismatch", "a clamp in %s, but %s is in %s", r.Range.To.Unit.Describe(), in.Name, engineering.Describe())
	}
	if r := in.Round; r != nil && !r.Quantity.Unit.Comparable(engineering) {
		c.errorf(r.AmountAt, "unit-mismatch", "rounding in %s, but %s is in %s", r.Quantity.Unit.Describe(), in.Name, engineering.Describe())
	}
	if g := in.Ignore; g != nil && !g.Quantity.Unit.Comparable(engineering) {
		c.errorf(g.AmountAt, "unit-mismatch", "a change in %s, but %s is in %s", g.Quantity.Unit.Describe(), in.Name, engineering.Describe())
	}
}

// onlyCorrected tells whether all of an input's stages are calibrations, which
// stand behind `unit` as well.
func onlyCorrected(in *Input) bool {
	for _, s := range in.Stages {
		if _, ok := s.(*Correct); !ok {
			return false
		}
	}
	return true
}

// stage checks what cannot be seen while the clause alone is read.
func (c *checker) stage(in *Input, s Stage) {
	switch s := s.(type) {
	case *Curve:
		if s.Junction == nil || s.Junction.Name == nil {
			return
		}
		n := s.Junction.Name
		switch d := c.resolve(n).(type) {
		case nil:
		case *Input:
			switch {
			case d.broken:
			case d.Discrete || d.Engineering().Dimension() != unit.Temperature:
				c.errorf(n.At, "wrong-kind", "%s has no temperature; a cold junction is a temperature or the name of an input that has one", n.Name)
			case junctionOf(d) != nil:
				c.errorf(n.At, "circle", "%s is a thermocouple with a measured cold junction itself; take a sensor that needs none", n.Name)
			}
		default:
			c.errorf(n.At, "wrong-kind", "%s is %s; a cold junction is a temperature or the name of an input that has one", n.Name, describe(d))
		}
	case *Correct:
		c.calibration(s)
	}
}

// calibration checks that the pairs of a `correct` clause define rising lines.
func (c *checker) calibration(s *Correct) {
	in := s.In()
	for _, p := range s.Pairs {
		for _, q := range []unit.Quantity{p.From, p.To} {
			if !q.Unit.Comparable(in) {
				c.errorf(
					p.At,
					"unit-mismatch",
					"a calibration is from and to one quantity, and %s is %s beside %s",
					q,
					q.Unit.Describe(),
					in.Describe(),
				)
				return
			}
		}
	}
	rising := slices.Clone(s.Pairs)
	slices.SortStableFunc(rising, func(a, b Pair) int { return cmp.Compare(a.From.In(in), b.From.In(in)) })
	for i, p := range rising[min(1, len(rising)):] {
		q := rising[i]
		if p.From.In(in) > q.From.In(in) && p.To.In(in) > q.To.In(in) {
			continue
		}
		if p.At.compare(q.At) < 0 {
			p, q = q, p
		}
		c.errorf(
			p.At,
			"chain",
			"%s to %s contradicts %s to %s: a higher reading must be a higher value; take one of the two out",
			p.From,
			p.To,
			q.From,
			q.To,
		)
		return
	}
}

// junctionOf is the point that a thermocouple input's cold junction is read
// from; nil if it has none.
func junctionOf(in *Input) *Name {
	for _, s := range in.Stages {
		if curve, ok := s.(*Curve); ok && curve.Junction != nil && curve.Junction.Name != nil {
			return curve.Junction.Name
		}
	}
	return nil
}

// JunctionName names the input from which the cold junction of this one's
// thermocouple is read; empty if there is none.
func (in *Input) JunctionName() string {
	if n := junctionOf(in); n != nil {
		return n.Name
	}
	return ""
}

func (c *checker) health(in *Input) {
	c.clauses(in.rows())
	occurs := func(what string, at Place, u unit.Unit) {
		if PlaceOf(in, u) < 0 {
			c.errorf(
				at,
				"unit-mismatch",
				"`%s` in %s, but %s has no such quantity in its chain: %s",
				what,
				u.Describe(),
				in.Name,
				describeAll(in.Units()),
			)
		}
	}
	if h := in.Healthy; h != nil {
		occurs("healthy", h.Range.At, h.Range.To.Unit)
	}
	if f := in.Frozen; f != nil {
		occurs("frozen", f.At, f.Within.Unit)
	}
	if u := in.Unsteady; u != nil {
		occurs("unsteady", u.At, u.Beyond.Unit)
	}
}

// isLoop tells whether a range is that of a 4–20 mA current loop.
func isLoop(r Range) bool {
	u := r.To.Unit
	return u.Dimension() == unit.Current && u.Convert(r.From.Value, unit.MustLookup("mA")) == 4 &&
		u.Convert(r.To.Value, unit.MustLookup("mA")) == 20
}

func describeAll(units []unit.Unit) string {
	parts := make([]string, len(units))
	for i, u := range units {
		parts[i] = u.Describe()
	}
	return strings.Join(parts, ", ")
}

// PlaceOf is the first place in the input's chain that has the dimension of a
// unit, counted as in Units; -1 if there is none.
func PlaceOf(in *Input, u unit.Unit) int {
	for i, v := range in.Units() {
		if v.Comparable(u) {
			return i
		}
	}
	return -1
}

// deriveds checks the derived values, finds circles among them, and puts each
// after those that it is made of.
func (c *checker) deriveds() {
	made := func(d *Derived) []*Derived {
		var of []*Derived
		if !d.broken {
			Names(d.Value, func(n *Name) {
				if other, ok := c.job.names[n.Name].(*Derived); ok {
					of = append(of, other)
				}
			})
		}
		return of
	}
	sorted := inOrder(c.job.Derived, made, func(circle []*Derived) {
		d := circle[0]
		c.errorf(d.NameAt, "circle", "%s is made of itself: %s; break the circle", d.Name, roundTrip(circle))
	})
	sound := map[*Derived]bool{}
	for _, d := range sorted {
		if sound[d] = !d.broken && c.derived(d); !sound[d] {
			d.broken = true
		}
	}
	for _, d := range c.job.Derived {
		d.broken = d.broken || !sound[d]
	}
	c.job.Derived = sorted
}

// derived checks a derived value after those that it is made of.
func (c *checker) derived(d *Derived) bool {
	if !c.resolveAll(d.Value) {
		return false
	}
	t, err := c.job.TypeOf(d.Value)
	if err != nil {
		c.typeError(err)
		return false
	}
	d.typed = &t
	if !c.hasInput(d.Value) {
		c.errorf(d.Value.Place(), "wrong-kind", "%s depends on no input; declare it as a constant", d.Name)
	}
	return true
}
