// Package live runs jobs in plants: readings come in from devices, a job decides, outputs are written, and what happened
// is kept.
//
// One goroutine a job, its Engine, owns the stepper and gives the times of instants. It waits for whichever comes first:
// a report of a driver, a request, or something that falls due. It never waits for a disk, a network or a reader. What it
// hands on goes through bounded queues.
package live

import (
	"context"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/background"
	"rectura/service/device"
	"rectura/service/records"
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
	asleep    = 5 * second                    // a process or an engine that stood still for longer restarts its job
	lateness  = 100 * int64(time.Millisecond) // an instant that is handled later is counted
	beatsLate = second                        // an engine that is later than this does not beat
	patience  = 15 * second                   // the first instant waits for devices for no longer
	restless  = 600 * second                  // so many restarts in so long raise an alarm
	restarts  = 3
	idling    = second // an engine makes a pass at least so often: drivers watch for that
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
	Since    [][]byte    // the capture since that memory was kept
	Settled  []logic.Row // of a job that was idle: what people have set and kept off is taken from it, and nothing else
	Bypasses []store.Bypass
	Figures  []store.Figures
	Restarts []int64 // when the service began to run the job before, in the last restless nanoseconds
	Damage   string  // how the job's records are damaged or missing; empty where they are sound
	Unlocked bool    // with Damage: locks may be missing, so that the job is not armed before a person acknowledges that
	Who, Why string  // who lets the job listen; empty where the service goes on

	Clock   Clock
	Keeper  Keeper
	Lease   *Lease
	Drivers []device.Driver
	Left    []device.Driver // those of the revision before, for what Armed has left of it
	Log     *slog.Logger
}

// An Engine runs one job. Its exported methods may be called concurrently.
type Engine struct {
	clock  Clock
	keeper Keeper
	log    *slog.Logger
	mail   *mailbox
	passes atomic.Int64 // a number that grows with each pass
	stop   context.CancelFunc
	done   chan struct{} // closed when it has ended
	seen   picture
	zone   atomic.Pointer[time.Location]
	lines  atomic.Int64 // the number of connections

	stepped chan struct{} // tells of instants
	steps   int64         // instants, as of the last signal

	context context.Context // of its drivers

	// The engine's goroutine alone uses all below.

	p       *logic.Program
	run     capture.Run
	armed   store.Armed
	clockOf logic.Clock
	lease   *Lease

	time     serviceTime
	last     int64           // the last instant
	began    bool            // it has made its first since it was started, or since it stood still
	opened   int64           // when it began to wait for devices, steady
	start    []capture.Event // with which the first instant begins
	arrived  arrivals
	broken   bool  // an error of the program: no instants until the job is armed again
	leaving  bool  // outputs are left at their fail states, since the service ends
	expected int64 // when it is to wake at the latest, steady
	steady   int64 // now
	stopped  int64 // for how long the process had not run in all, at the last pass
	late     int64 // how late this pass is, besides that
	quiet    int64 // until when the service must run on, for its restarts to be over, steady; 0 for nothing

	base     []fitted // the drivers that were made for the revision in force
	drivers  []*driving
	devices  map[string]*dev
	outputs  []*out // that are wired, in the order of the sheet
	byInput  map[string]int32
	outputOf map[string]*out
	inputs   []inputNow // by input, of what devices read

	alarmSince map[string]int64 // when the condition of an alarm last turned
	answered   answered         // of the command that is being entered
	plans      plans
	leftovers  leftovers
	people     people
	keeping    keeping
	figures    figures
	lates      lates
	counts     counts
}

// counts are figures of an engine since it was started.
type counts struct {
	readings   int64 // of devices
	instants   int64
	commits    int64 // that were kept
	latePoints int64 // readings that came late, since their line was busy
	hiccups    int64 // stops of the process that postponed delays
}

