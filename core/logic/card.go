package logic

import "rectura/core/sheet"

// A Card is what is shown of a declaration that decides, everywhere the same.
type Card struct {
	Declaration sheet.Declaration
	Sentence    string
	Points      []RulePoint
	Delays      []string // "on-delay Blower start delay (45 s)"
	Calls       []string // outputs
}

// Card is that of a rule, bands, a follow, a loop, an alarm or a message, with the
// setpoints and constants as written; ok is false for anything else.
func (p *Program) Card(name string) (card Card, ok bool) {
	d := p.Job.Lookup(name)
	if d == nil {
		return card, false
	}
	card = Card{Declaration: d, Sentence: p.Job.Say(d)}
	if card.Sentence == "" {
		return card, false
	}
	card.Points = p.Points(name, nil)
	for _, delay := range p.Job.Delays(d) {
		card.Delays = append(card.Delays, p.Job.SayDelay(delay))
	}
	for _, call := range sheet.Calls(d) {
		card.Calls = append(card.Calls, call.Output.Name)
	}
	return card, true
}
