package api

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/device"
	"rectura/service/live"
	"rectura/service/store"
)

// engine is that of a job that is run, and its wall.
func (s *Server) engine(ctx context.Context, job string) (*live.Engine, wall, error) {
	j, err := s.shelf(ctx, job)
	if err != nil {
		return nil, wall{}, err
	}
	w, err := j.wall(ctx)
	if err != nil {
		return nil, w, err
	}
	e := s.jobs.Engine(job)
	if e == nil {
		return nil, w, refuse(
			http.StatusConflict,
			"The job "+job+" is idle: its devices are not read, and its rules do not run. Let it listen, or arm it.",
		)
	}
	return e, w, nil
}

// as makes a problem of what an engine refuses.
func as(err error) error {
	switch {
	case errors.Is(err, live.ErrRefused):
		text := err.Error() // which may begin with a name, and end with a question
		if !strings.HasSuffix(text, "?") {
			text += "."
		}
		return refuse(http.StatusConflict, text)
	case errors.Is(err, live.ErrSilent):
		return refuse(
			http.StatusServiceUnavailable,
			"The engine of the job does not answer. Its devices write what outputs fail to; look at the service's log.",
		)
	case errors.Is(err, live.ErrEnded):
		return refuse(http.StatusConflict, "The job is not run any more; ask for its status.")
	}
	return err
}

// A wall is where a job's times are read off: in its time zone, as in its sentences.
type wall struct{ *time.Location }

func (w wall) at(t int64) time.Time { return time.Unix(0, t).In(w.Location) }

func (w wall) when(t int64) *time.Time {
	if t == 0 {
		return nil
	}
	x := w.at(t)
	return &x
}

// wall is that of a job; UTC where it has no time zone, or no revision.
func (j *shelf) wall(ctx context.Context) (wall, error) {
	p, err := j.newest(ctx)
	if err != nil || p == nil || p.Job.Timezone == "" {
		return wall{time.UTC}, err
	}
	zone, err := time.LoadLocation(p.Job.Timezone)
	return wall{zone}, err
}

func some[T comparable](v T) *T {
	var none T
	if v == none {
		return nil
	}
	return &v
}

// GetStatus tells how each job is run.
func (s *Server) GetStatus(ctx context.Context, _ GetStatusRequestObject) (GetStatusResponseObject, error) {
	jobs, err := s.store.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	all := GetStatus200JSONResponse{}
	for _, j := range jobs {
		v, err := s.status(ctx, &shelf{s.library, j})
		if err != nil {
			return nil, err
		}
		all = append(all, v)
	}
	return all, nil
}

func (s *Server) status(ctx context.Context, j *shelf) (JobStatus, error) {
	job := j.Name
	w, err := j.wall(ctx)
	if err != nil {
		return JobStatus{}, err
	}
	idle := JobStatus{Job: job, Mode: JobStatusModeIdle, Fault: s.jobs.Failed(job), Devices: []DeviceNow{}, Alarms: map[string]int{}}
	e := s.jobs.Engine(job)
	if e == nil {
		return idle, nil
	}
	v, err := e.Status(ctx)
	if errors.Is(err, live.ErrEnded) {
		return idle, nil
	}
	if errors.Is(err, live.ErrSilent) { // the others are told all the same
		idle.Mode, idle.Fault = JobStatusModeArmed, "its engine does not answer"
		return idle, nil
	}
	if err != nil {
		return JobStatus{}, err
	}
	return statusView(w, v), nil
}

func statusView(w wall, v live.Status) JobStatus {
	x := JobStatus{
		Job:            v.Job,
		Mode:           JobStatusMode(v.Mode),
		Revision:       &v.Revision,
		Since:          w.when(v.Since),
		Fault:          v.Fault,
		Waiting:        v.Waiting,
		Settling:       v.Settling,
		NotKeptSince:   w.when(v.NotKept),
		NotKeptBecause: v.NotKeptWhy,
		LatenessMs:     Lateness{P50: v.P50, P99: v.P99},
		Late:           v.Late,
		PassedOver:     v.Passed,
		Starts:         v.Starts,
		Devices:        []DeviceNow{},
		Alarms:         v.Alarms,
		Bypasses:       v.Bypasses,
	}
	if v.SynchronisedKnown {
		x.ClockSynchronised = &v.Synchronised
	}
	for _, d := range v.Devices {
		x.Devices = append(
			x.Devices,
			DeviceNow{Name: d.Name, State: DeviceNowState(d.State), Since: w.at(d.Since), Because: d.Why, Heartbeat: d.Heartbeat},
		)
	}
	return x
}

