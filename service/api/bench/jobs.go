package bench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"rectura/core/bench"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/store"
)

// ListJobs lists all jobs.
func (s *Server) ListJobs(ctx context.Context, _ ListJobsRequestObject) (ListJobsResponseObject, error) {
	all, err := s.store.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	answer := make(ListJobs200JSONResponse, len(all))
	for i, j := range all {
		if answer[i], err = jobView(ctx, j); err != nil {
			return nil, err
		}
	}
	return answer, nil
}

func jobView(ctx context.Context, j *store.Job) (api.Job, error) {
	o, err := j.Overview(ctx)
	return api.Job{Name: j.Name, Title: o.Title, Created: j.Time(), Newest: o.Newest, Revisions: o.Revisions, Recordings: o.Recordings}, err
}

// GetJob shows one job.
func (s *Server) GetJob(ctx context.Context, request GetJobRequestObject) (GetJobResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	v, err := jobView(ctx, j.Job)
	return GetJob200JSONResponse(v), err
}

// PutJob makes a job, if there is none of its name. One that runs under that name, though the bench does not have it, keeps the name.
func (s *Server) PutJob(ctx context.Context, request PutJobRequestObject) (PutJobResponseObject, error) {
	if r, is := running(ctx); is {
		if j, err := s.store.Job(ctx, request.Job); errors.Is(err, store.ErrNotFound) || err == nil && j.ID != r.Number {
			return nil, transport.Refuse(http.StatusConflict,
				"A job named "+request.Job+" runs, though its revisions are not here any more; disarm it until it is idle, or choose another name.")
		}
	}
	j, made, err := s.store.MakeJob(ctx, request.Job, s.now())
	if errors.Is(err, store.ErrName) {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, transport.Sentence(err))
	}
	if err != nil {
		return nil, err
	}
	v, err := jobView(ctx, j)
	if err != nil {
		return nil, err
	}
	if made {
		return PutJob201JSONResponse(v), nil
	}
	return PutJob200JSONResponse(v), nil
}

// GetLanguage tells the words of the language.
func (s *Server) GetLanguage(context.Context, GetLanguageRequestObject) (GetLanguageResponseObject, error) {
	v := GetLanguage200JSONResponse{Declarations: []api.Syntax{}, Words: sheet.Words(), Units: unit.Names()}
	for _, f := range sheet.Syntaxes() {
		v.Declarations = append(v.Declarations, api.Syntax{Keyword: f.Keyword, Clauses: f.Clauses})
	}
	return v, nil
}

// ListTrials lists the trials of a revision, and what came of them.
func (s *Server) ListTrials(ctx context.Context, request ListTrialsRequestObject) (ListTrialsResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	p, err := j.program(ctx, request.Params.Revision)
	if err != nil {
		return nil, err
	}
	plays, err := j.Plays(ctx, request.Params.Revision)
	if err != nil {
		return nil, err
	}
	results, err := j.TrialResults(ctx, request.Params.Revision)
	if err != nil {
		return nil, err
	}
	kept := map[string]store.TrialResult{}
	for _, r := range results {
		kept[r.Trial] = r
	}
	answer := ListTrials200JSONResponse{}
	for _, t := range p.Job.Trials {
		v := trialView(t, plays)
		if r, played := kept[t.Name]; played {
			if err := json.Unmarshal(r.Result, &v); err != nil {
				return nil, fmt.Errorf("reading the result of trial %s: %w", t.Name, err)
			}
		}
		answer = append(answer, v)
	}
	return answer, nil
}

// trialView is a trial that has not been played.
func trialView(t *sheet.Trial, plays map[string]int64) api.Trial {
	v := api.Trial{Trial: t.Name, Title: t.Title(), Path: &t.Play.Text, Expectations: []api.Verdict{}}
	if id, kept := plays[t.Play.Text]; kept {
		v.Plays = &id
	}
	for _, e := range t.Expect {
		v.Expectations = append(v.Expectations, api.Verdict{Text: e.Expectation.String()})
	}
	return v
}

// PlayTrials plays trials of a revision and keeps what comes of them.
func (s *Server) PlayTrials(ctx context.Context, request PlayTrialsRequestObject) (PlayTrialsResponseObject, error) {
	body := request.Body
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	p, err := j.program(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	plays, err := j.Plays(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	trials := p.Job.Trials
	if body.Trials != nil {
		trials = nil
		for _, name := range *body.Trials {
			t := p.Job.Trial(name)
			if t == nil {
				return nil, transport.Refuse(http.StatusNotFound, fmt.Sprintf("Revision %d has no trial named %s.", body.Revision, transport.Shown(name)))
			}
			trials = append(trials, t)
		}
	}
	answer := PlayTrials200JSONResponse{}
	var results []store.TrialResult
	for _, t := range trials {
		v, err := s.playTrial(ctx, j, p, t, plays)
		if err != nil {
			return nil, err
		}
		answer = append(answer, v)
		if v.Passed == nil {
			continue
		}
		result, err := json.Marshal(v)
		if err != nil {
			return nil, fmt.Errorf("keeping the result of trial %s: %w", t.Name, err)
		}
		results = append(results, store.TrialResult{Trial: t.Name, Played: v.Played.UnixNano(), Passed: *v.Passed, Result: result})
	}
	return answer, j.KeepTrialResults(ctx, body.Revision, results)
}

// playTrial plays one trial. That it cannot be played is told in its view.
func (s *Server) playTrial(ctx context.Context, j *shelf, p *program, t *sheet.Trial, plays map[string]int64) (api.Trial, error) {
	v := trialView(t, plays)
	if v.Plays == nil {
		problem := "Its recording " + transport.Shown(t.Play.Text) + " is not kept here; push the job with it."
		v.Problem = &problem
		return v, nil
	}
	return pool.Do(ctx, s.bench, func(work context.Context) (api.Trial, error) {
		r, err := j.recording(work, *v.Plays)
		if err != nil {
			return v, err
		}
		r, err = r.Mapped(bench.TrialMappings(t))
		var o *bench.Outcome
		if err == nil {
			o, err = bench.RunTrial(p.Job, t, r, pool.Stop(work))
		}
		if err != nil {
			if err = refusal(err); transport.ProblemOf(err).Status != http.StatusUnprocessableEntity {
				return v, err
			}
			why := transport.Sentence(err)
			v.Problem = &why
			return v, nil
		}
		passed, now := o.Passed(), s.now().UTC()
		notes, warnings := append([]string{}, o.Notes...), append(append([]string{}, o.Result.Warnings...), o.Result.Notes...)
		v.Passed, v.Played, v.Notes, v.Warnings, v.Expectations = &passed, &now, &notes, &warnings, []api.Verdict{}
		for _, e := range o.Expectations {
			v.Expectations = append(v.Expectations, api.Verdict{Text: e.Text, Passed: &e.Passed, Found: &e.Found})
		}
		return v, nil
	})
}
