package live

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/run"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/device"
	"rectura/service/store"
)

// How long a first arming listens before it goes on all the same, and how long a plan can be agreed to.
const (
	mostListening = 5 * 60 * second
	planLasts     = 15 * 60 * second
)

// A Plan is what arming would do. Its number is 0, and nobody can agree to it, until the devices have answered.
type Plan struct {
	Number  int64
	Changes []string // of what the job remembers, in sentences
	Moves   []Move   // outputs that would be another than the plant has them
	Waiting string   // why arming should wait, if it should: something is not decided yet
}

// A Move is an output that would be written otherwise.
type Move struct {
	Output   string
	From, To string
	Because  string
	Unknown  bool // how the plant has it cannot be read

	// Of an analog output: where in its range it would stand, and whether it only goes on from where it stands.
	analog, follows bool
	to              float64
}

// following is by how much of its range an analog output moves, and a plan of its move may be older, without anybody being
// asked for that: a loop moves its output all the time.
const following = 0.05

// plans are those that were made and not agreed to yet.
type plans struct {
	last  int64
	made  *Plan
	until int64 // steady
	began int64 // when the job began to listen, steady
	again bool  // it was armed before its memory was lost, and is armed again once it has listened
	look  int64 // when that is looked at next, steady
}

// next is when plans have something to do, steady.
func (p *plans) next() int64 {
	if !p.again {
		return run.Never
	}
	return p.look
}

// armAgain arms a job that was armed before its memory was lost, once it need not listen any more.
func (e *Engine) armAgain() {
	if !e.plans.again || !e.began || e.steady < e.plans.look {
		return
	}
	e.plans.look = e.steady + second
	r := &Revision{Number: e.armed.Revision, Program: e.p, Sources: e.armed.Sources}
	p, err := e.plan(r)
	if err == nil && p.Waiting != "" {
		return
	}
	e.plans.again = false
	if err == nil {
		err = e.arm(r, Agreement{Why: "it was armed before its memory was lost"})
	}
	if err != nil {
		e.note("service", "", "", "", fmt.Sprintf("the job is not armed again: %v", err), "")
	}
}

// A Revision is one that is to be armed: the program, the sheets that it was made of, and the drivers for it.
type Revision struct {
	Number  int64
	Program *logic.Program
	Sources []sheet.Source
	Drivers func() ([]device.Driver, error)
}

// Plan says what arming a revision would do, as things are.
func (e *Engine) Plan(ctx context.Context, r *Revision) (Plan, error) {
	type made struct {
		Plan
		err error
	}
	m, err := ask(ctx, e, func() made {
		p, err := e.plan(r)
		return made{p, err}
	})
	if err == nil {
		err = m.err
	}
	return m.Plan, err
}

func (e *Engine) plan(r *Revision) (Plan, error) {
	var p Plan
	if !e.began {
		return Plan{Waiting: "its devices have not answered yet"}, nil
	}
	if e.armed.Mode == Listening && r.Number != e.armed.Revision {
		return p, refuse("the job listens with revision %d; listen %d first", e.armed.Revision, r.Number)
	}
	if e.plans.began == 0 {
		e.plans.began = e.opened
	}
	rows := e.run.S.Save(false)
	e.keeping.resave(rows)
	next, lost, err := logic.Resume(r.Program, rows)
	if err != nil {
		return p, fmt.Errorf("taking over to revision %d: %w", r.Number, err)
	}
	for _, l := range lost {
		p.Changes = append(p.Changes, sentence(l))
	}
	next.Listen(false)
	t := e.next()
	changes, err := next.Step(t)
	if err != nil {
		return p, fmt.Errorf("looking at what revision %d would do: %w", r.Number, err)
	}
	because := map[int32]string{}
	for _, c := range changes {
		if c.Kind == logic.OutputKind {
			because[c.Index] = r.Program.Sentence(c, e.clockOf)
		}
	}
	p.Moves = e.moves(r.Program, next, because)
	if e.run.S.Listening() && e.steady-e.plans.began < mostListening {
		p.Waiting = e.undecided(p.Moves)
	}
	if e.plans.made == nil || !p.same(e.plans.made) { // the one that somebody may have seen
		e.plans.last++
		e.plans.made = &p
	}
	p.Number, e.plans.until = e.plans.last, e.steady+planLasts
	return p, nil
}

func sentence(l logic.Lost) string {
	if l.Name == "" {
		return l.Text
	}
	return l.Name + ": " + l.Text
}

