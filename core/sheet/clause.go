package sheet

import "rectura/core/unit"

// A row is the one place of a clause: the words that it begins with, and the field of
// its declaration that it stands in. That it is read, laid out in the order of the
// rows, checked, and offered by an editor follows from its row.
type row struct {
	keyword string // "ignore changes under"
	many    bool   // it may stand more than once
	read    func(p *parser, c Clause)
	print   func(p *printer)

	// What a field may hold that has names in it; nil for none.
	condition func() *ConditionClause
	durations func() []*Duration

	delay string // how its duration is called among the delays of its declaration; empty if it is none
}

// joined tells what to do with two clauses of which there can be one.
func (r row) joined() string {
	switch {
	case r.keyword == "call":
		return "name all that is called in one: call A, B"
	case r.keyword == "permissive when":
		return "write one, with what both of them ask for joined by `and`"
	case r.keyword == "interlock":
		return "write one, with the two conditions joined by `or`"
	case r.condition != nil:
		return "write one, with the two conditions joined by `or` or `and`"
	}
	return "keep one of the two"
}

// readAgain reads a clause of which there is one already, so that what else is wrong in
// either of them is found too.
func (r row) readAgain(p *parser, c Clause) {
	var first Condition
	if r.condition != nil {
		if before := r.condition(); before != nil {
			first = before.Condition
		}
	}
	r.read(p, c)
	if first != nil {
		both := r.condition()
		both.Condition = &And{Xs: []Condition{first, both.Condition}}
	}
}

// rowsWith are the rows of a declaration: its own behind those of all, or of all points.
func (h *Head) rowsWith(point bool, own ...row) []row {
	var rows []row
	if point {
		rows = append(rows, textRow("tag", &h.Tag, "tag"), textRow("terminal", &h.Terminal, "terminal"))
	}
	notes := row{keyword: "note", many: true,
		read: func(p *parser, c Clause) { h.Notes = append(h.Notes, p.text(c, "note")) },
		print: func(p *printer) {
			for _, n := range h.Notes {
				p.clause(n.Clause, "note "+quote(n.Text))
			}
		}}
	return append(append(rows, notes), own...)
}

func conditionRow(keyword string, to **ConditionClause) row {
	return row{keyword: keyword,
		read:      func(p *parser, c Clause) { *to = &ConditionClause{c, p.condition()} },
		print:     func(p *printer) { p.condition(keyword, *to) },
		condition: func() *ConditionClause { return *to }}
}

func durationRow(keyword string, to **DurationClause) row {
	return durationRowBy(keyword, to, (*parser).duration)
}

func durationRowBy(keyword string, to **DurationClause, read func(*parser) *Duration) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) { *to = &DurationClause{c, read(p)} },
		print: func(p *printer) {
			if c := *to; c != nil {
				p.clause(c.Clause, keyword+" "+c.Duration.String())
			}
		},
		durations: func() []*Duration {
			if *to == nil {
				return nil
			}
			return []*Duration{(*to).Duration}
		}}
}

// flagRow is that of a clause that is nothing but its keyword.
func flagRow(keyword string, to **Clause) row {
	return row{keyword: keyword,
		read: func(_ *parser, c Clause) { *to = &c },
		print: func(p *printer) {
			if *to != nil {
				p.clause(**to, keyword)
			}
		}}
}

// wordRow is that of a clause whose argument is one of a few words; what says what
// they are.
func wordRow(keyword string, to **WordClause, what string, words ...string) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) { *to = &WordClause{c, p.oneOf(what, words...)} },
		print: func(p *printer) {
			if c := *to; c != nil {
				p.clause(c.Clause, keyword+" "+c.Word)
			}
		}}
}

func textRow(keyword string, to **TextClause, what string) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) { *to = p.text(c, what) },
		print: func(p *printer) {
			if c := *to; c != nil {
				p.clause(c.Clause, keyword+" "+quote(c.Text))
			}
		}}
}

func rangeRow(keyword string, to **RangeClause) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) { *to = &RangeClause{c, p.ascending(keyword)} },
		print: func(p *printer) {
			if c := *to; c != nil {
				p.clause(c.Clause, keyword+" "+c.Range.String())
			}
		}}
}

func quantityRow(keyword string, to **QuantityClause, read func(*parser) (unit.Quantity, Place)) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) {
			q, at := read(p)
			*to = &QuantityClause{c, q, at}
		},
		print: func(p *printer) {
			if c := *to; c != nil {
				p.clause(c.Clause, keyword+" "+c.Quantity.String())
			}
		}}
}

// callRow is that of the one `call` of a declaration.
func callRow(to **CallClause) row {
	return row{keyword: "call",
		read: func(p *parser, c Clause) { *to = &CallClause{c, p.calls()} },
		print: func(p *printer) {
			if c := *to; c != nil {
				p.clause(c.Clause, c.String())
			}
		}}
}

// A written clause is one of its own kind, which says how it is written.
type written[T any] interface {
	*T
	base() *Clause
	String() string
}

// ownRow is that of a clause of its own kind.
func ownRow[T any, C written[T]](keyword string, to *C, read func(p *parser, c Clause) C) row {
	return row{keyword: keyword,
		read: func(p *parser, c Clause) { *to = read(p, c) },
		print: func(p *printer) {
			if *to != nil {
				p.clause(*(*to).base(), (*to).String())
			}
		}}
}

// manyRow is that of a clause of its own kind that may stand more than once.
func manyRow[T any, C written[T]](keyword string, to *[]C, read func(p *parser, c Clause) C) row {
	return row{keyword: keyword, many: true,
		read: func(p *parser, c Clause) { *to = append(*to, read(p, c)) },
		print: func(p *printer) {
			for _, c := range *to {
				p.clause(*c.base(), c.String())
			}
		}}
}

func (c *Clause) base() *Clause { return c }

// with adds the durations of a clause of its own kind.
func (r row) with(durations func() []*Duration) row {
	r.durations = durations
	return r
}

// called makes the duration of a clause one of the delays of its declaration.
func (r row) called(delay string) row {
	r.delay = delay
	return r
}

// conditionsOf are the conditions in the clauses of a declaration.
func conditionsOf(rows []row) []*ConditionClause {
	var all []*ConditionClause
	for _, r := range rows {
		if r.condition == nil {
			continue
		}
		if c := r.condition(); c != nil {
			all = append(all, c)
		}
	}
	return all
}

// clauses checks the conditions and durations in the clauses of a declaration.
func (c *checker) clauses(rows []row) {
	for _, x := range conditionsOf(rows) {
		c.condition(x.Condition)
	}
	for _, r := range rows {
		if r.durations == nil {
			continue
		}
		for _, d := range r.durations() {
			if d != nil {
				c.duration(d)
			}
		}
	}
}
