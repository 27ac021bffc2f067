package live

import "context"

// GetProcesses tells how the two processes of the service are.
func (s *Server) GetProcesses(context.Context, GetProcessesRequestObject) (GetProcessesResponseObject, error) {
	return GetProcesses200JSONResponse(s.processes()), nil
}
