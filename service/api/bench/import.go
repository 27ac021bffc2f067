package bench

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"log/slog"
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

// UploadRecording keeps a recording whole, or not at all.
func (s *Server) UploadRecording(ctx context.Context, request UploadRecordingRequestObject) (UploadRecordingResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	name, o, err := s.readingOptions(ctx, j, request.Params)
	if err != nil {
		return nil, err
	}
	file, err := s.putAside(ctx, name, request.Body)
	if err != nil {
		return nil, err
	}
	defer s.discard(file)
	kept, err := pool.Do(ctx, s.imports, func(work context.Context) (*store.Recording, error) {
		r, err := s.readFile(work, name, file, o)
		if err != nil {
			return nil, err
		}
		id, err := j.AddRecording(work, name, r, file.sum, s.now())
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

// An aside is a file that has come in whole.
type aside struct {
	*os.File
	size int64
	sum  []byte // SHA-256
}

// roomEvery is after how many bytes of a file that comes in the disk is asked whether there is room for as many more.
const roomEvery = 16 << 20

// putAside writes a body into a temporary file. However slowly it comes in, it takes no place from those who compute.
func (s *Server) putAside(ctx context.Context, name string, body io.Reader) (*aside, error) {
	return pool.Do(ctx, s.incoming, func(work context.Context) (a *aside, err error) {
		file, err := s.store.Temporary("*.incoming")
		if err != nil {
			return nil, fmt.Errorf("putting %s aside: %w", name, err)
		}
		a = &aside{File: file}
		defer func() {
			if err != nil {
				s.discard(a)
				a = nil
			}
		}()
		sum := sha256.New()
		for {
			if err := s.store.Room(work, roomEvery); err != nil {
				return a, err
			}
			n, err := io.CopyN(io.MultiWriter(file, sum), &stoppable{work: work, Reader: body}, roomEvery)
			if a.size += n; errors.Is(err, io.EOF) {
				a.sum = sum.Sum(nil)
				return a, nil
			}
			if err != nil {
				return a, fmt.Errorf("putting %s aside: %w", name, err)
			}
		}
	})
}

// discard removes a file that was put aside.
func (s *Server) discard(a *aside) {
	if err := errors.Join(a.Close(), os.Remove(a.Name())); err != nil {
		s.log.Warn("a file that was put aside stays until the next start", slog.Any("error", err))
	}
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

// readFile reads a recording out of a file that has come in.
func (s *Server) readFile(work context.Context, name string, file *aside, o recording.Options) (*recording.Recording, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	head := make([]byte, sniffedBytes)
	n, err := file.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	o.Spread = func(tasks []func()) {
		all := make([]func() error, len(tasks))
		for i, task := range tasks {
			all[i] = func() error { task(); return nil }
		}
		if err := background.Spread("reading a recording", all); err != nil {
			panic(err) // the reader's caller recovers it
		}
	}
	stops := &stoppable{work: work, Reader: file, ReaderAt: file}
	f := format.Find(name, head[:n], o)
	if f != format.Parquet {
		return format.ReadStream(f, name, stops, o)
	}
	return format.Read(name, stops, file.size, o, nil)
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
	file, err := s.putAside(ctx, name, request.Body)
	if err != nil {
		return nil, err
	}
	defer s.discard(file)
	r, err := pool.Do(ctx, s.imports, func(work context.Context) (*recording.Recording, error) {
		return s.readFile(work, name, file, o)
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
