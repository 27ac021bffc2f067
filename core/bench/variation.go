package bench

import (
	"fmt"
	"strings"

	"rectura/core/logic"
	"rectura/core/unit"
)

// A Variation is one way to set some setpoints, constants and numbers of clauses
// otherwise.
type Variation struct {
	With []Setting // in the order in which they were given
}

// A Setting is what something is set to.
type Setting struct {
	Name, Text string
	Value      unit.Quantity
}

// Set is a variation as Options take it.
func (v Variation) Set() map[string]unit.Quantity {
	set := map[string]unit.Quantity{}
	for _, s := range v.With {
		set[s.Name] = s.Value
	}
	return set
}

// Variations reads NAME=VALUE, or NAME=VALUE,VALUE,… of which the last one's unit counts for
// those without, or else that of the setpoint or constant, and gives all ways to take one value
// of each name; no more than most.
func Variations(p *logic.Program, given []string, most int) ([]Variation, error) {
	all := []Variation{{}}
	seen := map[string]bool{}
	for _, s := range given {
		values, err := settingsOf(p, s)
		if err != nil {
			return nil, err
		}
		name := values[0].Name
		if seen[name] {
			return nil, fmt.Errorf("%s is given twice; several values of one name stand behind each other: %s=5,6,7", name, name)
		}
		seen[name] = true
		if most == 1 && len(values) > 1 {
			return nil, fmt.Errorf("%s is set to several values, and only one can be played here", name)
		}
		if len(all)*len(values) > most {
			return nil, fmt.Errorf("these are more than %d combinations of values; give fewer", most)
		}
		var next []Variation
		for _, before := range all {
			for _, v := range values {
				next = append(next, Variation{append(before.With[:len(before.With):len(before.With)], v)})
			}
		}
		all = next
	}
	return all, nil
}

// settingsOf reads one NAME=VALUE,VALUE,…
func settingsOf(p *logic.Program, s string) ([]Setting, error) {
	name, list, given := strings.Cut(s, "=")
	var all []Setting
	for _, text := range strings.Split(list, ",") {
		one := name
		if given {
			one += "=" + text
		}
		named, q, err := logic.ParseSetting(one)
		if err != nil {
			return nil, err
		}
		all = append(all, Setting{named, strings.TrimSpace(text), q})
	}
	none := unit.Unit{}
	last := all[len(all)-1].Value.Unit
	if i := p.Index(logic.SettingKind, all[0].Name); i >= 0 && last == none {
		last = p.Settings[i].Value.Unit
	}
	for i := range all {
		x := &all[i]
		if x.Value.Unit == none {
			x.Value.Unit = last
		}
		if _, err := unit.ParseQuantity(x.Text); err == nil { // and no compound duration
			x.Text = x.Value.String()
		}
		for _, before := range all[:i] {
			if before.Value == x.Value {
				return nil, fmt.Errorf("%s is set to %s twice; a decimal mark is a point", x.Name, x.Text)
			}
		}
	}
	return all, nil
}
