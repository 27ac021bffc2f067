package bench

import (
	"context"
)

// GetBench tells how much the bench has to do.
func (s *Server) GetBench(context.Context, GetBenchRequestObject) (GetBenchResponseObject, error) {
	running, waiting := s.bench.Queue()
	return GetBench200JSONResponse{Places: s.bench.Places(), Running: running, Waiting: waiting}, nil
}
