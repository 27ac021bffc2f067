package bench

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"time"

	"rectura/service/api/pool"
	"rectura/service/records"

	"rectura/core/logic"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/store"
)

// A post is a job as its records have it: by its number. A job that runs has records even where its revisions are not here any more.
type post struct {
	number int64
	name   string
	shelf  *shelf // its revisions and recordings; nil if the store does not have the job
	wall   views.Wall
}

// post finds the job of a request.
func (s *Server) post(ctx context.Context, name string) (*post, error) {
	p := &post{name: name, wall: views.Wall{Location: time.UTC}}
	j, err := s.shelf(ctx, name)
	if err == nil {
		p.number, p.shelf = j.ID, j
	}
	if r, is := running(ctx); is {
		zone, bad := time.LoadLocation(r.Zone)
		if bad != nil {
			return nil, fmt.Errorf("reading the time zone of the job %s: %w", name, bad)
		}
		p.wall.Location = zone
		if r.Number != p.number { // a job that drives comes before one that is kept
			p.number, p.shelf = r.Number, nil
		}
		return p, nil
	}
	if err == nil {
		p.wall, err = p.shelf.wall(ctx)
	}
	return p, err
}

// wall returns that of the job's newest revision; UTC where it has no time zone, or no revision.
func (j *shelf) wall(ctx context.Context) (views.Wall, error) {
	p, err := j.newest(ctx)
	if err != nil || p == nil {
		return views.Wall{Location: time.UTC}, err
	}
	return views.Wall{Location: records.ZoneOf(p.Program)}, nil
}

// reasonAt plays the capture up to a time, and asks then.
func (s *Server) reasonAt(ctx context.Context, p *post, name string, at int64) (why records.Why, err error) {
	err = s.records.Record(ctx, p.number, func(r *store.Record) error {
		segments, err := r.Segments(at, at+1)
		if err != nil {
			return err
		}
		if len(segments) == 0 {
			return transport.Refuse(http.StatusNotFound, "Nothing was captured at "+p.wall.At(at).Format(time.DateTime)+".")
		}
		seg := segments[len(segments)-1]
		if seg.Earlier {
			return transport.Refuse(http.StatusConflict, "What was captured then was captured by an earlier form of this program, and cannot be played.")
		}
		program, err := s.ran(ctx, p.number, seg.Revision)
		if err != nil {
			return err
		}
		c, err := r.Captured(seg.ID)
		if err != nil {
			return err
		}
		stepper, err := records.Play(ctx, program, c, at, func(*logic.Stepper, int64, []logic.Transition) {})
		if err != nil {
			return fmt.Errorf("playing what was captured: %w", err)
		}
		why, err = records.WhyOf(stepper, name)
		return err
	})
	return why, err
}

// GetReason tells why something of a job that ran was as it was at a time.
func (s *Server) GetReason(ctx context.Context, request GetReasonRequestObject) (GetReasonResponseObject, error) {
	name, at := request.Params.Name, request.Params.At
	if at == nil {
		return nil, transport.Refuse(http.StatusNotFound, "What is so now, the process that runs the job says.")
	}
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	why, err := pool.Do(ctx, s.bench, func(work context.Context) (records.Why, error) {
		return s.reasonAt(work, p, name, min(views.Nanos(*at), math.MaxInt64-1))
	})
	if err != nil {
		if errors.Is(err, records.ErrRefused) {
			err = transport.RefuseText(err)
		}
		return nil, err
	}
	return GetReason200JSONResponse(views.Reason(name, why)), nil
}