// A driving is a driver that works for an engine.
type driving struct {
	device.Driver
	outputs []*out
	serving int // the number of the last call of Serve
	valid   int // the number of the one since which names stand for what they stand for now
	stop    context.CancelFunc
	done    chan struct{}
	writes  []device.Write // of the next order
	held    []device.Write // as of the last order
}

// Start starts an engine. It ends with Stop, or with ctx.
func Start(ctx context.Context, c Setup) (*Engine, error) {
	e := &Engine{
		clock:      c.Clock,
		keeper:     c.Keeper,
		log:        c.Log.With(slog.String("job", c.Armed.Name)),
		mail:       newMailbox(),
		done:       make(chan struct{}),
		stepped:    make(chan struct{}, 1),
		alarmSince: map[string]int64{},
		armed:      c.Armed,
		p:          c.Program,
		lease:      c.Lease,
	}
	wall, steady := e.clock.Now()
	e.time = startTime(wall, steady, c.Armed.Last)
	e.last, e.opened, e.steady, e.stopped = c.Armed.Last, steady, steady, e.clock.Stopped()
	e.armed.Starts++
	s, lost := e.recall(&c)
	e.use(s)
	e.people.begin(c.Bypasses)
	e.figures.begin(e.p, c.Figures, e.byInput)
	for _, l := range lost {
		e.note("service", l.Name, "", "", l.Text, "")
	}
	e.beginWith(&c, s, wall)
	ctx, e.stop = context.WithCancel(ctx)
	e.context = ctx
	err := e.engage(c.Drivers)
	if err == nil {
		err = e.goOnLeaving(c.Armed.Left, c.Left)
	}
	if err != nil {
		e.stop()
		return nil, err
	}
	background.Go(e.log, "running the job", func() error { e.loop(ctx); return nil })
	return e, nil
}

// recall makes the stepper of the first instant: from the memory, if there is one that can be read and whose records can be
// relied on. A job that was armed otherwise listens first, and is armed again.
func (e *Engine) recall(c *Setup) (*logic.Stepper, []logic.Lost) {
	why := ""
	if c.Damage != c.Armed.Damage { // nobody knows of it yet
		why = c.Damage
	}
	if c.Memory != nil && why == "" {
		s, lost, err := logic.Resume(e.p, c.Memory)
		if err == nil {
			err = since(s, c.Since)
		}
		if err == nil {
			e.plans.again, e.plans.unlocked = e.armed.Again != store.NotAgain, e.armed.Again == store.AgainAcknowledged
			return s, lost
		}
		why = fmt.Sprintf("the memory cannot be read: %v", err)
		c.Memory = nil
	}
	if why != "" {
		e.distrust(c, why)
	}
	return logic.NewStepper(e.p), nil
}

// since plays what entered a job since its memory was kept.
func since(s *logic.Stepper, stretches [][]byte) error {
	r := capture.Run{S: s, Look: func(int64, []logic.Transition) {}}
	var d capture.Decoder
	for _, data := range stretches {
		if err := d.Read(data, r.Enter); err != nil {
			return fmt.Errorf("playing what entered since it was kept: %w", err)
		}
	}
	return nil
}

// distrust has a job whose records are damaged listen first. Where locks may be missing, it is not armed again before a person has
// acknowledged that.
func (e *Engine) distrust(c *Setup, why string) {
	e.log.Error("records of the job are damaged", slog.String("damage", why))
	if e.armed.Mode == Armed { // it does not stay down
		e.armed.Mode, e.armed.Again, e.plans.again = Listening, store.AgainByItself, true
	}
	if e.plans.again && c.Unlocked {
		e.armed.Again, e.plans.unlocked = store.AgainAcknowledged, true
		why += "; locks may be missing: it is armed again once somebody has acknowledged " + sheet.RecordsDamaged
	}
	e.note("service", "", "", Listening, why+": the job listens first", "")
	e.armed.Damage, c.Damage, c.Settled, c.Memory = why, why, c.Memory, nil
}