// moves are the outputs of a program that would be another than the plant has them, or of which that is not known.
func (e *Engine) moves(p *logic.Program, next *logic.Stepper, because map[int32]string) (all []Move) {
	for i := range p.Outputs {
		o := &p.Outputs[i]
		if p.Job.Outputs[i].Drives == nil {
			continue
		}
		to, _ := next.Drive(i)
		m := Move{Output: o.Name, To: p.StandText(logic.Ref{Kind: logic.OutputKind, Index: int32(i)}, to), Because: because[int32(i)]}
		if m.Because == "" {
			m.Because = p.Sentence(next.Standing(logic.Ref{Kind: logic.OutputKind, Index: int32(i)}), e.clockOf)
		}
		x := e.outputOf[o.Name]
		if r := p.Job.Outputs[i].Range; r != nil {
			width := r.To.Value - r.From.Value
			m.analog, m.to = true, (to.Level-r.From.Value)/width
			m.follows = x != nil && x.foundKnown && math.Abs(to.Level-o.FromWire(x.found).Level) < following*width
		}
		switch {
		case x == nil || !x.foundKnown:
			m.From, m.Unknown = "unknown", true
		case x.dev.driver.Same(o.Name, x.found, o.ToWire(to)):
			continue
		default:
			m.From = p.StandText(logic.Ref{Kind: logic.OutputKind, Index: int32(i)}, o.FromWire(x.found))
		}
		if m.From == m.To { // beyond the end of its range, say
			m.From, m.To = fmt.Sprintf(
				"%s (%s on its wire)",
				m.From,
				unit.Short(x.found),
			), fmt.Sprintf(
				"%s (%s)",
				m.To,
				unit.Short(o.ToWire(to)),
			)
		}
		all = append(all, m)
	}
	return all
}

// undecided says why a first arming should wait: the job has not settled, or a delay runs in what calls an output that would
// move.
func (e *Engine) undecided(moves []Move) string {
	if !e.run.S.Settled() {
		return "the job has not settled yet"
	}
	for _, m := range moves {
		if i := e.p.Index(logic.OutputKind, m.Output); i >= 0 && e.run.S.Delayed(i) {
			return fmt.Sprintf("a delay runs in what calls %s, which the plant has %s", m.Output, m.From)
		}
	}
	return ""
}

// same tells whether two plans move the same.
func (p *Plan) same(o *Plan) bool {
	return slices.EqualFunc(asked(p.Moves), asked(o.Moves), sameMove) && slices.Equal(p.Changes, o.Changes)
}

// asked are the moves to which somebody has to agree.
func asked(all []Move) []Move {
	return slices.DeleteFunc(slices.Clone(all), func(m Move) bool { return m.follows })
}

func sameMove(a, b Move) bool {
	if a.analog && b.analog {
		return a.Output == b.Output && a.Unknown == b.Unknown && math.Abs(a.to-b.to) < following
	}
	return a == b
}

// An Agreement is that of a person to a plan.
type Agreement struct {
	Plan int64
	Who  string
	Why  string // with which the trials' failures are passed over, if they are
}

// Arm does what a plan says, if that is still so; otherwise it gives the plan as it is now.
func (e *Engine) Arm(ctx context.Context, r *Revision, a Agreement) (changed *Plan, kept bool, err error) {
	type done struct {
		changed *Plan
		err     error
		kept    chan bool
	}
	d, err := ask(ctx, e, func() done {
		if e.keeping.notKept != 0 {
			return done{err: refuse("nothing can be kept since %s, so that a job cannot be armed: %s; make room first",
				e.clockOf(e.keeping.notKept), e.keeping.why)}
		}
		p, err := e.plan(r)
		if err != nil {
			return done{err: err}
		}
		if p.Number != a.Plan || p.Number == 0 || e.steady > e.plans.until {
			return done{changed: &p}
		}
		if err := e.arm(r, a); err != nil {
			return done{err: err}
		}
		return done{nil, nil, e.keeping.wait()}
	})
	if err == nil {
		err = d.err
	}
	if err != nil || d.changed != nil {
		return d.changed, false, err
	}
	kept, err = e.whether(ctx, d.kept)
	return nil, kept, err
}

