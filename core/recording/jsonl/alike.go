package jsonl

import (
	"bytes"

	"github.com/go-json-experiment/json/jsontext"
)

// Nearly every line of a file has the keys of the line before it, laid out in the same way. Such a one
// need not be taken apart as JSON at large: what stands between the values is the same, byte for
// byte, and each value is a plain number, word or string.

// A layout is what stands around the values of a line.
type layout struct {
	before [][]byte // each value
	behind []byte   // the last one
}

// keep remembers the layout of a line that has been taken apart.
func (l *layout) keep(line []byte, pairs []pair) {
	l.before = l.before[:0]
	end := 0
	for _, p := range pairs {
		l.before = append(l.before, bytes.Clone(line[end:p.at]))
		end = p.end
	}
	l.behind = bytes.Clone(line[end:])
}

// take fills in the values of a line that is laid out in the same way; false, with some of them filled
// in, for any other.
func (l *layout) take(line []byte, pairs []pair) bool {
	if len(pairs) == 0 || len(pairs) != len(l.before) {
		return false
	}
	end := 0
	for i, before := range l.before {
		if !bytes.HasPrefix(line[end:], before) {
			return false
		}
		p := &pairs[i]
		p.at = end + len(before)
		n := plain(line[p.at:])
		if n == 0 {
			return false
		}
		end = p.at + n
		p.end, p.value = end, line[p.at:end]
		switch first := p.value[0]; first {
		case '"':
			p.kind, p.value = '"', p.value[1:n-1]
		case 't', 'f', 'n':
			p.kind = jsontext.Kind(first)
		default:
			p.kind = '0'
		}
	}
	return bytes.Equal(line[end:], l.behind)
}

// plain is the length of the number, the word, or the string of plain ASCII without escapes that a text
// begins with; 0 if it begins with none.
func plain(text []byte) int {
	if len(text) == 0 {
		return 0
	}
	switch text[0] {
	case '"':
		for i, c := range text[1:] {
			switch {
			case c == '"':
				return i + 2
			case c < ' ' || c >= 0x7f || c == '\\':
				return 0
			}
		}
		return 0
	case 't', 'f', 'n':
		for _, word := range []string{"true", "false", "null"} {
			if len(text) >= len(word) && string(text[:len(word)]) == word {
				return len(word)
			}
		}
		return 0
	}
	return number(text)
}

// number is the length of the number, as JSON writes it, that a text begins with.
func number(text []byte) int {
	i := 0
	if text[0] == '-' {
		i++
	}
	whole := digits(text[i:])
	if whole == 0 || whole > 1 && text[i] == '0' {
		return 0
	}
	i += whole
	if i < len(text) && text[i] == '.' {
		n := digits(text[i+1:])
		if n == 0 {
			return 0
		}
		i += 1 + n
	}
	if i < len(text) && text[i]|0x20 == 'e' {
		i++
		if i < len(text) && (text[i] == '+' || text[i] == '-') {
			i++
		}
		n := digits(text[i:])
		if n == 0 {
			return 0
		}
		i += n
	}
	return i
}

func digits(text []byte) int {
	for i, c := range text {
		if c < '0' || c > '9' {
			return i
		}
	}
	return len(text)
}
