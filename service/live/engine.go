// Package live runs jobs in plants: readings come in from devices, a job decides, outputs are written, and what happened
// is kept.
//
// One goroutine a job, its Engine, owns the stepper, and gives the times of instants. It waits for whichever comes first:
// what a device reports, what a person wants, or what falls due; never for a disk, a network or a reader. What it hands on
// goes to others, who take the newest where they are slow.
package live

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync/atomic"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/device"
	"rectura/service/store"
)

// The modes of a job.
const (
	Idle      = "idle"
	Listening = "listening"
	Armed     = "armed"
)

// Limits of an engine.
const (
	asleep    = 5 * second                    // an engine that has stood still for longer restarts
	lateness  = 100 * int64(time.Millisecond) // what is handled later is counted
	beatsLate = second                        // an engine that is later does not beat
	opening   = 15 * second                   // how long a first instant waits for devices
	restless  = 600 * second                  // so many restarts in so long raise an alarm
	restarts  = 3
	ping      = second // how often drivers are told that the engine is there
)

// A Keeper keeps what an engine does. It may be slow, and may fail.
type Keeper interface {
	Commit(ctx context.Context, c *store.Cut) (last int64, err error)
}

// A Setup is what an engine begins with.
type Setup struct {
	Armed    store.Armed // of a job that was idle, with the mode Listening
	Program  *logic.Program
	Memory   []logic.Row // nil for none
	Settled  []logic.Row // of a job that was idle: what people have set and kept off is taken from it, and nothing else
	Bypasses []store.Bypass
	Figures  []store.Figures
	Restarts []int64 // when the service began to run the job before, in the last restless nanoseconds
	Who, Why string  // of whoever starts it; nobody where the service goes on

	Clock   Clock
	Keeper  Keeper
	Drivers []device.Driver
	Log     *slog.Logger
}

// An Engine runs one job. Its exported methods may be called by anybody, at any time.
type Engine struct {
	clock  Clock
	keeper Keeper
	log    *slog.Logger
	mail   *mailbox
	passed atomic.Int64 // when it last made a pass, steady
	stop   context.CancelFunc
	done   chan struct{} // closed when it has ended

	context context.Context // of its drivers

	// All below is touched by the engine's goroutine alone.

	p       *logic.Program
	run     capture.Run
	armed   store.Armed
	clockOf logic.Clock

	time     serviceTime
	last     int64 // the last instant
	began    bool  // it has made its first
	opened   int64 // when it began to wait for devices, steady
	broken   bool  // an error of ours: it makes no instants until it is armed again
	leaving  bool  // its outputs are left at what they fail to, since the service ends
	expected int64 // when it is to wake at the latest, steady
	steady   int64 // now
	late     int64 // how late it was
	quiet    int64 // until when the service must run on, for its restarts to be over, steady; 0 for nothing

	drivers  []*driving
	devices  map[string]*dev
	outputs  []*out // that are wired, in the order of the sheet
	byInput  map[string]int32
	outputOf map[string]*out

	alarmSince map[string]int64 // when the condition of an alarm last turned
	entered    []capture.Event  // at the next instant
	answer     answered         // of the command that is being entered
	plans      plans
	people     people
	keeping    keeping
	figures    figures
	lates      lates
}

// A driving is a driver that works for an engine.
type driving struct {
	device.Driver
	stop context.CancelFunc
	done chan struct{}
	told int64 // when it last had an order, steady
}

