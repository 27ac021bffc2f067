package sheet

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"

	"rectura/core/unit"
)

type kind uint8

const (
	tokEnd    kind = iota // the end of a logical line
	tokName               // a name, a keyword or a reserved word
	tokNumber             // digits, then perhaps a point and digits
	tokUnit               // a known unit directly after a number
	tokString             // a quoted label, text holds what is between the quotes
	tokSign               // an operator or punctuation
)

// A token is one word of a sheet with its place.
type token struct {
	kind kind
	text string
	unit unit.Unit // of a tokUnit
	line int
	col  int // in characters, from 1
}

// A line is a logical line: a declaration's head or one clause, whatever the
// number of lines it was written on, with the comments that belong to it.
type line struct {
	Comments
	indented bool
	long     bool    // it has too many words, which are not all kept
	tokens   []token // ends with a tokEnd
}

// A lexer turns the text of a sheet into logical lines.
type lexer struct {
	file  string
	text  string // what is left of the line being read
	col   int    // of the start of text
	line  int
	found *reading

	lines   []line
	current *line    // the logical line that is not complete yet
	above   []string // comment lines waiting for what they belong to
	depth   int      // of open parentheses
}

// signs are the operators and punctuation, longer ones first.
var signs = []string{"..", "<=", ">=", "<", ">", "=", "(", ")", ",", "+", "-", "*", "/", ":"}

// lex reads a whole sheet. Findings are about characters, quotes and tabs; the
// lines are still usable. What comments stand below the last declaration is
// returned by itself.
func lex(file string, src []byte, found *reading) (lines []line, end []string) {
	l := &lexer{file: file, found: found}
	src = bytes.TrimPrefix(src, []byte("\ufeff"))
	if !l.readable(src) {
		return nil, nil
	}
	number := 0
	for text := range strings.SplitSeq(string(src), "\n") {
		if found.full {
			break
		}
		number++
		l.readLine(number, strings.TrimSuffix(text, "\r"))
	}
	l.finish()
	for len(l.above) > 0 && l.above[len(l.above)-1] == "" {
		l.above = l.above[:len(l.above)-1]
	}
	return l.lines, l.above
}

// readable refuses what is no text at all, with one finding.
func (l *lexer) readable(src []byte) bool {
	if len(src) > MaxSize {
		l.line, l.col = 1, 1
		l.report("size", "this file is larger than %d MiB and was not read; split it into several sheets", MaxSize>>20)
		return false
	}
	lineNumber, col := 1, 1
	for i := 0; i < len(src); {
		r, size := utf8.DecodeRune(src[i:])
		if r == utf8.RuneError && size == 1 {
			l.line, l.col = lineNumber, col
			l.report("encoding", "byte %#02x is not UTF-8; save the sheet as UTF-8 text", src[i])
			return false
		}
		if r == 0 {
			l.line, l.col = lineNumber, col
			l.report("encoding", "this is not a text file; a sheet is UTF-8 text")
			return false
		}
		i, col = i+size, col+1
		if r == '\n' {
			lineNumber, col = lineNumber+1, 1
		}
	}
	return true
}

func (l *lexer) report(code, format string, args ...any) {
	l.found.errorf(Place{l.file, l.line, l.col}, code, format, args...)
}

// readLine reads one line of the file into the logical line it belongs to.
func (l *lexer) readLine(number int, text string) {
	l.line, l.col, l.text = number, 1, text
	if at := strings.IndexFunc(text, unicode.IsControl); at >= 0 {
		l.col = 1 + utf8.RuneCountInString(text[:at])
		if text[at] == '\t' {
			l.report("tab", "a tab; indent and separate with blanks")
		} else {
			l.report("encoding", "a control character; take it out")
		}
		l.col, l.text = 1, strings.Map(func(r rune) rune {
			if unicode.IsControl(r) {
				return ' '
			}
			return r
		}, text)
	}
	indented := strings.HasPrefix(l.text, " ")
	l.skipBlanks()
	switch {
	case l.text == "":
		if len(l.above) > 0 && l.above[len(l.above)-1] != "" {
			l.above = append(l.above, "")
		}
		return
	case l.text[0] == '#':
		l.above = append(l.above, strings.TrimRight(l.text, " "))
		return
	}
	if l.current != nil && (!indented || !l.continues()) {
		l.finish()
	}
	if l.current == nil {
		l.current = &line{indented: indented}
		l.depth = 0
	}
	// Comments inside a clause that goes on below belong above all of it, once
	// it is laid out on one line again.
	if l.current.Beside != "" {
		l.current.Above = append(l.current.Above, l.current.Beside)
		l.current.Beside = ""
	}
	l.current.Above = append(l.current.Above, l.above...)
	l.above = nil
	for l.skipBlanks(); l.text != ""; l.skipBlanks() {
		if l.text[0] == '#' {
			l.current.Beside = strings.TrimRight(l.text, " ")
			break
		}
		t, ok := l.next()
		if !ok {
			continue
		}
		if !l.found.word(Place{l.file, t.line, t.col}) {
			return
		}
		if len(l.current.tokens) == MaxClauseWords {
			l.current.long = true
			continue
		}
		l.current.tokens = append(l.current.tokens, t)
	}
}

// continues tells whether the logical line so far needs the next line too.
func (l *lexer) continues() bool {
	if l.depth > 0 {
		return true
	}
	tokens := l.current.tokens
	if len(tokens) == 0 {
		return false
	}
	switch last := tokens[len(tokens)-1]; last.kind {
	case tokSign:
		return last.text != ")" && last.text != ":" && last.text != ".."
	case tokName:
		return last.text == "and" || last.text == "or" || last.text == "not"
	}
	return false
}

