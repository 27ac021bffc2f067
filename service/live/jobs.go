package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/background"
	"rectura/service/device"
	"rectura/service/device/modbus"
	"rectura/service/store"
)

// Jobs are those that a service runs, by their numbers. What is done to one job never waits for another.
type Jobs struct {
	file   *store.Plant
	clock  Clock
	log    *slog.Logger
	leases *Leases

	allowed *device.Allowed // where new revisions may have devices; nil for anywhere

	mu      sync.Mutex // of the maps; it is never held over I/O, or while an engine is asked
	all     map[int64]*job
	closed  bool
	context context.Context
	stop    context.CancelFunc
}

// A job is one of them.
type job struct {
	number int64
	name   string
	turn   chan struct{} // held by whoever starts or ends its engine

	// Under the mutex of Jobs.
	engine *Engine
	failed string // why it is not run any more, though it was
}

// slow is after how many looks at an engine that makes no pass its supervisor's watchdog is not fed any more.
const slow = 3

// hung is after how many looks, a second each, at an engine that makes no pass the service ends.
const hung = 20

// Begin goes on with the jobs that were run when the file was last written. A revision that was in force goes on wherever its devices
// are: allowed applies to revisions that are armed, or begin to listen, from now on.
func Begin(ctx context.Context, file *store.Plant, kept *store.Start, clock Clock, allowed *device.Allowed, log *slog.Logger) *Jobs {
	j := &Jobs{file: file, clock: clock, log: log, leases: NewLeases(log), allowed: allowed, all: map[int64]*job{}}
	j.context, j.stop = context.WithCancel(context.WithoutCancel(ctx))
	var all background.Group
	for i := range kept.Jobs {
		r := &kept.Jobs[i]
		if r.Armed.Mode == Idle {
			continue
		}
		x := j.job(r.Armed.Number, r.Armed.Name)
		failed := func(err error) {
			log.Error("a job cannot go on", slog.String("job", r.Armed.Name), slog.Any("error", err))
			j.mu.Lock()
			x.failed = fmt.Sprintf("it was %s with revision %d, and cannot go on: %v", r.Armed.Mode, r.Armed.Revision, err)
			j.mu.Unlock()
		}
		all.Go(log, "going on with the job "+r.Armed.Name, func() error { return j.goOn(ctx, x, r, kept.Aside) }, failed) // each for itself
	}
	all.Wait()
	return j
}

// job returns the one of a number.
func (j *Jobs) job(number int64, name string) *job {
	j.mu.Lock()
	defer j.mu.Unlock()
	x := j.all[number]
	if x == nil {
		x = &job{number: number, name: name, turn: make(chan struct{}, 1)}
		j.all[number] = x
	}
	if x.engine == nil {
		x.name = name
	}
	return x
}

