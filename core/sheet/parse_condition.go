package sheet

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"rectura/core/unit"
)

// A node is what a parenthesis may hold: an Expr or a Condition. Which one it
// is, is settled at its end.
type node interface {
	Place() Place
	String() string
}

// condition reads a whole condition, to the end of the clause.
func (p *parser) condition() Condition {
	return p.asCondition(p.whole())
}

// whole reads `or-term [ for duration ]`, or a bare value.
func (p *parser) whole() node {
	n := p.orTerm()
	if p.peek().kind == tokName && p.peek().text == "for" {
		t := p.next()
		c := p.asCondition(n)
		switch c.(type) {
		case *And, *Or:
			d := p.duration()
			word := map[bool]string{true: "and", false: "or"}[isAnd(c)]
			xs := terms(c)
			last := xs[len(xs)-1]
			p.fail(t, "`for` after `%s` reads two ways: (%s) for %s, or %s %s (%s for %s); write the parentheses that are meant",
				word, c, d, join(xs[:len(xs)-1], " "+word+" "), word, last, d)
		}
		f := &For{c, p.duration()}
		if t := p.peek(); p.at("and") || p.at("or") {
			p.fail(t, "`%s` after `for` needs parentheses: (%s) %s …", t.text, f, t.text)
		}
		n = f
	}
	return n
}

func isAnd(c Condition) bool { _, ok := c.(*And); return ok }

func terms(c Condition) []Condition {
	switch c := c.(type) {
	case *And:
		return c.Xs
	case *Or:
		return c.Xs
	}
	return []Condition{c}
}

// orTerm reads terms joined by `and` or by `or`, but not by both.
func (p *parser) orTerm() node {
	n := p.unary()
	for _, word := range []string{"and", "or"} {
		if !p.at(word) {
			continue
		}
		xs := []Condition{p.asCondition(n)}
		for p.accept(word) {
			xs = append(xs, p.asCondition(p.unary()))
			if t := p.peek(); (t.text == "and" || t.text == "or") && t.text != word && t.kind == tokName {
				p.next()
				next := p.asCondition(p.unary())
				last := len(xs) - 1
				before := join(xs[:last], " "+word+" ")
				p.fail(t, "`and` beside `or` reads two ways: (%s) %s %s, or %s %s (%s %s %s); write the parentheses that are meant",
					join(xs, " "+word+" "), t.text, next, before, word, xs[last], t.text, next)
			}
		}
		if word == "and" {
			return &And{xs}
		}
		return &Or{xs}
	}
	return n
}

func (p *parser) unary() node {
	if t := p.peek(); p.accept("not") {
		p.enter(t)
		defer p.leave()
		return &Not{p.place(t), p.asCondition(p.unary())}
	}
	return p.test()
}

func (p *parser) enter(t token) {
	if p.depth++; p.depth > MaxDepth {
		p.over(t, "this is nested deeper than %d; split the condition into several rules", MaxDepth)
	}
}

func (p *parser) leave() { p.depth-- }

// comparisonAt reads a comparison sign if one comes next.
func (p *parser) comparison() (Op, bool) {
	for _, op := range []Op{Below, AtMost, Above, AtLeast} {
		if p.accept(string(op)) {
			return op, true
		}
	}
	return "", false
}

// test reads a comparison, a name, a condition in parentheses, or a bare value.
func (p *parser) test() node {
	if t := p.peek(); p.accept("at", "least") {
		return p.quorum(t)
	}
	if t := p.peek(); p.accept("time", "between") {
		c := &Daytime{At: p.place(t), From: p.clock()}
		p.expect("and", "between the two times of day")
		c.To = p.clock()
		if c.From.Nanoseconds == c.To.Nanoseconds {
			p.fail(t, "from %s to %s is no time at all; write two different times of day", c.From.Text, c.To.Text)
		}
		return c
	}
	left := p.sum()
	if name, ok := left.(*Name); ok {
		if p.accept("is") {
			not := p.accept("not")
			if sign := sayings[p.peek().text]; (sign == "<" || sign == ">") && (p.tokens[1].kind == tokNumber || p.tokens[1].text == "than") {
				p.fail(p.peek(), "a comparison is written with a sign; write: %s %s …", name, sign)
			}
			if t := p.peek(); t.kind == tokName && !slices.Contains(reserved, t.text) { // of a band
				return &Test{Name: name, Not: not, Is: p.next().text}
			}
			return &Test{Name: name, Not: not, Is: p.oneOf("the state", slices.Concat(StateWords, alarmStates)...)}
		}
		for _, how := range TurnWords {
			if p.accept(strings.Fields(how)...) {
				return &Turn{name, how}
			}
		}
	}
	if c := p.relation(left); c != nil {
		return c
	}
	at := p.place(p.peek())
	op, ok := p.comparison()
	if !ok {
		return left
	}
	c := &Compare{Op: op, OpAt: at, L: p.asValue(left), R: p.asValue(p.sum())}
	if p.accept("deadband") {
		c.Deadband = p.asValue(p.sum())
	}
	if p.accept("hysteresis") {
		c.Hysteresis = p.asValue(p.sum())
	}
	if t := p.peek(); p.at("deadband") {
		p.fail(t, "`deadband` stands before `hysteresis`; change them over")
	}
	if t := p.peek(); t.kind == tokSign && slices.Contains([]string{"<", "<=", ">", ">="}, t.text) {
		p.fail(t, "a second comparison in one; join two with `and`")
	}
	return c
}

