package sheet

import (
	"strconv"
	"strings"

	"rectura/core/unit"
)

// A Phrase is a piece of a sentence. Part is what of the sheet it says; nil for
// the words between.
type Phrase struct {
	Text string
	Part *Part
}

// A Part is a piece of a sheet that a sentence says, and that can be changed by
// itself: what stands there, and of what kind it is.
type Part struct {
	Kind PartKind
	At   Place
	Text string    // as it stands in the sheet
	Unit unit.Unit // of a number
	Name string    // of the setpoint whose number it is; empty where the number stands in the declaration itself
}

// A PartKind is what a Part is.
type PartKind string

// The kinds of parts.
const (
	NumberPart PartKind = "number" // without its unit, unless it is a compound duration
	OpPart     PartKind = "op"     // a comparison
	NamePart   PartKind = "name"   // of a point, setpoint or anything else
)

// Phrases are the sentence of a declaration of a checked job, in pieces: joined
// they are what Say says.
func (j *Job) Phrases(d Declaration) []Phrase {
	t := &teller{Job: j, mark: true}
	var all []Phrase
	words := func(s string) {
		if s != "" {
			all = append(all, Phrase{Text: s})
		}
	}
	rest := t.tell(d)
	for {
		before, after, found := strings.Cut(rest, opening)
		words(before)
		if !found {
			return all
		}
		number, after, _ := strings.Cut(after, middle)
		text, after, _ := strings.Cut(after, closing)
		i, err := strconv.Atoi(number)
		if err != nil || i >= len(t.parts) {
			return append(all, Phrase{Text: text + after}) // not written by part
		}
		all = append(all, Phrase{Text: text, Part: &t.parts[i]})
		rest = after
	}
}

// A teller says declarations, and marks the parts of its sentences if it is
// asked to.
type teller struct {
	*Job
	mark  bool
	parts []Part
}

// The marks round a part; no text of a sheet has control characters.
const (
	opening = "\x01"
	middle  = "\x02"
	closing = "\x03"
)

// part is a text that says a part.
func (j *teller) part(text string, p Part) string {
	if !j.mark || p.At.Line == 0 {
		return text
	}
	j.parts = append(j.parts, p)
	return opening + strconv.Itoa(len(j.parts)-1) + middle + text + closing
}

// named is the title of what a name refers to.
func (j *teller) named(n *Name) string {
	return j.part(j.title(n.Name), Part{Kind: NamePart, At: n.At, Text: n.Name})
}

// amount is a quantity of which the number can be changed, or a compound one
// that can be changed as a whole.
func (j *teller) amount(at Place, a Amount, setpoint string) string {
	if len(a.Parts) != 1 {
		return j.part(a.String(), Part{Kind: NumberPart, At: at, Text: a.String(), Name: setpoint})
	}
	q := a.Parts[0]
	unitText := strings.TrimPrefix(q.String(), q.Number())
	return j.part(q.Number(), Part{Kind: NumberPart, At: at, Text: q.Number(), Unit: q.Unit, Name: setpoint}) + unitText
}
