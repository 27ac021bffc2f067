package api

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"syscall"

	"github.com/labstack/echo/v4"

	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/service/background"
	"rectura/service/store"
)

// A failure is an error that the caller is told in full, as a problem.
type failure struct {
	status   int
	detail   string
	findings []sheet.Finding
}

func (f *failure) Error() string { return f.detail }

// refuse is a failure with a status and a sentence that says what to do.
func refuse(status int, detail string) error { return &failure{status: status, detail: detail} }

// problem makes a problem of any error. Of one that nobody foresaw, the caller
// learns no more than that it happened; the log has it.
func problem(err error) Problem {
	var (
		f        *failure
		echoErr  *echo.HTTPError
		tooLarge *http.MaxBytesError
		badFile  *recording.Error
	)
	p := Problem{Type: "about:blank", Status: http.StatusInternalServerError}
	detail := "The service failed. What was kept before is unaffected; its log says more."
	switch {
	case errors.As(err, &tooLarge):
		p.Status, detail = http.StatusRequestEntityTooLarge, "What was sent is larger than this service takes; nothing of it was kept."
	case errors.As(err, &f):
		p.Status, detail = f.status, f.detail
		if f.findings != nil {
			found := findings(f.findings)
			p.Findings = &found
		}
	case errors.Is(err, os.ErrDeadlineExceeded):
		p.Status, detail = http.StatusRequestTimeout, "What was sent came in too slowly, and was given up; nothing of it was kept."
	case errors.Is(err, context.Canceled):
		p.Status, detail = statusClientGone, "The client has gone."
	case errors.Is(err, store.ErrFull) || errors.Is(err, syscall.ENOSPC):
		p.Status, detail = http.StatusInsufficientStorage, sentence(err)+" Nothing was kept."
	case errors.Is(err, store.ErrDamaged):
		p.Status, detail = http.StatusServiceUnavailable, sentence(err)
	case errors.Is(err, store.ErrNeeded):
		p.Status, detail = http.StatusConflict, sentence(err)
	case errors.As(err, &badFile):
		p.Status, detail = http.StatusUnprocessableEntity, badFile.Error()
	case errors.Is(err, store.ErrNotFound):
		p.Status, detail = http.StatusNotFound, err.Error()
	case errors.Is(err, store.ErrExists):
		p.Status, detail = http.StatusConflict, err.Error()
	case errors.As(err, &echoErr):
		p.Status, detail = echoErr.Code, http.StatusText(echoErr.Code)
		if m, ok := echoErr.Message.(string); ok {
			detail = "The request could not be read: " + m
		}
	}
	p.Title, p.Detail = http.StatusText(p.Status), &detail
	return p
}

// statusClientGone is written to the log where nobody is left to be answered.
const statusClientGone = 499

// sentence is an error as the beginning and the end of a sentence.
func sentence(err error) string {
	s := []rune(err.Error())
	return strings.ToUpper(string(s[:1])) + string(s[1:]) + "."
}

// handleError answers every error of the API with problem details (RFC 9457).
func (s *Server) handleError(err error, c echo.Context) {
	if c.Response().Committed {
		return
	}
	p := problem(err)
	if c.Request().Context().Err() != nil || p.Status == statusClientGone {
		c.Response().Status = statusClientGone
		return
	}
	if p.Status == http.StatusTooManyRequests || p.Status == http.StatusServiceUnavailable {
		c.Response().Header().Set(echo.HeaderRetryAfter, "2")
	}
	if meant := new(failure); p.Status >= http.StatusInternalServerError && !errors.As(err, &meant) {
		about := []any{slog.String("path", c.Request().URL.Path), slog.Any("error", err)}
		if p := new(background.Panic); errors.As(err, &p) {
			about = append(about, slog.String("stack", string(p.Stack)))
		}
		s.log.Error("request failed", about...)
	}
	c.Response().Header().Set(echo.HeaderContentType, "application/problem+json")
	c.Response().WriteHeader(p.Status)
	if err := c.Echo().JSONSerializer.Serialize(c, p, ""); err != nil {
		s.log.Warn("answer not written", slog.Any("error", err))
	}
}

func findings(found []sheet.Finding) []Finding {
	all := make([]Finding, len(found))
	for i, f := range found {
		all[i] = Finding{File: f.File, Line: f.Line, Column: f.Column, Severity: string(f.Severity), Code: f.Code, Text: f.Text}
	}
	return all
}
