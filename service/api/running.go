package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"strings"
	"sync"
	"time"

	"rectura/core/logic"
	"rectura/service/live"
	"rectura/service/store"
)

// A post is a job as the plant has it: by its number. A job that is run has one even where the bench does not have the job any more, or
// cannot be read.
type post struct {
	number int64
	name   string
	shelf  *shelf       // its revisions and recordings; nil if the store does not have the job
	engine *live.Engine // nil while it is idle
	wall   wall
}

// post finds the job of a request.
func (s *Server) post(ctx context.Context, name string) (*post, error) {
	p := &post{name: name, wall: wall{time.UTC}}
	j, err := s.shelf(ctx, name)
	if err == nil {
		p.number, p.shelf = j.ID, j
	}
	if running := s.jobs.Named(name); running != 0 && running != p.number { // a job that drives comes before one that is kept
		p.number, p.shelf = running, nil
	} else if err != nil {
		return nil, err
	}
	if p.engine = s.jobs.Engine(p.number); p.engine != nil {
		p.wall.Location = p.engine.Zone()
		return p, nil
	}
	if p.shelf != nil {
		p.wall, err = p.shelf.wall(ctx)
	}
	return p, err
}

// engine finds a job that is run.
func (s *Server) engine(ctx context.Context, name string) (*post, error) {
	p, err := s.post(ctx, name)
	if err == nil && p.engine == nil {
		err = refuse(http.StatusConflict,
			"The job "+name+" is idle: its devices are not read, and its rules do not run. Let it listen, or arm it.")
	}
	return p, err
}

// bench returns what the bench has of the job.
func (p *post) bench() (*shelf, error) {
	if p.shelf == nil {
		return nil, refuse(http.StatusConflict, "The job "+p.name+" runs, but its revisions are not here any more. It can be disarmed.")
	}
	return p.shelf, nil
}

