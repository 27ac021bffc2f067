// Package api answers the service's HTTP requests: the API of openapi.yaml, and
// the console's files.
package api

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"runtime"
	"strings"
	"time"

	"github.com/labstack/echo/v4"
	"github.com/labstack/echo/v4/middleware"
	"golang.org/x/time/rate"

	"rectura/service/live"
	"rectura/service/store"
)

// Config is what a Server needs.
type Config struct {
	Store       *store.Store
	Plant       *store.Plant
	Jobs        *live.Jobs // that are run
	Log         *slog.Logger
	Version     string
	Console     fs.FS    // the console's files; nil for none
	Hosts       []string // that requests may be addressed to, "127.0.0.1:8470"
	UploadLimit int64    // the largest recording taken, in bytes of its file
	Now         func() time.Time
	Memory      int64           // bytes that the program is to stay below; what is kept in memory has a part of it
	WorkLimit   time.Duration   // of one computation
	Closing     context.Context // ends when the service closes
	Damaged     func() []string // what of what is kept is damaged
}

// bodyLimit is the largest request that is no upload, in bytes.
const bodyLimit = 8 << 20

// importLimit is for how long a file may come in at the most, however large and
// slow.
const importLimit = 12 * time.Hour

// A Server holds what the handlers share.
type Server struct {
	store   *store.Store
	plant   *store.Plant
	jobs    *live.Jobs
	log     *slog.Logger
	version string
	now     func() time.Time
	library *library
	damaged func() []string
	records reaches

	bench   *crew // plays, traces, teaches, exports
	desk    *crew // answers what is asked while writing, and takes no longer
	imports *crew
	probes  *crew // reads devices, one at a time: units of one line would answer each other
}

// New builds the handler of all requests.
func New(c Config) (http.Handler, error) {
	s := &Server{store: c.Store, plant: c.Plant, jobs: c.Jobs, log: c.Log, version: c.Version, now: c.Now, damaged: c.Damaged,
		bench: newCrew(c.Closing, c.Log, c.WorkLimit), desk: newCrew(c.Closing, c.Log, c.WorkLimit), imports: newCrew(c.Closing, c.Log, importLimit),
		probes: newCrewOf(c.Closing, c.Log, 1, c.WorkLimit)}
	s.library = newLibrary(s.bench, c.Log, c.Memory/4)
	v, err := newValidator()
	if err != nil {
		return nil, err
	}
	e := echo.New()
	e.HideBanner, e.HidePort = true, true
	e.HTTPErrorHandler = s.handleError
	e.IPExtractor = echo.ExtractIPDirect() // of the connection; a header can say anything
	e.Use(
		s.logRequests,
		middleware.SecureWithConfig(middleware.SecureConfig{
			ContentTypeNosniff:    "nosniff",
			XFrameOptions:         "DENY",
			ReferrerPolicy:        "no-referrer",
			ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
		}),
		notStored,
		middleware.Recover(),
		guard(c.Hosts),
		middleware.RateLimiterWithConfig(middleware.RateLimiterConfig{
			Store: middleware.NewRateLimiterMemoryStoreWithConfig(
				middleware.RateLimiterMemoryStoreConfig{Rate: rate.Limit(200), Burst: 400},
			),
			IdentifierExtractor: func(c echo.Context) (string, error) { return c.RealIP(), nil },
			DenyHandler: func(echo.Context, string, error) error {
				return refuse(http.StatusTooManyRequests, "Too many requests in a short time; wait a second and try again.")
			},
		}),
		limitBodies(c.UploadLimit),
		named,
		v.middleware,
		middleware.GzipWithConfig(middleware.GzipConfig{Skipper: func(c echo.Context) bool { return !isAPI(c.Request()) || strings.HasSuffix(c.Path(), "/now") }}),
	)
	RegisterHandlersWithBaseURL(e, NewStrictHandler(s, nil), "/api")
	e.Any("/api/*", func(c echo.Context) error {
		return refuse(http.StatusNotFound, "There is no "+shown(c.Request().URL.Path)+" here.")
	})
	if c.Console != nil {
		serveConsole(e, c.Console)
	}
	return headAsGet(e), nil
}

// notStored keeps what the API answers out of caches.
func notStored(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		if isAPI(c.Request()) {
			c.Response().Header().Set(echo.HeaderCacheControl, "no-store")
		}
		return next(c)
	}
}

// guard refuses requests that a page of another site could have made a browser
// send: those not addressed to this service by its own name, and those that
// come from another origin.
func guard(hosts []string) echo.MiddlewareFunc {
	own := map[string]bool{}
	for _, h := range hosts {
		own[h] = true
	}
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			r := c.Request()
			if !own[r.Host] {
				return refuse(
					http.StatusForbidden,
					"This service does not answer for the host "+shown(r.Host)+"; use the address that it printed when it started.",
				)
			}
			origin := r.Header.Get(echo.HeaderOrigin)
			if origin != "" && origin != "http://"+r.Host || r.Header.Get("Sec-Fetch-Site") == "cross-site" {
				return refuse(http.StatusForbidden, "This service does not answer pages of other sites.")
			}
			return next(c)
		}
	}
}

// logRequests writes a line for each request of the API, without its contents.
func (s *Server) logRequests(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		start := time.Now()
		err := next(c)
		if err != nil {
			c.Error(err) // answered here, so that the status below is the one sent
		}
		if r := c.Request(); strings.HasPrefix(r.URL.Path, "/api/") {
			s.log.Info("request", slog.String("method", r.Method), slog.String("path", r.URL.Path),
				slog.Int("status", c.Response().Status), slog.Duration("took", time.Since(start)))
		}
		return nil
	}
}

// GetHealth answers as long as the process does.
func (s *Server) GetHealth(context.Context, GetHealthRequestObject) (GetHealthResponseObject, error) {
	return GetHealth200JSONResponse{StatusJSONResponse{Status: "ok"}}, nil
}

// GetReady answers well only if the store does.
func (s *Server) GetReady(ctx context.Context, _ GetReadyRequestObject) (GetReadyResponseObject, error) {
	for _, file := range []struct {
		name string
		ping func(context.Context) error
	}{{"store", s.store.Ping}, {"plant's file", s.plant.Ping}} {
		if err := file.ping(ctx); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			s.log.Error("not ready", slog.String("of", file.name), slog.Any("error", err))
			return nil, refuse(http.StatusServiceUnavailable, "The "+file.name+" does not answer; see the service's log.")
		}
	}
	damaged := append([]string{}, s.damaged()...)
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

// GetVersion tells what program this is.
func (s *Server) GetVersion(context.Context, GetVersionRequestObject) (GetVersionResponseObject, error) {
	return GetVersion200JSONResponse{Version: s.version, Go: runtime.Version()}, nil
}
