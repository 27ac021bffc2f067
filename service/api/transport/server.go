// Package transport is what control and the bench have of HTTP: who may ask, how large and how slow a request may be, whether it is as
// openapi.yaml describes it, and how an error is answered. It knows no engine.
package transport

import (
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v4"
	"github.com/labstack/echo/v4/middleware"
	"golang.org/x/time/rate"
)

// Options configure the HTTP handler of one process.
type Options struct {
	Log     *slog.Logger
	Upload  int64    // the largest recording taken, in bytes of its file
	Own     string   // the tag of the operations of openapi.yaml that this process answers
	Outside *Outside // nil for a process that only another process of ours reaches
}

// Outside configures the process that clients reach.
type Outside struct {
	Hosts   []string     // that requests may be addressed to, "127.0.0.1:8470"
	Console fs.FS        // the console's files; nil for none
	Metrics http.Handler // of /metrics

	// Passes reports whether a request is another process's, and Pass has it answered there.
	Passes func(*openapi3.Operation, *http.Request) bool
	Pass   func(c echo.Context, operation string, path map[string]string) error
}

// BodyLimit is the largest request that is no upload, in bytes.
const BodyLimit = 8 << 20

// New returns the handler of all requests. It calls register with what the operations of the process are to be added to.
func New(o Options, register func(*echo.Echo)) (http.Handler, error) {
	v, err := newValidator(o)
	if err != nil {
		return nil, err
	}
	e := echo.New()
	e.HideBanner, e.HidePort = true, true
	e.HTTPErrorHandler = handleErrors(o.Log)
	e.IPExtractor = echo.ExtractIPDirect() // of the connection; a header can say anything
	if o.Outside != nil {
		e.Use(logRequests(o.Log), secure(), notStored, middleware.Recover(), guard(o.Outside.Hosts), limitRate())
	} else {
		e.Use(middleware.Recover())
	}
	e.Use(limitBodies(o.Upload), named, v.middleware,
		middleware.GzipWithConfig(middleware.GzipConfig{Skipper: func(c echo.Context) bool {
			return !isAPI(c.Request()) || strings.HasSuffix(c.Path(), "/now") || strings.HasSuffix(c.Path(), "/live")
		}}))
	register(e)
	e.Any("/api/*", func(c echo.Context) error {
		return Refuse(http.StatusNotFound, "There is no "+Shown(c.Request().URL.Path)+" here.")
	})
	if o.Outside != nil {
		e.GET("/metrics", echo.WrapHandler(o.Outside.Metrics))
		if o.Outside.Console != nil {
			serveConsole(e, o.Outside.Console)
		}
	}
	return headAsGet(e), nil
}

// secure sets the headers that keep pages of other sites away from answers.
func secure() echo.MiddlewareFunc {
	return middleware.SecureWithConfig(middleware.SecureConfig{
		ContentTypeNosniff:    "nosniff",
		XFrameOptions:         "DENY",
		ReferrerPolicy:        "no-referrer",
		ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
	})
}

// urgent are the path endings of requests that a person needs while other clients are busy: commands, disarming and present states.
var urgent = []string{"/commands", "/disarming", "/status", "/now", "/processes", "/health"}

// limitRate refuses what one address sends beyond 200 requests a second. What is urgent is counted apart, so that it is answered however
// much else comes from the same address.
func limitRate() echo.MiddlewareFunc {
	return middleware.RateLimiterWithConfig(middleware.RateLimiterConfig{
		Store: middleware.NewRateLimiterMemoryStoreWithConfig(middleware.RateLimiterMemoryStoreConfig{Rate: rate.Limit(200), Burst: 400}),
		IdentifierExtractor: func(c echo.Context) (string, error) {
			for _, end := range urgent {
				if strings.HasSuffix(c.Request().URL.Path, end) {
					return c.RealIP() + " urgent", nil
				}
			}
			return c.RealIP(), nil
		},
		DenyHandler: func(echo.Context, string, error) error {
			return Refuse(http.StatusTooManyRequests, "Too many requests in a short time; wait a second and try again.")
		},
	})
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
				return Refuse(
					http.StatusForbidden,
					"This service does not answer for the host "+Shown(r.Host)+"; use the address that it printed when it started.",
				)
			}
			origin := r.Header.Get(echo.HeaderOrigin)
			if origin != "" && origin != "http://"+r.Host || r.Header.Get("Sec-Fetch-Site") == "cross-site" {
				return Refuse(http.StatusForbidden, "This service does not answer pages of other sites.")
			}
			return next(c)
		}
	}
}

// logRequests writes a line for each request of the API, without its contents.
func logRequests(log *slog.Logger) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			start := time.Now()
			err := next(c)
			if err != nil {
				c.Error(err) // answered here, so that the status below is the one sent
			}
			if r := c.Request(); strings.HasPrefix(r.URL.Path, "/api/") {
				log.Info("request", slog.String("method", r.Method), slog.String("path", r.URL.Path),
					slog.Int("status", c.Response().Status), slog.Duration("took", time.Since(start)))
			}
			return nil
		}
	}
}
