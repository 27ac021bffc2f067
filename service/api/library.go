package api

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"runtime"
	"slices"
	"strings"

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
	playing  chan struct{} // a place for each replay that may run at once
}

type traceKey struct {
	revision, recording int64
	point               string
	played              string // otherwise than written; empty for an input, which it leaves alone
}

// The number of things kept. A recording of a day at 1 Hz with ten columns
// takes some 8 MB.
const (
	keptPrograms = 32
	keptReadings = 8
	keptTraces   = 64
)

func newLibrary(s *store.Store) (*library, error) {
	l := &library{store: s, playing: make(chan struct{}, runtime.NumCPU())}
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

// place waits for one of the places for a replay, and gives it back with the
// function returned.
func (l *library) place(ctx context.Context) (free func(), err error) {
	select {
	case l.playing <- struct{}{}:
		return func() { <-l.playing }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// An otherwise is how a job is played, where that is not as written.
type otherwise struct {
	set  []string // NAME=VALUE
	scan string
}

func (o otherwise) key() string {
	if len(o.set) == 0 && o.scan == "" {
		return ""
	}
	return strings.Join(slices.Sorted(slices.Values(o.set)), "\n") + "\n" + o.scan
}

func (o otherwise) options() (bench.Options, error) {
	set := map[string]string{}
	for _, s := range o.set {
		name, value, ok := strings.Cut(s, "=")
		if !ok {
			return bench.Options{}, refuse(http.StatusUnprocessableEntity, "set: "+s+" is not NAME=VALUE.")
		}
		set[name] = value
	}
	return playOptions(set, o.scan)
}

// trace is an input as the rules of a revision see it over a recording, or an
// analog output as they drive it; nil if the recording does not have the input.
func (l *library) trace(ctx context.Context, revision, recordingID int64, point string, o otherwise) (*logic.Program, *recording.Recording, *recording.Column, error) {
	p, err := l.program(ctx, revision)
	if err != nil {
		return nil, nil, nil, err
	}
	r, err := l.recording(ctx, recordingID)
	if err != nil {
		return nil, nil, nil, err
	}
	key := traceKey{revision: revision, recording: recordingID, point: point}
	output := p.OutputIndex(point)
	if output >= 0 {
		key.played = o.key()
	}
	if c, ok := l.traces.Get(key); ok {
		return p, r, c, nil
	}
	var c *recording.Column
	switch i, k := p.InputIndex(point), p.DerivedIndex(point); {
	case i >= 0:
		c, err = bench.Trace(p, r, i)
	case k >= 0:
		c, err = bench.TraceDerived(p, r, k)
	case output >= 0 && p.Outputs[output].Analog():
		c, err = l.level(ctx, p, r, key, o)
	default:
		return nil, nil, nil, fmt.Errorf("revision %d has no input and no analog output named %s: %w", revision, point, store.ErrNotFound)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	l.traces.Add(key, c)
	return p, r, c, nil
}

// level is what the rules do with an analog output over a recording. The other
// outputs of the same replay are kept as well.
func (l *library) level(ctx context.Context, p *logic.Program, r *recording.Recording, key traceKey, o otherwise) (*recording.Column, error) {
	options, err := o.options()
	if err != nil {
		return nil, err
	}
	free, err := l.place(ctx)
	if err != nil {
		return nil, err
	}
	defer free()
	result, err := bench.Replay(p, r, options)
	if err != nil {
		return nil, err
	}
	for i := range p.Outputs {
		if c := result.Level(i); c != nil {
			other := key
			other.point = c.Name
			l.traces.Add(other, c)
		}
	}
	return result.Level(p.OutputIndex(key.point)), nil
}