// Start starts an engine. It ends with Stop, or with the context.
func Start(ctx context.Context, c Setup) (*Engine, error) {
	e := &Engine{
		clock:      c.Clock,
		keeper:     c.Keeper,
		log:        c.Log.With(slog.String("job", c.Armed.Job)),
		mail:       newMailbox(),
		done:       make(chan struct{}),
		alarmSince: map[string]int64{},
	}
	e.armed, e.p = c.Armed, c.Program
	wall, steady := e.clock.Now()
	e.time = startTime(wall, steady, c.Armed.Last)
	e.last, e.opened, e.steady = c.Armed.Last, steady, steady
	s := logic.NewStepper(e.p)
	var lost []logic.Lost
	resumed := c.Memory != nil
	if resumed {
		var err error
		if s, lost, err = logic.Resume(e.p, c.Memory); err != nil {
			e.log.Error("the memory cannot be read: the job listens first", slog.Any("error", err))
			e.note(
				"service",
				"",
				"",
				"",
				fmt.Sprintf("the memory cannot be read, and the job is armed as from idle: it listens first: %v", err),
				"",
			)
			s, resumed = logic.NewStepper(e.p), false
			if e.armed.Mode == Armed { // it does not stay down
				e.plans.again = true
			}
			e.armed.Mode = Listening
		}
	}
	e.armed.Starts++
	e.use(s)
	e.people.begin(c.Bypasses)
	e.figures.begin(e.p, c.Figures, e.byInput)
	for _, l := range lost {
		e.note("service", l.Name, "", "", l.Text, "")
	}
	if resumed {
		e.keeping.segment(s) // as it was kept: what enters now goes on from there
		e.entered = append(e.entered, capture.Event{Kind: capture.Restart})
		_, _, circle := s.Circle()
		e.broken = e.armed.Fault != "" && !circle
		e.note("service", "", "stopped", "started", e.outage(wall, c.Armed.Last), "")
		e.countRestarts(c.Restarts)
		e.dueForService()
	} else {
		e.armed.Last, e.armed.Since = e.time.t, e.time.t
		e.keeping.entry(store.Entry{Time: e.next(), Kind: "command", From: Idle, To: fmt.Sprintf("%s, revision %d", e.armed.Mode, e.armed.Revision),
			Because: c.Why, Who: c.Who, Via: "listen"})
		e.keeping.segment(s)
		e.entered = append(e.entered, capture.Event{Kind: capture.Listen, On: true})
		e.entered = append(e.entered, settled(e.p, c.Settled)...)
	}
	ctx, e.stop = context.WithCancel(ctx)
	e.context = ctx
	e.engage(ctx, c.Drivers)
	go e.loop(ctx)
	return e, nil
}

// countRestarts raises an alarm where the service has begun too often: delays begin anew each time, and may never run out. It
// is over once it has run for as long.
func (e *Engine) countRestarts(before []int64) {
	n := 1
	first := e.next()
	for _, t := range before {
		if e.next()-t < restless {
			n, first = n+1, min(first, t)
		}
	}
	i, is := e.byInput[sheet.ServiceRuns]
	if n < restarts || !is {
		return
	}
	e.fault(i, fmt.Sprintf("the service was started %d times since %s", n, e.clockOf(first)))
	e.quiet = e.steady + restless
}

// ranOn ends that alarm.
func (e *Engine) ranOn() {
	if e.quiet != 0 && e.steady >= e.quiet {
		e.quiet = 0
		e.entered = append(e.entered, capture.Event{Kind: capture.Reading, Of: e.byInput[sheet.ServiceRuns], Value: 1})
	}
}

// outage says from when to when nobody was there.
func (e *Engine) outage(wall, last int64) string {
	if wall <= last {
		return "nobody was there, for how long is not known: the machine's clock is behind what was kept"
	}
	return fmt.Sprintf("nobody was there from %s to %s", e.clockOf(last), e.clockOf(wall))
}

// settled does again what people have set, kept off and taken out of service by a memory.
func settled(p *logic.Program, memory []logic.Row) (all []capture.Event) {
	was, _, err := logic.Resume(p, memory)
	if err != nil {
		return nil // there is none
	}
	do := func(c logic.Command) { all = append(all, capture.Event{Kind: capture.Command, Do: c}) }
	for i, x := range p.Settings {
		if v := was.Setting(i); v != x.Value.Value {
			do(logic.Command{Do: logic.SetSetting, Of: logic.Ref{Kind: logic.SettingKind, Index: int32(i)}, Value: v})
		}
	}
	for i := range p.Outputs {
		if was.Mode(i) == logic.Stood {
			do(logic.Command{Do: logic.StandOff, Of: logic.Ref{Kind: logic.OutputKind, Index: int32(i)}, Lock: was.Lock(i)})
		}
	}
	for i := range p.Alarms {
		if a := was.Alarm(i); a.OutOfService() {
			do(logic.Command{Do: logic.TakeOut, Of: logic.Ref{Kind: logic.AlarmKind, Index: int32(i)}})
		}
	}
	return all
}

// use makes a stepper the engine's.
func (e *Engine) use(s *logic.Stepper) {
	e.p = s.Program()
	e.clockOf = ClockOf(e.p)
	e.run = capture.Run{S: s, Look: e.look, Answer: e.answer.take}
	e.byInput = map[string]int32{}
	for i, in := range e.p.Inputs {
		e.byInput[in.Name] = int32(i)
	}
}

