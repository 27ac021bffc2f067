package live

import (
	"context"
	"path/filepath"

	"rectura/service/api/inside"
)

// DeleteJob deletes a job that is idle. What the plant has of it is put into a file of its own, unless it is purged.
func (s *Server) DeleteJob(ctx context.Context, request DeleteJobRequestObject) (DeleteJobResponseObject, error) {
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	purge := request.Params.Purge != nil && *request.Params.Purge
	var aside string
	err = s.jobs.WhileIdle(ctx, p.number, p.name, func() error {
		// First: what runs is never kept without its revisions.
		if err := s.bench.Delete(ctx, inside.Job{Number: p.number, Name: p.name}); err != nil && !inside.IsMissing(err) {
			return err
		}
		aside, err = s.plant.Delete(ctx, p.number, p.name, s.now(), purge)
		return err
	})
	if err != nil {
		return nil, problem(err)
	}
	if aside != "" {
		aside = filepath.Base(aside)
	}
	return DeleteJob200JSONResponse{Aside: aside}, nil
}