// relation reads what stands after a value and is no comparison sign; nil if
// nothing of that does.
func (p *parser) relation(left node) node {
	switch t := p.peek(); {
	case p.at("between"), p.at("outside"):
		p.next()
		c := &Between{X: p.asValue(left), Outside: t.text == "outside", Low: p.asValue(p.sum())}
		p.expect("and", "between the two ends")
		c.High = p.asValue(p.sum())
		if p.accept("hysteresis") {
			c.Hysteresis = p.asValue(p.sum())
		}
		return c
	case p.accept("="):
		if name, ok := left.(*Name); ok && (p.at("on") || p.at("off")) {
			p.fail(t, "a state is asked for by `is`; write: %s is %s", name, p.peek().text)
		}
		c := &Near{L: p.asValue(left), R: p.asValue(p.sum())}
		if !p.accept("within") {
			if is := stateOf(c.R); is != "" && isName(c.L) {
				p.fail(t, "a state is asked for by `is`; write: %s is %s", c.L, is)
			}
			p.fail(p.peek(), "%s where `within` and how near must stand; measured values are never exactly equal", p.peek().source())
		}
		c.Within = p.asValue(p.sum())
		return c
	case p.accept("crosses"):
		return &Cross{p.asValue(left), p.asValue(p.sum())}
	case p.at("rising"), p.at("falling"):
		p.next()
		if !p.accept("faster", "than") {
			p.fail(p.peek(), "%s where `faster than` must stand: %s %s faster than 0.5 mg/L per min over 2 min", p.peek().source(), left, t.text)
		}
		c := &Slope{X: p.asValue(left), Falling: t.text == "falling", Rate: p.rate()}
		p.expect("over", "after the rate")
		c.Over = p.duration()
		return c
	case p.at("turns"):
		p.fail(t, "`turns on` and `turns off` stand after a name")
	}
	return nil
}

// rate reads `0.5 mg/L per min`.
func (p *parser) rate() Rate {
	t := p.peek()
	r := Rate{At: p.place(t), Quantity: p.quantity()}
	if r.Quantity.Value <= 0 {
		p.fail(t, "a rate of %s; it is above 0, and `rising` or `falling` says its direction", r.Quantity)
	}
	p.expect("per", "after the amount of a rate")
	per := p.next()
	u, known := unit.Lookup(per.text)
	if !known || u.Dimension() != unit.Time {
		p.fail(per, "%s where a unit of time must stand, such as min", per.source())
	}
	r.Per = u
	return r
}

// clock reads a time of day, HH:MM[:SS[.fff]].
func (p *parser) clock() Clock {
	first := p.peek()
	var text strings.Builder
	part := func(most float64, scale int64, fraction bool) int64 {
		t := p.next()
		v, err := strconv.ParseFloat(t.text, 64)
		if whole, _, _ := strings.Cut(t.text, "."); t.kind != tokNumber || err != nil || v >= most || len(whole) != 2 ||
			!fraction && len(t.text) != 2 {
			p.fail(t, "%s in a time of day, which is written as 06:30 or 06:30:15, up to 23:59:59.999", t.source())
		}
		text.WriteString(t.text)
		return int64(math.Round(v * float64(scale)))
	}
	c := Clock{Nanoseconds: part(24, 3600e9, false)}
	if !p.accept(":") {
		p.fail(first, "%s is no time of day, which is written as 06:30", first.source())
	}
	text.WriteByte(':')
	c.Nanoseconds += part(60, 60e9, false)
	if p.accept(":") {
		text.WriteByte(':')
		c.Nanoseconds += part(60, 1e9, true)
	}
	c.Text = text.String()
	return c
}

// quorum reads `N of (X, …)`.
func (p *parser) quorum(at token) node {
	t := p.next()
	n, err := strconv.Atoi(t.text)
	if t.kind != tokNumber || err != nil || n < 1 {
		p.fail(t, "%s where a whole number from 1 must stand: at least 2 of (…)", t.source())
	}
	c := &Quorum{At: p.place(at), N: n}
	p.expect("of", "after the number")
	p.enter(at)
	defer p.leave()
	open := p.peek()
	p.expect("(", "before the conditions of which so many must be true")
	for {
		c.Xs = append(c.Xs, p.asCondition(p.whole()))
		if !p.accept(",") {
			break
		}
	}
	if end := p.peek(); !p.accept(")") {
		p.fail(end, "%s where the parenthesis of column %d must be closed by )", end.source(), open.col)
	}
	if n > len(c.Xs) {
		p.fail(t, "at least %d of %d conditions can never be; write a smaller number", n, len(c.Xs))
	}
	return c
}