// GetNow tells everything of a job that is run.
func (s *Server) GetNow(ctx context.Context, request GetNowRequestObject) (GetNowResponseObject, error) {
	e, w, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	now, err := e.Now(ctx)
	if err != nil {
		return nil, as(err)
	}
	v := Now{
		Status:    statusView(w, now.Status),
		Time:      w.at(now.Clock),
		Points:    []PointNow{},
		Rules:     []RuleNow{},
		Alarms:    []AlarmNow{},
		Setpoints: []SetpointNow{},
		Bypasses:  []Bypass{},
	}
	for _, p := range now.Points {
		v.Points = append(v.Points, pointView(p))
	}
	for _, r := range now.Rules {
		v.Rules = append(v.Rules, RuleNow{Name: r.Name, Title: r.Title, Kind: r.Kind, State: r.State, Because: r.Because})
	}
	for _, a := range now.Alarms {
		v.Alarms = append(
			v.Alarms,
			AlarmNow{Name: a.Name, Title: a.Title, Priority: a.Priority, State: a.State, Since: w.when(a.Since), Because: a.Because,
				Advice: a.Advice, ShelvedUntil: w.when(a.Shelved), Suppressed: a.Suppressed, OutOfService: a.OutOfService},
		)
	}
	for _, x := range now.Settings {
		v.Setpoints = append(v.Setpoints, SetpointNow{Name: x.Name, Title: x.Title, Value: x.Value, Written: x.Written, Unit: x.Unit})
	}
	for _, b := range now.Bypasses {
		v.Bypasses = append(v.Bypasses, bypassView(w, b))
	}
	return GetNow200JSONResponse(v), nil
}

func pointView(p live.PointNow) PointNow {
	v := PointNow{Name: p.Name, Title: p.Title, Kind: PointNowKind(p.Kind), Unit: some(p.Unit), State: some(p.State)}
	if !math.IsNaN(p.Value) && !math.IsInf(p.Value, 0) {
		v.Value = &p.Value
	}
	if p.Kind == "output" {
		mode := PointNowMode(p.Mode)
		v.Because, v.Mode, v.Written = &p.Reason, &mode, &p.Written
		v.NotWritten, v.Would, v.Found = some(p.NotWritten), some(p.Would), some(p.Found)
		v.OnSeconds, v.Starts = &p.OnFor, &p.Starts
		if !math.IsNaN(p.Due) {
			v.DueSeconds = &p.Due
		}
		return v
	}
	quality := PointNowQuality(p.Quality)
	v.Quality, v.Reason, v.Pinned = &quality, &p.Reason, &p.Pinned
	if !math.IsNaN(p.Age) {
		v.AgeSeconds = &p.Age
	}
	return v
}

// GetReason tells why something is as it is now.
func (s *Server) GetReason(ctx context.Context, request GetReasonRequestObject) (GetReasonResponseObject, error) {
	e, w, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	why, err := e.Why(ctx, request.Params.Name)
	if err != nil {
		return nil, as(err)
	}
	v := GetReason200JSONResponse{Name: request.Params.Name, State: why.State, Because: why.Because, NotWritten: some(why.NotWritten),
		Grounds: groundViews(why.Grounds), Under: append([]int{}, why.Under...)}
	if why.Bypass != nil {
		b := bypassView(w, *why.Bypass)
		v.Bypass = &b
	}
	return v, nil
}

func bypassView(w wall, b live.BypassNow) Bypass {
	return Bypass{Name: b.Name, Kind: b.Kind, Value: b.Value, Who: b.Who, Why: b.Why, Since: w.when(b.Since), Until: w.when(b.Until)}
}

// Command does what a person wants.
func (s *Server) Command(ctx context.Context, request CommandRequestObject) (CommandResponseObject, error) {
	e, w, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	b := request.Body
	q := live.Request{
		Do:      string(b.Do),
		Name:    b.Name,
		Value:   text(b.Value),
		Written: b.Written != nil && *b.Written,
		Lock:    text(b.Lock),
		Who:     text(b.Who),
		Why:     text(b.Why),
	}
	if b.ForSeconds != nil {
		q.For = time.Duration(*b.ForSeconds * 1e9)
	}
	a, err := e.Do(ctx, q)
	if err != nil {
		return nil, as(err)
	}
	return Command200JSONResponse{
		Before:  a.Before,
		After:   a.After,
		State:   a.State,
		Because: a.Because,
		Until:   w.when(a.Until),
		Kept:    a.Kept,
	}, nil
}