// take waits for the turn to start or end the engine of a job.
func (x *job) take(ctx context.Context) error {
	select {
	case x.turn <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (x *job) give() { <-x.turn }

// goOn starts the engine of a job that was run.
func (j *Jobs) goOn(ctx context.Context, x *job, r *store.Recalled, aside string) error {
	if r.Armed.Sources == nil {
		sources, err := j.file.Sheets(ctx, r.Armed.Number, r.Armed.Revision)
		if err != nil {
			return fmt.Errorf("its sheets are lost: %w", err)
		}
		r.Armed.Sources = sources
	}
	_, p, found := logic.Check(r.Armed.Sources)
	if p == nil {
		return fmt.Errorf("its sheets were armed by another version of this program, and have errors by this one: %s", found[0])
	}
	begun, err := Restarts(ctx, j.file, r.Armed.Number)
	if err != nil {
		return err
	}
	drivers, err := Drivers(p, j.log)
	if err != nil {
		return err
	}
	left, err := j.leftDrivers(r.Armed.Left)
	if err != nil {
		return err
	}
	lease, err := j.leases.Of(ctx, r.Armed.Name, drivers)
	if err != nil {
		return err
	}
	damage := r.Damage
	if damage != "" && aside != "" && r.Armed.Damage != damage {
		damage += "; the file as it was is " + aside
	}
	return j.start(x, Setup{Armed: r.Armed, Program: p, Memory: r.Memory, Since: r.Since, Bypasses: r.Bypasses, Figures: r.Figures, Restarts: begun, Damage: damage,
		Unlocked: r.Unlocked, Drivers: drivers, Left: left, Lease: lease})
}

// leftDrivers makes the drivers of what a revision before has left behind.
func (j *Jobs) leftDrivers(left *store.Left) ([]device.Driver, error) {
	if left == nil {
		return nil, nil
	}
	_, p, found := logic.Check(left.Sources)
	if p == nil {
		return nil, fmt.Errorf("the sheets of the revision before have errors: %s", found[0])
	}
	return Drivers(p, j.log)
}

// start starts an engine, unless the service ends.
func (j *Jobs) start(x *job, s Setup) error {
	s.Clock, s.Keeper, s.Log = j.clock, j.file, j.log
	if err := s.Lease.Listen(); err != nil {
		return err
	}
	e, err := Start(j.context, s)
	if err != nil {
		s.Lease.Release()
		return err
	}
	j.mu.Lock()
	closed := j.closed
	if !closed {
		x.engine, x.failed = e, ""
	}
	j.mu.Unlock()
	if closed {
		e.Stop()
		return ErrEnded
	}
	return nil
}

// Restarts returns when the service has last begun to run a job again, as often as matters.
func Restarts(ctx context.Context, file *store.Plant, job int64) (begun []int64, err error) {
	entries, err := file.Journal(ctx, job, store.JournalFilter{Kind: "service", Newest: 4 * restarts})
	for _, e := range entries {
		if e.To == "started" {
			begun = append(begun, e.Time)
		}
	}
	return begun, err
}

// Drivers makes those that a job needs.
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

// Engine returns that of a job; nil while it is idle.
func (j *Jobs) Engine(number int64) *Engine {
	j.mu.Lock()
	defer j.mu.Unlock()
	if x := j.all[number]; x != nil {
		return x.engine
	}
	return nil
}

// Failed returns why a job that was run is idle; empty where that is as it should be.
func (j *Jobs) Failed(number int64) string {
	j.mu.Lock()
	defer j.mu.Unlock()
	if x := j.all[number]; x != nil {
		return x.failed
	}
	return ""
}

// A Running is a job that is not idle, or that was run and cannot go on.
type Running struct {
	Number int64
	Name   string
	Engine *Engine // nil for one that cannot go on
}

// Running returns the jobs that are not idle, and those that cannot go on, whatever else is known of them, in the order of their names.
func (j *Jobs) Running() (all []Running) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, x := range j.all {
		if x.engine != nil || x.failed != "" {
			all = append(all, Running{x.number, x.name, x.engine})
		}
	}
	slices.SortFunc(all, func(a, b Running) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// Named returns the number of the job of a name that is not idle, or that cannot go on; 0 for none.
func (j *Jobs) Named(name string) int64 {
	for _, r := range j.Running() {
		if r.Name == name {
			return r.Number
		}
	}
	return 0
}

// mostOfAll is the largest number of connections of all jobs together.
const mostOfAll = 512

// lines returns the number of connections of all jobs but one.
func (j *Jobs) lines(but string) (n int) {
	for _, r := range j.Running() {
		if r.Engine != nil && r.Name != but {
			n += int(r.Engine.lines.Load())
		}
	}
	return n
}

// LeaseOf returns the lease of a revision of a job. It refuses a revision with devices where the operator allows none.
func (j *Jobs) LeaseOf(ctx context.Context, name string, drivers []device.Driver) (*Lease, error) {
	if err := mayReach(ctx, drivers, j.allowed); err != nil {
		return nil, err
	}
	if n := j.lines(name) + len(drivers); n > mostOfAll {
		return nil, refuse("the devices of all jobs would be at %d addresses, and %d are the most; let another job be idle first", n, mostOfAll)
	}
	return j.leases.Of(ctx, name, drivers)
}

// MayBeAt refuses transports (device.Driver) where the operator allows no devices.
func (j *Jobs) MayBeAt(transports []string) error { return mayBeAt(transports, j.allowed) }

// WhileIdle calls f while the job is idle and cannot begin to listen. A job that is not idle is an ErrRefused.
func (j *Jobs) WhileIdle(ctx context.Context, number int64, name string, f func() error) error {
	x := j.job(number, name)
	if err := x.take(ctx); err != nil {
		return err
	}
	defer x.give()
	if e := j.Engine(number); e != nil {
		return refuse("the job %s is not idle; disarm it first, until it is: rectura disarm --job %s", name, name)
	}
	err := f()
	if err == nil {
		j.mu.Lock()
		delete(j.all, number)
		j.mu.Unlock()
	}
	return err
}

// Listen lets a job that is idle, or that listens, listen with a revision. It returns what could not be taken over of what people have
// set, in sentences.
func (j *Jobs) Listen(ctx context.Context, number int64, name string, r *Revision, who, why string) (dropped []string, err error) {
	x := j.job(number, name)
	if err := x.take(ctx); err != nil {
		return nil, err
	}
	defer x.give()
	if len(r.Program.Job.Devices) == 0 {
		return nil, refuse("revision %d has no device, so that there is nothing to listen to; wire its points first", r.Number)
	}
	if e := j.Engine(number); e != nil {
		s, err := e.Status(ctx)
		if err != nil {
			return nil, err
		}
		if s.Mode == Armed {
			return nil, refuse("the job is armed with revision %d; disarm it first, or arm the other revision over it", s.Revision)
		}
		if s.Revision == r.Number {
			return nil, nil
		}
		if err := j.end(ctx, x, e, who, why); err != nil {
			return nil, err
		}
	}
	drivers, err := r.Drivers()
	if err != nil {
		return nil, err
	}
	kept, err := j.kept(ctx, number)
	if err != nil {
		return nil, err
	}
	a := store.Armed{Number: number, Name: name, Mode: Listening, Revision: r.Number, Sources: r.Sources, Last: kept.Armed.Last, Starts: kept.Armed.Starts}
	if err := j.start(x, Setup{Armed: a, Program: r.Program, Settled: kept.Memory, Bypasses: kept.Bypasses, Figures: kept.Figures, Drivers: drivers,
		Lease: r.Lease, Who: who, Why: why}); err != nil {
		return nil, err
	}
	return notSet(r.Program, kept.Memory), nil
}

// notSet says which setpoints that people have set cannot be as they were set.
func notSet(p *logic.Program, memory []logic.Row) (all []string) {
	if memory == nil {
		return nil
	}
	_, lost, err := logic.Resume(p, memory)
	if err != nil {
		return []string{fmt.Sprintf("what people have set cannot be read: %v", err)}
	}
	for _, l := range lost {
		if _, is := p.Job.Lookup(l.Name).(*sheet.Setpoint); is {
			all = append(all, sentence(l))
		}
	}
	return all
}

// kept returns what is kept of a job.
func (j *Jobs) kept(ctx context.Context, number int64) (r store.Recalled, err error) {
	all, err := j.file.Recall(ctx)
	for _, x := range all {
		if x.Armed.Number == number {
			return x, nil
		}
	}
	return r, err
}

// Rest makes a job that listens idle.
func (j *Jobs) Rest(ctx context.Context, number int64, who, why string) error {
	x := j.job(number, "")
	if err := x.take(ctx); err != nil {
		return err
	}
	defer x.give()
	e := j.Engine(number)
	if e == nil {
		return refuse("the job is idle already")
	}
	return j.end(ctx, x, e, who, why)
}

// end has an engine that listens be idle, and ends it.
func (j *Jobs) end(ctx context.Context, x *job, e *Engine, who, why string) error {
	if err := e.rest(ctx, who, why); err != nil {
		return err
	}
	e.Stop()
	j.mu.Lock()
	x.engine = nil
	j.mu.Unlock()
	return nil
}

// rest has an engine that listens give back what a person has in hand, and be idle from then on.
func (e *Engine) rest(ctx context.Context, who, why string) error {
	err, asked := tell(ctx, e, func() error {
		if e.armed.Mode == Armed {
			return refuse("the job is armed; disarm it first")
		}
		if i := e.people.hand(e); i >= 0 && e.began {
			c := logic.Command{Do: logic.GiveBack, Of: logic.Ref{Kind: logic.OutputKind, Index: int32(i)}}
			e.enter(e.next(), capture.Event{Kind: capture.Command, Do: &c})
		}
		return nil
	})
	if err = cmp.Or(asked, err); err != nil {
		return err
	}
	for range 30 { // until the plant has it
		waits, err := ask(ctx, e, func() bool {
			return e.began && slices.ContainsFunc(e.outputs, func(o *out) bool {
				_, taken := e.run.S.Drive(o.index)
				return taken && o.dev.state == connected && e.run.S.Mode(o.index) == logic.Auto
			})
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
	_, err = tell(ctx, e, func() bool {
		from := fmt.Sprintf("%s, revision %d", e.armed.Mode, e.armed.Revision)
		e.armed.Mode, e.armed.Since, e.armed.Again = Idle, e.next(), store.NotAgain
		e.keeping.check = true
		e.keeping.entry(store.Entry{Time: e.next(), Kind: "command", From: from, To: Idle, Because: why, Who: who, Via: "disarm"})
		return true
	})
	return err
}

// Watch answers once an engine hangs, with which, or when ctx ends. It counts its own looks: a process that was stopped does not take
// that for an engine that hangs. It calls alive, once a second, while every engine makes its passes.
func (j *Jobs) Watch(ctx context.Context, alive func()) error {
	type looked struct {
		passes int64
		looks  int
	}
	seen := map[*Engine]looked{}
	for {
		t := j.clock.Timer(time.Second)
		select {
		case <-ctx.Done():
			t.Stop()
			return nil
		case <-t.C:
		}
		now, all := map[*Engine]looked{}, true
		for _, r := range j.Running() {
			if r.Engine == nil {
				continue
			}
			x := seen[r.Engine]
			if passes := r.Engine.passes.Load(); passes != x.passes {
				x = looked{passes: passes}
			}
			x.looks++
			now[r.Engine] = x
			all = all && x.looks <= slow
			if x.looks > hung {
				return fmt.Errorf("the engine of the job %s has made no pass for %d s; its drivers write fail states", r.Name, hung)
			}
		}
		if all {
			alive()
		}
		seen = now
	}
}

// LeaveAtFail drives the outputs of all armed jobs to their fail states, as far as that is done before ctx ends.
func (j *Jobs) LeaveAtFail(ctx context.Context) {
	var all background.Group
	for _, r := range j.Running() {
		if r.Engine == nil {
			continue
		}
		all.Go(j.log, "driving outputs to their fail states", func() error {
			if left, err := r.Engine.Leave(ctx); err != nil || len(left) > 0 {
				j.log.Error("outputs are not at their fail states", slog.String("job", r.Name), slog.Any("outputs", left), slog.Any("error", err))
			}
			return nil
		})
	}
	all.Wait()
}

// Close ends all engines. What they have done is kept, and outputs stay as they are.
func (j *Jobs) Close() error {
	j.mu.Lock()
	j.closed = true
	j.mu.Unlock()
	var all background.Group
	for _, r := range j.Running() {
		if r.Engine == nil {
			continue
		}
		all.Go(j.log, "ending the job "+r.Name, func() error {
			r.Engine.Stop()
			if devices := r.Engine.watchdogs(); len(devices) > 0 {
				j.log.Info("heartbeats have ended; the devices' watchdogs decide what becomes of the outputs", slog.String("job", r.Name),
					slog.Any("devices", devices))
			}
			return nil
		})
	}
	all.Wait()
	j.stop()
	return j.leases.Close()
}

// Forget deletes what is older than it is kept for, unless the clock was set by much: then that rests for a day.
func (j *Jobs) Forget(ctx context.Context, r store.Retention) error {
	wall, _ := j.clock.Now()
	for _, x := range j.Running() {
		if x.Engine == nil {
			continue
		}
		rests, err := ask(ctx, x.Engine, func() bool { return x.Engine.keeping.rests(x.Engine.steady) })
		if err == nil && rests {
			r.Journal, r.Capture = time.Duration(wall), time.Duration(wall) // as old as it may be
		}
	}
	if err := j.file.Forget(ctx, wall, r); err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}
