package bench

import (
	"strings"

	"rectura/core/logic"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A stand is where an input stands while another is moved: a reading at a place of its
// chain, or a contact's state.
type stand struct {
	value float64
	at    int
}

// mostPlaces bounds how many places of the other inputs are tried, and coarse is over how
// many readings each of them is.
const (
	mostPlaces = 3000
	coarse     = 96
)

// stands are where an input may stand, the one at which it stands by itself first:
// contacts off, analog inputs at mid span.
func stands(p *logic.Program, input int) []stand {
	in := &p.Inputs[input]
	if in.Chain == nil {
		off := stand{value: 0}
		if in.Inverted {
			off.value = 1
		}
		return []stand{off, {value: 1 - off.value}}
	}
	low, high := in.Chain.ReadingSpan()
	all := []stand{{value: (low + high) / 2}}
	// From the ends inwards, for that is where limits are passed first.
	for _, part := range []float64{0, 1, 0.02, 0.98, 0.1, 0.9, 0.25, 0.75} {
		if v := low + part*(high-low); in.Chain.Judge(v, 0) == signal.None {
			all = append(all, stand{value: v})
		}
	}
	return all
}

// place looks for where the other inputs that the rule depends on let it trip, and puts
// them there. Places that differ in fewer inputs from where they stand by themselves come
// first. It tells whether there is one.
func (m *mover) place() (bool, error) {
	var free []int
	for _, i := range m.others() {
		if !m.isGiven(i) {
			free = append(free, i)
		}
	}
	fine, tried := m.steps, 0
	m.steps = min(m.steps, coarse)
	defer func() { m.steps = fine }()
	var found bool
	var put func(from, moved int) error
	put = func(from, moved int) error {
		if moved == 0 {
			if tried++; tried > mostPlaces {
				return nil
			}
			for _, upwards := range []bool{true, false} {
				trip, _, off, err := m.sweep(upwards)
				if err != nil {
					return err
				}
				if found = off && trip != nil; found {
					return nil
				}
			}
			return nil
		}
		for k := from; k <= len(free)-moved && !found && tried <= mostPlaces; k++ {
			i := free[k]
			all := stands(m.p, i)
			for _, s := range all[1:] {
				m.at[i] = s
				if err := put(k+1, moved-1); err != nil || found {
					return err
				}
			}
			m.at[i] = all[0]
		}
		return nil
	}
	for moved := 1; moved <= len(free) && !found && tried <= mostPlaces; moved++ {
		if err := put(0, moved); err != nil {
			return false, err
		}
	}
	return found, nil
}

// others are the inputs that the rule depends on, but for the one that is moved.
func (m *mover) others() []int {
	var all []int
	for _, name := range m.p.Job.SignalsOf(m.of) {
		if i := m.p.Index(logic.InputKind, name); i != m.input {
			all = append(all, i)
		}
	}
	return all
}

func (m *mover) isGiven(input int) bool {
	for _, g := range m.with {
		if g.setting < 0 && g.input == input {
			return true
		}
	}
	return false
}

// still says where the inputs stand that are not moved and count for the rule.
func (m *mover) still() []Still {
	var all []Still
	for _, i := range m.others() {
		in, s := &m.p.Inputs[i], m.at[i]
		text := m.p.Job.Inputs[i].StateWord((s.value != 0) != in.Inverted)
		if in.Chain != nil {
			v := in.Chain.Carry(s.value, s.at, len(in.Chain.Units)-1)
			text = strings.TrimSpace(unit.Short(v) + " " + in.Chain.Engineering().Name())
		}
		for _, g := range m.with {
			if g.setting < 0 && g.input == i {
				text = g.Text
			}
		}
		all = append(all, Still{in.Name, text})
	}
	return all
}
