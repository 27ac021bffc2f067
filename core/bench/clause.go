package bench

import (
	"fmt"
	"slices"
	"strings"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// A ClauseNumber is a delay, a hysteresis or a deadband of a rule, an alarm or bands
// that stands in the sheet as a number, and that a replay can be given otherwise as
// if it were a setpoint: standby_blower.for.
type ClauseNumber struct {
	Name string
	Text string // as it is written
}

// clauseWords are the clauses whose numbers can be given otherwise.
var clauseWords = []string{"for", "hysteresis", "deadband"}

// ClauseNumbers lists those of a job, in the order of the sheet.
func ClauseNumbers(job *sheet.Job) []ClauseNumber {
	var all []ClauseNumber
	for _, f := range job.Files {
		for _, d := range f.Declarations {
			for _, word := range clauseWords {
				if n, err := findClause(d, word); err == nil {
					all = append(all, ClauseNumber{d.Base().Name + "." + word, n.text()})
				}
			}
		}
	}
	return all
}

// A clauseNumber is where such a number stands: a delay, or a value.
type clauseNumber struct {
	delay *sheet.Duration
	value *sheet.Expr
}

func (n clauseNumber) text() string {
	if n.delay != nil {
		return n.delay.String()
	}
	return (*n.value).String()
}

// set gives it another value; a number alone is in the unit that stands there.
func (n clauseNumber) set(q unit.Quantity) {
	if n.delay != nil {
		if q.Unit == (unit.Unit{}) {
			q.Unit = n.delay.Amount.Quantity().Unit
		}
		n.delay.Amount.Parts = []unit.Quantity{q}
		return
	}
	literal := *(*n.value).(*sheet.Literal) // as findClause has seen to
	if q.Unit == (unit.Unit{}) {
		q.Unit = literal.Unit
	}
	literal.Quantity = q
	*n.value = &literal
}

// findClause finds the only number of a clause of a declaration: in its on-condition or,
// if it has none there, in its off-condition.
func findClause(d sheet.Declaration, word string) (clauseNumber, error) {
	var all []clauseNumber
	switch d := d.(type) {
	case *sheet.Bands:
		if word == "for" && d.For != nil {
			all = append(all, clauseNumber{delay: d.For.Duration})
		}
		if word == "hysteresis" && d.Hysteresis != nil {
			all = append(all, clauseNumber{value: &d.Hysteresis.Value})
		}
	case *sheet.Alarm:
		all = ruleClauses(d.Rule, word)
	case *sheet.Rule:
		all = ruleClauses(d, word)
	default:
		return clauseNumber{}, fmt.Errorf("%s is no rule, alarm or bands", d.Base().Name)
	}
	name := d.Base().Name
	switch {
	case len(all) == 0:
		return clauseNumber{}, fmt.Errorf("%s has no `%s`", name, word)
	case len(all) > 1:
		return clauseNumber{}, fmt.Errorf(
			"%s has `%s` %d times; put setpoints in the place of the numbers, and set these",
			name,
			word,
			len(all),
		)
	}
	n, named := all[0], all[0].text()
	if n.delay != nil && n.delay.Name == "" {
		return n, nil
	}
	if n.value != nil {
		if _, is := (*n.value).(*sheet.Literal); is {
			return n, nil
		}
	}
	return clauseNumber{}, fmt.Errorf("`%s` of %s is %s; set that", word, name, named)
}

func ruleClauses(r *sheet.Rule, word string) []clauseNumber {
	for _, c := range []*sheet.ConditionClause{r.OnWhen, r.OffWhen} {
		if c == nil {
			continue
		}
		if all := conditionClauses(c.Condition, word); len(all) > 0 {
			return all
		}
	}
	return nil
}

func conditionClauses(c sheet.Condition, word string) []clauseNumber {
	some := func(xs ...sheet.Condition) (all []clauseNumber) {
		for _, x := range xs {
			all = append(all, conditionClauses(x, word)...)
		}
		return all
	}
	value := func(of string, e *sheet.Expr) []clauseNumber {
		if word != of || *e == nil {
			return nil
		}
		return []clauseNumber{{value: e}}
	}
	switch c := c.(type) {
	case *sheet.Not:
		return some(c.X)
	case *sheet.Group:
		return some(c.X)
	case *sheet.And:
		return some(c.Xs...)
	case *sheet.Or:
		return some(c.Xs...)
	case *sheet.Quorum:
		return some(c.Xs...)
	case *sheet.For:
		if word == "for" {
			return append(some(c.X), clauseNumber{delay: c.Duration})
		}
		return some(c.X)
	case *sheet.Compare:
		return append(value("hysteresis", &c.Hysteresis), value("deadband", &c.Deadband)...)
	case *sheet.Between:
		return value("hysteresis", &c.Hysteresis)
	}
	return nil
}

// adjusted is a job with other numbers in clauses, and what is set besides, of setpoints
// and constants. The job is checked anew: a hysteresis that its rule could not
// have is refused as in the sheet.
func adjusted(p *logic.Program, set map[string]unit.Quantity) (*logic.Program, map[string]unit.Quantity, error) {
	rest, clauses := map[string]unit.Quantity{}, map[string]unit.Quantity{}
	for name, q := range set {
		if strings.Contains(name, ".") {
			clauses[name] = q
		} else {
			rest[name] = q
		}
	}
	if len(clauses) == 0 {
		return p, set, nil
	}
	job, _ := sheet.Parse(sourcesOf(p.Job)) // which was checked before
	for name, q := range clauses {
		of, word, _ := strings.Cut(name, ".")
		d := job.Lookup(of)
		switch {
		case of == "":
			return nil, nil, fmt.Errorf("%q names no rule; write it as low_inflow.%s", name, word)
		case d == nil:
			return nil, nil, fmt.Errorf("no rule, alarm or bands are named %s%s", of, p.Job.DidYouMean(of, "rule", "alarm", "bands"))
		case !slices.Contains(clauseWords, word):
			return nil, nil, fmt.Errorf("%s: of a rule, %s can be set, and not %q", name, sheet.List(clauseWords, "or"), word)
		}
		n, err := findClause(d, word)
		if err != nil {
			return nil, nil, err
		}
		n.set(q)
	}
	job, found := sheet.Parse(sourcesOf(job))
	for _, f := range found {
		if f.Severity == sheet.Error {
			return nil, nil, fmt.Errorf("that cannot be set so: %s", f.Text)
		}
	}
	changed, err := logic.Compile(job)
	if err != nil {
		return nil, nil, fmt.Errorf("that cannot be set so: %w", err)
	}
	return changed, rest, nil
}

// sourcesOf are a job's sheets as text.
func sourcesOf(job *sheet.Job) []sheet.Source {
	var all []sheet.Source
	for _, f := range job.Files {
		all = append(all, sheet.Source{Name: f.Name, Text: []byte(f.String())})
	}
	return all
}
