package bench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"rectura/core/logic"
	"rectura/core/unit"
)

// A Given is a value of an input, a setpoint or a constant that somebody wants
// to try.
type Given struct {
	Name string
	Text string // as it was given

	input   int // or -1
	setting int // or -1
	value   float64
	at      int // the place of an input's chain
}

// ParseGiven reads `NAME=VALUE`. An analog input's value may stand at any stage
// of its chain, as its unit says (a number alone is in engineering units), or be
// bad; a contact's is on or off, one of its
// words, 1 or 0, or bad.
func ParseGiven(p *logic.Program, s string) (Given, error) {
	name, text, ok := strings.Cut(s, "=")
	g := Given{Name: strings.TrimSpace(name), Text: strings.TrimSpace(text), input: -1, setting: -1}
	if !ok || g.Name == "" || g.Text == "" {
		return g, fmt.Errorf("%q is not NAME=VALUE, such as oxygen=5.9mg/L", s)
	}
	var err error
	if i := p.Index(logic.InputKind, g.Name); i >= 0 {
		g.input = i
		if c := p.Inputs[i].Chain; c != nil && isNumber(g.Text) {
			g.Text = strings.TrimSpace(g.Text + " " + c.Engineering().String())
		} else if q, err := unit.ParseQuantity(g.Text); c != nil && err == nil {
			g.Text = q.String()
		}
		g.value, g.at, err = p.ParseReading(i, g.Text)
	} else if i := p.Index(logic.SettingKind, g.Name); i >= 0 {
		g.setting = i
		var q unit.Quantity
		if q, err = logic.ParseValue(g.Text); err == nil {
			g.value, err = p.SettingOf(i, q)
		}
	} else {
		return g, fmt.Errorf(
			"no input, setpoint or constant is named %s%s",
			g.Name,
			p.Job.DidYouMean(g.Name, "input", "setpoint", "constant"),
		)
	}
	if err != nil {
		return g, fmt.Errorf("%s: %w", g.Name, err)
	}
	return g, nil
}

func isNumber(s string) bool {
	_, err := strconv.ParseFloat(s, 64)
	return err == nil
}

// A Tried is how rules and outputs stand with some values given.
type Tried struct {
	With   []Given
	States []Standing
}

// A Standing is how a rule, bands or an output stands, and why.
type Standing struct {
	Kind    logic.Kind
	Name    string
	State   string
	Because string
}

// Try says how every rule and output would stand with the given values, as from
// a fresh start with all delays, minimum times and filters waited out. What is
// not given has not been read.
func Try(p *logic.Program, with []Given) (Tried, error) {
	s := logic.NewPatient(p)
	for _, g := range with {
		if g.setting >= 0 {
			s.Set(g.setting, g.value)
		}
	}
	for _, g := range with {
		if g.input >= 0 {
			s.Read(0, g.input, g.value, g.at)
		}
	}
	t := Tried{With: with}
	if _, err := s.Step(0); err != nil {
		return t, err
	}
	for _, kind := range []logic.Kind{logic.BandsKind, logic.RuleKind, logic.AlarmKind, logic.FollowKind, logic.LoopKind, logic.OutputKind} {
		for _, r := range p.All(kind) {
			if p.Watched(r) {
				continue
			}
			now := s.Standing(r)
			_, state := p.States(now)
			t.States = append(t.States, Standing{kind, p.Name(r), state, p.Sentence(now, nil)})
		}
	}
	return t, nil
}

// Combinations are all ways to take one value of each name.
func Combinations(p *logic.Program, given []string, most int) ([][]Given, error) {
	all := [][]Given{nil}
	seen := map[string]bool{}
	for _, s := range given {
		name, values, ok := strings.Cut(s, "=")
		if seen[name] {
			return nil, fmt.Errorf("%s is given twice; several values of one name stand behind each other: %s=5,6,7", name, name)
		}
		seen[name] = true
		var of []Given
		list := strings.Split(values, ",")
		// Several numbers are in the unit of the last, if that has one.
		last, err := unit.ParseQuantity(list[len(list)-1])
		shared := err == nil && last.Unit != (unit.Unit{})
		for _, value := range list {
			if value = strings.TrimSpace(value); shared && isNumber(value) {
				value += " " + last.Unit.Name()
			}
			text := name
			if ok {
				text += "=" + value
			}
			g, err := ParseGiven(p, text)
			if err != nil {
				return nil, err
			}
			if slices.ContainsFunc(of, func(o Given) bool { return o.value == g.value && o.at == g.at }) {
				return nil, fmt.Errorf("%s is given as %s twice; a decimal mark is a point", name, g.Text)
			}
			of = append(of, g)
		}
		var next [][]Given
		for _, before := range all {
			for _, g := range of {
				next = append(next, append(slices.Clone(before), g))
			}
		}
		if all = next; len(all) > most {
			return nil, fmt.Errorf("these are more than %d combinations of values; give fewer", most)
		}
	}
	return all, nil
}
