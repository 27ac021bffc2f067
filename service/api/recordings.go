package api

import (
	"context"
	"math"
	"net/http"
	"strings"
	"unicode"

	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/service/store"
)

// ListRecordings lists all recordings.
func (s *Server) ListRecordings(ctx context.Context, _ ListRecordingsRequestObject) (ListRecordingsResponseObject, error) {
	all, err := s.store.Recordings(ctx)
	if err != nil {
		return nil, err
	}
	answer := make(ListRecordings200JSONResponse, len(all))
	for i, r := range all {
		answer[i] = recordingView(r)
	}
	return answer, nil
}

// GetRecording shows one recording.
func (s *Server) GetRecording(ctx context.Context, request GetRecordingRequestObject) (GetRecordingResponseObject, error) {
	r, err := s.store.Recording(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	return GetRecording200JSONResponse(recordingView(r)), nil
}

// UploadRecording reads a recording as it comes in and keeps it whole, or not
// at all.
func (s *Server) UploadRecording(ctx context.Context, request UploadRecordingRequestObject) (UploadRecordingResponseObject, error) {
	name := strings.TrimSpace(request.Params.Name)
	if name == "" || len(name) > 200 || strings.ContainsFunc(name, unicode.IsControl) {
		return nil, refuse(http.StatusUnprocessableEntity, "A recording needs a name of 1 to 200 letters without control characters.")
	}
	r, err := csv.Reader{Name: name}.Read(request.Body)
	if err != nil {
		return nil, err
	}
	id, err := s.store.AddRecording(ctx, name, r, s.now())
	if err != nil {
		return nil, err
	}
	kept, err := s.store.Recording(ctx, id)
	if err != nil {
		return nil, err
	}
	return UploadRecording201JSONResponse(recordingView(kept)), nil
}

func recordingView(r *store.Recording) Recording {
	v := Recording{Id: r.ID, Name: r.Name, Uploaded: r.Uploaded, Clock: clockView(r.Clock, r.Start), Seconds: seconds(r.End - r.Start),
		Rows: r.Rows, Samples: r.Samples(), Bytes: r.Bytes, Columns: []Column{}, Notes: append([]string{}, r.Notes...)}
	for _, c := range r.Columns {
		column := Column{Name: c.Name, Unit: c.Unit, Samples: c.Samples}
		if !math.IsNaN(c.Min) {
			column.Min, column.Max = &c.Min, &c.Max
		}
		v.Columns = append(v.Columns, column)
	}
	return v
}

func clockView(c recording.Clock, start int64) Clock {
	return Clock{Elapsed: c.Elapsed, Start: seconds(start), Offset: c.Offset}
}

func seconds(ns int64) float64 { return float64(ns) / 1e9 }
