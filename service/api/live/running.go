package live

import (
	"context"
	"errors"
	"log/slog"
	"math"
	"net/http"
	"strings"
	"sync"
	"time"

	"rectura/service/api"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/live"
	"rectura/service/store"
)

// A post is a job as the plant has it: by its number. A job that is run has one even where the bench does not have the job any more, or
// does not answer.
type post struct {
	number int64
	name   string
	lost   bool         // it runs, and the bench has nothing of it
	engine *live.Engine // nil while it is idle
	wall   views.Wall
}

// post finds the job of a request. Of a job that runs, the bench is not asked.
func (s *Server) post(ctx context.Context, name string) (*post, error) {
	p := &post{number: s.jobs.Named(name), name: name, wall: views.Wall{Location: time.UTC}}
	if p.number == 0 {
		j, err := s.bench.Job(ctx, name)
		if err != nil {
			return nil, err
		}
		p.number = j.Number
	}
	if p.engine = s.jobs.Engine(p.number); p.engine != nil {
		p.wall.Location = p.engine.Zone()
	}
	return p, nil
}

// engine finds a job that is run.
func (s *Server) engine(ctx context.Context, name string) (*post, error) {
	p, err := s.post(ctx, name)
	if err == nil && p.engine == nil {
		err = transport.Refuse(http.StatusConflict,
			"The job "+name+" is idle: its devices are not read, and its rules do not run. Let it listen, or arm it.")
	}
	return p, err
}

// benchPatience bounds the time that a status waits for the bench. The status of running jobs does not need it.
const benchPatience = time.Second

// problem returns what an engine refuses as it is answered; any other error as it is.
func problem(err error) error {
	switch {
	case errors.Is(err, live.ErrRefused):
		return transport.RefuseText(err)
	case errors.Is(err, live.ErrSilent):
		return transport.Refuse(
			http.StatusServiceUnavailable,
			"The engine of the job does not answer. Its devices write what outputs fail to; look at the service's log.",
		)
	case errors.Is(err, live.ErrEnded):
		return transport.Refuse(http.StatusConflict, "The job is not run any more; ask for its status.")
	}
	return err
}

// GetStatus returns the status of each job in the store, and of each running job that the store does not have. Where the bench does
// not answer, it is the status of those that run.
func (s *Server) GetStatus(ctx context.Context, _ GetStatusRequestObject) (GetStatusResponseObject, error) {
	running := s.jobs.Running()
	brief, cancel := context.WithTimeout(ctx, benchPatience)
	defer cancel()
	jobs, asked := s.bench.Jobs(brief)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if asked != nil {
		s.log.Warn("a status is that of the jobs that run alone", slog.Any("error", asked))
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
		if err := add(&post{number: j.Number, name: j.Name, engine: s.jobs.Engine(j.Number)}); err != nil {
			return nil, err
		}
	}
	for _, r := range running {
		if seen[r.Number] {
			continue
		}
		if err := add(&post{number: r.Number, name: r.Name, engine: r.Engine, lost: asked == nil}); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (s *Server) status(ctx context.Context, p *post) (api.JobStatus, error) {
	idle := api.JobStatus{Job: p.name, Mode: api.JobStatusModeIdle, Fault: s.jobs.Failed(p.number), Devices: []api.DeviceNow{}, Alarms: map[string]int{}}
	if p.engine == nil {
		return idle, nil
	}
	v, err := p.engine.Status(ctx)
	if errors.Is(err, live.ErrEnded) {
		return idle, nil
	}
	if errors.Is(err, live.ErrSilent) { // which must not hide the others
		idle.Mode, idle.Fault = api.JobStatusModeArmed, "its engine does not answer"
		return idle, nil
	}
	if err != nil {
		return api.JobStatus{}, err
	}
	w := views.Wall{Location: p.engine.Zone()}
	x := statusView(w, v)
	if p.lost {
		x.Fault = strings.TrimPrefix(x.Fault+"; the job is not in the store any more, and can be disarmed", "; ")
	}
	x.Records = s.reaches.of(ctx, s, p.number, v.Clock, w)
	return x, nil
}

func statusView(w views.Wall, v live.Status) api.JobStatus {
	x := api.JobStatus{
		Job:            v.Job,
		Mode:           api.JobStatusMode(v.Mode),
		Revision:       &v.Revision,
		Since:          w.When(v.Since),
		Fault:          v.Fault,
		Damage:         v.Damage,
		Waiting:        v.Waiting,
		Settling:       v.Settling,
		NotKeptSince:   w.When(v.NotKept),
		NotKeptBecause: v.NotKeptWhy,
		LatenessMs:     api.Lateness{P50: v.P50, P99: v.P99},
		Late:           v.Late,
		PassedOver:     v.Passed,
		LateReadings:   v.LateReadings,
		Hiccups:        v.Hiccups,
		Starts:         v.Starts,
		Devices:        []api.DeviceNow{},
		Alarms:         v.Alarms,
		Bypasses:       v.Bypasses,
	}
	if v.SynchronisedKnown {
		x.ClockSynchronised = &v.Synchronised
	}
	for _, d := range v.Devices {
		x.Devices = append(
			x.Devices,
			api.DeviceNow{Name: d.Name, State: api.DeviceNowState(d.State), Since: w.At(d.Since), Because: d.Why, Heartbeat: d.Heartbeat,
				Requests: d.Traffic.Requests, TimeOuts: d.Traffic.TimeOuts, Exceptions: d.Traffic.Exceptions, P99Ms: d.Traffic.P99 * 1000,
				LastError: d.Traffic.LastError},
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
func (x *reaches) of(ctx context.Context, s *Server, job, now int64, w views.Wall) *api.Records {
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
	return &api.Records{
		JournalFrom:  w.When(r.JournalFrom),
		JournalBytes: r.JournalBytes,
		JournalDays:  days(keep.Journal, keep.JournalBytes, r.JournalADay),
		CaptureFrom:  w.When(r.CaptureFrom),
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
		Value:   views.Deref(b.Value),
		Written: b.Written != nil && *b.Written,
		Lock:    views.Deref(b.Lock),
		Who:     views.Deref(b.Who),
		Why:     views.Deref(b.Why),
	}
	if b.ForSeconds != nil {
		q.For = time.Duration(*b.ForSeconds * 1e9)
	}
	a, err := p.engine.Do(ctx, q)
	if err != nil {
		return nil, problem(err)
	}
	return Command200JSONResponse{
		Before:  a.Before,
		After:   a.After,
		State:   a.State,
		Because: a.Because,
		Until:   p.wall.When(a.Until),
		Kept:    a.Kept,
	}, nil
}

// GetReason tells why something is as it is now. What was is asked of the bench.
func (s *Server) GetReason(ctx context.Context, request GetReasonRequestObject) (GetReasonResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	why, err := p.engine.Why(ctx, request.Params.Name)
	if err != nil {
		return nil, problem(err)
	}
	v := views.Reason(request.Params.Name, why.Why)
	v.NotWritten = views.Some(why.NotWritten)
	if why.Bypass != nil {
		b := bypassView(p.wall, *why.Bypass)
		v.Bypass = &b
	}
	return GetReason200JSONResponse(v), nil
}
