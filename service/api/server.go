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

	"rectura/service/store"
)

// Config is what a Server needs.
type Config struct {
	Store       *store.Store
	Log         *slog.Logger
	Version     string
	Console     fs.FS    // the console's files; nil for none
	Hosts       []string // that requests may be addressed to, "127.0.0.1:8470"
	UploadLimit int64    // the largest recording taken, in bytes of its file
	Now         func() time.Time
}

// bodyLimit is the largest request that is no upload, in bytes.
const bodyLimit = 8 << 20

// A Server holds what the handlers share.
type Server struct {
	store   *store.Store
	log     *slog.Logger
	version string
	now     func() time.Time
	library *library
}

// New builds the handler of all requests.
func New(c Config) (http.Handler, error) {
	s := &Server{store: c.Store, log: c.Log, version: c.Version, now: c.Now}
	var err error
	if s.library, err = newLibrary(c.Store); err != nil {
		return nil, err
	}
	e := echo.New()
	e.HideBanner, e.HidePort = true, true
	e.HTTPErrorHandler = s.handleError
	e.Use(
		s.logRequests,
		middleware.Recover(),
		guard(c.Hosts),
		middleware.SecureWithConfig(middleware.SecureConfig{
			ContentTypeNosniff:    "nosniff",
			XFrameOptions:         "DENY",
			ReferrerPolicy:        "no-referrer",
			ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
		}),
		middleware.RateLimiterWithConfig(middleware.RateLimiterConfig{
			Store: middleware.NewRateLimiterMemoryStoreWithConfig(middleware.RateLimiterMemoryStoreConfig{Rate: rate.Limit(200), Burst: 400}),
			DenyHandler: func(echo.Context, string, error) error {
				return refuse(http.StatusTooManyRequests, "Too many requests in a short time; wait a second and try again.")
			},
		}),
		limitBodies(c.UploadLimit),
		middleware.Gzip(),
	)
	RegisterHandlersWithBaseURL(e, NewStrictHandler(s, nil), "/api")
	e.Any("/api/*", func(c echo.Context) error {
		return refuse(http.StatusNotFound, "There is no "+c.Request().URL.Path+" here.")
	})
	if c.Console != nil {
		serveConsole(e, c.Console)
	}
	return e, nil
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
				return refuse(http.StatusForbidden, "This service does not answer for the host "+r.Host+"; use the address that it printed when it started.")
			}
			origin := r.Header.Get(echo.HeaderOrigin)
			if origin != "" && origin != "http://"+r.Host || r.Header.Get("Sec-Fetch-Site") == "cross-site" {
				return refuse(http.StatusForbidden, "This service does not answer pages of other sites.")
			}
			return next(c)
		}
	}
}

func limitBodies(upload int64) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			r, limit := c.Request(), int64(bodyLimit)
			if r.Method == http.MethodPost && (r.URL.Path == "/api/recordings" || r.URL.Path == "/api/previews") {
				limit = upload
			}
			r.Body = http.MaxBytesReader(c.Response(), r.Body, limit)
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

// serveConsole serves the console's files, and its start page for every path
// that is a page of it.
func serveConsole(e *echo.Echo, files fs.FS) {
	handler := http.FileServerFS(files)
	e.GET("/*", func(c echo.Context) error {
		r := c.Request()
		name := strings.Trim(r.URL.Path, "/")
		switch _, err := fs.Stat(files, name); {
		case name == "" || err != nil:
			c.Response().Header().Set("Cache-Control", "no-cache")
			r.URL.Path = "/"
		case strings.HasPrefix(name, "assets/"): // their names change with their contents
			c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		handler.ServeHTTP(c.Response(), r)
		return nil
	})
}

// GetHealth answers as long as the process does.
func (s *Server) GetHealth(context.Context, GetHealthRequestObject) (GetHealthResponseObject, error) {
	return GetHealth200JSONResponse{StatusJSONResponse{Status: "ok"}}, nil
}

// GetReady answers well only if the store does.
func (s *Server) GetReady(ctx context.Context, _ GetReadyRequestObject) (GetReadyResponseObject, error) {
	if err := s.store.Ping(ctx); err != nil {
		s.log.Error("not ready", slog.Any("error", err))
		return nil, refuse(http.StatusServiceUnavailable, "The store does not answer; see the service's log.")
	}
	return GetReady200JSONResponse{StatusJSONResponse{Status: "ready"}}, nil
}

// GetVersion tells what program this is.
func (s *Server) GetVersion(context.Context, GetVersionRequestObject) (GetVersionResponseObject, error) {
	return GetVersion200JSONResponse{Version: s.version, Go: runtime.Version()}, nil
}
