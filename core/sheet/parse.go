package sheet

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"rectura/core/sheet/visits"
	"rectura/core/unit"
)

// ParseFile reads one sheet. Every error is reported, one for each declaration
// head or clause at most; what could be read is returned all the same.
func ParseFile(name string, src []byte) (*File, []Finding) {
	r := &reading{}
	f := parseFile(name, src, r)
	return f, r.sorted()
}

func parseFile(name string, src []byte, r *reading) *File {
	lines, end := lex(name, src, r)
	p := &parser{file: name, found: r}
	f := &File{Name: name, End: end}
	for i := 0; i < len(lines); {
		head := lines[i]
		clauses := lines[i+1:]
		if n := slices.IndexFunc(clauses, func(l line) bool { return !l.indented }); n >= 0 {
			clauses = clauses[:n]
		}
		i += 1 + len(clauses)
		if !r.declaration(p.place(head.tokens[0])) {
			break
		}
		if d := p.declaration(head, clauses); d != nil {
			f.Declarations = append(f.Declarations, d)
		}
	}
	return f
}

// A parser reads the tokens of one logical line at a time. A syntax error is
// a panic of type abandon, recovered at the line's end.
type parser struct {
	bandName string // that stands before the clause being read
	file     string
	found    *reading
	tokens   []token
	depth    int // of nested conditions
}

type abandon struct{}

// A declarationKind has the keyword in column 1, the reader of the rest of its first
// line, and one of each form, with which its clauses can be told.
type declarationKind struct {
	keyword string
	read    func(p *parser, h Head) Declaration
	forms   []Declaration
}

// kinds are those of declarations.
var kinds = []declarationKind{
	{"job", (*parser).job, []Declaration{&JobHead{}}},
	{"device", (*parser).device, []Declaration{&Device{}}},
	{"input", (*parser).input, []Declaration{&Input{}, &Input{Discrete: true}}},
	{"derived", (*parser).derived, []Declaration{&Derived{}}},
	{"setpoint", (*parser).setpoint, []Declaration{&Setpoint{}}},
	{"constant", (*parser).constant, []Declaration{&Setpoint{Constant: true}}},
	{"output", (*parser).output, []Declaration{&Output{}, &Output{Range: &Range{}}}},
	{"rule", (*parser).rule, []Declaration{&Rule{}}},
	{"bands", (*parser).bands, []Declaration{&Bands{}}},
	{"follow", (*parser).follow, []Declaration{&Follow{}}},
	{"loop", (*parser).loop, []Declaration{&Loop{}}},
	{"alarm", (*parser).alarm, []Declaration{&Alarm{Rule: &Rule{}}}},
	{"recipient", (*parser).recipient, []Declaration{&Recipient{}}},
	{"message", (*parser).message, []Declaration{&Message{}}},
	{"trial", (*parser).trial, []Declaration{&Trial{}}},
}

// declarations are the words that can stand in column 1.
var declarations = func() (all []string) {
	for _, k := range kinds {
		all = append(all, k.keyword)
	}
	return all
}()

// reserved are the words of the grammar of conditions; they are no names.
var reserved = strings.Fields(`abs and at average bad between changes crosses deadband falling faster for good
	hysteresis is least max median min not of off on or outside over rising shelved than time turns unacknowledged within`)

// Reserved tells whether a word of the grammar of conditions cannot be a name.
func Reserved(name string) bool { return slices.Contains(reserved, name) }

// afterNumber are words of clauses that may follow a bare number.
var afterNumber = []string{"to", "samples", "difference", "beta", "always", "from"}

// maxName is the longest name, in letters.
const maxName = 64

func (p *parser) place(t token) Place { return Place{p.file, t.line, t.col} }

func (p *parser) report(at Place, code, format string, args ...any) {
	p.found.errorf(at, code, format, args...)
}

// fail reports a syntax error at a token and gives the line up.
func (p *parser) fail(t token, format string, args ...any) {
	p.report(p.place(t), "syntax", format, args...)
	panic(abandon{})
}

// over reports at a token that a limit of the language is passed, and gives the
// line up.
func (p *parser) over(t token, format string, args ...any) {
	p.report(p.place(t), "limit", format, args...)
	panic(abandon{})
}

