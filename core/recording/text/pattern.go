package text

import (
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"

	"rectura/core/recording"
)

// maxPattern is the largest pattern, in the steps of the machine that runs it:
// each byte of a capture may take as many.
const maxPattern = 1000

var (
	// grouped is a regular expression that names a point.
	grouped = regexp.MustCompile(`\(\?P?<`)

	// braced is a name in braces, perhaps with its unit: {lamp}, {lamp [mA]}.
	braced = regexp.MustCompile(`\{\s*([A-Za-z_]\w*)\s*(\[[^\]{}]*\])?\s*\}`)

	blanks = regexp.MustCompile(`[ \t]+`)
)

// Compile makes the pattern of a text capture: of words, in which a point's name
// stands in braces where its reading is,
//
//	raw: {lamp}
//
// or of a regular expression with a group named after each point. In words, a
// blank stands for any number of them, a reading ends at the next blank or at what
// follows it in the pattern, and only {time} may have blanks in it.
func Compile(pattern string) (*recording.Pattern, error) {
	p := &recording.Pattern{}
	if !grouped.MatchString(pattern) && strings.ContainsAny(pattern, "{") {
		expression, headings, err := fromWords(pattern)
		if err != nil {
			return nil, err
		}
		pattern, p.Headings = expression, headings
	}
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil, err
	}
	if steps, err := syntax.Compile(tree.Simplify()); err != nil || len(steps.Inst) > maxPattern {
		return nil, fmt.Errorf("the pattern is too large; take a part of each line only, and no large counts such as {1000}")
	}
	if p.Regexp, err = regexp.Compile(pattern); err != nil {
		return nil, err
	}
	if p.Headings == nil {
		p.Headings = p.SubexpNames()
	}
	return p, nil
}

// fromWords makes a regular expression of words, and the headings of its groups.
func fromWords(pattern string) (expression string, headings []string, err error) {
	var b strings.Builder
	names, headings := map[string]bool{}, []string{""}
	all := braced.FindAllStringSubmatchIndex(pattern, -1)
	if len(all) == 0 {
		return "", nil, errors.New("a point's name stands in braces where its reading is, such as: raw: {lamp}")
	}
	literal := func(s string) {
		for i, word := range blanks.Split(s, -1) {
			if i > 0 {
				b.WriteString(`[ \t]+`)
			}
			b.WriteString(regexp.QuoteMeta(word))
		}
	}
	end := 0
	for i, at := range all {
		if before := pattern[end:at[0]]; i == 0 && strings.TrimSpace(before) == "" {
			b.WriteString(`^[ \t]*`) // nothing is before it that could be found
		} else if i > 0 && before == "" {
			return "", nil, fmt.Errorf(
				"nothing stands between the readings %s and %s; write what ends the first",
				pattern[all[i-1][0]:end],
				pattern[at[0]:at[1]],
			)
		} else {
			literal(before)
		}
		name := pattern[at[2]:at[3]]
		if names[name] {
			return "", nil, fmt.Errorf("%s stands in the pattern twice", name)
		}
		names[name] = true
		heading, what := name, `\S+?`
		if at[4] >= 0 {
			heading += " " + pattern[at[4]:at[5]]
		}
		if recording.IsTimeName(name) {
			what = `\S.*?`
		}
		headings = append(headings, heading)
		fmt.Fprintf(&b, "(?P<%s>%s)", name, what)
		end = at[1]
	}
	rest := strings.TrimRight(pattern[end:], " \t")
	if rest == "" {
		b.WriteString(`(?:\s|$)`)
	}
	literal(rest)
	return b.String(), headings, nil
}

// A ruler tells how far a pattern fits a line that it does not match.
type ruler struct {
	pieces   []*syntax.Regexp // of the pattern, which follow each other
	prefixes []*regexp.Regexp // of the first pieces, made when they are needed
}

func newRuler(p *recording.Pattern) *ruler {
	tree, err := syntax.Parse(p.String(), syntax.Perl)
	if err != nil { // it was compiled
		return &ruler{}
	}
	r := &ruler{}
	r.add(tree)
	r.prefixes = make([]*regexp.Regexp, len(r.pieces))
	return r
}

// add takes a pattern apart into pieces; a literal, into its letters.
func (r *ruler) add(tree *syntax.Regexp) {
	switch tree.Op {
	case syntax.OpConcat:
		for _, sub := range tree.Sub {
			r.add(sub)
		}
	case syntax.OpLiteral:
		for _, c := range tree.Rune {
			r.pieces = append(r.pieces, &syntax.Regexp{Op: syntax.OpLiteral, Flags: tree.Flags, Rune: []rune{c}})
		}
	default:
		r.pieces = append(r.pieces, tree)
	}
}

// prefix is the expression of the first n pieces; nil if it cannot be made.
func (r *ruler) prefix(n int) *regexp.Regexp {
	if r.prefixes[n-1] == nil {
		whole := &syntax.Regexp{Op: syntax.OpConcat, Flags: syntax.Perl, Sub: r.pieces[:n]}
		r.prefixes[n-1], _ = regexp.Compile(whole.String()) // of pieces of an expression that was compiled
	}
	return r.prefixes[n-1]
}

// measure is how many pieces fit a line, and at which byte they end.
func (r *ruler) measure(line []byte) (pieces, end int) {
	low, high := 0, len(r.pieces)
	for low < high {
		n := (low + high + 1) / 2
		if p := r.prefix(n); p != nil && p.Match(line) {
			low = n
		} else {
			high = n - 1
		}
	}
	if low > 0 {
		end = r.prefix(low).FindIndex(line)[1]
	}
	return low, end
}

// wanted is what the pattern has behind its first pieces, in words.
func (r *ruler) wanted(pieces int) string {
	if pieces >= len(r.pieces) {
		return ""
	}
	const most = 20
	var letters []rune
	for _, p := range r.pieces[pieces:] {
		if p.Op != syntax.OpLiteral || len(letters) == most {
			break
		}
		letters = append(letters, p.Rune...)
	}
	switch next := r.pieces[pieces]; {
	case len(letters) > 0:
		return fmt.Sprintf("%q", string(letters))
	case next.Op == syntax.OpCapture && next.Name != "":
		return "{" + next.Name + "}"
	case next.String() == `[\t ]+`:
		return "a blank"
	default:
		return next.String()
	}
}