// arm lets the job drive its outputs, by a revision that takes over.
func (e *Engine) arm(r *Revision, a Agreement) error {
	from := fmt.Sprintf("%s, revision %d", e.armed.Mode, e.armed.Revision)
	if r.Number != e.armed.Revision {
		if err := e.takeOver(r); err != nil {
			return err
		}
	}
	e.armed.Mode, e.armed.Revision, e.armed.Since, e.armed.Fault = Armed, r.Number, e.next(), ""
	e.broken = false
	e.plans = plans{last: e.plans.last}
	for _, o := range e.outputs {
		o.ordered, o.differs, o.decided = false, "", 0
	}
	e.enter(e.next(), capture.Event{Kind: capture.Listen, On: false})
	e.keeping.entry(
		store.Entry{
			Time:    e.last,
			Kind:    "command",
			From:    from,
			To:      fmt.Sprintf("armed, revision %d", r.Number),
			Because: a.Why,
			Who:     a.Who,
			Via:     "arm",
		},
	)
	e.drive()
	return nil
}

// takeOver makes a revision the engine's: what it remembers by name, and the drivers that it needs. Outputs that are dropped,
// or wired elsewhere, are first written to what they fail to.
func (e *Engine) takeOver(r *Revision) error {
	if !e.broken {
		e.enter(e.next(), capture.Event{Kind: capture.Pass}) // the capture of the revision before ends here
	}
	rows := e.run.S.Save(false)
	e.keeping.resave(rows)
	next, lost, err := logic.Resume(r.Program, rows)
	if err != nil {
		return fmt.Errorf("taking over to revision %d: %w", r.Number, err)
	}
	drivers, err := r.Drivers()
	if err != nil {
		return err
	}
	for _, x := range e.drivers {
		var o device.Order
		for _, w := range e.abandoned(x) {
			i := r.Program.Index(logic.OutputKind, w.Point)
			if i < 0 || r.Program.Job.Outputs[i].Drives == nil || wiredAs(e.p.Job, w.Point) != wiredAs(r.Program.Job, w.Point) {
				o.Writes = append(o.Writes, w)
			}
		}
		if len(o.Writes) > 0 {
			x.Order(o)
		}
		x.leave(len(o.Writes) > 0, e.clock)
	}
	done := e.figures.changed(e.armed.Job, e.run.S, e.last)
	e.use(next)
	e.figures.begin(r.Program, done, e.byInput)
	e.armed.Sources, e.armed.Last = r.Sources, e.last
	e.keeping.takeOver(next)
	e.engage(e.context, drivers)
	for _, l := range lost {
		e.note("service", l.Name, "", "", l.Text, "")
	}
	return nil
}

// leave ends a driver, a while later if it has something to write.
func (x *driving) leave(writes bool, clock Clock) {
	if !writes {
		x.stop()
		return
	}
	go func() {
		t := clock.Timer(2 * time.Second)
		defer t.Stop()
		select {
		case <-t.C:
		case <-x.done:
		}
		x.stop()
	}()
}

// wiredAs is where an output is wired, in words.
func wiredAs(j *sheet.Job, output string) string {
	o, is := j.Lookup(output).(*sheet.Output)
	if !is || o.Drives == nil {
		return ""
	}
	d, _ := j.Lookup(o.Drives.Device.Name).(*sheet.Device)
	if d == nil {
		return ""
	}
	return fmt.Sprintf("%s %d %s %d %d", d.Address, d.Unit, o.Drives.Table, o.Drives.Address, o.Drives.Bit)
}

// A Parting is how outputs are left when a job is disarmed.
type Parting string

// The partings.
const (
	ToFail Parting = "fail"
	ToOff  Parting = "off"
	ToHold Parting = "hold"
)

// Disarm lets the job listen only, with its outputs at what a person says, and answers once they are read back: it names
// those that are not.
func (e *Engine) Disarm(ctx context.Context, to Parting, who, why string) (left []string, kept bool, err error) {
	type done struct {
		err  error
		kept chan bool
	}
	d, err := ask(ctx, e, func() done {
		if err := e.disarm(to, who, why); err != nil {
			return done{err: err}
		}
		return done{nil, e.keeping.wait()}
	})
	if err == nil {
		err = d.err
	}
	if err != nil {
		return nil, false, err
	}
	if kept, err = e.whether(ctx, d.kept); err != nil {
		return nil, kept, err
	}
	left, err = e.partedWith(ctx)
	return left, kept, err
}

