package sheet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// A Change is one declaration that two versions of a job have differently:
// Before is empty for one that was added, After for one that was taken out.
type Change struct {
	Keyword, Name string
	Before, After string // as they are laid out
}

// Difference lists the declarations that are not the same in two versions of a
// job: those taken out and changed in the order of the first, then those added
// in the order of the second. Where they stand does not matter.
func Difference(before, after []Source) []Change {
	a, b := declared(before), declared(after)
	var all []Change
	for _, k := range a.order {
		x := Change{k.word, k.name, a.texts[k], b.texts[k]}
		if x.Before != x.After {
			all = append(all, x)
		}
	}
	for _, k := range b.order {
		if _, old := a.texts[k]; !old {
			all = append(all, Change{k.word, k.name, "", b.texts[k]})
		}
	}
	return all
}

// A key is how a declaration is found again in another version.
type key struct{ word, name string }

type version struct {
	order []key
	texts map[key]string
	files map[key]string
	nodes map[key]Declaration
}

func declared(sources []Source) version {
	v := version{texts: map[key]string{}, files: map[key]string{}, nodes: map[key]Declaration{}}
	for _, s := range sources {
		f, _ := ParseFile(s.Name, s.Text)
		for _, d := range f.Declarations {
			k := key{d.Keyword(), d.Base().Name}
			if _, again := v.texts[k]; !again {
				v.order = append(v.order, k)
			}
			v.texts[k], v.files[k], v.nodes[k] = PrintDeclaration(d), s.Name, d
		}
	}
	return v
}

// Merge puts what was changed from a base onto another version that was made of
// it; none of the three has errors. A declaration that both have changed, each
// otherwise, stays as theirs has it and is named among the conflicts.
func Merge(base, mine, theirs []Source) (merged []Source, conflicts []Change) {
	t := declared(theirs)
	changes := Difference(base, mine)
	old, own := declared(base), declared(mine)
	files := map[string]*File{}
	replace := map[key]Declaration{}
	var names []string
	for _, s := range theirs {
		f, _ := ParseFile(s.Name, s.Text)
		files[s.Name], names = f, append(names, s.Name)
	}
	for _, c := range changes {
		k := key{c.Keyword, c.Name}
		now, there := t.texts[k]
		switch {
		case now == c.After:
			continue // they did the same
		case there && now != old.texts[k] || !there && c.Before != "":
			conflicts = append(conflicts, Change{c.Keyword, c.Name, now, c.After})
			continue
		}
		file := cmp.Or(t.files[k], own.files[k], old.files[k])
		f := files[file]
		if f == nil {
			f = &File{Name: file}
			files[file], names = f, append(names, file)
		}
		if !there {
			f.Declarations = append(f.Declarations, own.nodes[k])
		} else {
			replace[k] = own.nodes[k] // nil where it was taken out
		}
	}
	slices.Sort(names)
	for _, name := range names {
		var kept []Declaration
		for _, d := range files[name].Declarations {
			if other, changed := replace[key{d.Keyword(), d.Base().Name}]; changed {
				d = other
			}
			if d != nil {
				kept = append(kept, d)
			}
		}
		files[name].Declarations = kept
		merged = append(merged, Source{name, []byte(files[name].String())})
	}
	return merged, conflicts
}

// Rename gives a name of a job without errors another one, in every place.
func Rename(sources []Source, from, to string) ([]Source, error) {
	job, found := Parse(sources)
	if HasErrors(found) {
		return nil, fmt.Errorf(
			"the job has errors, so nobody can tell every place of %s; mend them first: %s",
			from,
			found[slices.IndexFunc(found, func(f Finding) bool { return f.Severity == Error })],
		)
	}
	d := job.Lookup(from)
	switch {
	case d == nil:
		return nil, fmt.Errorf("nothing is named %s", from)
	case strings.Contains(from, "."):
		return nil, fmt.Errorf("%s is no name of its own; rename what it belongs to", from)
	case !legal(to):
		return nil, fmt.Errorf("%q is no name; a name has small letters, digits and _, begins with a letter, and is no word of conditions", to)
	case job.Lookup(to) != nil:
		return nil, fmt.Errorf(
			"the name %s is already that of the %s at %s; choose another",
			to,
			job.Lookup(to).Keyword(),
			job.Lookup(to).Base().NameAt,
		)
	}
	edits := []edit{{d.Base().NameAt, from, to}}
	for _, u := range job.usesOf(from) {
		edits = append(edits, edit{u.Place, from, to})
	}
	return edited(sources, edits)
}

// An edit puts one word in the place of another that stands there.
type edit struct {
	at       Place
	from, to string
}

