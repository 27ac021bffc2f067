package sheet

import (
	"fmt"
	"slices"
)

// The limits of the language. They lie far above what a plant needs, and see to
// it that whatever is written costs no more time and memory than its size is
// worth. docs/limits.md tells users of them.
const (
	MaxSize         = 4 << 20 // bytes of a sheet
	MaxDeclarations = 20_000  // of a job
	MaxWords        = 500_000 // of a job: names, numbers, units, texts and signs
	MaxClauseWords  = 4_000   // of one clause, or of the line that a declaration begins with
	MaxDepth        = 100     // of parentheses, `not` and signs within each other
	MaxStages       = 20      // of one input's chain
	MaxBands        = 100     // of one signal
	MaxLabel        = 120     // characters of a label, of a contact's word or of a unit in quotes
	MaxText         = 2_000   // characters of any other text in quotes
	MaxFindings     = 1_000   // that are told at once
)

// A list collects findings: the first MaxFindings one by one, and of all others
// the number.
type list struct {
	all    []Finding
	more   int
	beyond Finding // the first of those that are only counted; an error, if one is
}

func (l *list) add(f Finding) {
	if len(l.all) < MaxFindings {
		l.all = append(l.all, f)
		return
	}
	if l.more == 0 || l.beyond.Severity == Warning && f.Severity == Error {
		l.beyond = f
	}
	l.more++
}

// A reading is what the sheets of a job share while they are read.
type reading struct {
	list
	words, declarations int
	full                bool // one of the job's limits was passed, and the rest was not read
}

// word counts one word more; it tells whether there is room for it.
func (r *reading) word(at Place) bool {
	if r.words++; r.words > MaxWords && !r.full {
		r.errorf(at, "limit", "the job has more than %d words up to here, and the rest was not read; divide it into several jobs", MaxWords)
		r.full = true
	}
	return !r.full
}

// declaration counts one declaration more; it tells whether there is room for it.
func (r *reading) declaration(at Place) bool {
	if r.declarations++; r.declarations > MaxDeclarations && !r.full {
		r.errorf(at, "limit", "the job has more than %d declarations, and the rest was not read; divide it into several jobs", MaxDeclarations)
		r.full = true
	}
	return !r.full
}

func (l *list) errorf(at Place, code, format string, args ...any) {
	if l.more > 0 && l.beyond.Severity == Error { // it is only counted
		l.more++
		return
	}
	l.add(Finding{Place: at, Severity: Error, Code: code, Text: fmt.Sprintf(format, args...)})
}

func (l *list) warnf(at Place, code, format string, args ...any) {
	l.add(Finding{Place: at, Severity: Warning, Code: code, Text: fmt.Sprintf(format, args...)})
}

// sorted are the findings in order of place; that there are more is the last.
func (l *list) sorted() []Finding {
	found := slices.Clone(l.all)
	Sort(found)
	if l.more > 0 {
		rest := l.beyond
		if l.more > 1 {
			rest.Text = fmt.Sprintf("%s (and %d more findings after these %d; mend these first)", rest.Text, l.more-1, MaxFindings)
		}
		found = append(found, rest)
	}
	return found
}

// Findings are what was found in the job when it was read and checked, and
// more, in order of place.
func (j *Job) Findings(more ...Finding) []Finding {
	l := j.found
	l.all = slices.Clone(l.all)
	for _, f := range more {
		l.add(f)
	}
	return l.sorted()
}
