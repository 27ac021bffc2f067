// Package live answers what control serves: how jobs are run, what people do to them, and what is so now. It passes on what the bench
// serves.
package live

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"runtime"
	"slices"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v4"

	"rectura/service/api"
	"rectura/service/api/inside"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/live"
	"rectura/service/store"
)

// Config has the dependencies and limits of a Server.
type Config struct {
	Plant       *store.Plant
	Jobs        *live.Jobs        // that are run
	Bench       http.RoundTripper // reaches the bench; its errors are transport.Failures
	Log         *slog.Logger
	Version     string
	Console     fs.FS    // the console's files; nil for none
	Hosts       []string // that requests may be addressed to, "127.0.0.1:8470"
	UploadLimit int64    // the largest recording taken, in bytes of its file
	Now         func() time.Time
	WorkLimit   time.Duration        // of one probe
	Closing     context.Context      // ends when the service closes
	Processes   func() []api.Process // of the service
	Damaged     func() []string      // returns the damage of the plant's file, in sentences
}

// A Server holds what the handlers share.
type Server struct {
	plant     *store.Plant
	jobs      *live.Jobs
	bench     *inside.Client
	passed    http.RoundTripper
	log       *slog.Logger
	version   string
	now       func() time.Time
	damaged   func() []string
	processes func() []api.Process
	reaches   reaches
	streams   streams
	closing   context.Context

	probes *pool.Pool // reads devices, one at a time: units of one line would answer each other
}

// New returns the handler of all requests that reach the service.
func New(c Config) (http.Handler, error) {
	s := &Server{plant: c.Plant, jobs: c.Jobs, bench: inside.NewClient(c.Bench), passed: c.Bench, log: c.Log, version: c.Version, now: c.Now,
		damaged: c.Damaged, processes: c.Processes, closing: c.Closing, probes: pool.NewOf(c.Closing, c.Log, 1, c.WorkLimit)}
	out := &transport.Outside{Hosts: c.Hosts, Console: c.Console, Metrics: s.metrics(), Passes: passes, Pass: s.pass}
	return transport.New(transport.Options{Log: c.Log, Upload: c.UploadLimit, Own: "live", Outside: out}, func(e *echo.Echo) {
		RegisterHandlersWithBaseURL(e, NewStrictHandler(s, nil), "/api")
	})
}

// passes reports whether the bench answers a request. Of an operation that both answer, the bench answers what is asked of the past.
func passes(o *openapi3.Operation, r *http.Request) bool {
	if !slices.Contains(o.Tags, "bench") {
		return false
	}
	return !slices.Contains(o.Tags, "live") || r.URL.Query().Has("at")
}

// GetHealth answers as long as the process does.
func (s *Server) GetHealth(context.Context, GetHealthRequestObject) (GetHealthResponseObject, error) {
	return GetHealth200JSONResponse{StatusJSONResponse{Status: "ok"}}, nil
}

// readyPatience bounds the time that GetReady waits for the bench.
const readyPatience = 5 * time.Second

// GetReady answers well only if both files of the service do.
func (s *Server) GetReady(ctx context.Context, _ GetReadyRequestObject) (GetReadyResponseObject, error) {
	if err := s.plant.Ping(ctx); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		s.log.Error("not ready", slog.Any("error", err))
		return nil, transport.Refuse(http.StatusServiceUnavailable, "The plant's file does not answer; see the service's log.")
	}
	brief, cancel := context.WithTimeout(ctx, readyPatience)
	defer cancel()
	bench, err := s.bench.Ready(brief)
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return nil, transport.Refuse(http.StatusServiceUnavailable, "The bench does not answer. What runs goes on.")
	}
	if err != nil {
		return nil, err
	}
	damaged := append(append([]string{}, s.damaged()...), bench.Damaged...)
	for _, r := range s.jobs.Running() {
		if why := s.jobs.Failed(r.Number); why != "" {
			damaged = append(damaged, "the job "+r.Name+": "+why)
		} else if r.Engine != nil {
			if v, err := r.Engine.Status(ctx); err == nil && v.Damage != "" {
				damaged = append(damaged, "the job "+r.Name+": "+v.Damage)
			}
		}
	}
	return GetReady200JSONResponse{Status: "ready", Damaged: damaged}, nil
}

// GetVersion returns the version of the program.
func (s *Server) GetVersion(context.Context, GetVersionRequestObject) (GetVersionResponseObject, error) {
	return GetVersion200JSONResponse{Version: s.version, Go: runtime.Version()}, nil
}
