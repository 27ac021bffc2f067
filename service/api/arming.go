package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"rectura/core/sheet"
	"rectura/service/device"
	"rectura/service/live"
	"rectura/service/store"
)

// revision returns one of a job as an engine needs it; the newest where no number is given.
func (s *Server) revision(ctx context.Context, j *shelf, number *int64) (*live.Revision, error) {
	if number == nil {
		n, err := j.Newest(ctx)
		if errors.Is(err, store.ErrNotFound) {
			return nil, refuse(http.StatusNotFound, "This job has no revision yet; push one first.")
		}
		if err != nil {
			return nil, err
		}
		number = &n
	}
	p, err := j.program(ctx, *number)
	if err != nil {
		return nil, err
	}
	_, sources, err := j.Revision(ctx, *number)
	if err != nil {
		return nil, err
	}
	if sheet.HasErrors(p.found) {
		return nil, &failure{
			http.StatusConflict,
			fmt.Sprintf("Revision %d has errors, and cannot be run; mend them in a new revision.", *number),
			p.found,
		}
	}
	r := &live.Revision{Number: *number, Program: p.Program, Sources: sources,
		Drivers: func() ([]device.Driver, error) { return live.Drivers(p.Program, s.log) }}
	drivers, err := r.Drivers()
	if err != nil {
		return nil, err
	}
	r.Lease, err = s.jobs.LeaseOf(ctx, j.Name, drivers)
	return r, as(err)
}

// Listen lets a job listen.
func (s *Server) Listen(ctx context.Context, request ListenRequestObject) (ListenResponseObject, error) {
	p, j, err := s.benched(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, err := s.revision(ctx, j, request.Body.Revision)
	if err != nil {
		return nil, err
	}
	dropped, err := s.jobs.Listen(ctx, p.number, p.name, r, text(request.Body.Who), text(request.Body.Why))
	if err != nil {
		return nil, as(err)
	}
	if p, err = s.post(ctx, request.Job); err != nil {
		return nil, err
	}
	v, err := s.status(ctx, p)
	if len(dropped) > 0 {
		v.Dropped = &dropped
	}
	return Listen200JSONResponse(v), err
}

// PlanArming returns the plan of arming a revision. An idle job begins to listen.
func (s *Server) PlanArming(ctx context.Context, request PlanArmingRequestObject) (PlanArmingResponseObject, error) {
	p, j, err := s.benched(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, err := s.revision(ctx, j, request.Body.Revision)
	if err != nil {
		return nil, err
	}
	if p.engine == nil {
		if _, err := s.jobs.Listen(ctx, p.number, p.name, r, text(request.Body.Who), text(request.Body.Why)); err != nil {
			return nil, as(err)
		}
		if p, err = s.engine(ctx, request.Job); err != nil {
			return nil, err
		}
	}
	plan, err := p.engine.Plan(ctx, r)
	if err != nil {
		return nil, as(err)
	}
	v, err := planView(ctx, j, r, plan)
	return PlanArming200JSONResponse(v), err
}

func planView(ctx context.Context, j *shelf, r *live.Revision, p live.Plan) (Plan, error) {
	list := func(all []string) []string { return append([]string{}, all...) }
	v := Plan{
		Number:   p.Number,
		Revision: r.Number,
		Changes:  list(p.Changes),
		Wires:    list(p.Wires),
		Moves:    moveViews(p.Moves),
		Holds:    list(p.Holds),
		Kept:     list(p.Kept),
		Unmoved:  list(p.Unmoved),
		AtEnds:   list(p.AtEnds),
		Silent:   list(p.Silent),
		Waiting:  p.Waiting,
	}
	var err error
	v.Trials, err = j.untried(ctx, r)
	return v, err
}

func moveViews(all []live.Move) []Move {
	views := make([]Move, len(all))
	for i, m := range all {
		views[i] = Move{Output: m.Output, Place: some(m.Place), From: m.From, To: m.To, Because: m.Because, Unknown: m.Unknown}
	}
	return views
}

// untried returns the trials of a revision that have failed, or that were not played, each with a sentence.
func (j *shelf) untried(ctx context.Context, r *live.Revision) ([]string, error) {
	results, err := j.TrialResults(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	all := []string{}
	for _, t := range r.Program.Job.Trials {
		i := slices.IndexFunc(results, func(x store.TrialResult) bool { return x.Trial == t.Name })
		switch {
		case i < 0:
			all = append(all, t.Name+" was not played with this revision")
		case !results[i].Passed:
			all = append(all, t.Name+" failed at "+results[i].Time().Format(time.DateTime)+" UTC")
		}
	}
	return all, nil
}

// Arm agrees to a plan.
func (s *Server) Arm(ctx context.Context, request ArmRequestObject) (ArmResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	j, err := p.bench()
	if err != nil {
		return nil, err
	}
	b := request.Body
	r, err := s.revision(ctx, j, &b.Revision)
	if err != nil {
		return nil, err
	}
	untried, err := j.untried(ctx, r)
	if err != nil {
		return nil, err
	}
	if len(untried) > 0 && text(b.Despite) == "" {
		return nil, refuse(
			http.StatusConflict,
			fmt.Sprintf("Revision %d is not armed, since of its trials %s. Play them, or say why that does not matter: despite.",
				r.Number, sheet.List(untried, "and")),
		)
	}
	why := ""
	if len(untried) > 0 {
		why = "despite " + sheet.List(untried, "and") + ": " + text(b.Despite)
	}
	changed, kept, err := p.engine.Arm(ctx, r, live.Agreement{Plan: b.Plan, Who: text(b.Who), Why: why})
	if err != nil {
		return nil, as(err)
	}
	a := Arm200JSONResponse{Armed: changed == nil, Kept: kept}
	if changed != nil {
		v, err := planView(ctx, j, r, *changed)
		if err != nil {
			return nil, err
		}
		a.Plan = &v
	}
	return a, nil
}

// PlanDisarming returns the outputs that disarming would move.
func (s *Server) PlanDisarming(ctx context.Context, request PlanDisarmingRequestObject) (PlanDisarmingResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	to := live.ToFail
	if o := request.Params.Outputs; o != nil {
		to = live.Parting(*o)
	}
	all, err := p.engine.Partings(ctx, to)
	return PlanDisarming200JSONResponse(moveViews(all)), as(err)
}

// Disarm lets an armed job listen, and one that listens be idle.
func (s *Server) Disarm(ctx context.Context, request DisarmRequestObject) (DisarmResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	b := request.Body
	now, err := p.engine.Status(ctx)
	if err != nil {
		return nil, as(err)
	}
	if now.Mode != live.Armed {
		if err := s.jobs.Rest(ctx, p.number, text(b.Who), text(b.Why)); err != nil {
			return nil, as(err)
		}
		return Disarm200JSONResponse{Mode: DisarmingModeIdle, Left: []string{}, Kept: true}, nil
	}
	to := live.ToFail
	if b.Outputs != nil {
		to = live.Parting(*b.Outputs)
	}
	left, kept, err := p.engine.Disarm(ctx, to, text(b.Who), text(b.Why))
	if err != nil {
		return nil, as(err)
	}
	return Disarm200JSONResponse{Mode: DisarmingModeListening, Left: append([]string{}, left...), Kept: kept}, nil
}