// sum reads values joined by + and -.
func (p *parser) sum() node {
	n := p.product()
	for {
		t := p.peek()
		if !p.accept("+") && !p.accept("-") {
			return n
		}
		n = &Binary{t.text[0], p.asValue(n), p.asValue(p.product())}
	}
}

// product reads values joined by * and /.
func (p *parser) product() node {
	n := p.factor()
	for {
		t := p.peek()
		if !p.accept("*") && !p.accept("/") {
			return n
		}
		n = &Binary{t.text[0], p.asValue(n), p.asValue(p.factor())}
	}
}

// function reads the arguments of a function; its name is read.
func (p *parser) function(t token) node {
	f := &Func{At: p.place(t), Name: t.text}
	p.expect("(", "after the name of a function")
	for {
		f.Args = append(f.Args, p.asValue(p.sum()))
		if !p.accept(",") {
			break
		}
	}
	p.expect(")", "after the values of "+f.Name)
	switch {
	case f.Name == "abs" && len(f.Args) > 1:
		p.fail(t, "abs is of one value, and there are %d", len(f.Args))
	case f.Name != "abs" && len(f.Args) < 2:
		p.fail(t, "%s is of two values or more, and there is one", f.Name)
	}
	return f
}

// factor reads a quantity, a name, a negated value or a parenthesis.
func (p *parser) factor() node {
	t := p.peek()
	at := p.place(t)
	p.enter(t)
	defer p.leave()
	switch {
	case t.kind == tokNumber:
		return &Literal{at, p.quantity()}
	case p.at("-"):
		if p.tokens[1].kind == tokNumber {
			return &Literal{at, p.quantity()}
		}
		p.next()
		return &Negate{at, p.asValue(p.factor())}
	case p.accept("("):
		inner := p.whole()
		if end := p.peek(); !p.accept(")") {
			p.fail(end, "%s where the parenthesis of column %d must be closed by )", end.source(), t.col)
		}
		if x, ok := inner.(Expr); ok && (p.at("+") || p.at("-") || p.at("*") || p.at("/") || p.atComparison() || !isName(x)) {
			return &Paren{at, x}
		}
		return &Group{at, p.asCondition(inner)}
	case t.kind == tokName && t.text == strings.ToLower(t.text) && !slices.Contains(reserved, t.text):
		p.next()
		return &Name{at, t.text}
	case t.kind == tokName && slices.Contains(Functions, t.text):
		p.next()
		return p.function(t)
	case t.kind == tokUnit || t.kind == tokName && isUnitName(t.text):
		p.fail(t, "the unit %s without a number before it", t.text)
	}
	if hint := meant(t); hint != "" {
		p.fail(t, "%s where a value or a condition must stand%s", t.source(), hint)
	}
	if t.kind == tokName && t.text != strings.ToLower(t.text) {
		p.fail(t, "%s is no name, which has small letters only", t.text)
	}
	p.fail(t, "%s where a value or a condition must stand", t.source())
	return nil
}

func (p *parser) atComparison() bool {
	t := p.peek()
	return t.kind == tokSign && slices.Contains([]string{"<", "<=", ">", ">=", "="}, t.text) ||
		t.kind == tokName && slices.Contains([]string{"between", "outside", "crosses", "rising", "falling"}, t.text)
}

func isUnitName(s string) bool { _, ok := unit.Lookup(s); return ok }

// isName tells whether a value is a name alone, which can be a condition too.
func isName(x Expr) bool { _, ok := x.(*Name); return ok }

// asCondition makes a condition of what was read, or says why it is none.
func (p *parser) asCondition(n node) Condition {
	switch n := n.(type) {
	case Condition:
		return n
	case *Name:
		return &Test{Name: n}
	}
	p.report(n.Place(), "syntax", "%s is a value, not a condition; compare it with another by < <= > or >=", n)
	panic(abandon{})
}

// asValue makes a value of what was read, or says why it is none.
func (p *parser) asValue(n node) Expr {
	switch n := n.(type) {
	case Expr:
		return n
	case *Group: // only a value can stand here, so (a) is one
		switch x := n.X.(type) {
		case *Test, *Group:
			if test, ok := x.(*Test); ok && test.Is != "" {
				break
			}
			return &Paren{n.At, p.asValue(n.X)}
		}
	case *Test:
		if n.Is == "" {
			return n.Name
		}
	}
	p.report(n.Place(), "syntax", "%s is a condition, which is true or false; a value must stand here", n)
	panic(abandon{})
}
