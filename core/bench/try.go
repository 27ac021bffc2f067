package bench

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"rectura/core/logic"
	"rectura/core/sheet"
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
	if i := p.InputIndex(g.Name); i >= 0 {
		g.input = i
		if c := p.Inputs[i].Chain; c != nil && isNumber(g.Text) {
			g.Text = strings.TrimSpace(g.Text + " " + c.Engineering().String())
		} else if q, err := unit.ParseQuantity(g.Text); c != nil && err == nil {
			g.Text = q.String()
		}
		g.value, g.at, err = parseInput(p, i, g.Text)
	} else if i := p.SettingIndex(g.Name); i >= 0 {
		g.setting = i
		var q unit.Quantity
		if q, err = ParseValue(g.Text); err == nil {
			g.value, err = Setting(p.Job.Setpoints[i], q)
		}
	} else {
		return g, fmt.Errorf("no input, setpoint or constant is named %s", g.Name)
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

func parseInput(p *logic.Program, input int, text string) (value float64, at int, err error) {
	if text == "bad" {
		return math.NaN(), 0, nil
	}
	in := &p.Inputs[input]
	if in.Chain != nil {
		return in.Chain.ParseReading(in.Name, text)
	}
	on, ok := contactState(p.Job.Inputs[input], text)
	if !ok {
		return 0, 0, fmt.Errorf("%q is no state of a contact; write on, off or bad", text)
	}
	if on != in.Inverted { // the circuit is closed
		return 1, 0, nil
	}
	return 0, 0, nil
}

// contactState reads the state of a contact: on or off, or its word.
func contactState(in *sheet.Input, text string) (on, ok bool) {
	switch text {
	case "on", "1", in.StateWord(true):
		return true, true
	case "off", "0", in.StateWord(false):
		return false, true
	}
	return false, false
}

// A Tried is how rules and outputs stand with some values given.
type Tried struct {
	With   []Given
	States []Stand
}

// A Stand is how a rule, bands or an output stands, and why.
type Stand struct {
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
	stand := func(kind logic.Kind, i int, name string) {
		now := s.Standing(kind, i)
		_, state := p.States(now)
		t.States = append(t.States, Stand{kind, name, state, p.Sentence(now, nil)})
	}
	for i := range p.Bands {
		stand(logic.BandsKind, i, p.Bands[i].Name)
	}
	for i := range p.Rules {
		stand(p.KindOf(i), i, p.Rules[i].Name)
	}
	for i := range p.Follows {
		stand(logic.FollowKind, i, p.Follows[i].Name)
	}
	for i := range p.Loops {
		stand(logic.LoopKind, i, p.Loops[i].Name)
	}
	for i := range p.Outputs {
		stand(logic.OutputKind, i, p.Outputs[i].Name)
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
		for _, value := range strings.Split(values, ",") {
			text := name
			if ok {
				text += "=" + value
			}
			g, err := ParseGiven(p, text)
			if err != nil {
				return nil, err
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
