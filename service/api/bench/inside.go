package bench

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v4"

	"rectura/core/sheet"
	"rectura/service/api/inside"
	"rectura/service/api/transport"
	"rectura/service/store"
)

// registerInside adds what control asks for.
func (s *Server) registerInside(g *echo.Group) {
	g.GET("/alive", func(c echo.Context) error { return c.NoContent(http.StatusNoContent) })
	g.GET("/ready", s.insideReady)
	g.GET("/jobs", s.insideJobs)
	g.GET("/jobs/:job", s.insideJob)
	g.DELETE("/jobs/:job", s.insideDelete)
	g.GET("/jobs/:job/revisions/:number", s.insideRevision)
}

func (s *Server) insideReady(c echo.Context) error {
	ctx := c.Request().Context()
	if err := s.store.Ping(ctx); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		s.log.Error("not ready", "error", err)
		return transport.Refuse(http.StatusServiceUnavailable, "The store does not answer; see the service's log.")
	}
	return c.JSON(http.StatusOK, inside.Ready{Damaged: s.damaged()})
}

func insideView(j *store.Job) inside.Job { return inside.Job{Number: j.ID, Name: j.Name} }

func (s *Server) insideJobs(c echo.Context) error {
	all, err := s.store.Jobs(c.Request().Context())
	if err != nil {
		return err
	}
	answer := []inside.Job{}
	for _, j := range all {
		answer = append(answer, insideView(j))
	}
	return c.JSON(http.StatusOK, answer)
}

func (s *Server) insideJob(c echo.Context) error {
	j, err := s.shelf(c.Request().Context(), c.Param("job"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, insideView(j.Job))
}

func (s *Server) insideDelete(c echo.Context) error {
	ctx := c.Request().Context()
	j, err := s.shelf(ctx, c.Param("job"))
	if err != nil {
		return err
	}
	if strconv.FormatInt(j.ID, 10) != c.QueryParam("number") {
		return transport.Refuse(http.StatusNotFound, "The job "+j.Name+" is another one meanwhile.")
	}
	if err := j.Delete(ctx); err != nil {
		return err
	}
	j.forgetAll()
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) insideRevision(c echo.Context) error {
	ctx := c.Request().Context()
	j, err := s.shelf(ctx, c.Param("job"))
	if err != nil {
		return err
	}
	number, err := strconv.ParseInt(c.Param("number"), 10, 64)
	if err != nil {
		return transport.Refuse(http.StatusNotFound, "There is no such revision.")
	}
	if number == inside.Newest {
		if number, err = j.Newest(ctx); errors.Is(err, store.ErrNotFound) {
			return transport.Refuse(http.StatusNotFound, "This job has no revision yet; push one first.")
		}
		if err != nil {
			return err
		}
	}
	p, err := j.program(ctx, number)
	if err != nil {
		return err
	}
	if sheet.HasErrors(p.found) {
		return transport.RefuseFound(http.StatusConflict, fmt.Sprintf("Revision %d has errors, and cannot be run; mend them in a new revision.", number), p.found)
	}
	r := inside.Revision{Job: insideView(j.Job), Number: number}
	if _, r.Sheets, err = j.Revision(ctx, number); err != nil {
		return err
	}
	if r.Untried, err = j.untried(ctx, number, p.Job); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, r)
}

// untried returns the trials of a revision that have failed, or that were not played, each with a sentence.
func (j *shelf) untried(ctx context.Context, revision int64, job *sheet.Job) ([]string, error) {
	results, err := j.TrialResults(ctx, revision)
	if err != nil {
		return nil, err
	}
	all := []string{}
	for _, t := range job.Trials {
		i := slices.IndexFunc(results, func(x store.TrialResult) bool { return x.Trial == t.Name })
		switch {
		case i < 0:
			all = append(all, t.Name+" was not played with this revision")
		case !results[i].Passed:
			all = append(all, t.Name+" failed at "+results[i].Time().Format(time.DateTime)+" UTC")
		}
	}
	return all, nil
}
