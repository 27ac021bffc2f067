package sheet

import (
	"strings"
	"unicode/utf8"
)

// String lays a sheet out canonically: two blanks of indent, clauses in the
// order of the language's description, one blank line between declarations.
// Comments keep their place. Reading the result back gives the same sheet.
func (f *File) String() string {
	p := &printer{}
	for i, d := range f.Declarations {
		if i > 0 {
			p.WriteByte('\n')
		}
		p.declaration(d)
	}
	if len(f.End) > 0 && len(f.Declarations) > 0 {
		p.WriteByte('\n')
	}
	p.above("", f.End)
	return p.String()
}

// PrintDeclaration lays out one declaration.
func PrintDeclaration(d Declaration) string {
	p := &printer{}
	p.declaration(d)
	return p.String()
}

// A printer collects the lines of a sheet.
type printer struct {
	strings.Builder
	plain bool // without comments
}

func (p *printer) above(indent string, lines []string) {
	for _, l := range lines {
		if l != "" {
			p.WriteString(indent + l)
		}
		p.WriteByte('\n')
	}
}

func (p *printer) line(indent, text string, c Comments) {
	if p.plain {
		c = Comments{}
	}
	above := c.Above
	if indent != "" { // blank lines between a declaration's clauses go
		above = nil
		for _, l := range c.Above {
			if l != "" {
				above = append(above, l)
			}
		}
	}
	p.above(indent, above)
	p.WriteString(indent + text)
	if c.Beside != "" {
		p.WriteString("  " + c.Beside)
	}
	p.WriteByte('\n')
}

// declaration lays out one: its first line, and its clauses in the order of their
// rows. Words are joined by blanks, empty ones left out.
func (p *printer) declaration(d Declaration) {
	p.line("", joinWords(append([]string{d.Keyword()}, d.words()...)), d.Base().Comments)
	p.rows(d.rows())
}

func (p *printer) rows(rows []row) {
	for _, r := range rows {
		r.print(p)
	}
}

func joinWords(words []string) string {
	var kept []string
	for _, w := range words {
		if w != "" {
			kept = append(kept, w)
		}
	}
	return strings.Join(kept, " ")
}

func (h *Head) label() string {
	if h.Label == "" {
		return ""
	}
	return quote(h.Label)
}

func (p *printer) clause(c Clause, text string) { p.line("  ", text, c.Comments) }

func (p *printer) condition(keyword string, c *ConditionClause) {
	if c != nil {
		p.clause(c.Clause, wrap(keyword+" "+c.Condition.String(), c.Condition))
	}
}

// widest is the longest line of a condition; a longer one is broken after each
// outermost `and` or `or`.
const widest = 98

func wrap(text string, c Condition) string {
	if utf8.RuneCountInString(text) <= widest-2 {
		return text
	}
	inner := ungroup(c)
	if f, ok := inner.(*For); ok {
		inner = ungroup(f.X)
	}
	xs := terms(inner)
	if len(xs) < 2 {
		return text
	}
	word := " or"
	if isAnd(inner) {
		word = " and"
	}
	return strings.Replace(text, inner.String(), join(xs, word+"\n    "), 1)
}

// Clauses are an analog input's clauses behind its stages, each as it stands in
// a sheet.
func (d *Input) Clauses() []string {
	bare := &Input{
		Head:      Head{Name: d.Name},
		Healthy:   d.Healthy,
		Stale:     d.Stale,
		Frozen:    d.Frozen,
		Unsteady:  d.Unsteady,
		BadAfter:  d.BadAfter,
		GoodAfter: d.GoodAfter,
		BadAlarm:  d.BadAlarm,
		Skip:      d.Skip,
		Smooth:    d.Smooth,
		Clamp:     d.Clamp,
		Round:     d.Round,
		Ignore:    d.Ignore,
	}
	p := &printer{plain: true}
	p.declaration(bare)
	return p.lines()[1:]
}

// lines are what is printed, without indents and empty lines.
func (p *printer) lines() []string {
	var all []string
	for l := range strings.Lines(p.String()) {
		if l = strings.TrimSpace(l); l != "" {
			all = append(all, l)
		}
	}
	return all
}

// Working is the part of an input that makes a value of its readings, as it is
// printed: its source, its chain, its health and its filters, without names for
// people and without comments.
func (in *Input) Working() string {
	bare := *in
	bare.Head, bare.BadAlarm, bare.Words = Head{Name: in.Name}, nil, nil
	p := &printer{plain: true}
	p.declaration(&bare)
	return p.String()
}

// Working is the part of a loop that says how it works, as Input.Working.
func (d *Loop) Working() string {
	bare := *d
	bare.Head, bare.While = Head{Name: d.Name}, nil
	p := &printer{plain: true}
	p.declaration(&bare)
	return p.String()
}
