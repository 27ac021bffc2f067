package sheet

import (
	"strings"

	"rectura/core/unit"
)

// Bands divides the range of one signal into bands, of which exactly one is in
// force. Cumulative makes them a ladder: every band passed stays called.
type Bands struct {
	Head
	Of         *Name
	Bands      []*Band // from the outermost one in, `else` last
	Hysteresis *ExprClause
	For        *DurationClause
	Cumulative *Clause
}

// A Band is one of Bands: what its signal must be, and what it calls.
type Band struct {
	Clause
	Name  string // empty where it has none
	Op    Op     // empty for `else`
	Limit Expr   // nil for `else`
	Calls []*Call
}

// ExprClause is a clause that is one value.
type ExprClause struct {
	Clause
	Value Expr
}

// Keyword is the word that the declaration begins with.
func (*Bands) Keyword() string { return "bands" }

// opClauses are how a band writes its comparison.
var opClauses = map[Op]string{Below: "below", AtMost: "at or below", Above: "above", AtLeast: "at or above"}

// Title is how a band is called: by its name, or by its limit.
func (b *Band) Title() string {
	switch {
	case b.Name != "":
		return b.Name
	case b.Op == "":
		return "else"
	}
	return opClauses[b.Op] + " " + b.Limit.String()
}

// Calls are all calls of the bands.
func (d *Bands) Calls() []*Call {
	var all []*Call
	for _, b := range d.Bands {
		all = append(all, b.Calls...)
	}
	return all
}

// Find is the number of a band by its name; -1 if there is none.
func (d *Bands) Find(name string) int {
	for i, b := range d.Bands {
		if b.Name == name {
			return i
		}
	}
	return -1
}

func (b *Band) String() string {
	s := "else"
	if b.Op != "" {
		s = opClauses[b.Op] + " " + b.Limit.String()
	}
	if b.Name != "" {
		s = b.Name + ": " + s
	}
	if len(b.Calls) > 0 {
		s += " " + (&CallClause{Calls: b.Calls}).String()
	}
	return s
}

func (p *parser) bands(h Head) Declaration {
	d := &Bands{Head: h}
	p.name(&d.Head)
	p.expect("of", "before the signal that is divided into bands")
	d.Of = p.aName()
	return d
}

func (d *Bands) words() []string { return []string{d.Name, d.label(), "of " + d.Of.Name} }

func (d *Bands) rows() []row {
	band := func(keyword string, op Op) row {
		return row{keyword: keyword, many: op != "",
			read: func(p *parser, c Clause) {
				b := &Band{Clause: c, Name: p.bandName, Op: op}
				if op != "" {
					b.Limit = p.asValue(p.sum())
				}
				if p.accept("call") {
					b.Calls = p.calls()
				}
				d.Bands = append(d.Bands, b)
			},
			print: func(*printer) {}}
	}
	all := band("else", "") // which lays out all bands in their order
	all.print = func(p *printer) {
		for _, b := range d.Bands {
			p.clause(b.Clause, b.String())
		}
	}
	rows := []row{all}
	for _, op := range []Op{AtMost, AtLeast, Below, Above} {
		rows = append(rows, band(opClauses[op], op))
	}
	hysteresis := row{keyword: "hysteresis",
		read: func(p *parser, c Clause) { d.Hysteresis = &ExprClause{c, p.asValue(p.sum())} },
		print: func(p *printer) {
			if h := d.Hysteresis; h != nil {
				p.clause(h.Clause, "hysteresis "+h.Value.String())
			}
		}}
	return d.rowsWith(false, append(rows, hysteresis, durationRow("for", &d.For).called("delay"), flagRow("cumulative", &d.Cumulative))...)
}

// bandPrefix reads the name that may stand before a band.
func (p *parser) bandPrefix(d Declaration) {
	p.bandName = ""
	if _, is := d.(*Bands); !is || len(p.tokens) < 2 || p.tokens[0].kind != tokName || p.tokens[1].text != ":" {
		return
	}
	t := p.next()
	p.next()
	if Reserved(t.text) || t.text != strings.ToLower(t.text) {
		p.fail(t, "%s cannot be the name of a band; a name has small letters and is no word of conditions", t.text)
	}
	p.bandName = t.text
}

// names reads names with commas between them.
func (p *parser) names(what string) []*Name {
	var all []*Name
	for {
		t := p.next()
		if t.kind != tokName {
			p.fail(t, "%s where the name of %s must stand", t.source(), what)
		}
		all = append(all, &Name{p.place(t), t.text})
		if !p.accept(",") {
			return all
		}
	}
}

