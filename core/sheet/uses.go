package sheet

import (
	"cmp"
	"maps"
	"slices"

	"rectura/core/unit"
)

// A use is one place at which a declaration refers to a name.
type use struct {
	Place
	By Declaration
}

// usesOf are the places at which a checked job refers to a name, in order of
// place.
func (j *Job) usesOf(name string) []use {
	places := slices.Clone(j.uses[name])
	slices.SortFunc(places, Place.compare)
	var all []use
	for _, at := range slices.Compact(places) {
		d := j.around(at)
		if ownAlarmAt(d) == at {
			continue // its own alarm, where its name is not written
		}
		if d != nil {
			all = append(all, use{at, d})
		}
	}
	return all
}

// ownAlarmAt is where the clause stands that makes a point an alarm of its own.
func ownAlarmAt(d Declaration) Place {
	switch d := d.(type) {
	case *Input:
		if d.BadAlarm != nil {
			return d.BadAlarm.At
		}
	case *Output:
		if d.Proven != nil {
			return d.Proven.At
		}
	}
	return Place{}
}

// UsedBy names the declarations that refer to a name, trials aside, each once.
func (j *Job) UsedBy(name string) []string {
	var names []string
	seen := map[string]bool{name: true}
	for _, u := range j.usesOf(name) {
		by := u.By.Base().Name
		if _, trial := u.By.(*Trial); trial || seen[by] {
			continue
		}
		seen[by] = true
		names = append(names, by)
	}
	return names
}

// used tells whether anything refers to a name; that it is tried is no use.
func (j *Job) used(name string) bool {
	return slices.ContainsFunc(j.uses[name], func(at Place) bool {
		_, trial := j.around(at).(*Trial)
		return !trial
	})
}

// around is the declaration in whose text a place lies.
func (j *Job) around(at Place) Declaration {
	for _, f := range j.Files {
		if f.Name != at.File {
			continue
		}
		i, found := slices.BinarySearchFunc(
			f.Declarations,
			at.Line,
			func(d Declaration, line int) int { return cmp.Compare(d.Base().At.Line, line) },
		)
		if !found {
			i--
		}
		if i >= 0 {
			return f.Declarations[i]
		}
	}
	return nil
}

// compare orders places by file, line and column.
func (p Place) compare(q Place) int {
	return cmp.Or(cmp.Compare(p.File, q.File), cmp.Compare(p.Line, q.Line), cmp.Compare(p.Column, q.Column))
}

// Around are the points and rules that one declaration has to do with: itself,
// what it refers to and what it calls.
func (j *Job) Around(name string) []string {
	d := j.names[name]
	if d == nil {
		return nil
	}
	all := []string{name}
	for _, other := range slices.Sorted(maps.Keys(j.uses)) {
		if slices.ContainsFunc(j.uses[other], func(at Place) bool { return j.around(at) == d }) && other != name {
			all = append(all, other)
		}
	}
	return all
}

// Like tells what can stand in each other's place: declarations for which it is
// the same, as inputs and derived values of one dimension, contacts, setpoints and
// constants of one dimension, outputs; empty for what stands by itself.
func (j *Job) Like(d Declaration) string {
	of := func(kind string, u unit.Unit) string { return kind + " of " + string(u.Dimension()) }
	switch d := d.(type) {
	case *Input:
		if d.Discrete {
			return "contact"
		}
		return of("signal", d.Engineering())
	case *Derived:
		if d.typed != nil {
			return of("signal", d.typed.Unit)
		}
	case *Setpoint:
		return of("setting", d.Type().Unit)
	case *Output:
		if d.Range != nil {
			return "analog output"
		}
		return "output"
	}
	return ""
}
