package live

import (
	"context"
	"fmt"
	"net/http"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/api"
	"rectura/service/api/inside"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/device"
	"rectura/service/live"
)

// A revision is one as the bench has it, and as an engine needs it.
type revision struct {
	*inside.Revision
	run *live.Revision
}

// revision asks the bench for a revision of a job; the newest where no number is given. The bench has checked it before control compiles
// it.
func (s *Server) revision(ctx context.Context, p *post, number *int64) (r revision, err error) {
	asked := int64(inside.Newest)
	if number != nil {
		asked = *number
	}
	r.Revision, err = s.bench.Revision(ctx, p.name, asked)
	if p.engine != nil && (inside.IsMissing(err) && s.missing(ctx, p) || err == nil && r.Job.Number != p.number) {
		return r, transport.Refuse(http.StatusConflict, inside.Lost(p.name))
	}
	if err != nil {
		return r, err
	}
	_, program, found := logic.Check(r.Sheets)
	if program == nil {
		return r, transport.RefuseFound(http.StatusConflict, fmt.Sprintf("Revision %d has errors, and cannot be run; mend them in a new revision.", r.Number), found)
	}
	r.run = &live.Revision{Number: r.Number, Program: program, Sources: r.Sheets,
		Drivers: func() ([]device.Driver, error) { return live.Drivers(program, s.log) }}
	drivers, err := r.run.Drivers()
	if err != nil {
		return r, err
	}
	r.run.Lease, err = s.jobs.LeaseOf(ctx, p.name, drivers)
	return r, problem(err)
}

// missing reports whether the bench has no job of a name.
func (s *Server) missing(ctx context.Context, p *post) bool {
	_, err := s.bench.Job(ctx, p.name)
	return inside.IsMissing(err)
}

// Listen lets a job listen.
func (s *Server) Listen(ctx context.Context, request ListenRequestObject) (ListenResponseObject, error) {
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, err := s.revision(ctx, p, request.Body.Revision)
	if err != nil {
		return nil, err
	}
	dropped, err := s.jobs.Listen(ctx, p.number, p.name, r.run, views.Deref(request.Body.Who), views.Deref(request.Body.Why))
	if err != nil {
		return nil, problem(err)
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
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, err := s.revision(ctx, p, request.Body.Revision)
	if err != nil {
		return nil, err
	}
	if p.engine == nil {
		if _, err := s.jobs.Listen(ctx, p.number, p.name, r.run, views.Deref(request.Body.Who), views.Deref(request.Body.Why)); err != nil {
			return nil, problem(err)
		}
		if p, err = s.engine(ctx, request.Job); err != nil {
			return nil, err
		}
	}
	plan, err := p.engine.Plan(ctx, r.run)
	if err != nil {
		return nil, problem(err)
	}
	return PlanArming200JSONResponse(planView(r, plan)), nil
}

func planView(r revision, p live.Plan) api.Plan {
	list := func(all []string) []string { return append([]string{}, all...) }
	return api.Plan{
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
		Trials:   list(r.Untried),
	}
}

func moveViews(all []live.Move) []api.Move {
	answer := make([]api.Move, len(all))
	for i, m := range all {
		answer[i] = api.Move{Output: m.Output, Place: views.Some(m.Place), From: m.From, To: m.To, Because: m.Because, Unknown: m.Unknown}
	}
	return answer
}

// Arm agrees to a plan.
func (s *Server) Arm(ctx context.Context, request ArmRequestObject) (ArmResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	b := request.Body
	r, err := s.revision(ctx, p, &b.Revision)
	if err != nil {
		return nil, err
	}
	untried := r.Untried
	if len(untried) > 0 && views.Deref(b.Despite) == "" {
		return nil, transport.Refuse(
			http.StatusConflict,
			fmt.Sprintf("Revision %d is not armed, since of its trials %s. Play them, or say why that does not matter: despite.",
				r.Number, sheet.List(untried, "and")),
		)
	}
	why := ""
	if len(untried) > 0 {
		why = "despite " + sheet.List(untried, "and") + ": " + views.Deref(b.Despite)
	}
	changed, kept, err := p.engine.Arm(ctx, r.run, live.Agreement{Plan: b.Plan, Who: views.Deref(b.Who), Why: why})
	if err != nil {
		return nil, problem(err)
	}
	a := Arm200JSONResponse{Armed: changed == nil, Kept: kept}
	if changed != nil {
		v := planView(r, *changed)
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
	return PlanDisarming200JSONResponse(moveViews(all)), problem(err)
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
		return nil, problem(err)
	}
	if now.Mode != live.Armed {
		if err := s.jobs.Rest(ctx, p.number, views.Deref(b.Who), views.Deref(b.Why)); err != nil {
			return nil, problem(err)
		}
		return Disarm200JSONResponse{Mode: api.DisarmingModeIdle, Left: []string{}, Kept: true}, nil
	}
	to := live.ToFail
	if b.Outputs != nil {
		to = live.Parting(*b.Outputs)
	}
	left, kept, err := p.engine.Disarm(ctx, to, views.Deref(b.Who), views.Deref(b.Why))
	if err != nil {
		return nil, problem(err)
	}
	return Disarm200JSONResponse{Mode: api.DisarmingModeListening, Left: append([]string{}, left...), Kept: kept}, nil
}
