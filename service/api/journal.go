package api

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"rectura/core/logic"
	"rectura/service/live"
	"rectura/service/store"
)

// GetJournal returns entries of a job's journal.
func (s *Server) GetJournal(ctx context.Context, request GetJournalRequestObject) (GetJournalResponseObject, error) {
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	q := request.Params
	f := store.JournalFilter{Name: text(q.Name), Who: text(q.Who), Newest: mostEntries}
	if q.Kind != nil {
		f.Kind = string(*q.Kind)
	}
	f.From, f.To = instant(q.From), instant(q.To)
	if q.After != nil {
		f.After = *q.After
	}
	if q.Newest != nil {
		f.Newest = *q.Newest
	}
	entries, err := s.plant.Journal(ctx, p.number, f)
	if err != nil {
		return nil, err
	}
	all := make(GetJournal200JSONResponse, len(entries))
	for i := range entries {
		all[i] = entryView(p.wall, &entries[i])
	}
	return all, nil
}

// mostEntries limits the entries of one answer.
const mostEntries = 100_000

func instant(t *time.Time) int64 {
	if t == nil {
		return 0
	}
	return nanos(*t)
}

// nanos returns a time in nanoseconds since 1970, or the nearest one from 1970 to 2262, which they reach.
func nanos(t time.Time) int64 {
	switch {
	case t.Before(time.Unix(0, 1)):
		return 1
	case t.After(time.Unix(0, math.MaxInt64)):
		return math.MaxInt64
	}
	return t.UnixNano()
}

func entryView(w wall, e *store.Entry) JournalEntry {
	return JournalEntry{
		Number:  e.Number,
		Time:    w.at(e.Time),
		Kind:    e.Kind,
		Name:    e.Name,
		From:    e.From,
		To:      e.To,
		Because: e.Because,
		Who:     e.Who,
		Via:     e.Via,
	}
}

// record flushes the job's pending data, and calls f with a snapshot of its records.
func (s *Server) record(ctx context.Context, p *post, f func(*store.Record) error) error {
	if p.engine != nil {
		if _, err := p.engine.Flush(ctx); err != nil && !errors.Is(err, live.ErrEnded) {
			return as(err)
		}
	}
	return s.plant.Record(ctx, p.number, f)
}

// ran returns the program of a revision that has run: of the sheets that were kept when it did.
func (s *Server) ran(ctx context.Context, job, revision int64) (*logic.Program, error) {
	sources, err := s.plant.Sheets(ctx, job, revision)
	if err != nil {
		return nil, err
	}
	_, p, found := logic.Check(sources)
	if p == nil {
		return nil, fmt.Errorf("it was run by another version of this program, and has errors by this one: %s", found[0])
	}
	return p, nil
}

// Verify plays what was captured again.
func (s *Server) Verify(ctx context.Context, request VerifyRequestObject) (VerifyResponseObject, error) {
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	from, to := instant(request.Params.From), instant(request.Params.To)
	if to == 0 {
		to = math.MaxInt64
	}
	v, err := do(ctx, s.bench, func(work context.Context) (live.Verification, error) {
		var v live.Verification
		err := s.record(work, p, func(r *store.Record) error {
			programs := map[int64]*logic.Program{}
			ran := func(revision int64) (program *logic.Program, err error) {
				if program = programs[revision]; program == nil {
					program, err = s.ran(work, p.number, revision)
					programs[revision] = program
				}
				return program, err
			}
			var err error
			v, err = live.Verify(work, r, ran, from, to, p.wall.Location)
			return err
		})
		return v, err
	})
	return Verify200JSONResponse(verificationView(p.wall, v)), err
}

func verificationView(w wall, v live.Verification) Verification {
	view := Verification{Same: v.Same, Differ: []Differing{}, LeftOut: append([]string{}, v.LeftOut...)}
	entry := func(e *store.Entry) *JournalEntry {
		if e == nil {
			return nil
		}
		one := entryView(w, e)
		return &one
	}
	for _, d := range v.Differ {
		view.Differ = append(view.Differ, Differing{Journal: entry(d.Journal), Capture: entry(d.Capture)})
	}
	return view
}