func (c *checker) bands(d *Bands) {
	x := c.resolve(d.Of)
	for _, b := range d.Bands {
		c.calls(b.Calls, "a band")
		c.once(b.Calls, "the same band")
	}
	if len(d.Bands) > MaxBands {
		c.errorf(d.Bands[MaxBands].At, "limit", "%s has more than %d bands; divide it", d.Name, MaxBands)
		return
	}
	if x == nil || x.Base().broken || d.broken {
		return
	}
	if t, err := c.job.TypeOf(d.Of); err != nil {
		c.typeError(err)
		return
	} else if d.Hysteresis != nil {
		c.distance("hysteresis", d.Hysteresis.Value, d.Of, t)
	}
	c.clauses(d.rows())
	n := len(d.Bands)
	limits := 0
	for _, b := range d.Bands {
		if b.Op != "" {
			limits++
		}
	}
	if limits == 0 || d.Cumulative == nil && d.Bands[n-1].Op != "" {
		c.errorf(
			d.NameAt,
			"missing-clause",
			"the bands %s need at least one limit and, but for a ladder, below all of them the band in which the signal is otherwise, such as: fine: else",
			d.Name,
		)
		return
	}
	seen := map[string]bool{}
	for i, b := range d.Bands {
		if b.Name != "" && seen[b.Name] {
			c.errorf(b.At, "repeated-name", "two bands of %s are named %s; rename one", d.Name, b.Name)
		}
		seen[b.Name] = true
		if b.Op == "" {
			if i < n-1 {
				c.errorf(b.At, "band-order", "`else` stands last, below all limits")
			}
			continue
		}
		if _, ok := c.pair(d.Of, b.Limit); ok && i > 0 {
			c.bandOrder(d.Bands[i-1], b)
		}
	}
}

// bandOrder checks that a band lies farther in than the one before it.
func (c *checker) bandOrder(before, b *Band) {
	if before.Op == "" {
		return
	}
	if before.Op.Falling() != b.Op.Falling() {
		c.errorf(
			b.At,
			"band-order",
			"%q beside %q; all limits of bands go one way, `below` from the lowest up or `above` from the highest down",
			opClauses[b.Op],
			opClauses[before.Op],
		)
		return
	}
	t, err := c.job.TypeOf(b.Limit)
	if err != nil {
		return // said already
	}
	first, ok := c.job.written(before.Limit, t.Unit)
	second, also := c.job.written(b.Limit, t.Unit)
	if ok && also && (b.Op.Falling() && second <= first || !b.Op.Falling() && second >= first) {
		way := "from the lowest limit up"
		if !b.Op.Falling() {
			way = "from the highest limit down"
		}
		c.errorf(b.Limit.Place(), "band-order", "%s after %s; bands stand %s", b.Limit, before.Limit, way)
	}
}

// written is a value of literals, setpoints and constants as they are written.
func (j *Job) written(e Expr, u unit.Unit) (float64, bool) {
	switch e := e.(type) {
	case *Literal:
		return e.Unit.Convert(e.Value, u), true
	case *Paren:
		return j.written(e.X, u)
	case *Name:
		if s, ok := j.names[e.Name].(*Setpoint); ok {
			q := s.Value.Quantity()
			return q.Unit.Convert(q.Value, u), true
		}
	case *Binary:
		l, ok := j.written(e.L, u)
		r, also := j.written(e.R, u)
		switch {
		case !ok || !also || u.Dimension() == unit.Temperature:
		case e.Op == '+':
			return l + r, true
		case e.Op == '-':
			return l - r, true
		}
	}
	return 0, false
}

// sayBands says bands as they read aloud.
func (j *teller) sayBands(d *Bands) string {
	var parts []string
	for _, b := range d.Bands {
		s := "else"
		if b.Op != "" {
			s = opWords[b.Op] + " " + j.sayValue(b.Limit)
		}
		if b.Name != "" {
			s += " it is " + b.Name
		}
		if len(b.Calls) > 0 {
			s += ", call " + j.sayCalls(b.Calls)
		}
		parts = append(parts, s)
	}
	s := j.named(d.Of) + ": " + strings.Join(parts, "; ") + "."
	if d.Cumulative != nil {
		s += " Every band passed stays called."
	}
	if d.Hysteresis != nil {
		s += " A band lets go " + j.sayValue(d.Hysteresis.Value) + " beyond its limit."
	}
	if d.For != nil {
		s += " A band counts once it has lasted for " + j.sayDuration(d.For.Duration) + "."
	}
	return s
}