// finish closes the logical line being read, if there is one.
func (l *lexer) finish() {
	if l.current == nil {
		return
	}
	end := token{kind: tokEnd, line: l.line, col: l.col}
	if n := len(l.current.tokens); n > 0 {
		last := l.current.tokens[n-1]
		end.line, end.col = last.line, last.col+utf8.RuneCountInString(last.whole())
		l.current.tokens = append(l.current.tokens, end)
		l.lines = append(l.lines, *l.current)
	}
	l.current = nil
}

func (l *lexer) skipBlanks() {
	n := len(l.text) - len(strings.TrimLeft(l.text, " "))
	l.take(n)
}

// take moves past n bytes and returns them.
func (l *lexer) take(n int) string {
	s := l.text[:n]
	l.text, l.col = l.text[n:], l.col+utf8.RuneCountInString(s)
	return s
}

// next reads one token; the text is neither empty nor at a blank or comment.
// What is no token is reported and passed over.
func (l *lexer) next() (t token, ok bool) {
	t = token{line: l.line, col: l.col}
	c := l.text[0]
	switch {
	case c == '"':
		t.kind, t.text = tokString, l.quoted()
		return t, true
	case isDigit(c):
		n := span(l.text, isDigit)
		if n+1 < len(l.text) && l.text[n] == '.' && isDigit(l.text[n+1]) {
			n += 1 + span(l.text[n+1:], isDigit)
		}
		t.kind, t.text = tokNumber, l.short(l.take(n))
		return t, true
	}
	if tokens := l.current.tokens; len(tokens) > 0 {
		if last := tokens[len(tokens)-1]; last.kind == tokNumber && last.line == l.line {
			u, n := unit.Longest(l.text)
			if n < len(l.text) && l.text[n] >= utf8.RuneSelf {
				if other, isOne := l.otherUnit(t); isOne {
					return other, true
				}
			}
			if n > 0 {
				t.kind, t.text, t.unit = tokUnit, l.take(n), u
				return t, true
			}
		}
	}
	// A unit may stand by itself, behind `unit` or `to`, also one that is no word.
	if u, n := unit.Longest(l.text); n > 0 && !isLetter(c) {
		t.kind, t.text, t.unit = tokUnit, l.take(n), u
		return t, true
	}
	if isLetter(c) {
		t.kind, t.text = tokName, l.short(l.take(span(l.text, inName)))
		// The alarm that a point has of its own.
		for _, suffix := range ownSuffixes {
			if rest, ok := strings.CutPrefix(l.text, suffix); ok && (rest == "" || !inName(rest[0])) {
				t.text += l.take(len(suffix))
			}
		}
		return t, true
	}
	if other, isOne, isToken := l.otherSign(t); isOne {
		return other, isToken
	}
	t.kind = tokSign
	for _, sign := range signs {
		if strings.HasPrefix(l.text, sign) {
			t.text = l.take(len(sign))
			switch sign {
			case "(":
				l.depth++
			case ")":
				l.depth = max(l.depth-1, 0)
			}
			return t, true
		}
	}
	_, size := utf8.DecodeRuneInString(l.text)
	t.text = l.text[:size]
	l.report("syntax", "the character %q has no meaning here; take it out", t.text)
	l.take(size)
	return t, false
}

// maxWord is the longest name or number, in letters.
const maxWord = 200

// short cuts a word that is too long to be one, and says so.
func (l *lexer) short(word string) string {
	if len(word) <= maxWord {
		return word
	}
	at := *l
	at.col -= len(word)
	at.report("limit", "a word of %d letters; none is longer than %d", len(word), maxWord)
	return word[:maxWord]
}

// quoted reads a string; the text stands at its opening quote.
func (l *lexer) quoted() string {
	open := *l
	l.take(1)
	var b strings.Builder
	for l.text != "" {
		switch c := l.text[0]; {
		case c == '"':
			l.take(1)
			if n := utf8.RuneCountInString(b.String()); n > MaxText {
				open.report("limit", "a text of %d characters; none is longer than %d", n, MaxText)
			}
			return b.String()
		case c == '\\' && len(l.text) > 1 && (l.text[1] == '"' || l.text[1] == '\\'):
			b.WriteByte(l.text[1])
			l.take(2)
		case c == '\\':
			l.report("syntax", `a backslash in quotes stands only before " or \; write \\ for a backslash`)
			l.take(1)
		default:
			_, size := utf8.DecodeRuneInString(l.text)
			b.WriteString(l.take(size))
		}
	}
	open.report("syntax", `the quote that opens here is not closed on its line; add a "`)
	return b.String()
}

// source is the token as messages show it: of a very long one the beginning.
func (t token) source() string {
	const widest = 60
	if t.kind == tokEnd {
		return "the end of the line"
	}
	if s := []rune(t.whole()); len(s) > widest {
		return string(s[:widest]) + "…"
	}
	return t.whole()
}

// whole is the token as it stands in the text.
func (t token) whole() string {
	switch t.kind {
	case tokEnd:
		return ""
	case tokString:
		return quote(t.text)
	}
	return t.text
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// inName tells whether a letter may stand in a name, but for its first.
func inName(c byte) bool   { return isLetter(c) || isDigit(c) || c == '_' }
func isDigit(c byte) bool  { return '0' <= c && c <= '9' }
func isLetter(c byte) bool { return 'a' <= c|0x20 && c|0x20 <= 'z' }

func span(s string, in func(byte) bool) int {
	n := 0
	for n < len(s) && in(s[n]) {
		n++
	}
	return n
}