// Partings says what disarming would move: outputs, and to what. Of a job that only listens, nothing.
func (e *Engine) Partings(ctx context.Context, to Parting) ([]Move, error) {
	return ask(ctx, e, func() (all []Move) {
		if e.armed.Mode != Armed {
			return nil
		}
		for _, o := range e.outputs {
			v, holds := e.parted(o, to)
			if p := &e.p.Outputs[o.index]; !holds && o.foundKnown && !o.dev.driver.Same(p.Name, o.found, p.ToWire(v)) {
				r := logic.Ref{Kind: logic.OutputKind, Index: int32(o.index)}
				all = append(
					all,
					Move{Output: p.Name, From: e.p.StandText(r, p.FromWire(o.found)), To: e.p.StandText(r, v), Because: "disarmed"},
				)
			}
		}
		return all
	})
}

// parted is what an output is left at.
func (e *Engine) parted(o *out, to Parting) (v logic.Stand, holds bool) {
	switch to {
	case ToOff:
		return logic.Stand{State: logic.Off, Level: e.p.Outputs[o.index].Low}, false
	case ToHold: // what is interlocked or kept off has that already
		return v, true
	}
	return e.run.S.Abandoned(o.index)
}

func (e *Engine) disarm(to Parting, who, why string) error {
	if e.armed.Mode != Armed {
		return refuse("the job is not armed")
	}
	if to != ToFail && to != ToOff && to != ToHold {
		return refuse("outputs go to fail, off or hold, and %q is none of them", string(to))
	}
	for i := range e.p.Outputs {
		if m := e.run.S.Mode(i); m == logic.HandOn || m == logic.HandAt || m == logic.HandOff {
			e.enter(
				e.next(),
				capture.Event{
					Kind: capture.Command,
					Do:   logic.Command{Do: logic.GiveBack, Of: logic.Ref{Kind: logic.OutputKind, Index: int32(i)}},
				},
			)
		}
	}
	orders := e.part(to)
	from := fmt.Sprintf("armed, revision %d", e.armed.Revision)
	e.armed.Mode, e.armed.Since, e.armed.Fault = Listening, e.next(), ""
	e.broken = false
	e.plans = plans{last: e.plans.last, began: e.steady}
	e.enter(e.next(), capture.Event{Kind: capture.Listen, On: true})
	for x, o := range orders {
		x.Order(*o)
	}
	for _, o := range e.outputs {
		if o.differs != "" {
			o.differs = ""
			e.enter(e.next(), capture.Event{Kind: capture.Reading, Of: o.readBack, Value: 1})
		}
	}
	e.keeping.entry(
		store.Entry{
			Time:    e.last,
			Kind:    "command",
			From:    from,
			To:      "listening, outputs to " + string(to),
			Because: why,
			Who:     who,
			Via:     "disarm",
		},
	)
	return nil
}

// part gives the orders that leave outputs as a person says, and has them watched until they are read back so.
func (e *Engine) part(to Parting) map[*driving]*device.Order {
	orders := map[*driving]*device.Order{}
	for _, o := range e.outputs {
		v, holds := e.parted(o, to)
		o.parting, o.parted = !holds, false
		if holds {
			continue
		}
		x := orders[o.dev.driver]
		if x == nil {
			x = &device.Order{}
			orders[o.dev.driver] = x
		}
		o.value, o.written = e.p.Outputs[o.index].ToWire(v), false
		x.Writes = append(
			x.Writes,
			device.Write{Device: o.dev.Name, Connection: o.dev.connection, Point: e.p.Outputs[o.index].Name, Value: o.value},
		)
	}
	return orders
}

// Leave drives outputs to what they fail to, for the service ends, and names those that are not read back so. The job stays
// armed, for when the service is there again.
func (e *Engine) Leave(ctx context.Context) (left []string, err error) {
	armed, err := ask(ctx, e, func() bool {
		if e.armed.Mode != Armed {
			return false
		}
		e.leaving = true
		for x, o := range e.part(ToFail) {
			x.Order(*o)
		}
		return true
	})
	if err != nil || !armed {
		return nil, err
	}
	return e.partedWith(ctx)
}

// partedWith waits until outputs are read back as they were left, and names those that are not.
func (e *Engine) partedWith(ctx context.Context) (left []string, err error) {
	for range 100 {
		if left, err = ask(ctx, e, e.parting); err != nil || len(left) == 0 {
			return left, err
		}
		t := e.clock.Timer(100 * time.Millisecond)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return left, ctx.Err()
		}
	}
	return left, nil
}

// parting are the outputs that are not read back as they were left.
func (e *Engine) parting() (left []string) {
	for _, o := range e.outputs {
		name := e.p.Outputs[o.index].Name
		if o.parting && (!o.parted || !o.foundKnown || !o.dev.driver.Same(name, o.found, o.value)) {
			left = append(left, name)
		}
	}
	return left
}
