package bench

import (
	"fmt"

	"rectura/core/logic"
	"rectura/core/unit"
)

// A BandTripped is where bands were found to change over when an input moves slowly up
// and down again.
type BandTripped struct {
	Bands, Input string
	Changes      []BandChange
	Still        []Still // where the other inputs that the bands depend on stand
	Step         unit.Quantity
	Low, High    unit.Quantity // between which the reading moved
}

// A BandChange is the first reading at which another band is in force.
type BandChange struct {
	From, To string // titles of bands; "undecided" of none
	Found
}

// TripBands moves an input as Trip does, up from its low end and back, and finds the
// readings at which bands change over.
func TripBands(p *logic.Program, bands, input string, with []Given, stop Stop) (BandTripped, error) {
	i := p.Index(logic.BandsKind, bands)
	if i < 0 {
		return BandTripped{}, fmt.Errorf("no bands are named %s%s", bands, p.Job.DidYouMean(bands, "bands"))
	}
	m, err := newMover(p, bands, input, with, stop)
	if err != nil {
		return BandTripped{}, err
	}
	m.stands = func(s *logic.Stepper) int { return s.BandInForce(i) }
	title := func(band int) string {
		if band < 0 {
			return logic.Undecided.String()
		}
		return p.Bands[i].Bands[band].Title
	}
	t := BandTripped{Bands: bands, Input: p.Inputs[m.input].Name, Still: m.still()}
	t.Low, t.High, t.Step = m.span()
	other := func(before, is int) bool { return is != before }
	moves, at, was := m.moves(), 0, 0
	for {
		var is int
		if moves, at, was, is, err = m.change(moves, at, other, true); err != nil || at < 0 {
			return t, err
		}
		t.Changes = append(t.Changes, BandChange{title(was), title(is), *m.found(m.reading(moves[at].k, true), !moves[at].back)})
	}
}