// lineOf runs read over a line's tokens and makes sure that none is left. It
// returns whether the line could be read.
func (p *parser) lineOf(l line, read func()) (ok bool) {
	p.tokens, p.depth = l.tokens, 0
	if l.long {
		p.report(
			p.place(l.tokens[0]),
			"limit",
			"this has more than %d words; divide it: give parts of it names as `derived` values or as rules",
			MaxClauseWords,
		)
		return false
	}
	defer func() {
		if r := recover(); r != nil {
			if _, is := r.(abandon); !is {
				panic(r)
			}
			ok = false
		}
	}()
	read()
	if t := p.peek(); t.kind != tokEnd {
		if hint := cmp.Or(p.decimalComma(), meant(t)); hint != "" {
			p.fail(t, "%s is more than belongs here%s", t.source(), hint)
		}
		p.fail(t, "%s is more than belongs here; take it out or begin a new line", t.source())
	}
	return true
}

func (p *parser) peek() token { return p.tokens[0] }

func (p *parser) next() token {
	visits.Add()
	t := p.tokens[0]
	if t.kind != tokEnd {
		p.tokens = p.tokens[1:]
	}
	return t
}

// at tells whether the next tokens are these words or signs.
func (p *parser) at(words ...string) bool {
	for i, w := range words {
		if t := p.tokens[min(i, len(p.tokens)-1)]; t.text != w || t.kind != tokName && t.kind != tokSign && t.kind != tokUnit {
			return false
		}
	}
	return true
}

// accept moves past these words if they come next.
func (p *parser) accept(words ...string) bool {
	if !p.at(words...) {
		return false
	}
	p.tokens = p.tokens[len(words):]
	return true
}

func (p *parser) expect(word, after string) {
	if !p.accept(word) {
		p.fail(p.peek(), "%s where %q must stand, %s%s", p.peek().source(), word, after, p.decimalComma())
	}
}

// oneOf reads one of a few words.
func (p *parser) oneOf(what string, words ...string) string {
	for _, w := range words {
		if p.accept(w) {
			return w
		}
	}
	hint := didYouMean(p.peek().text, words)
	if other := sayings[strings.ToLower(p.peek().text)]; slices.Contains(words, other) {
		hint = "; did you mean " + other + "?"
	}
	p.fail(p.peek(), "%s where %s must stand: %s%s", p.peek().source(), what, strings.Join(words, ", "), hint)
	return ""
}

// declaration reads a head and its clauses.
func (p *parser) declaration(head line, clauses []line) Declaration {
	first := head.tokens[0]
	at := p.place(first)
	if head.indented {
		p.report(at, "syntax", "a clause without a declaration above it; a declaration starts in column 1")
		return nil
	}
	if first.kind != tokName || !slices.Contains(declarations, first.text) {
		hint := didYouMean(first.text, declarations)
		if hint == "" {
			hint = "; a declaration begins with " + List(declarations, "or")
		}
		p.report(at, "syntax", "%s is no declaration%s", first.source(), hint)
		return nil
	}
	h := Head{Comments: head.Comments, At: at}
	var d Declaration
	read := p.lineOf(head, func() {
		p.next()
		d = kinds[slices.Index(declarations, first.text)].read(p, h)
	})
	if d == nil {
		return nil // its clauses cannot be told apart from those of another kind
	}
	d.Base().broken = !read
	rows, seen := d.rows(), map[string]Place{}
	for _, c := range clauses {
		if !p.clause(d, c, rows, seen) {
			d.Base().broken = true
		}
	}
	return d
}

// clause reads one clause into its row.
func (p *parser) clause(d Declaration, l line, rows []row, seen map[string]Place) bool {
	return p.lineOf(l, func() {
		p.bandPrefix(d)
		first := p.peek()
		at := p.place(first)
		for _, r := range rows {
			if !p.accept(strings.Fields(r.keyword)...) {
				continue
			}
			if before, twice := seen[r.keyword]; twice && !r.many {
				p.report(at, "repeated-clause", "%q is already written in line %d; %s", r.keyword, before.Line, r.joined())
				r.readAgain(p, Clause{l.Comments, at})
				return
			}
			seen[r.keyword] = at
			r.read(p, Clause{l.Comments, at})
			return
		}
		var words []string
		for _, r := range rows {
			words = append(words, r.keyword)
		}
		whole := first.source()
		if len(l.tokens) > 1 && l.tokens[1].kind == tokName && first.kind == tokName {
			whole += " " + l.tokens[1].text
		}
		hint := didYouMean(whole, words)
		if hint == "" {
			hint = didYouMean(first.source(), words)
		}
		if hint == "" {
			hint = "; it takes " + List(words, "and")
		}
		article := "a "
		o, isOutput := d.(*Output)
		switch {
		case isOutput && o.Range != nil:
			article = "an analog "
		case d.Keyword() == "bands":
			article = ""
		case strings.ContainsAny(d.Keyword()[:1], "aeiou"):
			article = "an "
		}
		p.fail(first, "%s is no clause of %s%s%s", first.source(), article, d.Keyword(), hint)
	})
}

