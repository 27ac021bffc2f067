package api

import (
	"context"
	"math"

	"rectura/core/bench"
	"rectura/core/unit"
)

// nearMisses is how many delays that did not run out are told before and after
// a time.
const nearMisses = 3

// Explain says why something is as it is at a time of a replay.
func (s *Server) Explain(ctx context.Context, request ExplainRequestObject) (ExplainResponseObject, error) {
	body := request.Body
	options, err := replayOptions(body.Set, body.Scan)
	if err != nil {
		return nil, err
	}
	p, err := s.library.program(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	r, err := s.library.part(ctx, body.Recording, "", "")
	if err != nil {
		return nil, refusal(err)
	}
	free, err := s.library.place(ctx)
	if err != nil {
		return nil, err
	}
	defer free()
	at := r.Origin + nanoseconds(math.Round(body.T*1000)/1000) // nobody means a part of a millisecond
	a, err := bench.Why(p, r, options, body.Name, min(max(at, r.Start), r.End))
	if err != nil {
		return nil, refusal(err)
	}
	clock := r.Clock
	v := Explain200JSONResponse{Name: a.Name, Kind: a.Kind.String(), Time: clock.FormatMillis(a.At), State: a.StateText(), Since: clock.FormatMillis(a.Since), Because: a.Because, Grounds: groundViews(a.Grounds), Misses: []Miss{}}
	for _, m := range a.Near(nearMisses) {
		v.Misses = append(v.Misses, Miss{Rule: p.Rules[m.Rule].Name, From: clock.Format(m.From), To: clock.Format(m.To), Lasted: unit.FormatDuration(m.To - m.From), Delay: unit.FormatDuration(m.Of), Until: m.Until})
	}
	if a.Next != nil {
		v.Next = &NextChange{Time: clock.FormatMillis(a.Next.Time), To: a.NextState(), Because: a.NextText}
	}
	return v, nil
}

func groundViews(all []bench.Ground) []Ground {
	views := []Ground{}
	for _, g := range all {
		v := Ground{Text: g.Text, Under: groundViews(g.Under)}
		if g.By != "" {
			v.By = &g.By
		}
		if g.Delay != "" {
			v.Delay = &g.Delay
		}
		if stages := quantities(g.Stages); len(stages) > 0 {
			v.Stages = &stages
		}
		views = append(views, v)
	}
	return views
}