// revision is one of a job, as an engine needs it; the newest where no number is given.
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
	return &live.Revision{Number: *number, Program: p.Program, Sources: sources,
		Drivers: func() ([]device.Driver, error) { return live.Drivers(p.Program, s.log) }}, nil
}

// Listen lets a job listen.
func (s *Server) Listen(ctx context.Context, request ListenRequestObject) (ListenResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, err := s.revision(ctx, j, request.Body.Revision)
	if err != nil {
		return nil, err
	}
	if err := s.jobs.Listen(ctx, request.Job, r, text(request.Body.Who), text(request.Body.Why)); err != nil {
		return nil, as(err)
	}
	v, err := s.status(ctx, j)
	return Listen200JSONResponse(v), err
}

// PlanArming says what arming would do. A job that is idle listens first.
func (s *Server) PlanArming(ctx context.Context, request PlanArmingRequestObject) (PlanArmingResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, err := s.revision(ctx, j, request.Body.Revision)
	if err != nil {
		return nil, err
	}
	if s.jobs.Engine(request.Job) == nil {
		if err := s.jobs.Listen(ctx, request.Job, r, text(request.Body.Who), text(request.Body.Why)); err != nil {
			return nil, as(err)
		}
	}
	e, _, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	p, err := e.Plan(ctx, r)
	if err != nil {
		return nil, as(err)
	}
	v, err := s.planView(ctx, j, r, p)
	return PlanArming200JSONResponse(v), err
}

func (s *Server) planView(ctx context.Context, j *shelf, r *live.Revision, p live.Plan) (Plan, error) {
	v := Plan{
		Number:   p.Number,
		Revision: r.Number,
		Changes:  append([]string{}, p.Changes...),
		Moves:    moveViews(p.Moves),
		Waiting:  p.Waiting,
	}
	var err error
	v.Trials, err = j.untried(ctx, r)
	return v, err
}

func moveViews(all []live.Move) []Move {
	views := make([]Move, len(all))
	for i, m := range all {
		views[i] = Move{Output: m.Output, From: m.From, To: m.To, Because: m.Because, Unknown: m.Unknown}
	}
	return views
}

// untried are the trials of a revision that have failed, or that were not played, each with a sentence.
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
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	b := request.Body
	r, err := s.revision(ctx, j, &b.Revision)
	if err != nil {
		return nil, err
	}
	e, _, err := s.engine(ctx, request.Job)
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
	clash, err := s.jobs.Clash(ctx, request.Job, r)
	if err != nil {
		return nil, as(err)
	}
	if clash != "" {
		return nil, refuse(http.StatusConflict, "Revision "+fmt.Sprint(r.Number)+" is not armed: "+clash+".")
	}
	changed, kept, err := e.Arm(ctx, r, live.Agreement{Plan: b.Plan, Who: text(b.Who), Why: why})
	if err != nil {
		return nil, as(err)
	}
	a := Arm200JSONResponse{Armed: changed == nil, Kept: kept}
	if changed != nil {
		v, err := s.planView(ctx, j, r, *changed)
		if err != nil {
			return nil, err
		}
		a.Plan = &v
	}
	return a, nil
}

// PlanDisarming says what disarming would move.
func (s *Server) PlanDisarming(ctx context.Context, request PlanDisarmingRequestObject) (PlanDisarmingResponseObject, error) {
	e, _, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	to := live.ToFail
	if o := request.Params.Outputs; o != nil {
		to = live.Parting(*o)
	}
	all, err := e.Partings(ctx, to)
	return PlanDisarming200JSONResponse(moveViews(all)), as(err)
}

// Disarm lets an armed job listen, and one that listens be idle.
func (s *Server) Disarm(ctx context.Context, request DisarmRequestObject) (DisarmResponseObject, error) {
	e, _, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	b := request.Body
	now, err := e.Status(ctx)
	if err != nil {
		return nil, as(err)
	}
	if now.Mode != live.Armed {
		if err := s.jobs.Rest(ctx, request.Job, text(b.Who), text(b.Why)); err != nil {
			return nil, as(err)
		}
		return Disarm200JSONResponse{Mode: DisarmingModeIdle, Left: []string{}, Kept: true}, nil
	}
	to := live.ToFail
	if b.Outputs != nil {
		to = live.Parting(*b.Outputs)
	}
	left, kept, err := e.Disarm(ctx, to, text(b.Who), text(b.Why))
	if err != nil {
		return nil, as(err)
	}
	return Disarm200JSONResponse{Mode: DisarmingModeListening, Left: append([]string{}, left...), Kept: kept}, nil
}

