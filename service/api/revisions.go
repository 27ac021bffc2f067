package api

import (
	"context"
	"net/http"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/store"
)

// ListRevisions lists all revisions.
func (s *Server) ListRevisions(ctx context.Context, _ ListRevisionsRequestObject) (ListRevisionsResponseObject, error) {
	all, err := s.store.Revisions(ctx)
	if err != nil {
		return nil, err
	}
	answer := make(ListRevisions200JSONResponse, len(all))
	for i, r := range all {
		answer[i] = revisionView(r)
	}
	return answer, nil
}

func revisionView(r store.Revision) Revision {
	return Revision{Number: r.Number, Title: r.Title, Note: r.Note, Created: r.Time(), Inputs: r.Inputs, Outputs: r.Outputs, Rules: r.Rules, Warnings: r.Warnings}
}

// PushRevision checks a job and keeps it as the next revision.
func (s *Server) PushRevision(ctx context.Context, request PushRevisionRequestObject) (PushRevisionResponseObject, error) {
	body := request.Body
	sheets, err := sheetSources(body.Sheets)
	if err != nil {
		return nil, err
	}
	job, _, found, err := s.check(ctx, sheets)
	if err != nil {
		return nil, err
	}
	if sheet.HasErrors(found) {
		return nil, &failure{http.StatusUnprocessableEntity, "The job has errors and was not kept; mend them and push again.", found}
	}
	r := store.Revision{Title: job.Title, Created: s.now().UnixNano(), Inputs: len(job.Inputs), Outputs: len(job.Outputs), Rules: len(job.Rules), Warnings: len(found)}
	if body.Note != nil {
		r.Note = *body.Note
	}
	var base int64
	if body.Base != nil {
		base = *body.Base
	}
	r, err = s.store.AddRevision(ctx, r, sheets, base)
	if err != nil {
		return nil, outdated(err, base)
	}
	return PushRevision201JSONResponse(revisionView(r)), nil
}

// GetRevision shows one revision with what its sheets declare.
func (s *Server) GetRevision(ctx context.Context, request GetRevisionRequestObject) (GetRevisionResponseObject, error) {
	r, sheets, err := s.store.Revision(ctx, request.Number)
	if err != nil {
		return nil, err
	}
	p, err := s.library.program(ctx, request.Number)
	if err != nil {
		return nil, err
	}
	answer := GetRevision200JSONResponse{Revision: revisionView(r), Findings: findings(p.found), Sheets: []Sheet{}, Points: pointViews(p.Program), Setpoints: setpointViews(p.Job), Rules: ruleViews(p.Program, false)}
	answer.Sheets = sheetViews(sheets)
	return answer, nil
}

func setpointViews(job *sheet.Job) []Setpoint {
	all := []Setpoint{}
	for _, sp := range job.Setpoints {
		v := Setpoint{Name: sp.Name, Title: sp.Title(), Value: sp.Value.String(), Unit: sp.Type().Unit.Name(), Constant: sp.Constant}
		if sp.Allow != nil {
			v.Allow = sp.Allow.Range.String()
		}
		all = append(all, v)
	}
	return all
}

func ruleViews(p *logic.Program, phrases bool) []Rule {
	rules := []Rule{}
	add := func(name string) {
		card, ok := p.Card(name)
		if !ok {
			return
		}
		d := card.Declaration
		h := d.Base()
		v := Rule{Kind: RuleKind(d.Keyword()), Name: h.Name, Title: h.Title(), File: h.At.File, Line: h.At.Line, Text: sheet.PrintDeclaration(d), Sentence: card.Sentence,
			Calls: append([]string{}, card.Calls...), Delays: append([]string{}, card.Delays...), Points: []RulePoint{}}
		for _, pt := range card.Points {
			v.Points = append(v.Points, rulePointView(pt))
		}
		if phrases {
			all := phraseViews(p, d)
			v.Phrases = &all
		}
		rules = append(rules, v)
	}
	for _, r := range p.Job.Rules {
		add(r.Name)
	}
	for _, b := range p.Job.Bands {
		add(b.Name)
	}
	for _, f := range p.Job.Follows {
		add(f.Name)
	}
	for _, l := range p.Job.Loops {
		add(l.Name)
	}
	for _, a := range p.Job.Alarms {
		if a.OfInput == nil { // whose text is the input's
			add(a.Name)
		}
	}
	for _, m := range p.Job.Messages {
		add(m.Name)
	}
	return rules
}

func rulePointView(pt logic.RulePoint) RulePoint {
	v := RulePoint{Rule: pt.Rule, Effect: RulePointEffect(pt.Role.String()), Input: pt.Name, Op: string(pt.Op), Stages: quantities(pt.Stages)}
	if pt.Role == logic.Keeps {
		return v
	}
	direction := RulePointDirectionRising
	if pt.Op.Falling() {
		direction = RulePointDirectionFalling
	}
	v.Direction = &direction
	return v
}

func quantities(all []unit.Quantity) []Quantity {
	views := make([]Quantity, len(all))
	for i, q := range all {
		views[i] = Quantity{Value: finite(q.Value), Unit: q.Unit.Name()}
	}
	return views
}

// DeleteRevision deletes a revision; the newest one stays.
func (s *Server) DeleteRevision(ctx context.Context, request DeleteRevisionRequestObject) (DeleteRevisionResponseObject, error) {
	if err := s.store.DeleteRevision(ctx, request.Number); err != nil {
		return nil, err
	}
	s.library.forgetRevision(request.Number)
	return DeleteRevision204Response{}, nil
}
