package csv

import (
	"bytes"

	"rectura/core/recording"
)

// sniffed is the number of rows from which the dialect and the form of times
// are found.
const sniffed = 200

// A dialect is how a file writes its fields and numbers.
type dialect struct {
	separator byte
	decimal   byte
}

var separators = map[byte]string{',': "comma", ';': "semicolon", '\t': "tab"}

// findDialect finds out from the first rows what separates fields: tab,
// semicolon or comma, whichever divides the heading and the rows below alike;
// and whether numbers have a decimal comma.
func findDialect(head []byte) dialect {
	var lines [][]byte
	for rest := head; len(lines) <= sniffed && len(rest) > 0; {
		var line []byte
		line, rest, _ = bytes.Cut(rest, []byte("\n"))
		if line = bytes.TrimSuffix(line, []byte("\r")); len(line) > 0 {
			lines = append(lines, line)
		}
	}
	d := dialect{',', '.'}
	if len(lines) == 0 {
		return d
	}
	best := 0
	for _, sep := range []byte{'\t', ';', ','} {
		n, same := count(lines[0], sep), 0
		for _, l := range lines[1:] {
			if count(l, sep) == n {
				same++
			}
		}
		// A separator that divides most rows as it divides the heading.
		if score := 1 + 2*same/max(1, len(lines)-1); n > 0 && score > best {
			best, d.separator = score, sep
		}
	}
	if d.separator != ',' && hasDecimalComma(lines[1:], d.separator) {
		d.decimal = ','
	}
	return d
}

// count is how often a separator stands outside quotes.
func count(line []byte, sep byte) int {
	n, quoted := 0, false
	for _, c := range line {
		switch {
		case c == '"':
			quoted = !quoted
		case c == sep && !quoted:
			n++
		}
	}
	return n
}

// hasDecimalComma tells whether some cell is a number with a comma, and none
// one with a point.
func hasDecimalComma(lines [][]byte, sep byte) bool {
	comma := false
	for _, l := range lines {
		for _, cell := range bytes.Split(l, []byte{sep}) {
			cell = bytes.Trim(cell, ` "`)
			if _, n := recording.Prefix(cell, '.'); n == len(cell) && bytes.IndexByte(cell, '.') >= 0 {
				return false
			}
			if _, n := recording.Prefix(cell, ','); n == len(cell) && bytes.IndexByte(cell, ',') >= 0 {
				comma = true
			}
		}
	}
	return comma
}