// List joins words as a sentence does: "a, b and c".
func List(words []string, last string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	n := len(words) - 1
	return strings.Join(words[:n], ", ") + " " + last + " " + words[n]
}

// some joins the first of very many words, and tells how many more there are.
func some(words []string) string {
	const most = 6
	if n := len(words); n > most+1 {
		words = append(slices.Clone(words[:most]), fmt.Sprintf("%d more", n-most))
	}
	return List(words, "and")
}

// name reads a declared name and the label that may follow it.
func (p *parser) name(h *Head) {
	t := p.next()
	h.NameAt = p.place(t)
	if t.kind != tokName {
		p.fail(t, "%s where the name must stand; a name is made of small letters, digits and _, and begins with a letter", t.source())
	}
	h.Name = t.text
	switch {
	case strings.Contains(t.text, "."):
		of, point := ownerOf(t.text), "an input"
		switch {
		case strings.HasSuffix(t.text, lostSuffix):
			point = "a device"
		case !strings.HasSuffix(t.text, badSuffix):
			point = "an output"
		}
		p.report(h.NameAt, "syntax", "%s would be the alarm of %s, %s; a name has no dot", t.text, point, of)
	case t.text != strings.ToLower(t.text):
		p.report(h.NameAt, "syntax", "the name %s has capital letters; write %s", t.text, strings.ToLower(t.text))
	case len(t.text) > maxName:
		p.report(h.NameAt, "syntax", "the name is %d letters long; %d are allowed", len(t.text), maxName)
	case slices.Contains(reserved, t.text):
		p.report(h.NameAt, "reserved-name", "%s is a word of conditions and cannot be a name; choose another", t.text)
	}
	p.label(h)
}

func (p *parser) label(h *Head) {
	if p.peek().kind == tokString {
		h.Label = p.short(p.next(), "label")
	}
}

// short is the text of a token that is shown wherever its declaration is, so
// that it must not be long.
func (p *parser) short(t token, what string) string {
	if n := utf8.RuneCountInString(t.text); n > MaxLabel {
		p.over(t, "a %s of %d characters; it has at most %d", what, n, MaxLabel)
	}
	return t.text
}

// text reads the string of a note or a tag.
func (p *parser) text(c Clause, what string) *TextClause {
	t := p.next()
	if t.kind != tokString {
		p.fail(t, "%s where the %s must stand, in quotes", t.source(), what)
	}
	return &TextClause{c, t.text}
}

func (p *parser) job(h Head) Declaration {
	d := &JobHead{Head: h}
	if t := p.next(); t.kind == tokString {
		d.Label = p.short(t, "title")
	} else {
		p.fail(t, "%s where the job's title must stand, in quotes", t.source())
	}
	return d
}

func (d *JobHead) words() []string { return []string{quote(d.Label)} }

func (d *JobHead) rows() []row {
	zone := row{keyword: "timezone",
		read: func(p *parser, c Clause) { d.Timezone = &TextClause{c, p.zone()} },
		print: func(p *printer) {
			if d.Timezone != nil {
				p.clause(d.Timezone.Clause, "timezone "+d.Timezone.Text)
			}
		}}
	return d.rowsWith(false, zone, durationRow("settle", &d.Settle), durationRow("starts apart", &d.Apart))
}

func (p *parser) setpoint(h Head) Declaration { return p.setting(&Setpoint{Head: h}) }

func (p *parser) constant(h Head) Declaration { return p.setting(&Setpoint{Head: h, Constant: true}) }

func (p *parser) setting(d *Setpoint) Declaration {
	p.name(&d.Head)
	d.ValueAt = p.place(p.peek())
	d.Value = p.amount()
	d.Difference = p.accept("difference")
	return d
}

func (d *Setpoint) words() []string {
	difference := ""
	if d.Difference {
		difference = "difference"
	}
	return []string{d.Name, d.label(), d.Value.String(), difference}
}

func (d *Setpoint) rows() []row {
	if d.Constant {
		return d.rowsWith(false)
	}
	return d.rowsWith(false, rangeRow("allow", &d.Allow))
}

// number reads a number, with the minus that may belong to it.
func (p *parser) number() (text string, value float64) {
	if p.accept("-") {
		text = "-"
	}
	t := p.next()
	if t.kind != tokNumber {
		hint := ""
		if t.text == "=" {
			hint = "; take the = out"
		}
		p.fail(t, "%s where a number must stand%s", t.source(), hint)
	}
	text += t.text
	value, err := strconv.ParseFloat(text, 64)
	if err != nil {
		p.fail(t, "%s is too large a number", t.text)
	}
	return text, value
}

