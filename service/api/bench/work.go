package bench

import (
	"context"
)

// GetBench returns the computations that are under way, and those that wait.
func (s *Server) GetBench(context.Context, GetBenchRequestObject) (GetBenchResponseObject, error) {
	running, waiting := s.bench.Queue()
	return GetBench200JSONResponse{Places: s.bench.Places(), Running: running, Waiting: waiting}, nil
}
