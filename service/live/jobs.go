package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/service/device"
	"rectura/service/device/modbus"
	"rectura/service/store"
)

// Jobs are those that a service runs.
type Jobs struct {
	file  *store.Plant
	clock Clock
	log   *slog.Logger

	mu      sync.Mutex
	engines map[string]*Engine
	failed  map[string]string // jobs that were run and could not go on: why
	closed  bool
	context context.Context
	stop    context.CancelFunc
}

// hung is for how long an engine may be silent before the service takes it for one that hangs.
const hung = 20 * second

// Begin goes on with what a file says was run when it was last written.
func Begin(ctx context.Context, file *store.Plant, clock Clock, log *slog.Logger) (*Jobs, error) {
	j := &Jobs{file: file, clock: clock, log: log, engines: map[string]*Engine{}, failed: map[string]string{}}
	j.context, j.stop = context.WithCancel(context.WithoutCancel(ctx))
	kept, err := file.Armed(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range kept {
		if a.Mode == Idle {
			continue
		}
		err := j.goOn(ctx, a)
		if errors.Is(err, store.ErrDamaged) {
			return nil, errors.Join(fmt.Errorf("going on with the job %s: %w", a.Job, err), j.Close())
		}
		if err != nil { // the others go on
			log.Error("a job cannot go on", slog.String("job", a.Job), slog.Any("error", err))
			j.failed[a.Job] = fmt.Sprintf("it was %s with revision %d, and cannot go on: %v", a.Mode, a.Revision, err)
		}
	}
	return j, nil
}

func (j *Jobs) goOn(ctx context.Context, a store.Armed) error {
	_, p, found := logic.Check(a.Sources)
	if p == nil {
		return fmt.Errorf("its sheets were armed by another version of this program, and have errors by this one: %s", found[0])
	}
	memory, err := j.file.Memory(ctx, a.Job)
	if err != nil {
		return err
	}
	return j.begin(ctx, a, p, memory)
}

// begin starts an engine.
func (j *Jobs) begin(ctx context.Context, a store.Armed, p *logic.Program, memory []logic.Row) error {
	begun, err := Restarts(ctx, j.file, a.Job)
	if err != nil {
		return err
	}
	bypasses, err := j.file.Bypasses(ctx, a.Job)
	if err != nil {
		return err
	}
	figures, err := j.file.Figures(ctx, a.Job)
	if err != nil {
		return err
	}
	drivers, err := Drivers(p, j.log)
	if err != nil {
		return err
	}
	e, err := Start(
		j.context,
		Setup{Armed: a, Program: p, Memory: memory, Bypasses: bypasses, Figures: figures, Restarts: begun, Clock: j.clock, Keeper: j.file,
			Drivers: drivers, Log: j.log},
	)
	if err == nil {
		j.engines[a.Job] = e
	}
	return err
}

// Restarts are when the service has last begun to run a job again, as many as matter.
func Restarts(ctx context.Context, file *store.Plant, job string) (begun []int64, err error) {
	entries, err := file.Journal(ctx, job, store.JournalFilter{Kind: "service", Newest: 4 * restarts})
	for _, e := range entries {
		if e.To == "started" {
			begun = append(begun, e.Time)
		}
	}
	return begun, err
}

// Drivers are those that a job needs.
func Drivers(p *logic.Program, log *slog.Logger) ([]device.Driver, error) {
	all, err := modbus.NewDrivers(modbus.Devices(p), log)
	if err != nil {
		return nil, err
	}
	drivers := make([]device.Driver, len(all))
	for i, d := range all {
		drivers[i] = d
	}
	return drivers, nil
}

// Engine is that of a job; nil while it is idle.
func (j *Jobs) Engine(job string) *Engine {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.engines[job]
}

// Failed is why a job that was run is idle; empty where that is as it should be.
func (j *Jobs) Failed(job string) string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.failed[job]
}

