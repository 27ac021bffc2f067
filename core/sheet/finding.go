package sheet

import (
	"fmt"
	"slices"
	"strings"

	"rectura/core/near"
)

// A Place is where something stands in a job's text. Lines and columns count
// from 1, columns in characters.
type Place struct {
	File   string
	Line   int
	Column int
}

func (p Place) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Severity says whether a finding stops a job from running.
type Severity string

// Errors stop a job from running; warnings do not.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// A Finding is one thing that is wrong or doubtful in a job: what it is, where,
// and what to do.
type Finding struct {
	Place
	Severity Severity
	Code     string // a short name that stays, "unit-mismatch"
	Text     string
}

func (f Finding) String() string {
	return fmt.Sprintf("%s: %s: %s [%s]", f.Place, f.Severity, f.Text, f.Code)
}

// Excerpt is the line that the finding is about, of the lines of its sheet, with
// a caret below its place, or nothing if there is no such line.
func (f Finding) Excerpt(lines []string) string {
	if f.Line < 1 || f.Line > len(lines) {
		return ""
	}
	text := strings.ReplaceAll(strings.TrimRight(lines[f.Line-1], "\r"), "\t", " ")
	const widest = 160
	if len(text) > widest || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' }) {
		return ""
	}
	return "    " + text + "\n    " + strings.Repeat(" ", f.Column-1) + "^"
}

// HasErrors tells whether any of the findings stops the job from running.
func HasErrors(found []Finding) bool {
	return slices.ContainsFunc(found, func(f Finding) bool { return f.Severity == Error })
}

// Sort puts findings in order of place.
func Sort(found []Finding) {
	slices.SortStableFunc(found, func(a, b Finding) int { return a.Place.compare(b.Place) })
}

// usualName is about how many letters a name has.
const usualName = 12

// didYouMean is the end of a message about a misspelt word.
func didYouMean(word string, words []string) string {
	if w := near.Word(word, words); w != "" {
		return "; did you mean " + w + "?"
	}
	return ""
}

// DidYouMean is the end of a message about a name that nothing of these kinds has, such as
// input; empty if none of them has a name that is near.
func (j *Job) DidYouMean(name string, kinds ...string) string {
	var names []string
	for n, d := range j.names {
		if slices.Contains(kinds, d.Keyword()) {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	return didYouMean(name, names)
}
