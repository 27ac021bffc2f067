package live

import "context"

// GetProcesses returns the state of the two processes of the service.
func (s *Server) GetProcesses(context.Context, GetProcessesRequestObject) (GetProcessesResponseObject, error) {
	return GetProcesses200JSONResponse(s.processes()), nil
}
