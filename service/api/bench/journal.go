package bench

import (
	"context"
	"fmt"
	"math"

	"rectura/core/logic"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/views"
	"rectura/service/records"
	"rectura/service/store"
)

// GetJournal returns entries of a job's journal.
func (s *Server) GetJournal(ctx context.Context, request GetJournalRequestObject) (GetJournalResponseObject, error) {
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	q := request.Params
	f := store.JournalFilter{Name: views.Deref(q.Name), Who: views.Deref(q.Who), Newest: mostEntries}
	if q.Kind != nil {
		f.Kind = string(*q.Kind)
	}
	f.From, f.To = views.Instant(q.From), views.Instant(q.To)
	if q.After != nil {
		f.After = *q.After
	}
	if q.Newest != nil {
		f.Newest = *q.Newest
	}
	entries, err := s.records.Journal(ctx, p.number, f)
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

func entryView(w views.Wall, e *store.Entry) api.JournalEntry {
	return api.JournalEntry{
		Number:  e.Number,
		Time:    w.At(e.Time),
		Kind:    e.Kind,
		Name:    e.Name,
		From:    e.From,
		To:      e.To,
		Because: e.Because,
		Who:     e.Who,
		Via:     e.Via,
	}
}

// ran returns the program of a revision that has run: of the sheets that were kept when it did.
func (s *Server) ran(ctx context.Context, job, revision int64) (*logic.Program, error) {
	sources, err := s.records.Sheets(ctx, job, revision)
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
	from, to := views.Instant(request.Params.From), views.Instant(request.Params.To)
	if to == 0 {
		to = math.MaxInt64
	}
	v, err := pool.Do(ctx, s.bench, func(work context.Context) (records.Verification, error) {
		var v records.Verification
		err := s.records.Record(work, p.number, func(r *store.Record) error {
			programs := map[int64]*logic.Program{}
			ran := func(revision int64) (program *logic.Program, err error) {
				if program = programs[revision]; program == nil {
					program, err = s.ran(work, p.number, revision)
					programs[revision] = program
				}
				return program, err
			}
			var err error
			v, err = records.Verify(work, r, ran, from, to, p.wall.Location)
			return err
		})
		return v, err
	})
	return Verify200JSONResponse(verificationView(p.wall, v)), err
}

func verificationView(w views.Wall, v records.Verification) api.Verification {
	view := api.Verification{Same: v.Same, Differ: []api.Differing{}, LeftOut: append([]string{}, v.LeftOut...)}
	entry := func(e *store.Entry) *api.JournalEntry {
		if e == nil {
			return nil
		}
		one := entryView(w, e)
		return &one
	}
	for _, d := range v.Differ {
		view.Differ = append(view.Differ, api.Differing{Journal: entry(d.Journal), Capture: entry(d.Capture)})
	}
	return view
}
