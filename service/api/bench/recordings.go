package bench

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"strings"

	"rectura/core/recording"
	"rectura/core/recording/format"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/store"
)

// ListRecordings lists all recordings.
func (s *Server) ListRecordings(ctx context.Context, request ListRecordingsRequestObject) (ListRecordingsResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	all, err := j.Recordings(ctx)
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
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	r, err := j.Recording(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	return GetRecording200JSONResponse(recordingView(r)), nil
}

// DeleteRecording deletes a recording with its readings.
func (s *Server) DeleteRecording(ctx context.Context, request DeleteRecordingRequestObject) (DeleteRecordingResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	if err := j.DeleteRecording(ctx, request.Id); err != nil {
		return nil, err
	}
	j.forgetRecording(request.Id)
	return DeleteRecording204Response{}, nil
}

// RenameRecording gives a recording another name.
func (s *Server) RenameRecording(ctx context.Context, request RenameRecordingRequestObject) (RenameRecordingResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	name := strings.TrimSpace(request.Body.Name)
	if name == "" {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, "A recording needs a name.")
	}
	err = j.RenameRecording(ctx, request.Id, name)
	if errors.Is(err, store.ErrExists) {
		return nil, transport.Refuse(http.StatusConflict, "There is a recording named "+transport.Shown(name)+" already; choose another name.")
	}
	if err != nil {
		return nil, err
	}
	r, err := j.Recording(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	return RenameRecording200JSONResponse(recordingView(r)), nil
}

// ExportRecording gives a recording as a file. It is written to its end before
// the first byte is sent, so that what arrives is whole.
func (s *Server) ExportRecording(ctx context.Context, request ExportRecordingRequestObject) (ExportRecordingResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	file, err := pool.Do(ctx, s.bench, func(work context.Context) (*exported, error) {
		r, err := j.recording(work, request.Id)
		if err != nil {
			return nil, err
		}
		return s.export(work, format.Format(request.Params.Format), r)
	})
	if err != nil {
		return nil, err
	}
	return ExportRecording200ApplicationoctetStreamResponse{Body: file, ContentLength: file.size}, nil
}

// An exported file is sent once, and gone when it is closed.
type exported struct {
	*os.File
	size int64
}

// Close removes the file.
func (f *exported) Close() error { return errors.Join(f.File.Close(), os.Remove(f.Name())) }

// mostExported is the largest file that a recording is written to, in bytes.
const mostExported = 8 << 30

func (s *Server) export(work context.Context, f format.Format, r *recording.Recording) (*exported, error) {
	file, err := s.store.Temporary("*." + string(f))
	if err != nil {
		return nil, fmt.Errorf("writing the file: %w", err)
	}
	x := &exported{File: file}
	out := &stoppableWriter{work: work, Writer: file, left: mostExported}
	if err := format.Write(f, out, r); err != nil {
		if errors.Is(err, recording.ErrTable) {
			err = transport.Refuse(http.StatusUnprocessableEntity, transport.Sentence(err))
		}
		if out.left < 0 {
			err = transport.Refuse(
				http.StatusUnprocessableEntity,
				fmt.Sprintf("As %s this recording is larger than %d GiB; choose another format.", f, mostExported>>30),
			)
		}
		return nil, errors.Join(err, x.Close())
	}
	if x.size, err = file.Seek(0, io.SeekCurrent); err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("writing the file: %w", err), x.Close())
	}
	return x, nil
}

// A stoppableWriter ends with the work that it is written for, or when too much
// is written.
type stoppableWriter struct {
	work context.Context
	io.Writer
	left int64
}

func (w *stoppableWriter) Write(p []byte) (int, error) {
	if w.left -= int64(len(p)); w.left < 0 {
		return 0, io.ErrShortWrite
	}
	if err := pool.Stop(w.work)(); err != nil {
		return 0, err
	}
	return w.Writer.Write(p)
}

func recordingView(r *store.Recording) api.Recording {
	v := api.Recording{Id: r.ID, Name: r.Name, Uploaded: r.Uploaded, Clock: clockView(r.Clock, r.Start), Seconds: seconds(r.End - r.Start),
		Rows: r.Rows, Samples: r.Samples(), Bytes: r.Bytes, Columns: []api.Column{}, Notes: append([]string{}, r.Notes...), Understood: r.Understood}
	if len(r.File) > 0 {
		file := hex.EncodeToString(r.File)
		v.Checksum = &file
	}
	for _, c := range r.Columns {
		column := api.Column{Name: c.Name, Unit: c.Unit, Samples: c.Samples}
		if !math.IsNaN(c.Min) {
			column.Min, column.Max = &c.Min, &c.Max
		}
		v.Columns = append(v.Columns, column)
	}
	return v
}

func clockView(c recording.Clock, start int64) api.Clock {
	return api.Clock{Elapsed: c.Elapsed, Start: seconds(start), Offset: c.OffsetAt(start), Zone: c.Zone, Twice: c.Twice}
}

func seconds(ns int64) float64 { return float64(ns) / 1e9 }