// edited makes edits, each place of which is named once or more.
func edited(sources []Source, edits []edit) ([]Source, error) {
	byLine := map[string]map[int][]edit{}
	for _, e := range edits {
		if byLine[e.at.File] == nil {
			byLine[e.at.File] = map[int][]edit{}
		}
		byLine[e.at.File][e.at.Line] = append(byLine[e.at.File][e.at.Line], e)
	}
	out := slices.Clone(sources)
	for i, s := range out {
		if byLine[s.Name] == nil {
			continue
		}
		lines := strings.SplitAfter(string(s.Text), "\n")
		for number, some := range byLine[s.Name] {
			line, err := editedLine(lines[number-1], some)
			if err != nil {
				return nil, err
			}
			lines[number-1] = line
		}
		out[i].Text = []byte(strings.Join(lines, ""))
	}
	return out, nil
}

func editedLine(text string, edits []edit) (string, error) {
	slices.SortFunc(edits, func(a, b edit) int { return a.at.compare(b.at) })
	line, done := []rune(text), 0
	var b strings.Builder
	for _, e := range slices.Compact(edits) {
		start := e.at.Column - 1
		end := start + len([]rune(e.from))
		if start < done || end > len(line) || string(line[start:end]) != e.from {
			return "", fmt.Errorf("%s: %s was to stand here", e.at, e.from)
		}
		b.WriteString(string(line[done:start]) + e.to)
		done = end
	}
	return b.String() + string(line[done:]), nil
}

// legal tells whether a declaration can have a name.
func legal(name string) bool {
	if name == "" || len(name) > maxName || Reserved(name) || name[0] < 'a' || name[0] > 'z' {
		return false
	}
	return !strings.ContainsFunc(name, func(r rune) bool { return r != '_' && (r < 'a' || r > 'z') && (r < '0' || r > '9') })
}

// Adopt makes declarations for a job of those of another, small one: all but its
// `job`, its trials, and the points that are bound to points of the job, by name.
// What would have a name that the job has already gets another.
func Adopt(job *Job, small []Source, bound map[string]string) (text string, names []string, err error) {
	other, found := Parse(small)
	if HasErrors(found) {
		return "", nil, fmt.Errorf("what is to be adopted has errors: %s", found[0])
	}
	renames := map[string]string{}
	for from, to := range bound {
		if err := fits(other.Lookup(from), job.Lookup(to), from, to); err != nil {
			return "", nil, err
		}
		renames[from] = to
	}
	for _, f := range other.Files {
		for _, d := range f.Declarations {
			name := d.Base().Name
			if _, is := renames[name]; is || name == "" {
				continue
			}
			to := name
			for n := 2; job.Lookup(to) != nil || to != name && other.Lookup(to) != nil; n++ {
				to = fmt.Sprintf("%s_%d", name, n)
			}
			renames[name] = to
		}
	}
	var edits []edit // all at once, so that no name is renamed twice
	for from, to := range renames {
		if from == to {
			continue
		}
		for _, u := range other.usesOf(from) {
			edits = append(edits, edit{u.Place, from, to})
		}
		edits = append(edits, edit{other.Lookup(from).Base().NameAt, from, to})
	}
	if small, err = edited(small, edits); err != nil {
		return "", nil, err
	}
	var b strings.Builder
	for _, s := range small {
		f, _ := ParseFile(s.Name, s.Text)
		for _, d := range f.Declarations {
			name := d.Base().Name
			switch d.(type) {
			case *JobHead, *Trial:
				continue
			}
			if job.Lookup(name) != nil {
				continue // a bound point
			}
			names = append(names, name)
			b.WriteString(PrintDeclaration(d) + "\n")
		}
	}
	return b.String(), names, nil
}

// fits tells why one point cannot stand for another.
func fits(of, point Declaration, from, to string) error {
	switch of := of.(type) {
	case *Input:
		in, ok := point.(*Input)
		switch {
		case !ok:
			return fmt.Errorf("%s is an input, and %s is none", from, to)
		case in.Discrete != of.Discrete:
			return fmt.Errorf("%s and %s are not both contacts", from, to)
		case !of.Discrete && !of.Engineering().Comparable(in.Engineering()):
			return fmt.Errorf("%s is in %s, and %s is in %s", from, of.Engineering().Describe(), to, in.Engineering().Describe())
		}
		return nil
	case *Output:
		out, ok := point.(*Output)
		switch {
		case !ok:
			return fmt.Errorf("%s is an output, and %s is none", from, to)
		case (out.Range == nil) != (of.Range == nil):
			return fmt.Errorf("%s and %s are not both analog outputs", from, to)
		}
		return nil
	}
	return fmt.Errorf("%s is no point that another could stand for", from)
}

// SheetForRules is the sheet in which another rule is written: that of the last rule;
// where there is none, that of another declaration, or the first.
func (j *Job) SheetForRules(other Declaration) string {
	if n := len(j.Rules); n > 0 {
		return j.Rules[n-1].At.File
	}
	if other != nil {
		return other.Base().At.File
	}
	return j.Files[0].Name
}

// Appended is the text of a sheet with declarations at its end.
func Appended(text, declarations string) string {
	return strings.TrimRight(text, "\n") + "\n\n" + declarations
}