// beginWith notes how the job begins: as one that goes on, or as one that listens from now on.
func (e *Engine) beginWith(c *Setup, s *logic.Stepper, wall int64) {
	damaged := func() {
		if i, is := e.byInput[sheet.RecordsHold]; is && e.armed.Damage != "" {
			e.start = append(e.start, failing(i, e.armed.Damage))
		}
	}
	if c.Memory != nil {
		e.keeping.segment(s) // as it was kept: what enters now goes on from there
		e.start = []capture.Event{{Kind: capture.Restart}}
		damaged()
		_, _, circle := s.Circle()
		e.broken = e.armed.Fault != "" && !circle
		e.note("service", "", "stopped", "started", e.outage(wall, c.Armed.Last), "")
		e.countRestarts(c.Restarts)
		e.dueForService()
		return
	}
	e.armed.Last, e.armed.Since = e.time.t, e.time.t
	if e.armed.Damage == "" {
		e.keeping.entry(store.Entry{Time: e.next(), Kind: "command", From: Idle, To: fmt.Sprintf("%s, revision %d", e.armed.Mode, e.armed.Revision),
			Because: c.Why, Who: c.Who, Via: "listen"})
	}
	e.keeping.segment(s)
	e.start = append([]capture.Event{{Kind: capture.Listen, On: true}}, settled(e.p, c.Settled)...)
	damaged()
}

// countRestarts raises an alarm where the service has begun too often: delays begin anew each time, and may never run out. The
// alarm returns once the service has run on for as long.
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
	e.tell(failing(i, fmt.Sprintf("the service was started %d times since %s", n, e.clockOf(first))))
	e.quiet = e.steady + restless
}

// ranOn ends that alarm.
func (e *Engine) ranOn() {
	if e.quiet != 0 && e.steady >= e.quiet {
		e.quiet = 0
		e.arrived.add(reading(e.byInput[sheet.ServiceRuns], 1))
	}
}

// tell has an event enter at the next instant, or at the first: what is bad over a restart does not return in between.
func (e *Engine) tell(event capture.Event) {
	if e.began {
		e.arrived.add(event)
		return
	}
	e.start = append(e.start, event)
}

func failing(input int32, why string) capture.Event {
	return capture.Event{Kind: capture.Failing, Of: input, Text: why}
}

func reading(input int32, value float64) capture.Event {
	return capture.Event{Kind: capture.Reading, Of: input, Value: value}
}

// outage says from when to when nobody ran the job.
func (e *Engine) outage(wall, last int64) string {
	if wall <= last {
		return "nobody was there, for how long is not known: the machine's clock is behind what was kept"
	}
	return fmt.Sprintf("nobody was there from %s to %s", e.clockOf(last), e.clockOf(wall))
}

// settled returns the commands by which people have set, kept off and taken out of service what a memory says.
func settled(p *logic.Program, memory []logic.Row) (all []capture.Event) {
	was, _, err := logic.Resume(p, memory)
	if err != nil {
		return nil // there is none
	}
	do := func(c logic.Command) { all = append(all, capture.Event{Kind: capture.Command, Do: &c}) }
	for i, x := range p.Settings {
		if v := was.Setting(i); v != x.Value.Value {
			do(logic.Command{Do: logic.SetSetting, Of: logic.Ref{Kind: logic.SettingKind, Index: int32(i)}, Value: v})
		}
	}
	for i := range p.Outputs {
		if was.Mode(i) == logic.Stood && !was.Unhanded(i) {
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
	e.clockOf = records.ClockOf(e.p)
	e.zone.Store(records.ZoneOf(e.p))
	e.run = capture.Run{S: s, Look: e.look, Answer: e.answered.take}
	e.byInput = map[string]int32{}
	for i, in := range e.p.Inputs {
		e.byInput[in.Name] = int32(i)
	}
	e.inputs = make([]inputNow, len(e.p.Inputs))
}

// Zone returns the time zone of the revision in force.
func (e *Engine) Zone() *time.Location { return e.zone.Load() }

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
			e.end()
			e.lease.Release()
			return
		case <-timer.C:
		case <-e.mail.woken:
		case err := <-e.keeping.result:
			e.kept(err)
		}
	}
}

