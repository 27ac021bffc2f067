package transport

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
	"rectura/service/api"
	"rectura/service/background"
	"rectura/service/store"
)

// A Failure is an error that the caller is told in full, as a problem.
type Failure struct {
	Status   int
	Detail   string
	Findings []api.Finding // nil where it is not one of sheets
}

func (f *Failure) Error() string { return f.Detail }

// Refuse returns a failure with a status and a sentence that says what to do.
func Refuse(status int, detail string) error { return &Failure{Status: status, Detail: detail} }

// RefuseText returns a failure of an error that is a sentence, but for its end. It may begin with a name, and end with a question.
func RefuseText(err error) error {
	text := err.Error()
	if !strings.HasSuffix(text, "?") {
		text += "."
	}
	return Refuse(http.StatusConflict, text)
}

// RefuseFound returns a failure with what was found in sheets.
func RefuseFound(status int, detail string, found []sheet.Finding) error {
	return &Failure{Status: status, Detail: detail, Findings: Findings(found)}
}

// ProblemOf makes a problem of any error. Of one that nobody foresaw, the caller
// learns no more than that it happened; the log has it.
func ProblemOf(err error) api.Problem {
	var (
		f        *Failure
		echoErr  *echo.HTTPError
		tooLarge *http.MaxBytesError
		badFile  *recording.Error
	)
	p := api.Problem{Type: "about:blank", Status: http.StatusInternalServerError}
	detail := "The service failed. What was kept before is unaffected; its log says more."
	switch {
	case errors.As(err, &tooLarge):
		p.Status, detail = http.StatusRequestEntityTooLarge, "What was sent is larger than this service takes; nothing of it was kept."
	case errors.As(err, &f):
		p.Status, detail = f.Status, f.Detail
		if f.Findings != nil {
			p.Findings = &f.Findings
		}
	case errors.Is(err, os.ErrDeadlineExceeded):
		p.Status, detail = http.StatusRequestTimeout, "What was sent came in too slowly, and was given up; nothing of it was kept."
	case errors.Is(err, context.Canceled):
		p.Status, detail = ClientGone, "The client has gone."
	case errors.Is(err, store.ErrFull) || errors.Is(err, syscall.ENOSPC):
		p.Status, detail = http.StatusInsufficientStorage, Sentence(err)+" Nothing was kept."
	case errors.Is(err, store.ErrDamaged):
		p.Status, detail = http.StatusServiceUnavailable, Sentence(err)
	case errors.Is(err, store.ErrNeeded):
		p.Status, detail = http.StatusConflict, Sentence(err)
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

// ClientGone is the status that is written to the log where nobody is left to be answered.
const ClientGone = 499

// Sentence returns an error as the beginning and the end of a sentence.
func Sentence(err error) string {
	s := []rune(err.Error())
	return strings.ToUpper(string(s[:1])) + string(s[1:]) + "."
}

// handleErrors answers every error of the API with problem details (RFC 9457).
func handleErrors(log *slog.Logger) echo.HTTPErrorHandler {
	return func(err error, c echo.Context) { handleError(log, err, c) }
}

func handleError(log *slog.Logger, err error, c echo.Context) {
	if c.Response().Committed {
		return
	}
	p := ProblemOf(err)
	if c.Request().Context().Err() != nil || p.Status == ClientGone {
		c.Response().Status = ClientGone
		return
	}
	if p.Status == http.StatusTooManyRequests || p.Status == http.StatusServiceUnavailable {
		c.Response().Header().Set(echo.HeaderRetryAfter, "2")
	}
	if meant := new(Failure); p.Status >= http.StatusInternalServerError && !errors.As(err, &meant) {
		about := []any{slog.String("path", c.Request().URL.Path), slog.Any("error", err)}
		if p := new(background.Panic); errors.As(err, &p) {
			about = append(about, slog.String("stack", string(p.Stack)))
		}
		log.Error("request failed", about...)
	}
	c.Response().Header().Set(echo.HeaderContentType, "application/problem+json")
	c.Response().WriteHeader(p.Status)
	if err := c.Echo().JSONSerializer.Serialize(c, p, ""); err != nil {
		log.Warn("answer not written", slog.Any("error", err))
	}
}

// Findings returns what was found in sheets as it is answered.
func Findings(found []sheet.Finding) []api.Finding {
	all := make([]api.Finding, len(found))
	for i, f := range found {
		all[i] = api.Finding{File: f.File, Line: f.Line, Column: f.Column, Severity: string(f.Severity), Code: f.Code, Text: f.Text}
	}
	return all
}
