package bench

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/singleflight"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/plot"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/background"
	"rectura/service/store"
)

// A library keeps what was last used of the store in memory, ready for the
// bench, and what the bench made of it. Revisions and recordings never change,
// so nothing in it grows stale; one that is deleted is forgotten.
type library struct {
	bench    *pool.Pool
	log      *slog.Logger
	programs *cache[keptKey, *program]
	readings *cache[keptKey, *recording.Recording]
	traces   *cache[traceKey, *recording.Column]
	replays  *cache[replayKey, *played]
	flights  singleflight.Group // what several ask for at once is made once
}

// A program is a compiled revision, and what was found in it.
type program struct {
	*logic.Program
	found []sheet.Finding
}

// A played is a replay with its chart.
type played struct {
	*bench.Result
	chart *plot.Chart
	took  time.Duration
}

// A keptKey names a revision, or a recording, of a job.
type keptKey struct{ job, number int64 }

type traceKey struct {
	job                 int64
	revision, recording int64
	point               string
	played              string // otherwise than written; empty for an input, which it leaves alone
}

type replayKey struct {
	job                 int64
	revision, recording int64
	from, to, played    string
	page                int // of its transitions, in pages of replayPage
}

// replayPage is how many transitions of a replay are kept at once.
const replayPage = 100_000

// newLibrary makes a library that takes so many bytes at the most.
func newLibrary(b *pool.Pool, log *slog.Logger, memory int64) *library {
	return &library{
		bench:    b,
		log:      log,
		programs: newCache[keptKey, *program](memory / 8),
		readings: newCache[keptKey, *recording.Recording](memory / 2),
		traces:   newCache[traceKey, *recording.Column](memory / 4),
		replays:  newCache[replayKey, *played](memory / 8),
	}
}

// programSize is about how many bytes a compiled job takes for each of its text.
const programSize = 24

// A shelf is the part of the library that belongs to one job.
type shelf struct {
	*library
	*store.Job
}

// shelf finds the job of a request.
func (s *Server) shelf(ctx context.Context, name string) (*shelf, error) {
	j, err := s.store.Job(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, transport.Refuse(http.StatusNotFound, "No job here is named "+transport.Shown(name)+".")
	}
	if err != nil {
		return nil, err
	}
	return &shelf{s.library, j}, nil
}

// program is the compiled job of a revision.
func (j *shelf) program(ctx context.Context, revision int64) (*program, error) {
	if p, ok := j.programs.get(keptKey{j.ID, revision}); ok {
		return p, nil
	}
	_, sheets, err := j.Revision(ctx, revision)
	if err != nil {
		return nil, err
	}
	_, compiled, found := logic.Check(sheets)
	if compiled == nil {
		return nil, transport.RefuseFound(
			http.StatusUnprocessableEntity,
			fmt.Sprintf(
				"Revision %d was kept by an earlier version of this program, and has errors by this one; mend them in a new revision.",
				revision,
			),
			found,
		)
	}
	size := int64(64 << 10)
	for _, s := range sheets {
		size += int64(len(s.Text)) * programSize
	}
	p := &program{compiled, found}
	j.programs.add(keptKey{j.ID, revision}, p, size)
	return p, nil
}

// recording is a whole recording with its readings.
func (j *shelf) recording(ctx context.Context, id int64) (*recording.Recording, error) {
	if r, ok := j.readings.get(keptKey{j.ID, id}); ok {
		return r, nil
	}
	return together(ctx, j.library, fmt.Sprint("recording ", j.ID, id), func() (*recording.Recording, error) {
		r, err := j.Readings(ctx, id, math.MinInt64, math.MaxInt64)
		if err != nil {
			return nil, err
		}
		j.readings.add(keptKey{j.ID, id}, r, columnsSize(r.Columns...))
		return r, nil
	})
}

// together makes what several ask for at the same time once, for all of them. Whoever asked first
// makes it; if he gives up, the next one does.
func together[T any](ctx context.Context, l *library, key string, f func() (T, error)) (T, error) {
	var none T
	for {
		flight := l.flights.DoChan(key, func() (v any, err error) { // in a goroutine of its own
			err = background.Do(l.log, "making "+key, func() error {
				v, err = f()
				return err
			})
			return v, err
		})
		select {
		case <-ctx.Done():
			return none, ctx.Err()
		case landed := <-flight:
			if landed.Err == nil {
				return landed.Val.(T), nil
			}
			if ctx.Err() == nil && landed.Shared && errors.Is(landed.Err, context.Canceled) {
				continue // another's client has gone, and not this one
			}
			return none, landed.Err
		}
	}
}