// guarded makes a pass. An error of the program ends neither the service nor another job: the job is in fault, and its outputs
// go to their fail states.
func (e *Engine) guarded() {
	if err := background.Do(e.log, "running the job", func() error { e.pass(); return nil }); err != nil {
		e.fail(err.Error())
	}
}

// fail puts the job in fault, until it is armed again.
func (e *Engine) fail(why string) {
	if e.broken {
		return
	}
	e.armed.Fault, e.broken = why, true
	e.note("service", "", "", "in fault", why, "")
	_ = background.Do(e.log, "writing fail states", func() error { // or else the drivers do, which hear nothing of the engine
		e.drive()
		return nil
	})
}

// pass makes one round: it takes what has arrived, makes the instants that are due, hands on what is to be written and kept, and
// then answers requests for a share of its time.
func (e *Engine) pass() {
	e.tick()
	for _, r := range e.mail.take() {
		e.hear(r)
	}
	e.judgeSilence()
	e.ranOn()
	e.dueForService()
	e.people.remind(e)
	e.instants()
	e.armAgain()
	e.drive()
	e.keep()
	e.answer()
	e.tellStepped()
}

// tick reads the clock, and does what a stop of the process, or of the engine, or a setting of the clock asks for.
func (e *Engine) tick() {
	wall, steady := e.clock.Now()
	stopped := e.clock.Stopped()
	pause := stopped - e.stopped
	e.late = 0
	if e.expected != 0 {
		e.late = max(steady-e.expected-pause, 0)
	}
	e.steady, e.stopped = steady, stopped
	e.passes.Add(1)
	_, shift := e.time.tell(wall, steady)
	switch {
	case !e.began:
	case pause > asleep:
		e.awake(fmt.Sprintf("the process did not run for %.0f s", float64(pause)/1e9))
	case e.late > asleep:
		e.awake(fmt.Sprintf("the engine stood still for %.0f s", float64(e.late)/1e9))
	case pause > hiccup:
		e.pause(pause)
	}
	if pause > hiccup || e.late > hiccup {
		e.forgiveSilence()
	}
	if shift != 0 {
		e.shift(shift)
	}
}

// pause postpones what is proven by lasting, since nobody looked meanwhile.
func (e *Engine) pause(by int64) {
	e.counts.hiccups++
	e.note("service", "", "", "", fmt.Sprintf("the process did not run for %.1f s: running delays are postponed by that", float64(by)/1e9), "")
	if !e.broken {
		e.enter(e.next(), capture.Event{Kind: capture.Pause, By: by})
	}
}

// instants makes the instants that are due: those of what has arrived, and those of timers.
func (e *Engine) instants() {
	fresh := false // timers that fell due during an outage are not late
	if !e.began {
		if !e.heardAll() {
			return
		}
		e.begin()
		fresh = true
	}
	if e.broken {
		e.arrived.take()
		return
	}
	t := max(e.time.t, e.last+1)
	if due := e.run.S.Next(); due <= t && !fresh {
		e.lates.add(t - due)
	}
	groups := e.arrived.take()
	for _, g := range groups {
		e.enter(t, g...)
		t = e.last + 1
	}
	if len(groups) == 0 && e.run.S.Next() <= t {
		e.enter(t, capture.Event{Kind: capture.Pass})
	}
}

// begin makes the first instant: what was found of outputs, and which devices are lost. What devices read is of the next one,
// after a restart: that makes everything not read yet.
func (e *Engine) begin() {
	e.began = true
	first, readings := e.start, e.arrived.take()
	e.start = nil
	for _, o := range e.outputs {
		if o.hasKnown {
			first = append(first, e.finding(o, o.has))
		}
	}
	for _, d := range e.devices {
		if d.state == lost {
			first = append(first, e.losing(d)...)
		}
	}
	if e.broken {
		return
	}
	if first[0].Kind == capture.Restart {
		e.enter(e.next(), first...)
		first = nil
	}
	for _, g := range readings {
		first = append(first, g...)
	}
	e.arrived.add(first...)
}

