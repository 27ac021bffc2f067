package bench

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/recording/format"
	textfile "rectura/core/recording/text"
	"rectura/core/unit"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/background"
	"rectura/service/store"
)

// UploadRecording reads a recording as it comes in and keeps it whole, or not
// at all.
func (s *Server) UploadRecording(ctx context.Context, request UploadRecordingRequestObject) (UploadRecordingResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	name, o, err := s.readingOptions(ctx, j, request.Params)
	if err != nil {
		return nil, err
	}
	kept, err := pool.Do(ctx, s.imports, func(work context.Context) (*store.Recording, error) {
		file := sha256.New()
		r, err := s.readBody(work, name, io.TeeReader(request.Body, file), o)
		if err == nil {
			_, err = io.Copy(file, request.Body) // what the reader had no need of is a part of the file, too
		}
		if err != nil {
			return nil, err
		}
		id, err := j.AddRecording(work, name, r, file.Sum(nil), s.now())
		if err != nil {
			return nil, err
		}
		return j.Recording(work, id)
	})
	if err != nil {
		return nil, err
	}
	return UploadRecording201JSONResponse(recordingView(kept)), nil
}

// readingOptions are what the caller says of a file.
func (s *Server) readingOptions(ctx context.Context, j *shelf, p api.UploadRecordingParams) (name string, o recording.Options, err error) {
	name = strings.TrimSpace(p.Name)
	if name == "" {
		return "", o, transport.Refuse(http.StatusUnprocessableEntity, "A recording needs a name.")
	}
	o = recording.Options{
		TimeColumn:  views.Deref(p.TimeColumn),
		TimeFormat:  views.Deref(p.TimeFormat),
		Sort:        p.Sort != nil && *p.Sort,
		SkipBadRows: p.SkipBadRows != nil && *p.SkipBadRows,
	}
	wrong := func(what string, err error) error {
		return transport.Refuse(http.StatusUnprocessableEntity, what+": "+err.Error())
	}
	if p.Map != nil {
		for _, m := range *p.Map {
			mapping, err := recording.ParseMapping(m)
			if err != nil {
				return "", o, wrong("The mapping", err)
			}
			o.Map = append(o.Map, mapping)
		}
	}
	if pattern := views.Deref(p.Pattern); pattern != "" {
		if o.Pattern, err = textfile.Compile(pattern); err != nil {
			return "", o, wrong("The pattern", err)
		}
	}
	if every := views.Deref(p.Every); every != "" {
		if o.Every, err = unit.ParseDuration(every); err != nil {
			return "", o, wrong("The time between lines", err)
		}
	}
	zone := views.Deref(p.Zone)
	if zone == "" {
		if newest, err := j.newest(ctx); err != nil {
			return "", o, err
		} else if newest != nil {
			zone = newest.Job.Timezone
		}
	}
	if zone != "" {
		if o.Zone, err = recording.LoadZone(zone); err != nil {
			return "", o, wrong("The zone", err)
		}
	}
	return name, o, nil
}

// newest is the newest revision's program; nil if there is no revision yet.
func (j *shelf) newest(ctx context.Context) (*program, error) {
	number, err := j.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return j.program(ctx, number)
}

// sniffedBytes is how much of a file is looked at to tell its format.
const sniffedBytes = 512