// ClockOf is how the times of a job's sentences are written: in its time zone, or else in UTC.
func ClockOf(p *logic.Program) logic.Clock {
	zone := time.UTC
	if p.Job.Timezone != "" {
		if z, err := time.LoadLocation(p.Job.Timezone); err == nil {
			zone = z
		}
	}
	return func(t int64) string { return time.Unix(0, t).In(zone).Format("15:04:05") }
}

// engage starts drivers.
func (e *Engine) engage(ctx context.Context, drivers []device.Driver) {
	e.devices, e.outputs, e.outputOf, e.drivers = map[string]*dev{}, nil, map[string]*out{}, nil
	for _, d := range drivers {
		x := &driving{Driver: d, done: make(chan struct{})}
		e.drivers = append(e.drivers, x)
		for _, of := range d.Devices() {
			e.devices[of.Name] = newDev(of, x, e.byInput[of.Name], e.steady, e.time.t)
		}
	}
	for i, o := range e.p.Job.Outputs {
		if o.Drives == nil {
			continue
		}
		x := &out{index: i, dev: e.devices[o.Drives.Device.Name], readBack: e.byInput[o.ReadBack()]}
		if o.Flash != nil {
			x.flash = e.p.Job.DurationValue(o.Flash.Duration)
		}
		e.outputs, e.outputOf[o.Name] = append(e.outputs, x), x
	}
	for _, x := range e.drivers {
		var running context.Context
		running, x.stop = context.WithCancel(ctx)
		go func() {
			defer close(x.done)
			x.Run(running, func(r device.Report) { e.mail.report(x, r) })
		}()
	}
}

// disengage ends drivers, and waits for nobody.
func (e *Engine) disengage() {
	for _, x := range e.drivers {
		x.stop()
	}
}

// Stop ends the engine. What it has done is kept, and its outputs stay as they are.
func (e *Engine) Stop() {
	e.stop()
	<-e.done
}

// Done is closed when the engine has ended.
func (e *Engine) Done() <-chan struct{} { return e.done }

func (e *Engine) loop(ctx context.Context) {
	defer close(e.done)
	defer e.mail.close()
	timer := e.clock.Timer(0)
	defer timer.Stop()
	for {
		e.guarded()
		_, steady := e.clock.Now()
		e.expected = e.wake()
		timer.Reset(time.Duration(max(e.expected-steady, 0)))
		select {
		case <-ctx.Done():
			e.disengage()
			for _, x := range e.drivers {
				<-x.done
			}
			e.end()
			return
		case <-timer.C:
		case <-e.mail.woken:
		case err := <-e.keeping.result:
			e.kept(err)
		}
	}
}

// guarded makes a pass. An error of ours ends neither the service nor another job: the job is in fault, and its outputs go
// to their fail states.
func (e *Engine) guarded() {
	defer func() {
		if r := recover(); r != nil {
			e.log.Error("an error in the engine", slog.Any("error", r), slog.String("stack", string(debug.Stack())))
			e.fail(fmt.Sprintf("an error in the engine: %v", r))
			for _, x := range e.drivers { // should it happen again, then not at once
				x.told = e.steady
			}
		}
	}()
	e.pass()
}

// fail puts the job in fault, until it is armed again.
func (e *Engine) fail(why string) {
	if e.broken {
		return
	}
	e.armed.Fault, e.broken = why, true
	e.note("service", "", "", "in fault", why, "")
	defer func() {
		if r := recover(); r != nil { // then the drivers write what they hold, once they have not heard of the engine for long enough
			e.log.Error("an error in the engine, again", slog.Any("error", r))
		}
	}()
	for _, x := range e.drivers {
		writes := e.abandoned(x)
		for i := range writes {
			writes[i].Connection = 0 // whatever it knows of the connection
		}
		x.Order(device.Order{Writes: writes})
	}
}

// pass takes what has come, makes the instants that are due, and hands on what comes of them.
func (e *Engine) pass() {
	wall, steady := e.clock.Now()
	e.late = 0
	if e.expected != 0 {
		e.late = max(steady-e.expected, 0)
	}
	e.steady = steady
	e.passed.Store(steady)
	now, shift := e.time.tell(wall, steady)
	if e.late > asleep && e.began {
		e.awake()
	}
	if shift != 0 {
		now = e.shift(shift)
	}
	reports, asks := e.mail.take()
	for _, r := range reports {
		e.hear(r)
	}
	e.listenForSilence()
	e.ranOn()
	e.dueForService()
	e.people.remind(e)
	if e.broken {
		e.began = e.began || e.heardAll()
		e.entered = e.entered[:0]
	} else {
		e.instant(max(now, e.last+1))
	}
	for _, ask := range asks {
		ask()
	}
	e.armAgain()
	e.drive()
	e.keep()
}