// benched finds a job that the bench has.
func (s *Server) benched(ctx context.Context, name string) (*post, *shelf, error) {
	p, err := s.post(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	j, err := p.bench()
	return p, j, err
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

// wall returns that of the job's newest revision; UTC where it has no time zone, or no revision.
func (j *shelf) wall(ctx context.Context) (wall, error) {
	p, err := j.newest(ctx)
	if err != nil || p == nil {
		return wall{time.UTC}, err
	}
	return wall{live.ZoneOf(p.Program)}, nil
}

func some[T comparable](v T) *T {
	var none T
	if v == none {
		return nil
	}
	return &v
}

// GetStatus returns the status of each job in the store, and of each running job that the store does not have.
func (s *Server) GetStatus(ctx context.Context, _ GetStatusRequestObject) (GetStatusResponseObject, error) {
	running := s.jobs.Running()
	jobs, err := s.store.Jobs(ctx)
	if err != nil {
		if len(running) == 0 || ctx.Err() != nil {
			return nil, err
		}
		s.log.Error("the jobs of the bench cannot be listed", slog.Any("error", err))
	}
	all := GetStatus200JSONResponse{}
	seen := map[int64]bool{}
	add := func(p *post) error {
		seen[p.number] = true
		v, err := s.status(ctx, p)
		all = append(all, v)
		return err
	}
	for _, j := range jobs {
		p := &post{number: j.ID, name: j.Name, shelf: &shelf{s.library, j}, engine: s.jobs.Engine(j.ID)}
		if err := add(p); err != nil {
			return nil, err
		}
	}
	for _, r := range running {
		if seen[r.Number] {
			continue
		}
		if err := add(&post{number: r.Number, name: r.Name, engine: r.Engine}); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (s *Server) status(ctx context.Context, p *post) (JobStatus, error) {
	idle := JobStatus{Job: p.name, Mode: JobStatusModeIdle, Fault: s.jobs.Failed(p.number), Devices: []DeviceNow{}, Alarms: map[string]int{}}
	if p.engine == nil {
		return idle, nil
	}
	v, err := p.engine.Status(ctx)
	if errors.Is(err, live.ErrEnded) {
		return idle, nil
	}
	if errors.Is(err, live.ErrSilent) { // which must not hide the others
		idle.Mode, idle.Fault = JobStatusModeArmed, "its engine does not answer"
		return idle, nil
	}
	if err != nil {
		return JobStatus{}, err
	}
	w := wall{p.engine.Zone()}
	x := statusView(w, v)
	if p.shelf == nil {
		x.Fault = strings.TrimPrefix(x.Fault+"; the job is not in the store any more, and can be disarmed", "; ")
	}
	x.Records = s.records.of(ctx, s, p.number, v.Clock, w)
	return x, nil
}

func statusView(w wall, v live.Status) JobStatus {
	x := JobStatus{
		Job:            v.Job,
		Mode:           JobStatusMode(v.Mode),
		Revision:       &v.Revision,
		Since:          w.when(v.Since),
		Fault:          v.Fault,
		Damage:         v.Damage,
		Waiting:        v.Waiting,
		Settling:       v.Settling,
		NotKeptSince:   w.when(v.NotKept),
		NotKeptBecause: v.NotKeptWhy,
		LatenessMs:     Lateness{P50: v.P50, P99: v.P99},
		Late:           v.Late,
		PassedOver:     v.Passed,
		LateReadings:   v.LateReadings,
		Hiccups:        v.Hiccups,
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

// recordsLast is for how long one count of a job's records serves all who ask.
const recordsLast = time.Minute

// reaches remembers how far back the records of jobs reach.
type reaches struct {
	mu  sync.Mutex
	all map[int64]reached
}

type reached struct {
	store.Reach
	at time.Time
}

// of returns the records of a job; nil if they cannot be counted, which the log says.
func (x *reaches) of(ctx context.Context, s *Server, job, now int64, w wall) *Records {
	x.mu.Lock()
	r, known := x.all[job]
	x.mu.Unlock()
	if !known || s.now().Sub(r.at) > recordsLast {
		reach, err := s.plant.Reach(ctx, job, now)
		if err != nil {
			s.log.Warn("records cannot be counted", slog.Int64("job", job), slog.Any("error", err))
			return nil
		}
		r = reached{reach, s.now()}
		x.mu.Lock()
		if x.all == nil {
			x.all = map[int64]reached{}
		}
		x.all[job] = r
		x.mu.Unlock()
	}
	keep := store.DefaultRetention
	return &Records{
		JournalFrom:  w.when(r.JournalFrom),
		JournalBytes: r.JournalBytes,
		JournalDays:  days(keep.Journal, keep.JournalBytes, r.JournalADay),
		CaptureFrom:  w.when(r.CaptureFrom),
		CaptureBytes: r.CaptureBytes,
		CaptureDays:  days(keep.Capture, keep.Bytes, r.CaptureADay),
	}
}

// days returns for how many days records are kept of which so much comes a day; nil where nothing came yet.
func days(most time.Duration, bytes, aDay int64) *float64 {
	if aDay <= 0 {
		return nil
	}
	n := math.Round(10*min(most.Hours()/24, float64(bytes)/float64(aDay))) / 10
	return &n
}

// Command does what a person wants.
func (s *Server) Command(ctx context.Context, request CommandRequestObject) (CommandResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
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
	a, err := p.engine.Do(ctx, q)
	if err != nil {
		return nil, as(err)
	}
	return Command200JSONResponse{
		Before:  a.Before,
		After:   a.After,
		State:   a.State,
		Because: a.Because,
		Until:   p.wall.when(a.Until),
		Kept:    a.Kept,
	}, nil
}

// GetReason tells why something is as it is now, or as it was.
func (s *Server) GetReason(ctx context.Context, request GetReasonRequestObject) (GetReasonResponseObject, error) {
	name := request.Params.Name
	if at := request.Params.At; at != nil {
		p, err := s.post(ctx, request.Job)
		if err != nil {
			return nil, err
		}
		why, err := do(ctx, s.bench, func(work context.Context) (live.WhyNow, error) {
			return s.reasonAt(work, p, name, min(nanos(*at), math.MaxInt64-1))
		})
		if err != nil {
			return nil, as(err)
		}
		return GetReason200JSONResponse(reasonView(p.wall, name, why)), nil
	}
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	why, err := p.engine.Why(ctx, name)
	if err != nil {
		return nil, as(err)
	}
	return GetReason200JSONResponse(reasonView(p.wall, name, why)), nil
}

func reasonView(w wall, name string, why live.WhyNow) ReasonNow {
	v := ReasonNow{Name: name, State: why.State, Because: why.Because, NotWritten: some(why.NotWritten), Grounds: groundViews(why.Grounds),
		Under: append([]int{}, why.Under...)}
	if why.Bypass != nil {
		b := bypassView(w, *why.Bypass)
		v.Bypass = &b
	}
	return v
}

// reasonAt plays the capture up to a time, and asks then.
func (s *Server) reasonAt(ctx context.Context, p *post, name string, at int64) (why live.WhyNow, err error) {
	err = s.record(ctx, p, func(r *store.Record) error {
		segments, err := r.Segments(at, at+1)
		if err != nil {
			return err
		}
		if len(segments) == 0 {
			return refuse(http.StatusNotFound, "Nothing was captured at "+p.wall.at(at).Format(time.DateTime)+".")
		}
		seg := segments[len(segments)-1]
		if seg.Earlier {
			return refuse(http.StatusConflict, "What was captured then was captured by an earlier form of this program, and cannot be played.")
		}
		program, err := s.ran(ctx, p.number, seg.Revision)
		if err != nil {
			return err
		}
		c, err := r.Captured(seg.ID)
		if err != nil {
			return err
		}
		stepper, err := live.Play(ctx, program, c, at, func(*logic.Stepper, int64, []logic.Transition) {})
		if err != nil {
			return fmt.Errorf("playing what was captured: %w", err)
		}
		why, err = live.Why(stepper, name)
		return err
	})
	return why, err
}