// GetJournal tells what happened.
func (s *Server) GetJournal(ctx context.Context, request GetJournalRequestObject) (GetJournalResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	w, err := j.wall(ctx)
	if err != nil {
		return nil, err
	}
	q := request.Params
	f := store.JournalFilter{Kind: text(q.Kind), Name: text(q.Name), Who: text(q.Who), Newest: mostEntries}
	f.From, f.To = instant(q.From), instant(q.To)
	if q.After != nil {
		f.After = *q.After
	}
	if q.Newest != nil {
		f.Newest = *q.Newest
	}
	entries, err := s.plant.Journal(ctx, request.Job, f)
	if err != nil {
		return nil, err
	}
	all := make(GetJournal200JSONResponse, len(entries))
	for i := range entries {
		all[i] = entryView(w, &entries[i])
	}
	return all, nil
}

// mostEntries is how many entries of a journal are told at once.
const mostEntries = 100_000

func instant(t *time.Time) int64 {
	if t == nil {
		return 0
	}
	return t.UnixNano()
}

func entryView(w wall, e *store.Entry) JournalEntry {
	return JournalEntry{
		Number:  e.Number,
		Time:    w.at(e.Time),
		Kind:    e.Kind,
		Name:    e.Name,
		From:    e.From,
		To:      e.To,
		Because: e.Because,
		Who:     e.Who,
		Via:     e.Via,
	}
}

// Verify plays what was captured again.
func (s *Server) Verify(ctx context.Context, request VerifyRequestObject) (VerifyResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	from, to := instant(request.Params.From), instant(request.Params.To)
	if to == 0 {
		to = math.MaxInt64
	}
	v, err := do(ctx, s.bench, func(work context.Context) (Verification, error) { return s.verify(work, j, from, to) })
	return Verify200JSONResponse(v), err
}

func (s *Server) verify(ctx context.Context, j *shelf, from, to int64) (Verification, error) {
	v := Verification{Differ: []Differing{}, LeftOut: []string{}}
	w, err := j.wall(ctx)
	if err != nil {
		return v, err
	}
	segments, err := s.plant.Segments(ctx, j.Name, from, to)
	if err != nil {
		return v, err
	}
	for _, seg := range segments {
		if err := ctx.Err(); err != nil {
			return v, err
		}
		p, err := j.program(ctx, seg.Revision)
		if err != nil {
			v.LeftOut = append(
				v.LeftOut,
				fmt.Sprintf(
					"%s to %s: revision %d cannot be compiled any more",
					w.at(seg.Begins).Format(time.DateTime),
					w.at(seg.Ends).Format(time.DateTime),
					seg.Revision,
				),
			)
			continue
		}
		same, differ, err := s.verifySegment(ctx, j.Name, seg, p.Program)
		if err != nil {
			return v, err
		}
		v.Same += same
		for _, d := range differ {
			x := Differing{}
			if d.Journal != nil {
				e := entryView(w, d.Journal)
				x.Journal = &e
			}
			if d.Capture != nil {
				e := entryView(w, d.Capture)
				x.Capture = &e
			}
			v.Differ = append(v.Differ, x)
		}
	}
	return v, nil
}

func (s *Server) verifySegment(ctx context.Context, job string, seg store.Segment, p *logic.Program) (int, []live.Differing, error) {
	memory, stretches, err := s.plant.Captured(ctx, seg.ID)
	if err != nil {
		return 0, nil, err
	}
	replayed, err := live.Replay(p, memory, stretches)
	if err != nil {
		return 0, nil, fmt.Errorf("playing the segment %d again: %w", seg.ID, err)
	}
	journal, err := s.plant.Journal(ctx, job, store.JournalFilter{From: min(seg.Begins, seg.Ends) - 1, To: max(seg.Begins, seg.Ends) + 1})
	if err != nil {
		return 0, nil, err
	}
	// What lies at the borders is of the segment that has it.
	same, differ := live.Compare(within(journal, replayed), replayed)
	return same, differ, nil
}

// within leaves out what the journal has before the first and behind the last of what was played.
func within(journal, replayed []store.Entry) []store.Entry {
	if len(replayed) == 0 {
		return nil
	}
	first, last := replayed[0].Time, replayed[len(replayed)-1].Time
	return slices.DeleteFunc(
		slices.Clone(journal),
		func(e store.Entry) bool { return e.Time < min(first, last) || e.Time > max(first, last) },
	)
}