// Running are the names of the jobs that are not idle.
func (j *Jobs) Running() (all []string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for name := range j.engines {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

// Listen lets a job that is idle, or that listens, listen with a revision.
func (j *Jobs) Listen(ctx context.Context, job string, r *Revision, who, why string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.closed {
		return ErrEnded
	}
	if len(r.Program.Job.Devices) == 0 {
		return refuse("revision %d has no device, so that there is nothing to listen to; wire its points first", r.Number)
	}
	a := store.Armed{Job: job, Mode: Listening, Revision: r.Number, Sources: r.Sources}
	if e := j.engines[job]; e != nil {
		s, err := e.Status(ctx)
		if err != nil {
			return err
		}
		if s.Mode == Armed {
			return refuse("the job is armed with revision %d; disarm it first, or arm the other revision over it", s.Revision)
		}
		if s.Revision == r.Number {
			return nil
		}
		if err := e.rest(ctx, who, why); err != nil {
			return err
		}
		e.Stop()
		delete(j.engines, job)
	}
	for name, other := range j.engines {
		if name == job {
			continue
		}
		theirs, err := ask(ctx, other, func() map[string]bool { return lines(other.p) })
		if err != nil {
			return err
		}
		if text := disturbs(lines(r.Program), theirs, name); text != "" {
			return refuse("%s", text)
		}
	}
	// What people have set and kept off outlasts a rest.
	memory, err := j.file.Memory(ctx, job)
	if err != nil {
		return err
	}
	kept, err := j.file.Armed(ctx)
	if err != nil {
		return err
	}
	for _, k := range kept {
		if k.Job == job {
			a.Last, a.Starts = k.Last, k.Starts
		}
	}
	bypasses, err := j.file.Bypasses(ctx, job)
	if err != nil {
		return err
	}
	figures, err := j.file.Figures(ctx, job)
	if err != nil {
		return err
	}
	drivers, err := Drivers(r.Program, j.log)
	if err != nil {
		return err
	}
	e, err := Start(
		j.context,
		Setup{Armed: a, Program: r.Program, Settled: memory, Bypasses: bypasses, Figures: figures, Clock: j.clock, Keeper: j.file,
			Drivers: drivers, Log: j.log, Who: who, Why: why},
	)
	if err != nil {
		return err
	}
	j.engines[job] = e
	delete(j.failed, job)
	return nil
}

// Rest makes a job that listens idle.
func (j *Jobs) Rest(ctx context.Context, job, who, why string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	e := j.engines[job]
	if e == nil {
		return refuse("the job is idle already")
	}
	if err := e.rest(ctx, who, why); err != nil {
		return err
	}
	e.Stop()
	delete(j.engines, job)
	return nil
}

// rest has an engine that listens give back what a person has in hand, and be idle from then on.
func (e *Engine) rest(ctx context.Context, who, why string) error {
	err, asked := ask(ctx, e, func() error {
		if e.armed.Mode == Armed {
			return refuse("the job is armed; disarm it first")
		}
		if i := e.people.hand(e); i >= 0 && e.began {
			e.enter(
				e.next(),
				capture.Event{
					Kind: capture.Command,
					Do:   logic.Command{Do: logic.GiveBack, Of: logic.Ref{Kind: logic.OutputKind, Index: int32(i)}},
				},
			)
			e.drive()
		}
		return nil
	})
	if err = cmp.Or(asked, err); err != nil {
		return err
	}
	for range 30 { // until the plant has it
		waits, err := ask(ctx, e, func() bool {
			for _, o := range e.outputs {
				if _, taken := e.run.S.Drive(o.index); e.began && taken && o.dev.state == connected &&
					e.run.S.Mode(o.index) == logic.Auto {
					return true
				}
			}
			return false
		})
		if err != nil || !waits {
			break
		}
		t := e.clock.Timer(100 * time.Millisecond)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return ctx.Err()
		}
	}
	_, err = ask(ctx, e, func() bool {
		from := fmt.Sprintf("%s, revision %d", e.armed.Mode, e.armed.Revision)
		e.armed.Mode, e.armed.Since = Idle, e.next()
		e.keeping.entry(store.Entry{Time: e.next(), Kind: "command", From: from, To: Idle, Because: why, Who: who, Via: "disarm"})
		return true
	})
	return err
}

// lines are the serial lines that a job talks on.
func lines(p *logic.Program) map[string]bool {
	all := map[string]bool{}
	for _, d := range p.Job.Devices {
		if d.Serial {
			all[d.Address] = true
		}
	}
	return all
}

// disturbs says that two jobs talk on one serial line; nothing where they do not.
func disturbs(mine, theirs map[string]bool, job string) string {
	for _, line := range slices.Sorted(maps.Keys(mine)) {
		if theirs[line] {
			return fmt.Sprintf("the job %s talks on %s, where two would disturb each other; "+
				"give all devices of that line to one job, or disarm %s", job, line, job)
		}
	}
	return ""
}

// claims says where a job's outputs are wired: transport, unit, table and address of each. A bit claims its register, which is
// read, changed and written in one go of one connection.
func claims(p *logic.Program) map[string]string {
	all := map[string]string{}
	for _, d := range modbus.Devices(p) {
		for _, w := range d.Wires {
			if w.Driven {
				for a := w.Address; a < w.Address+w.Size; a++ {
					all[fmt.Sprintf("%s unit %d %s %d", d.Address, d.Unit, w.Table, a)] = cmp.Or(w.Point, "heartbeat")
				}
			}
		}
	}
	return all
}

// Clash says which output of a revision another armed job drives, or which serial line another job talks on; empty for none.
func (j *Jobs) Clash(ctx context.Context, job string, r *Revision) (string, error) {
	mine := claims(r.Program)
	for _, name := range j.Running() {
		e := j.Engine(name)
		if name == job || e == nil {
			continue
		}
		type uses struct {
			lines  map[string]bool
			driven map[string]string
		}
		other, err := ask(ctx, e, func() uses {
			if e.armed.Mode != Armed {
				return uses{lines: lines(e.p)}
			}
			return uses{lines(e.p), claims(e.p)}
		})
		if err != nil {
			return "", err
		}
		if text := disturbs(lines(r.Program), other.lines, name); text != "" {
			return text, nil
		}
		for where, theirs := range other.driven {
			if point, is := mine[where]; is {
				return fmt.Sprintf("%s is wired to %s, which %s of the armed job %s drives; disarm that, or wire one of them elsewhere",
					point, where, theirs, name), nil
			}
		}
	}
	return "", nil
}

// Watch answers once an engine hangs, with which, or when the context ends.
func (j *Jobs) Watch(ctx context.Context) error {
	for {
		t := j.clock.Timer(time.Second)
		select {
		case <-ctx.Done():
			t.Stop()
			return nil
		case <-t.C:
		}
		_, steady := j.clock.Now()
		j.mu.Lock()
		for name, e := range j.engines {
			if last := e.passed.Load(); last != 0 && steady-last > hung {
				j.mu.Unlock()
				return fmt.Errorf(
					"the engine of the job %s hangs since %.0f s; its outputs were written to what they fail to",
					name,
					float64(steady-last)/1e9,
				)
			}
		}
		j.mu.Unlock()
	}
}

// LeaveAtFail drives the outputs of all armed jobs to what they fail to, as far as that is done in a while.
func (j *Jobs) LeaveAtFail(ctx context.Context) {
	for _, name := range j.Running() {
		e := j.Engine(name)
		if e == nil {
			continue
		}
		if left, err := e.Leave(ctx); err != nil || len(left) > 0 {
			j.log.Error(
				"outputs are not at what they fail to",
				slog.String("job", name),
				slog.Any("outputs", left),
				slog.Any("error", err),
			)
		}
	}
}

// Close ends all engines. What they have done is kept, and outputs stay as they are.
func (j *Jobs) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.closed = true
	var all sync.WaitGroup
	for _, e := range j.engines {
		all.Go(func() {
			e.Stop()
			if devices := e.watchdogs(); len(devices) > 0 {
				j.log.Info(
					"heartbeats have ended; what becomes of the outputs is up to the devices' watchdogs",
					slog.String("job", e.armed.Job),
					slog.Any("devices", devices),
				)
			}
		})
	}
	all.Wait()
	j.stop()
	j.engines = map[string]*Engine{}
	return nil
}

// Forget deletes what is older than it is kept for, unless the clock was set by much: then it rests for a day.
func (j *Jobs) Forget(ctx context.Context, r store.Retention) error {
	wall, _ := j.clock.Now()
	for _, name := range j.Running() {
		e := j.Engine(name)
		if e == nil {
			continue
		}
		rests, err := ask(ctx, e, func() bool { return e.keeping.rests(e.steady) })
		if err == nil && rests {
			r.Journal, r.Capture = time.Duration(wall), time.Duration(wall) // as old as it may be
		}
	}
	return j.file.Forget(ctx, wall, r)
}