// unit reads the unit after a number; none is a bare number.
func (p *parser) unit() unit.Unit {
	switch t := p.peek(); t.kind {
	case tokUnit:
		return p.next().unit
	case tokString:
		p.next()
		if t.text == "" {
			p.fail(t, "a unit in quotes cannot be empty")
		}
		return unit.Quoted(p.short(t, "unit"))
	case tokName:
		if !slices.Contains(reserved, t.text) && !slices.Contains(afterNumber, t.text) {
			p.fail(t, "%s", unit.Unknown(p.unitWord()))
		}
	}
	return unit.Unit{}
}

// unitWord is the word at which a unit must stand, with the parts behind its slashes.
func (p *parser) unitWord() string {
	word, at := p.tokens[0].text, p.tokens[0]
	end := at.col + len(at.text)
	for i := 1; i+1 < len(p.tokens); i += 2 {
		slash, part := p.tokens[i], p.tokens[i+1]
		if slash.text != "/" || slash.col != end || part.col != end+1 || part.kind != tokName && part.kind != tokUnit {
			break
		}
		word += "/" + part.text
		end = part.col + len(part.text)
	}
	return word
}

// zone reads an IANA name such as Europe/Dublin.
func (p *parser) zone() string {
	first := p.peek()
	var b strings.Builder
	for t := p.next(); t.kind != tokEnd; t = p.next() {
		b.WriteString(t.whole())
	}
	if _, err := time.LoadLocation(b.String()); err != nil || b.Len() == 0 || b.String() == "Local" {
		p.fail(first, "%s is no known time zone; write its IANA name, such as Europe/Dublin", orList(b.String(), first.source()))
	}
	return b.String()
}

// unitAlone reads the unit of a `unit` clause, which follows no number.
func (p *parser) unitAlone() unit.Unit { return p.unitUntil() }

func (p *parser) quantity() unit.Quantity {
	text, value := p.number()
	return unit.Quantity{Value: value, Unit: p.unit(), Text: text}
}

// span reads a range whose ends may stand in either order.
func (p *parser) span() Range {
	r := Range{At: p.place(p.peek())}
	r.From.Text, r.From.Value = p.number()
	if !p.accept("..") {
		p.fail(p.peek(), "%s where .. must stand; a range is written 4..20 mA", p.peek().source())
	}
	r.To.Text, r.To.Value = p.number()
	r.To.Unit = p.unit()
	r.From.Unit = r.To.Unit
	return r
}

func (p *parser) ascending(clause string) Range {
	r := p.span()
	if r.From.Value >= r.To.Value {
		p.report(
			r.At,
			"syntax",
			"the range of %q goes from the lower to the higher end; write %s..%s",
			clause,
			r.To.Number(),
			r.From.Number(),
		)
	}
	return r
}

// amount reads a quantity, or a compound one of time.
func (p *parser) amount() Amount {
	a := Amount{Parts: []unit.Quantity{p.quantity()}}
	for a.Parts[0].Unit.Dimension() == unit.Time && p.peek().kind == tokNumber {
		t := p.peek()
		q := p.quantity()
		if before := a.Parts[len(a.Parts)-1].Unit; q.Unit.Dimension() != unit.Time || !before.Larger(q.Unit) {
			p.fail(t, "%s cannot follow %s; the parts of a duration go from the largest unit down", q, a)
		}
		a.Parts = append(a.Parts, q)
	}
	return a
}

// duration reads an amount of time above 0, or a name.
func (p *parser) duration() *Duration {
	t := p.peek()
	d := &Duration{At: p.place(t)}
	if t.kind == tokName && !slices.Contains(reserved, t.text) {
		d.Name = p.next().text
		return d
	}
	if t.kind != tokNumber && !p.at("-") {
		p.fail(t, "%s where a duration must stand, such as 45 s, or the name of a setpoint of time", t.source())
	}
	d.Amount = p.amount()
	if why := notATime(d.Amount); why != "" {
		p.fail(t, "%s", why)
	}
	return d
}

// notATime says why an amount cannot be a duration; nothing if it can.
func notATime(a Amount) string {
	if a.Parts[0].Unit.Dimension() != unit.Time {
		return fmt.Sprintf("%s is no time; a duration has a unit such as s or min", a)
	}
	if _, err := unit.ParseDuration(a.String()); err != nil {
		return err.Error()
	}
	return ""
}
