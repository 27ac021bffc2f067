package api

import (
	"context"
	"io"
	"math"
	"net/http"

	"rectura/core/recording"
	"rectura/core/recording/format"
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

// ExportRecording gives a recording as a file.
func (s *Server) ExportRecording(ctx context.Context, request ExportRecordingRequestObject) (ExportRecordingResponseObject, error) {
	r, err := s.library.recording(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	f := format.Format(request.Params.Format)
	if f != format.CSV && f != format.JSONL && f != format.Parquet {
		return nil, refuse(http.StatusUnprocessableEntity, "A recording is written as csv, jsonl or parquet.")
	}
	in, out := io.Pipe()
	go func() { out.CloseWithError(format.Write(f, out, r)) }()
	return ExportRecording200ApplicationoctetStreamResponse{Body: in}, nil
}

func recordingView(r *store.Recording) Recording {
	v := Recording{Id: r.ID, Name: r.Name, Uploaded: r.Uploaded, Clock: clockView(r.Clock, r.Start), Seconds: seconds(r.End - r.Start),
		Rows: r.Rows, Samples: r.Samples(), Bytes: r.Bytes, Columns: []Column{}, Notes: append([]string{}, r.Notes...), Understood: r.Understood}
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
	return Clock{Elapsed: c.Elapsed, Start: seconds(start), Offset: c.OffsetAt(start), Zone: c.Zone}
}

func seconds(ns int64) float64 { return float64(ns) / 1e9 }
