package api

import (
	"context"
	"fmt"
	"math"

	lru "github.com/hashicorp/golang-lru/v2"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/service/store"
)

// A library keeps what was last used of the store in memory, ready for the
// bench. Revisions and recordings never change, so nothing in it grows stale.
type library struct {
	store    *store.Store
	programs *lru.Cache[int64, *logic.Program]
	readings *lru.Cache[int64, *recording.Recording]
	traces   *lru.Cache[traceKey, *recording.Column]
}

type traceKey struct {
	revision, recording int64
	point               string
}

// The number of things kept. A recording of a day at 1 Hz with ten columns
// takes some 8 MB.
const (
	keptPrograms = 32
	keptReadings = 8
	keptTraces   = 64
)

func newLibrary(s *store.Store) (*library, error) {
	l := &library{store: s}
	var err error
	if l.programs, err = lru.New[int64, *logic.Program](keptPrograms); err != nil {
		return nil, fmt.Errorf("making room for programs: %w", err)
	}
	if l.readings, err = lru.New[int64, *recording.Recording](keptReadings); err != nil {
		return nil, fmt.Errorf("making room for recordings: %w", err)
	}
	if l.traces, err = lru.New[traceKey, *recording.Column](keptTraces); err != nil {
		return nil, fmt.Errorf("making room for traces: %w", err)
	}
	return l, nil
}

// program is the compiled job of a revision.
func (l *library) program(ctx context.Context, revision int64) (*logic.Program, error) {
	if p, ok := l.programs.Get(revision); ok {
		return p, nil
	}
	_, sheets, err := l.store.Revision(ctx, revision)
	if err != nil {
		return nil, err
	}
	job, found := sheet.Parse(sheets)
	if sheet.HasErrors(found) {
		return nil, fmt.Errorf("revision %d was kept without errors and has some now: %v", revision, found)
	}
	p, err := logic.Compile(job)
	if err != nil {
		return nil, err
	}
	l.programs.Add(revision, p)
	return p, nil
}

// recording is a whole recording with its readings.
func (l *library) recording(ctx context.Context, id int64) (*recording.Recording, error) {
	if r, ok := l.readings.Get(id); ok {
		return r, nil
	}
	r, err := l.store.Readings(ctx, id, math.MinInt64, math.MaxInt64)
	if err != nil {
		return nil, err
	}
	l.readings.Add(id, r)
	return r, nil
}

// part is a recording from one time to another, as people write them; empty
// for its start and end. Only the blocks of that part are read.
func (l *library) part(ctx context.Context, id int64, from, to string) (*recording.Recording, error) {
	if from == "" && to == "" {
		return l.recording(ctx, id)
	}
	known, err := l.store.Recording(ctx, id)
	if err != nil {
		return nil, err
	}
	bounds := &recording.Recording{Origin: known.Start, Start: known.Start, End: known.End, Clock: known.Clock}
	first, last, err := bounds.Window(from, to)
	if err != nil {
		return nil, err
	}
	r, err := l.store.Readings(ctx, id, first, last)
	if err != nil {
		return nil, err
	}
	return r.Cut(first, last)
}

// trace is an input as the rules of a revision see it over a recording; nil if
// the recording does not have it.
func (l *library) trace(ctx context.Context, revision, recordingID int64, point string) (*logic.Program, *recording.Recording, *recording.Column, error) {
	p, err := l.program(ctx, revision)
	if err != nil {
		return nil, nil, nil, err
	}
	r, err := l.recording(ctx, recordingID)
	if err != nil {
		return nil, nil, nil, err
	}
	key := traceKey{revision, recordingID, point}
	if c, ok := l.traces.Get(key); ok {
		return p, r, c, nil
	}
	var c *recording.Column
	if i, k := p.InputIndex(point), p.DerivedIndex(point); i >= 0 {
		c, err = bench.Trace(p, r, i)
	} else if k >= 0 {
		c, err = bench.TraceDerived(p, r, k)
	} else {
		return nil, nil, nil, fmt.Errorf("revision %d has no input named %s: %w", revision, point, store.ErrNotFound)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	l.traces.Add(key, c)
	return p, r, c, nil
}
