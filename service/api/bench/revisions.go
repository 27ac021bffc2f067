package bench

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/api"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/store"
)

// ListRevisions lists all revisions.
func (s *Server) ListRevisions(ctx context.Context, request ListRevisionsRequestObject) (ListRevisionsResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	all, err := j.Revisions(ctx)
	if err != nil {
		return nil, err
	}
	answer := make(ListRevisions200JSONResponse, len(all))
	for i, r := range all {
		answer[i] = revisionView(r)
	}
	return answer, nil
}

func revisionView(r store.Revision) api.Revision {
	return api.Revision{
		Number:   r.Number,
		Title:    r.Title,
		Note:     r.Note,
		Created:  r.Time(),
		Inputs:   r.Inputs,
		Outputs:  r.Outputs,
		Rules:    r.Rules,
		Warnings: r.Warnings,
	}
}

// PushRevision checks a job and keeps it as the next revision.
func (s *Server) PushRevision(ctx context.Context, request PushRevisionRequestObject) (PushRevisionResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
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
		return nil, transport.RefuseFound(http.StatusUnprocessableEntity, "The job has errors and was not kept; mend them and push again.", found)
	}
	plays, err := j.plays(ctx, job, body.Plays)
	if err != nil {
		return nil, err
	}
	var base int64
	if body.Base != nil {
		base = *body.Base
	}
	r, kept, err := j.AddRevision(ctx, s.revisionOf(job, views.Deref(body.Note), len(found)), sheets, plays, base)
	if err != nil {
		return nil, outdated(err, base)
	}
	if !kept {
		return PushRevision200JSONResponse(revisionView(r)), nil
	}
	return PushRevision201JSONResponse(revisionView(r)), nil
}

// revisionOf describes a checked job as a revision.
func (s *Server) revisionOf(job *sheet.Job, note string, warnings int) store.Revision {
	return store.Revision{
		Title:    job.Title,
		Note:     note,
		Created:  s.now().UnixNano(),
		Inputs:   len(job.Inputs),
		Outputs:  len(job.Outputs),
		Rules:    len(job.Rules),
		Warnings: warnings,
	}
}

// plays are the recordings that the trials of a job play: those of the checksums that
// are given, or, where nothing is said, those of the newest revision under the same
// paths.
func (j *shelf) plays(ctx context.Context, job *sheet.Job, said *[]api.Plays) ([]store.Play, error) {
	ids := map[string]int64{}
	if said == nil {
		newest, err := j.Newest(ctx)
		if err == nil {
			ids, err = j.Plays(ctx, newest)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
	} else {
		kept, err := j.Recordings(ctx)
		if err != nil {
			return nil, err
		}
		files := map[string]int64{}
		for _, r := range kept {
			files[hex.EncodeToString(r.File)] = r.ID
		}
		for _, p := range *said {
			id, there := files[p.Checksum]
			if !there {
				return nil, transport.Refuse(
					http.StatusUnprocessableEntity,
					"The recording "+transport.Shown(p.Path)+" with the checksum "+p.Checksum+" is not kept here; send it first.",
				)
			}
			ids[p.Path] = id
		}
	}
	plays, seen := []store.Play{}, map[string]bool{}
	for _, t := range job.Trials {
		path := t.Play.Text
		if id, there := ids[path]; there && !seen[path] {
			seen[path] = true
			plays = append(plays, store.Play{Path: path, Recording: id})
		}
	}
	return plays, nil
}

// GetRevision shows one revision with what its sheets declare.
func (s *Server) GetRevision(ctx context.Context, request GetRevisionRequestObject) (GetRevisionResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, sheets, err := j.Revision(ctx, request.Number)
	if err != nil {
		return nil, err
	}
	p, err := j.program(ctx, request.Number)
	if err != nil {
		return nil, err
	}
	answer := GetRevision200JSONResponse{
		Revision:  revisionView(r),
		Findings:  transport.Findings(p.found),
		Sheets:    []api.Sheet{},
		Points:    pointViews(p.Program),
		Setpoints: setpointViews(p.Job),
		Clauses:   clauseViews(p.Job),
		Rules:     ruleViews(p.Program, false),
	}
	answer.Sheets = sheetViews(sheets)
	return answer, nil
}

func setpointViews(job *sheet.Job) []api.Setpoint {
	all := []api.Setpoint{}
	for _, sp := range job.Setpoints {
		v := api.Setpoint{Name: sp.Name, Title: sp.Title(), Value: sp.Value.String(), Unit: sp.Type().Unit.Name(), Constant: sp.Constant}
		if sp.Allow != nil {
			v.Allow = sp.Allow.Range.String()
		}
		all = append(all, v)
	}
	return all
}

func clauseViews(job *sheet.Job) []api.ClauseNumber {
	all := []api.ClauseNumber{}
	for _, n := range bench.ClauseNumbers(job) {
		of, word, _ := strings.Cut(n.Name, ".")
		if word == "for" {
			word = "delay"
		}
		all = append(all, api.ClauseNumber{Name: n.Name, Title: job.Lookup(of).Base().Title() + ": " + word, Value: n.Text})
	}
	return all
}

func ruleViews(p *logic.Program, phrases bool) []api.Rule {
	rules := []api.Rule{}
	add := func(name string) {
		card, ok := p.Card(name)
		if !ok {
			return
		}
		d := card.Declaration
		h := d.Base()
		v := api.Rule{
			Kind:     api.RuleKind(d.Keyword()),
			Name:     h.Name,
			Title:    h.Title(),
			File:     h.At.File,
			Line:     h.At.Line,
			Text:     sheet.PrintDeclaration(d),
			Sentence: card.Sentence,
			Calls:    append([]string{}, card.Calls...),
			Delays:   append([]string{}, card.Delays...),
			Points:   []api.RulePoint{},
		}
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
		if !a.Own { // whose text is the point's
			add(a.Name)
		}
	}
	for _, m := range p.Job.Messages {
		add(m.Name)
	}
	return rules
}

func rulePointView(pt logic.RulePoint) api.RulePoint {
	v := api.RulePoint{Rule: pt.Rule, Effect: api.RulePointEffect(pt.Role.String()), Input: pt.Name, Op: string(pt.Op), Stages: views.Quantities(pt.Stages)}
	if d := api.RulePointDirection(pt.Direction()); d != "" {
		v.Direction = &d
	}
	return v
}

// DeleteRevision deletes a revision; the newest one stays.
func (s *Server) DeleteRevision(ctx context.Context, request DeleteRevisionRequestObject) (DeleteRevisionResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	armed, captured, err := s.records.Needs(ctx, j.ID, request.Number)
	if err != nil {
		return nil, err
	}
	if armed || captured {
		why := "Something was captured by revision %d, which is needed to play it; it can be deleted once that is forgotten."
		if armed {
			why = "Revision %d is in force, and stays until another is."
		}
		return nil, transport.Refuse(http.StatusConflict, fmt.Sprintf(why, request.Number))
	}
	if err := j.DeleteRevision(ctx, request.Number); err != nil {
		return nil, err
	}
	j.forgetRevision(request.Number)
	return DeleteRevision204Response{}, nil
}
