package live

import (
	"context"
	"errors"
	"net/http"
	"net/http/httputil"
	"net/url"

	"github.com/labstack/echo/v4"

	"rectura/service/api/inside"
	"rectura/service/api/transport"
	"rectura/service/live"
)

// benchURL stands for the bench in requests that are passed on; only their transport knows the socket.
var benchURL = &url.URL{Scheme: "http", Host: "bench"}

// recorded are the operations that look at what was captured. What is pending is committed before they are passed on.
var recorded = map[string]bool{"getReason": true, "verify": true, "keepCapture": true}

// pass has the bench answer a request. Bodies are streamed both ways, and the bench's work ends when the client goes. Control decodes
// nothing of it.
func (s *Server) pass(c echo.Context, operation string, path map[string]string) error {
	r := c.Request()
	runs, err := s.runningUnder(r.Context(), path["job"], recorded[operation])
	if err != nil {
		return err
	}
	var failed error
	proxy := httputil.ReverseProxy{
		Transport:     s.passed,
		FlushInterval: -1,
		Rewrite: func(p *httputil.ProxyRequest) {
			p.SetURL(benchURL)
			p.Out.Host = benchURL.Host
			p.Out.Header.Del(inside.Running)
			if runs.Number != 0 {
				p.Out.Header.Set(inside.Running, runs.String())
			}
		},
		ErrorHandler: func(_ http.ResponseWriter, _ *http.Request, err error) { failed = err },
	}
	proxy.ServeHTTP(c.Response(), r)
	return unanswered(r.Context(), failed)
}

// unanswered returns why a request that was passed on has no answer: the client, the request, or the bench.
func unanswered(ctx context.Context, err error) error {
	if err == nil || ctx.Err() != nil {
		return err
	}
	if p := transport.ProblemOf(err); p.Status != http.StatusInternalServerError {
		return err
	}
	return transport.Refuse(http.StatusServiceUnavailable, "The bench ended before it answered; it is being started again. Ask once more.")
}

// runningUnder returns the job that runs under a name, if one does, and commits what is pending of it.
func (s *Server) runningUnder(ctx context.Context, name string, commit bool) (runs inside.RunningJob, err error) {
	if name == "" {
		return runs, nil
	}
	if runs.Number = s.jobs.Named(name); runs.Number == 0 {
		return runs, nil
	}
	runs.Zone = "UTC"
	e := s.jobs.Engine(runs.Number)
	if e == nil {
		return runs, nil
	}
	runs.Zone = e.Zone().String()
	if commit {
		if _, err := e.Flush(ctx); err != nil && !errors.Is(err, live.ErrEnded) {
			return runs, problem(err)
		}
	}
	return runs, nil
}
