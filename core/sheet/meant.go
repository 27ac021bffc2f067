package sheet

import (
	"slices"
	"strings"
	"unicode/utf8"

	"rectura/core/near"
	"rectura/core/unit"
)

// otherSigns are signs of other notations, with the token that stands here in their place
// and what to write.
var otherSigns = []struct {
	sign  string
	kind  kind
	here  string // empty if nothing stands in its place
	write string
}{
	{"=>", tokSign, ">=", ">="}, {"=<", tokSign, "<=", "<="}, {"≥", tokSign, ">=", ">="}, {"≤", tokSign, "<=", "<="},
	{"&&", tokName, "and", "and"}, {"||", tokName, "or", "or"},
	{"==", tokSign, "=", "`A = B within C` of values, and `A is on` of states"},
	{"!=", tokSign, "", "`A outside B and C` of values, and `A is not on` of states"},
	{"<>", tokSign, "", "`A outside B and C` of values, and `A is not on` of states"},
	{"≠", tokSign, "", "`A outside B and C` of values, and `A is not on` of states"},
}

// otherSign reads a sign of another notation as what it stands for, so that one mistake
// gives one finding. It is no token where nothing stands for it.
func (l *lexer) otherSign(t token) (meant token, isOne, isToken bool) {
	for _, o := range otherSigns {
		if strings.HasPrefix(l.text, o.sign) {
			l.report("syntax", "%s is no sign here; write %s", o.sign, o.write)
			l.take(len(o.sign))
			t.kind, t.text = o.kind, o.here
			return t, true, o.here != ""
		}
	}
	return t, false, false
}

// otherUnit reads a unit in another spelling, such as µS/cm, behind a number.
func (l *lexer) otherUnit(t token) (meant token, isOne bool) {
	word := l.text
	if end := strings.IndexAny(word, " ,():#\""); end >= 0 {
		word = word[:end]
	}
	if len(word) > 2*maxName || !utf8.ValidString(word) {
		return t, false
	}
	name := unit.Meant(word)
	if name == "" {
		return t, false
	}
	l.report("syntax", "%s", unit.Unknown(word))
	l.take(len(word))
	t.kind, t.text, t.unit = tokUnit, name, unit.MustLookup(name)
	return t, true
}

// sayings are words for which the language has others.
var sayings = map[string]string{
	"above": ">", "over": ">", "exceeds": ">", "greater": ">", "more": ">", "higher": ">",
	"below": "<", "under": "<", "less": "<", "lower": "<", "equals": "= … within …",
	"if": "on when", "true": "on", "false": "off", "1": "on", "0": "off", "&": "and", "|": "or", "!": "not",
}

// words are all that may stand within a condition.
var words = slices.Concat(reserved, []string{"when", "unless"}, StateWords)

// meant is what a token that does not belong where it stands may stand for.
func meant(t token) string {
	small := strings.ToLower(t.text)
	switch {
	case small != t.text && slices.Contains(words, small):
		return "; write " + small + " in small letters"
	case t.kind == tokName && !slices.Contains(words, small):
		if other, is := sayings[small]; is {
			return "; did you mean " + other + "?"
		}
		// Words that are that different from all of the language are names or slips.
		if w := near.Word(small, words); w != "" && w[0] == small[0] {
			return "; did you mean " + w + "?"
		}
	}
	return ""
}

// stateOf is the state that a value stands for which is compared as one: 1 and 0.
func stateOf(x Expr) string {
	if n, is := x.(*Literal); is && n.Quantity.Unit == (unit.Unit{}) {
		return sayings[n.Quantity.Text]
	}
	return ""
}

// decimalComma is the end of a message about a number with a comma in it.
func (p *parser) decimalComma() string {
	t := p.tokens[0]
	if t.text != "," || len(p.tokens) < 2 || p.tokens[1].kind != tokNumber || p.tokens[1].col != t.col+1 {
		return ""
	}
	return "; a number is written with a point, not with a comma"
}