// readBody reads a recording out of a request. All formats but Parquet are read
// as they come in; Parquet is put aside on disk first.
func (s *Server) readBody(work context.Context, name string, body io.Reader, o recording.Options) (r *recording.Recording, err error) {
	body = &stoppable{work: work, Reader: body}
	head := make([]byte, sniffedBytes)
	n, err := io.ReadFull(body, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	whole := io.MultiReader(bytes.NewReader(head[:n]), body)
	f := format.Find(name, head[:n], o)
	o.Spread = func(tasks []func()) {
		all := make([]func() error, len(tasks))
		for i, task := range tasks {
			all[i] = func() error { task(); return nil }
		}
		if err := background.Spread("reading a recording", all); err != nil {
			panic(err) // the reader's caller recovers it
		}
	}
	if f != format.Parquet {
		return format.ReadStream(f, name, whole, o)
	}
	file, err := s.store.Temporary("*.parquet")
	if err != nil {
		return nil, fmt.Errorf("putting %s aside: %w", name, err)
	}
	defer func() { err = errors.Join(err, file.Close(), os.Remove(file.Name())) }()
	size, err := io.Copy(file, whole)
	if err != nil {
		return nil, fmt.Errorf("putting %s aside: %w", name, err)
	}
	return format.Read(name, &stoppable{work: work, Reader: file, ReaderAt: file}, size, o, nil)
}

// A stoppable file ends with the work that it is read for.
type stoppable struct {
	work context.Context
	io.Reader
	io.ReaderAt
}

func (s *stoppable) Read(p []byte) (int, error) {
	if err := pool.Stop(s.work)(); err != nil {
		return 0, err
	}
	return s.Reader.Read(p)
}

func (s *stoppable) ReadAt(p []byte, at int64) (int, error) {
	if err := pool.Stop(s.work)(); err != nil {
		return 0, err
	}
	return s.ReaderAt.ReadAt(p, at)
}

// previewed is the number of rows that a preview is made of, and previewRows
// that of those it shows.
const (
	previewed   = 1000
	previewRows = 12
)

// PreviewRecording says how a file would be understood and keeps nothing.
func (s *Server) PreviewRecording(ctx context.Context, request PreviewRecordingRequestObject) (PreviewRecordingResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	name, o, err := s.readingOptions(ctx, j, api.UploadRecordingParams(request.Params))
	if err != nil {
		return nil, err
	}
	o.Rows = previewed
	r, err := pool.Do(ctx, s.imports, func(work context.Context) (*recording.Recording, error) {
		return s.readBody(work, name, request.Body, o)
	})
	if err != nil {
		return nil, err
	}
	u := r.Understood
	v := PreviewRecording200JSONResponse{
		Clock:   clockView(r.Clock, r.Start),
		Columns: []api.PreviewColumn{},
		Rows:    [][]string{},
		Notes:   append([]string{}, r.Notes...),
		Whole:   r.Rows < previewed,
		Understood: api.Understood{
			Format:     u.Format,
			Separator:  u.Separator,
			Decimal:    u.Decimal,
			TimeColumn: u.TimeColumn,
			TimeFormat: u.TimeFormat,
			Zone:       u.Zone,
		},
	}
	p, err := j.newest(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range r.Columns {
		v.Columns = append(v.Columns, previewColumn(p, c, r.Clock))
	}
	err = r.EachRow(func(t int64, some []recording.Reading) error {
		row := make([]string, 1+len(r.Columns))
		row[0] = r.Clock.Full(t)
		for _, c := range some {
			row[1+c.Column] = recording.FormatValue(c.Value)
		}
		v.Rows = append(v.Rows, row)
		if len(v.Rows) == previewRows {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	return v, nil
}

var errEnough = errors.New("enough rows")

// previewColumn says what a column is to a job.
func previewColumn(p *program, c *recording.Column, clock recording.Clock) api.PreviewColumn {
	v := api.PreviewColumn{Name: c.Name, Unit: c.Unit, Samples: c.Len()}
	if p == nil {
		return v
	}
	switch i := p.Index(logic.InputKind, c.Name); {
	case p.Index(logic.OutputKind, c.Name) >= 0:
		v.Point = "output, as the plant did"
	case p.Index(logic.DerivedKind, c.Name) >= 0:
		v.Point = "derived, computed anew"
	case i >= 0 && p.Inputs[i].Chain == nil:
		v.Point = "contact"
	case i >= 0:
		at := 0
		if c.Unit != "" {
			at, _ = p.Inputs[i].Chain.Place(unit.Named(c.Unit))
		}
		v.Point = "analog input, in " + p.Inputs[i].Chain.Units[at].Name()
	}
	if problem := bench.Fits(p.Program, c, clock); problem != nil {
		text := problem.Error()
		v.Problem = &text
	}
	return v
}
