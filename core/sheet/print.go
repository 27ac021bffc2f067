package sheet

import (
	"strconv"
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
		d.print(p)
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
	d.print(p)
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

// head prints a declaration's first line; words are joined by blanks, empty
// ones left out.
func (p *printer) head(h *Head, words ...string) {
	p.line("", joinWords(words), h.Comments)
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

func (p *printer) texts(h *Head) {
	if h.Tag != nil {
		p.clause(h.Tag.Clause, "tag "+quote(h.Tag.Text))
	}
	if h.Terminal != nil {
		p.clause(h.Terminal.Clause, "terminal "+quote(h.Terminal.Text))
	}
	for _, n := range h.Notes {
		p.clause(n.Clause, "note "+quote(n.Text))
	}
}

func (p *printer) duration(keyword string, c *DurationClause) {
	if c != nil {
		p.clause(c.Clause, keyword+" "+c.Duration.String())
	}
}

func (p *printer) rangeClause(keyword string, c *RangeClause) {
	if c != nil {
		p.clause(c.Clause, keyword+" "+c.Range.String())
	}
}

func (p *printer) word(keyword string, c *WordClause) {
	if c != nil {
		p.clause(c.Clause, keyword+" "+c.Word)
	}
}

func (p *printer) guard(g *Guard) {
	p.condition("permissive when", g.Permissive)
	if i := g.Interlock; i != nil {
		word := "interlock when"
		if i.Unless {
			word = "interlock unless"
		}
		p.condition(word, &i.ConditionClause)
	}
	p.duration("minimum on", g.MinimumOn)
	p.duration("minimum off", g.MinimumOff)
}

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

func (d *JobHead) print(p *printer) {
	p.head(&d.Head, "job", quote(d.Label))
	p.texts(&d.Head)
	if d.Timezone != nil {
		p.clause(d.Timezone.Clause, "timezone "+d.Timezone.Text)
	}
	p.duration("settle", d.Settle)
}

func (d *Input) print(p *printer) {
	kind := ""
	if d.Discrete {
		kind = "discrete"
	}
	p.head(&d.Head, "input", d.Name, d.label(), kind)
	p.texts(&d.Head)
	p.wire("source", d.Source)
	for _, s := range d.Stages {
		p.clause(*s.base(), s.String())
	}
	if d.Unit != nil {
		p.clause(d.Unit.Clause, "unit "+d.Unit.Unit.String())
	}
	p.rangeClause("healthy", d.Healthy)
	p.duration("stale after", d.Stale)
	if d.Frozen != nil {
		p.clause(d.Frozen.Clause, "frozen after "+d.Frozen.After.String()+" within "+d.Frozen.Within.String())
	}
	if d.Unsteady != nil {
		p.clause(d.Unsteady.Clause, "unsteady beyond "+d.Unsteady.Beyond.String()+" within "+d.Unsteady.Within.String())
	}
	p.duration("bad after", d.BadAfter)
	p.duration("good after", d.GoodAfter)
	if !d.Discrete {
		p.badAlarm(d)
	}
	if d.Skip != nil {
		p.clause(d.Skip.Clause, "skip first "+strconv.Itoa(d.Skip.Count)+" samples")
	}
	if d.Smooth != nil {
		p.clause(d.Smooth.Clause, d.Smooth.String())
	}
	p.rangeClause("clamp", d.Clamp)
	if d.Round != nil {
		how := "round nearest "
		if d.Round.Down {
			how = "round down "
		}
		p.clause(d.Round.Clause, how+d.Round.Quantity.String())
	}
	if d.Ignore != nil {
		p.clause(d.Ignore.Clause, "ignore changes under "+d.Ignore.Quantity.String())
	}
	if d.Inverted != nil {
		p.clause(*d.Inverted, "inverted")
	}
	p.duration("debounce", d.Debounce)
	if d.Words != nil {
		p.clause(d.Words.Clause, "words "+quote(d.Words.On)+", "+quote(d.Words.Off))
	}
	if d.Discrete {
		p.badAlarm(d)
	}
}

func (p *printer) badAlarm(d *Input) {
	if d.BadAlarm != nil {
		p.clause(d.BadAlarm.Clause, d.BadAlarm.String())
	}
}

// Clauses are an analog input's clauses behind its stages, each as it stands in
// a sheet.
func (d *Input) Clauses() []string {
	bare := &Input{Head: Head{Name: d.Name}, Healthy: d.Healthy, Stale: d.Stale, Frozen: d.Frozen, Unsteady: d.Unsteady, BadAfter: d.BadAfter, GoodAfter: d.GoodAfter, BadAlarm: d.BadAlarm,
		Skip: d.Skip, Smooth: d.Smooth, Clamp: d.Clamp, Round: d.Round, Ignore: d.Ignore}
	p := &printer{plain: true}
	bare.print(p)
	return p.lines()[1:]
}

// Clauses are what permits and interlocks, and the minimum times, each as it
// stands in a sheet.
func (g *Guard) Clauses() []string {
	p := &printer{plain: true}
	p.guard(g)
	return p.lines()
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

func (d *Derived) print(p *printer) {
	p.head(&d.Head, "derived", d.Name, d.label(), "= "+d.Value.String())
	p.texts(&d.Head)
}

func (d *Setpoint) print(p *printer) {
	difference := ""
	if d.Difference {
		difference = "difference"
	}
	p.head(&d.Head, d.Keyword(), d.Name, d.label(), d.Value.String(), difference)
	p.texts(&d.Head)
	p.rangeClause("allow", d.Allow)
}

func (d *Rule) print(p *printer) {
	p.head(&d.Head, "rule", d.Name, d.label())
	p.texts(&d.Head)
	p.condition("on when", d.OnWhen)
	p.condition("off when", d.OffWhen)
	p.duration("off after", d.OffAfter)
	p.duration("pulse", d.Pulse)
	if d.Latch != nil {
		p.clause(*d.Latch, "latch")
	}
	p.condition("reset when", d.Reset)
	p.guard(&d.Guard)
	p.calls(d.Call)
}

// Working is the part of an input that makes a value of its readings, as it is
// printed: its source, its chain, its health and its filters, without names for
// people and without comments.
func (in *Input) Working() string {
	bare := *in
	bare.Head, bare.BadAlarm, bare.Words = Head{Name: in.Name}, nil, nil
	p := &printer{plain: true}
	bare.print(p)
	return p.String()
}

// Working is the part of a loop that says how it works, as Input.Working.
func (d *Loop) Working() string {
	bare := *d
	bare.Head, bare.While = Head{Name: d.Name}, nil
	p := &printer{plain: true}
	bare.print(p)
	return p.String()
}
