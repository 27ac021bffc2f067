// Package cells writes texts as cells of files that people open in a spreadsheet.
package cells

import (
	"strconv"
	"strings"
)

// Guarded puts an apostrophe before a text that a spreadsheet would take for a formula. A spreadsheet does not show it.
func Guarded(text string) string {
	if text == "" || !strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return text
	}
	if _, err := strconv.ParseFloat(strings.Fields(text + " x")[0], 64); err == nil && strings.ContainsRune("+-", rune(text[0])) {
		return text // a number, perhaps with its unit
	}
	return "'" + text
}

// Unguarded takes the apostrophe of Guarded away.
func Unguarded(text string) string {
	if len(text) > 1 && text[0] == '\'' && Guarded(text[1:]) == text {
		return text[1:]
	}
	return text
}
