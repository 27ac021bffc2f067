// Package inside is what control asks the bench for, over the socket that only the two have. Nothing outside the service reaches it:
// control passes on paths below /api alone.
package inside

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"rectura/core/sheet"
	"rectura/service/api"
	"rectura/service/api/transport"
)

// A Job is one of the bench's store.
type Job struct {
	Number int64
	Name   string
}

// A Revision is one that can be run: its sheets have no errors.
type Revision struct {
	Job     Job
	Number  int64
	Sheets  []sheet.Source
	Untried []string // its trials that have failed, or that were not played, each with a sentence
}

// Ready is the state of the bench's store.
type Ready struct {
	Damaged []string
}

// Lost says that a job runs of which the bench has nothing.
func Lost(job string) string {
	return "The job " + job + " runs, but its revisions are not here any more. It can be disarmed."
}

// Newest asks for the newest revision.
const Newest = 0

// A Client asks the bench. A job, or a revision, that the bench does not have is a transport.Failure with status 404.
type Client struct {
	http *http.Client
}

// mostAnswered bounds an answer, in bytes: sheets are far smaller.
const mostAnswered = 64 << 20

// patience bounds how long control waits for the bench. Nothing that runs a plant waits for it.
const patience = 30 * time.Second

// NewClient returns a client of the bench that a transport reaches.
func NewClient(t http.RoundTripper) *Client {
	return &Client{&http.Client{Transport: t, Timeout: patience}}
}

// Jobs lists all jobs.
func (c *Client) Jobs(ctx context.Context) (all []Job, err error) {
	return all, c.ask(ctx, http.MethodGet, "jobs", &all)
}

// Job returns the job of a name.
func (c *Client) Job(ctx context.Context, name string) (j Job, err error) {
	return j, c.ask(ctx, http.MethodGet, "jobs/"+url.PathEscape(name), &j)
}

// Revision returns one of a job, or Newest.
func (c *Client) Revision(ctx context.Context, job string, number int64) (*Revision, error) {
	r := &Revision{}
	return r, c.ask(ctx, http.MethodGet, "jobs/"+url.PathEscape(job)+"/revisions/"+strconv.FormatInt(number, 10), r)
}

// Delete deletes the job of a number, if that is its name's.
func (c *Client) Delete(ctx context.Context, j Job) error {
	return c.ask(ctx, http.MethodDelete, "jobs/"+url.PathEscape(j.Name)+"?number="+strconv.FormatInt(j.Number, 10), nil)
}

// Ready returns what of the bench's store is damaged. An error says that the store does not answer.
func (c *Client) Ready(ctx context.Context) (r Ready, err error) {
	return r, c.ask(ctx, http.MethodGet, "ready", &r)
}

func (c *Client) ask(ctx context.Context, method, path string, answer any) (err error) {
	r, err := http.NewRequestWithContext(ctx, method, "http://bench/inside/"+path, nil)
	if err != nil {
		return fmt.Errorf("asking the bench: %w", err)
	}
	a, err := c.http.Do(r)
	if err != nil {
		return gone(ctx, err)
	}
	defer func() { err = errors.Join(err, a.Body.Close()) }()
	body, err := io.ReadAll(io.LimitReader(a.Body, mostAnswered+1))
	switch {
	case err != nil:
		return gone(ctx, err)
	case len(body) > mostAnswered:
		return fmt.Errorf("asking the bench: its answer is longer than %d bytes", mostAnswered)
	case a.StatusCode == http.StatusNoContent:
		return nil
	case a.StatusCode != http.StatusOK:
		return failure(a.StatusCode, body)
	}
	if err := json.Unmarshal(body, answer); err != nil {
		return fmt.Errorf("reading what the bench answers: %w", err)
	}
	return nil
}

// gone returns why the bench does not answer.
func gone(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if f := new(transport.Failure); errors.As(err, &f) {
		return f
	}
	return transport.Refuse(http.StatusServiceUnavailable, "The bench did not answer: "+transport.Shown(err.Error())+".")
}

// failure returns a problem as the error that it was.
func failure(status int, body []byte) error {
	var p api.Problem
	if err := json.Unmarshal(bytes.TrimSpace(body), &p); err != nil || p.Detail == nil {
		return fmt.Errorf("the bench answered %d", status)
	}
	f := &transport.Failure{Status: status, Detail: *p.Detail}
	if p.Findings != nil {
		f.Findings = *p.Findings
	}
	return f
}

// IsMissing reports whether the bench does not have what it was asked for.
func IsMissing(err error) bool {
	f := new(transport.Failure)
	return errors.As(err, &f) && f.Status == http.StatusNotFound
}

// Running is the header by which control tells the bench, of a request about a job, which job runs under its name.
const Running = "Rectura-Running"

// A RunningJob is one that control runs.
type RunningJob struct {
	Number int64
	Zone   string // of its times
}

// String returns the value of the header.
func (j RunningJob) String() string { return strconv.FormatInt(j.Number, 10) + " " + j.Zone }

// RunningOf returns the job that runs under the name of a request's job; false where none does.
func RunningOf(h http.Header) (j RunningJob, is bool) {
	number, zone, _ := strings.Cut(h.Get(Running), " ")
	n, err := strconv.ParseInt(number, 10, 64)
	return RunningJob{n, zone}, err == nil && n > 0
}