// columnsSize is how many bytes some columns take; times that they share count once.
func columnsSize(columns ...*recording.Column) int64 {
	size := int64(0)
	times := map[*int64]bool{}
	for _, c := range columns {
		size += 256
		for _, b := range c.Blocks {
			size += 128 + 8*int64(len(b.Values)+len(b.On)+len(b.Broken))
			if first := &b.Times[0]; !times[first] {
				times[first] = true
				size += 8 * int64(len(b.Times))
			}
		}
	}
	return size
}

// traceAhead traces the inputs of a chart while their recording is played, on another core, but for
// those that are kept. What it gives waits for a trace; nil where there is none.
func (l *library) traceAhead(
	p *logic.Program,
	r *recording.Recording,
	stop bench.Stop,
	kept func(input string) *recording.Column,
) func(string) *recording.Column {
	type ahead struct {
		made chan struct{}
		*recording.Column
	}
	all := map[string]*ahead{}
	var missing []int
	for i := range p.Inputs {
		in := &p.Inputs[i]
		if in.Chain == nil || !in.Used() || r.Column(in.Name) == nil {
			continue
		}
		a := &ahead{made: make(chan struct{}), Column: kept(in.Name)}
		all[in.Name] = a
		if a.Column == nil {
			missing = append(missing, i)
		} else {
			close(a.made)
		}
	}
	background.Go(l.log, "tracing ahead", func() error {
		for _, i := range missing {
			a := all[p.Inputs[i].Name]
			err := background.Do(l.log, "tracing "+p.Inputs[i].Name, func() (err error) {
				a.Column, err = bench.Trace(p, r, i, stop)
				return err
			})
			if err != nil {
				a.Column = nil // the request for this trace makes it again, and gets the error
			}
			close(a.made)
		}
		return nil
	})
	return func(input string) *recording.Column {
		a := all[input]
		if a == nil {
			return nil
		}
		<-a.made
		return a.Column
	}
}

