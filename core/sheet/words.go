package sheet

import (
	"slices"
	"strings"
)

// A Syntax is a declaration and the clauses that it takes, as an editor offers them.
// Clauses begin with their keyword: "off when", "minimum on".
type Syntax struct {
	Keyword string
	Clauses []string
}

// Syntaxes are those of all declarations, in the order of the language's description.
func Syntaxes() []Syntax {
	var all []Syntax
	for _, k := range kinds {
		form := Syntax{Keyword: k.keyword}
		for _, d := range k.forms {
			for _, r := range d.rows() {
				if !slices.Contains(form.Clauses, r.keyword) {
					form.Clauses = append(form.Clauses, r.keyword)
				}
			}
		}
		all = append(all, form)
	}
	return all
}

// inside are the words that stand inside clauses, besides those of conditions.
var inside = strings.Fields(
	`any all around acknowledge acknowledged advice always analog auto beta bit call coil cold critical difference direct
	dint discrete down else email first from ground hand high highest hold holding int junction lag lint low lowest lreal
	medium modbus nearest notify ntc on off most never per pin priority real reset reverse rtu samples set starts steinhart
	supply tcp to udint uint ulint unit unless unpin until webhook when with`,
)

// Words are all words of the language that are no names and begin no declaration, in
// alphabetical order.
func Words() []string {
	all := slices.Concat(reserved, inside)
	for _, f := range Syntaxes() {
		for _, c := range f.Clauses {
			all = append(all, strings.Fields(c)...)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