// instant makes those that are due up to a time, and one at it where something has entered.
func (e *Engine) instant(t int64) {
	if !e.began {
		if !e.heardAll() {
			return
		}
		e.began = true
	}
	due := e.run.S.Next()
	if len(e.entered) == 0 && due > t {
		return
	}
	if late := t - due; due <= t {
		e.lates.add(late)
	}
	events := e.entered
	e.entered = nil
	if len(events) == 0 {
		e.enter(t, capture.Event{Kind: capture.Pass})
		return
	}
	e.enter(t, events...)
}

// enter lets events enter at a time, and notes them for the capture.
func (e *Engine) enter(t int64, events ...capture.Event) {
	for i := range events {
		events[i].T = t
	}
	e.keeping.capture(events)
	var ended map[string]string
	if events[0].Kind == capture.Restart {
		ended = e.people.mayBeLost(e, t)
	}
	if err := e.run.Enter(events); err != nil {
		panic(err) // the engine has handed over what is none of the job
	}
	e.last = t
	e.people.prune(e, ended)
	if _, _, circle := e.run.S.Circle(); circle && e.armed.Fault == "" {
		o, _, _ := e.run.S.Circle()
		e.armed.Fault = logic.CircleText(e.p.Outputs[o].Name)
		e.note("service", "", "", "in fault", e.armed.Fault, "")
	}
}

// next is the time of the next instant.
func (e *Engine) next() int64 { return max(e.time.t, e.last+1) }

// look is told of every instant.
func (e *Engine) look(t int64, changes []logic.Transition) {
	for _, entry := range Entries(e.run.S, t, changes, e.clockOf) {
		e.keeping.entry(entry)
	}
	for _, c := range changes {
		if c.Kind != logic.OutputKind {
			continue
		}
		e.figures.take(c)
		o := e.outputOf[e.p.Outputs[c.Index].Name]
		if o != nil && !follows(e.p, c) && (!e.run.S.Listening() || e.run.S.Mode(int(c.Index)) != logic.Auto) {
			o.decided = t
		}
	}
	e.figures.seen = true
	for _, c := range e.run.S.AlarmChanges() {
		if c.From.Active() != c.To.Active() {
			e.alarmSince[e.p.Alarms[c.Alarm].Name] = t
		}
	}
}

// shift moves every time that the job remembers: the clock was set.
func (e *Engine) shift(by int64) (now int64) {
	before := e.next()
	if !e.broken {
		e.enter(before, capture.Event{Kind: capture.Shift, By: by, On: !e.began})
	}
	e.last = before + by
	e.time.t += by
	e.people.shift(by)
	if by > int64(time.Hour) || -by > int64(time.Hour) {
		e.keeping.rested = e.steady + 24*3600*second
	}
	for _, d := range e.devices {
		d.since += by
	}
	for _, o := range e.outputs {
		if o.decided != 0 {
			o.decided += by
		}
	}
	for name := range e.alarmSince {
		e.alarmSince[name] += by
	}
	e.figures.shift(by)
	e.note("clock", "", e.clockOf(before), e.clockOf(before+by), "the machine's clock was set", "")
	e.keeping.split = true
	return e.time.t
}

// awake goes on after the engine, or the machine, has slept: as after a restart.
func (e *Engine) awake() {
	e.note("service", "", "asleep", "awake", fmt.Sprintf("the engine stood still for %.0f s", float64(e.late)/1e9), "")
	e.entered = append([]capture.Event{{Kind: capture.Restart}}, e.entered...)
	e.began, e.opened = false, e.steady
	for _, d := range e.devices {
		d.state, d.opened = connecting, e.steady
	}
	for _, o := range e.outputs {
		o.ordered, o.foundKnown = false, false
	}
	for _, x := range e.drivers {
		x.Order(device.Order{Anew: true})
	}
}

// wake is when the engine has something to do at the latest, by the steady clock.
func (e *Engine) wake() int64 {
	at := e.steady + 10*second
	if due := e.run.S.Next(); e.began && !e.broken && due < e.time.t+10*second {
		at = min(at, e.steady+max(due-e.time.t, 0))
	}
	if !e.began {
		at = min(at, max(e.opened+opening, e.steady+1))
	}
	at = min(at, e.nextSilence(), e.nextDrive(), e.keeping.next(e.steady), e.plans.next())
	return max(at, e.steady)
}