// part is a recording from one time to another, as people write them; empty
// for its start and end. Only the blocks of that part are read.
func (j *shelf) part(ctx context.Context, id int64, from, to string) (*recording.Recording, error) {
	if from == "" && to == "" {
		return j.recording(ctx, id)
	}
	known, err := j.Recording(ctx, id)
	if err != nil {
		return nil, err
	}
	bounds := &recording.Recording{Origin: known.Start, Start: known.Start, End: known.End, Clock: known.Clock}
	first, last, err := bounds.Window(from, to)
	if err != nil {
		return nil, refusal(err)
	}
	r, err := j.Readings(ctx, id, first, last)
	if err != nil {
		return nil, err
	}
	r, err = r.Cut(first, last)
	if err != nil {
		return nil, refusal(err)
	}
	return r, nil
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

func (o otherwise) options() (b bench.Options, err error) {
	b.Set = map[string]unit.Quantity{}
	for _, s := range o.set {
		name, q, err := logic.ParseSetting(s)
		if err != nil {
			return b, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
		}
		b.Set[name] = q
	}
	if o.scan != "" {
		if b.Scan, err = unit.ParseDuration(o.scan); err != nil {
			return b, transport.Refuse(http.StatusUnprocessableEntity, "scan: "+err.Error())
		}
	}
	return b, nil
}

// replay plays a recording, or has done it just before. It keeps one page of the
// transitions.
func (j *shelf) replay(ctx context.Context, p *program, key replayKey, o otherwise) (*played, error) {
	key.job, key.played = j.ID, o.key()
	if r, ok := j.replays.get(key); ok {
		return r, nil
	}
	options, err := o.options()
	if err != nil {
		return nil, err
	}
	options.First, options.Most = key.page*replayPage, replayPage
	return together(ctx, j.library, fmt.Sprintf("replay %+v", key), func() (*played, error) {
		return j.play(ctx, p, key, o, options)
	})
}

// play plays a recording, and keeps what comes of it with what was traced for its chart.
func (j *shelf) play(ctx context.Context, p *program, key replayKey, o otherwise, options bench.Options) (*played, error) {
	return pool.Do(ctx, j.bench, func(work context.Context) (*played, error) {
		r, err := j.part(work, key.recording, key.from, key.to)
		if err != nil {
			return nil, err
		}
		options.Stop = pool.Stop(work)
		kept := func(input string) *recording.Column {
			if key.from != "" || key.to != "" {
				return nil // those that are kept are of whole recordings
			}
			c, _ := j.traces.get(traceKey{job: key.job, revision: key.revision, recording: key.recording, point: input})
			return c
		}
		began := time.Now()
		options.Traced = j.traceAhead(p.Program, r, options.Stop, kept)
		v := &played{}
		if v.Result, err = bench.Replay(p.Program, r, options); err != nil {
			return nil, refusal(err)
		}
		v.took = time.Since(began)
		if v.chart, err = plot.FromReplay(v.Result, p.Job.Title, ""); err != nil {
			return nil, refusal(err)
		}
		j.replays.add(key, v, v.size())
		if key.from == "" && key.to == "" {
			j.keepTraces(key, o, v)
		}
		return v, nil
	})
}

// keepTraces hands the traces of a replay's chart on to whoever asks for series.
func (j *shelf) keepTraces(key replayKey, o otherwise, v *played) {
	for _, x := range v.chart.Panels {
		trace := traceKey{job: key.job, revision: key.revision, recording: key.recording, point: x.Name}
		if x.Output {
			trace.played = o.key()
		}
		if x.Signal != nil && x.Signal.Len() > 0 {
			j.traces.add(trace, x.Signal, columnsSize(x.Signal))
		}
	}
}

// size is about how many bytes a replay takes beside its recording.
func (v *played) size() int64 {
	size := int64(64 << 10)
	for _, t := range v.Transitions {
		size += 256 + 256*int64(len(t.Reason.Terms)+len(t.Reason.Permit)+len(t.Reason.Callers))
	}
	for _, l := range v.chart.Lanes {
		size += 32 * int64(len(l.Spans))
	}
	for _, x := range v.chart.Panels {
		size += columnsSize(x.Signal)
	}
	return size
}

// trace is an input as the rules of a revision see it over a recording, or an
// analog output as they drive it; nil if the recording does not have the input.
func (j *shelf) trace(
	ctx context.Context,
	revision, recordingID int64,
	point string,
	o otherwise,
) (*recording.Recording, *recording.Column, error) {
	p, err := j.program(ctx, revision)
	if err != nil {
		return nil, nil, err
	}
	r, err := j.recording(ctx, recordingID)
	if err != nil {
		return nil, nil, err
	}
	key := traceKey{job: j.ID, revision: revision, recording: recordingID, point: point}
	input, derived, output := p.Index(logic.InputKind, point), p.Index(logic.DerivedKind, point), p.Index(logic.OutputKind, point)
	if output >= 0 {
		key.played = o.key()
	}
	if c, ok := j.traces.get(key); ok {
		return r, c, nil
	}
	c, err := together(ctx, j.library, fmt.Sprintf("trace %+v", key), func() (*recording.Column, error) {
		return pool.Do(ctx, j.bench, func(work context.Context) (*recording.Column, error) {
			switch {
			case input >= 0:
				return bench.Trace(p.Program, r, input, pool.Stop(work))
			case derived >= 0:
				return bench.TraceDerived(p.Program, r, derived, pool.Stop(work))
			case output >= 0 && p.Outputs[output].Analog():
				return j.level(work, p, r, key, o)
			}
			return nil, fmt.Errorf("revision %d has no input and no analog output named %s: %w", revision, point, store.ErrNotFound)
		})
	})
	if err != nil {
		return nil, nil, refusal(err)
	}
	if c != nil {
		j.traces.add(key, c, columnsSize(c))
	}
	return r, c, nil
}

// level is what the rules do with an analog output over a recording. The other
// outputs of the same replay are kept as well.
func (j *shelf) level(work context.Context, p *program, r *recording.Recording, key traceKey, o otherwise) (*recording.Column, error) {
	options, err := o.options()
	if err != nil {
		return nil, err
	}
	options.Most, options.Stop = 1, pool.Stop(work)
	result, err := bench.Replay(p.Program, r, options)
	if err != nil {
		return nil, err
	}
	for i := range p.Outputs {
		if c := result.Level(i); c != nil {
			other := key
			other.point = c.Name
			j.traces.add(other, c, columnsSize(c))
		}
	}
	return result.Level(p.Index(logic.OutputKind, key.point)), nil
}

// forgetRevision gives up what was made of a revision that is deleted.
func (j *shelf) forgetRevision(number int64) {
	j.programs.forget(func(k keptKey) bool { return k == keptKey{j.ID, number} })
	j.traces.forget(func(k traceKey) bool { return k.job == j.ID && k.revision == number })
	j.replays.forget(func(k replayKey) bool { return k.job == j.ID && k.revision == number })
}

// forgetRecording does the same for a recording.
func (j *shelf) forgetRecording(id int64) {
	j.readings.forget(func(k keptKey) bool { return k == keptKey{j.ID, id} })
	j.traces.forget(func(k traceKey) bool { return k.job == j.ID && k.recording == id })
	j.replays.forget(func(k replayKey) bool { return k.job == j.ID && k.recording == id })
}

// forgetAll does the same for a whole job.
func (j *shelf) forgetAll() {
	j.programs.forget(func(k keptKey) bool { return k.job == j.ID })
	j.readings.forget(func(k keptKey) bool { return k.job == j.ID })
	j.traces.forget(func(k traceKey) bool { return k.job == j.ID })
	j.replays.forget(func(k replayKey) bool { return k.job == j.ID })
}