// enter lets the events of one instant enter at a time, and has them captured.
func (e *Engine) enter(t int64, events ...capture.Event) {
	for i := range events {
		events[i].T = t
	}
	e.keeping.capture(events)
	if err := e.run.Enter(events); err != nil {
		panic(err) // the engine has handed over what is none of the job
	}
	e.last = t
	e.people.prune(e)
	if o, _, circle := e.run.S.Circle(); circle && e.armed.Fault == "" {
		e.armed.Fault = logic.CircleText(e.p.Outputs[o].Name)
		e.note("service", "", "", "in fault", e.armed.Fault, "")
	}
}

// next returns the time of the next instant.
func (e *Engine) next() int64 { return max(e.time.t, e.last+1) }

// look is called with the transitions of every instant.
func (e *Engine) look(t int64, changes []logic.Transition) {
	e.counts.instants++
	for _, entry := range records.Entries(e.run.S, t, changes, e.clockOf) {
		e.keeping.entry(entry)
	}
	for _, c := range changes {
		if c.Kind != logic.OutputKind || c.Reason.Cause == logic.ByPlant {
			continue
		}
		if o := e.outputOf[e.p.Outputs[c.Index].Name]; o != nil && !records.Follows(e.p, c) && (!e.run.S.Listening() || e.run.S.Mode(int(c.Index)) != logic.Auto) {
			o.decided = t
		}
	}
	for _, c := range e.run.S.AlarmChanges() {
		if c.From.Active() != c.To.Active() {
			e.alarmSince[e.p.Alarms[c.Alarm].Name] = t
		}
	}
}

// shift moves every time that the job remembers: the clock was set.
func (e *Engine) shift(by int64) {
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
}

// awake restarts the job after the process, the machine or the engine stood still for too long.
func (e *Engine) awake(why string) {
	e.note("service", "", "asleep", "awake", why, "")
	e.start = []capture.Event{{Kind: capture.Restart}}
	e.began, e.opened = false, e.steady
	e.figures.rest(e.last)
	e.arrived.take()
	e.mail.take() // readings from before are out of date
	for _, d := range e.devices {
		d.state, d.opened, d.why = connecting, e.steady, ""
	}
	for _, o := range e.outputs {
		o.forget()
	}
	for _, x := range e.drivers {
		x.Order(device.Order{Anew: e.namesOf(x)})
	}
}

// wake returns when the engine has something to do at the latest, steady.
func (e *Engine) wake() int64 {
	at := e.steady + idling
	if due := e.run.S.Next(); e.began && !e.broken && due < e.time.t+idling {
		at = min(at, e.steady+max(due-e.time.t, 0))
	}
	if !e.began {
		at = min(at, max(e.opened+patience, e.steady+1))
	}
	at = min(at, e.nextSilence(), e.nextDrive(), e.keeping.next(e.steady))
	if e.began {
		at = min(at, e.plans.next())
	}
	return max(at, e.steady)
}

// answer carries out what commands wait, as many as may wait at once, and answers questions for a share of the pass. A question
// that fails by an error of the program says so to whoever asked, and to nobody else.
func (e *Engine) answer() {
	for range mostCommands {
		do := e.mail.next(false)
		if do == nil {
			break
		}
		do()
		e.seen.clear()
		e.drive()
		e.keep()
	}
	_, begun := e.clock.Now()
	for now := begun; now-begun < answering; _, now = e.clock.Now() {
		do := e.mail.next(true)
		if do == nil {
			return
		}
		_ = background.Do(e.log, "answering a question", func() error { do(); return nil })
	}
	if e.mail.waits() {
		e.mail.wake()
	}
}
