package live

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"math"
	"slices"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/run"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/device"
	"rectura/service/store"
)

// How long a first arming, or a survey, waits before it goes on without, and how long a plan can be agreed to.
const (
	mostListening = 5 * 60 * second
	planLasts     = 15 * 60 * second
	mostPlans     = 16 // numbers that were given out and not used are remembered
)

// A Plan is what arming would do. Its number is 0, and nobody can agree to it, until the devices have answered.
type Plan struct {
	Number  int64
	Changes []string // differences of the declarations, and of the memory that is taken over
	Wires   []string // points with another wire
	Moves   []Move   // outputs that would be written otherwise than the plant has them
	Holds   []string // outputs that a minimum time or a delay still holds, and until when
	Kept    []string // bypasses of outputs that the revision does not have
	Unmoved []string // inputs that have not moved since listening began
	AtEnds  []string // inputs that stand at an end of their range
	Silent  []string // devices that do not answer
	Waiting string   // why arming should wait, if it should: something is not decided yet
}

// A Move is an output that would be written otherwise.
type Move struct {
	Output   string
	Place    string // of a wire that the revision does not drive any more
	From, To string
	Because  string
	Unknown  bool // how the plant has it cannot be read

	// Of an analog output: where in its range it would stand, and whether it only goes on from where it stands.
	analog, follows bool
	to              float64
}

// following is by how much of its range an analog output may move after a plan was made without anybody being asked again: a loop
// moves its output all the time.
const following = 0.05

// plans are those that were made and not agreed to yet.
type plans struct {
	made     *Plan
	numbers  []int64 // that were given out and not used, the newest last
	until    int64   // steady
	began    int64   // when the job began to listen, steady
	survey   *survey
	again    bool  // the job was armed before its memory was lost, and is armed again once it has listened
	unlocked bool  // and once a person has acknowledged that its records are damaged
	refused  bool  // that was tried in vain
	look     int64 // when that is looked at next, steady
}

// next returns when plans have something to do, steady.
func (p *plans) next() int64 {
	at := int64(run.Never)
	if p.survey != nil {
		at = p.survey.until
	}
	if p.again {
		at = min(at, p.look)
	}
	return at
}

// armAgain arms a job that was armed before its memory was lost, once it need not listen any more. It also ends surveys that nobody
// asks for.
func (e *Engine) armAgain() {
	if s := e.plans.survey; s != nil && e.steady >= s.until {
		e.endSurvey()
	}
	if !e.plans.again || !e.began || e.steady < e.plans.look {
		return
	}
	e.plans.look = e.steady + second
	if e.plans.unlocked {
		return
	}
	r := &Revision{Number: e.armed.Revision, Program: e.p, Sources: e.armed.Sources, Lease: e.lease}
	s, err := e.snapshot(r)
	var p Plan
	if err == nil {
		p, err = s.plan()
	}
	if err == nil && p.Waiting != "" {
		return
	}
	if err == nil {
		err = e.arm(r, Agreement{Why: "it was armed before its memory was lost"})
	}
	e.plans.again = err != nil
	if err != nil && !e.plans.refused {
		e.plans.refused = true
		e.note("service", "", "", "", fmt.Sprintf("the job is not armed again yet: %v", err), "")
	}
}

// A Revision is one that is to be armed: the program, the sheets that it was made of, how its drivers are made, and the lease of what
// it writes.
type Revision struct {
	Number  int64
	Program *logic.Program
	Sources []sheet.Source
	Drivers func() ([]device.Driver, error)
	Lease   *Lease
}

// Plan returns the plan of arming a revision now. The caller's goroutine computes it, on a copy of the memory.
func (e *Engine) Plan(ctx context.Context, r *Revision) (Plan, error) {
	p, err := e.planned(ctx, r)
	if err != nil || p.Waiting == notHeard {
		return p, err
	}
	return ask(ctx, e, func() Plan { return e.offer(p) })
}

const notHeard = "its devices have not answered yet"

func (e *Engine) planned(ctx context.Context, r *Revision) (Plan, error) {
	type taken struct {
		*snapshot
		err error
	}
	t, err := ask(ctx, e, func() taken {
		s, err := e.snapshot(r)
		return taken{s, err}
	})
	if err == nil {
		err = t.err
	}
	if err != nil {
		return Plan{}, err
	}
	return t.plan()
}

// offer gives a plan a number that cannot be guessed. One that moves the same as the last keeps its number.
func (e *Engine) offer(p Plan) Plan {
	n := len(e.plans.numbers)
	if e.plans.made == nil || n == 0 || !p.same(e.plans.made) {
		var random [8]byte
		_, _ = rand.Read(random[:]) // it never fails
		e.plans.numbers = append(e.plans.numbers, int64(binary.BigEndian.Uint64(random[:])>>11)|1)
		e.plans.numbers = e.plans.numbers[max(0, n+1-mostPlans):]
		e.plans.made = &p
	}
	p.Number, e.plans.until = e.plans.numbers[len(e.plans.numbers)-1], e.steady+planLasts
	return p
}

// A snapshot is what a plan is worked out from.
type snapshot struct {
	r        *Revision
	was      *logic.Program
	rows     []logic.Row
	t        int64
	clock    logic.Clock
	open     *opening
	left     []leftover
	kept     []store.Bypass
	changed  bool   // the revision is another than the one in force
	waiting  string // for devices that are surveyed
	first    bool   // the job listens, and has not listened for long enough to go on regardless
	settled  bool
	unmoved  []string
	atEnds   []string
	silent   []string
	listened bool
}

// snapshot takes one. For a revision that is wired otherwise it begins to read what that has wired.
func (e *Engine) snapshot(r *Revision) (*snapshot, error) {
	if !e.began {
		return &snapshot{waiting: notHeard}, nil
	}
	if e.armed.Mode == Listening && r.Number != e.armed.Revision {
		return nil, refuse("the job listens with revision %d; listen %d first", e.armed.Revision, r.Number)
	}
	if e.plans.began == 0 {
		e.plans.began = e.opened
	}
	s := &snapshot{r: r, was: e.p, rows: e.run.S.Save(false), t: e.next(), clock: e.clockOf, changed: r.Number != e.armed.Revision,
		settled: e.run.S.Settled(), listened: e.run.S.Listening()}
	e.keeping.resave(s.rows)
	s.first = s.listened && e.steady-e.plans.began < mostListening
	var look *survey
	base := e.base
	if s.changed {
		var err error
		if look, err = e.surveys(r); err != nil {
			return nil, err
		}
		base = look.drivers
		if names := e.awaited(look); len(names) > 0 && e.steady-look.began < mostListening {
			s.waiting = sheet.List(names, "and") + " " + map[bool]string{true: "is", false: "are"}[len(names) == 1] + " being read for the first time"
		}
	}
	s.open = e.opening(r.Program, base, look)
	if s.changed {
		s.left = e.leftBy(s.open)
	}
	for _, b := range e.people.list() {
		if r.Program.Index(logic.OutputKind, b.Name) < 0 && e.people.ofOutput(&b) {
			s.kept = append(s.kept, b)
		}
	}
	e.doubts(s)
	return s, nil
}

// doubts adds to a snapshot the devices and inputs that a person should check before arming.
func (e *Engine) doubts(s *snapshot) {
	for _, d := range s.open.devices {
		if d.lost != "" {
			s.silent = append(s.silent, d.lost)
		}
	}
	for _, in := range s.open.inputs {
		if !in.now.known || in.now.fault != "" {
			continue
		}
		if !in.now.moved && s.listened {
			s.unmoved = append(s.unmoved, in.name)
		}
		p := &s.r.Program.Inputs[in.index]
		if p.Chain == nil {
			continue
		}
		low, high, ok := p.Chain.Span()
		if v := p.Chain.Carry(in.now.value, 0, len(p.Chain.Units)-1); ok && !(v > low && v < high) {
			s.atEnds = append(s.atEnds, fmt.Sprintf("%s reads %s %s, an end of its range", in.name, unit.Short(v), p.Chain.Engineering().Name()))
		}
	}
}

// plan plays the opening of the revision on a copy of the memory, with readings that stay as they are, until all has settled.
func (s *snapshot) plan() (p Plan, err error) {
	if s.waiting == notHeard {
		return Plan{Waiting: notHeard}, nil
	}
	next, lost, err := logic.Resume(s.r.Program, s.rows)
	if err != nil {
		return p, fmt.Errorf("taking over to revision %d: %w", s.r.Number, err)
	}
	for _, l := range lost {
		p.Changes = append(p.Changes, sentence(l))
	}
	because := map[int]string{}
	game := capture.Run{S: next, Look: func(_ int64, changes []logic.Transition) {
		for _, c := range changes {
			if c.Kind == logic.OutputKind {
				because[int(c.Index)] = s.r.Program.Sentence(c, s.clock)
			}
		}
	}}
	if err := s.settle(&game); err != nil {
		return p, fmt.Errorf("looking at what revision %d would do: %w", s.r.Number, err)
	}
	p.Moves = s.moves(next, because)
	p.Holds = s.holds(next)
	p.Unmoved, p.AtEnds, p.Silent = s.unmoved, s.atEnds, s.silent
	for _, b := range s.kept {
		p.Kept = append(p.Kept, fmt.Sprintf("%s: %s, by %s; kept until it is part of the job again", b.Name, b.Value, b.Who))
	}
	if s.changed {
		p.Wires = s.open.wires(s.left)
	}
	p.Waiting = s.waiting
	if p.Waiting == "" && s.first {
		p.Waiting = s.undecided(p.Moves, next)
	}
	return p, nil
}

// steps is in how many steps a copy of the memory settles.
const steps = 20

// settle plays an opening until every output that can be written is.
func (s *snapshot) settle(game *capture.Run) error {
	t := s.t
	enter := func(events []capture.Event) error {
		for i := range events {
			events[i].T = t
		}
		err := game.Enter(events)
		t++
		return err
	}
	for _, g := range s.open.events(game.S) {
		if err := enter(g); err != nil {
			return err
		}
	}
	whole := settling(s.r.Program)
	for k := int64(1); k <= steps+1 && !s.ready(game.S); k++ {
		t = max(t, s.t+min(whole*k/steps, whole)+1)
		events := s.open.readings()
		if len(events) == 0 {
			events = []capture.Event{{Kind: capture.Pass}}
		}
		if err := enter(events); err != nil {
			return err
		}
	}
	return nil
}

// ready reports whether every output whose device answers can be written.
func (s *snapshot) ready(next *logic.Stepper) bool {
	return !slices.ContainsFunc(s.open.outputs, func(o openOutput) bool {
		_, now := next.Drive(o.index)
		return !now && s.open.devices[o.device].lost == ""
	})
}

func sentence(l logic.Lost) string {
	if l.Name == "" {
		return l.Text
	}
	return l.Name + ": " + l.Text
}

// moves returns the outputs that arming would write otherwise than the plant has them, those that cannot be read, and the abandoned wires
// that would be written.
func (s *snapshot) moves(next *logic.Stepper, because map[int]string) (all []Move) {
	p := s.r.Program
	for k := range s.open.outputs {
		o := &s.open.outputs[k]
		of, ref := &p.Outputs[o.index], logic.Ref{Kind: logic.OutputKind, Index: int32(o.index)}
		to, _ := next.Drive(o.index)
		wire := of.ToWire(to)
		m := Move{Output: o.name, To: p.StandText(ref, to), Because: because[o.index]}
		if m.Because == "" {
			m.Because = p.Sentence(next.Standing(ref), s.clock)
		}
		if r := p.Job.Outputs[o.index].Range; r != nil {
			width := r.To.Value - r.From.Value
			m.analog, m.to = true, (to.Level-r.From.Value)/width
			m.follows = o.known && math.Abs(to.Level-of.FromWire(o.has).Level) < following*width
		}
		switch {
		case !o.known:
			m.From, m.Unknown = "unknown", true
		case o.point.Same(o.has, wire):
			continue
		default:
			m.From = p.StandText(ref, of.FromWire(o.has))
		}
		if m.From == m.To { // beyond the end of its range, say
			m.From = fmt.Sprintf("%s (%s on its wire)", m.From, unit.Short(o.has))
			m.To = fmt.Sprintf("%s (%s)", m.To, unit.Short(wire))
		}
		all = append(all, m)
	}
	for _, l := range s.left {
		if l.moves() {
			all = append(all, Move{Output: l.name, Place: l.place, From: l.states[0], To: l.states[1], Unknown: !l.known,
				Because: "nothing drives " + l.place + " any more"})
		}
	}
	return all
}

// holds returns the outputs that a minimum time, or another start, still holds, in sentences.
func (s *snapshot) holds(next *logic.Stepper) (all []string) {
	for _, o := range s.open.outputs {
		ref := logic.Ref{Kind: logic.OutputKind, Index: int32(o.index)}
		stand := next.Standing(ref)
		if stand.Reason.Holds {
			all = append(all, fmt.Sprintf("%s stays %s: %s", o.name, s.r.Program.StandText(ref, stand.To), s.r.Program.Sentence(stand, s.clock)))
		} else if next.Delayed(o.index) {
			all = append(all, fmt.Sprintf("a delay runs in what calls %s", o.name))
		}
	}
	return all
}

// undecided says why a first arming should wait: the job has not settled, or a delay runs in what calls an output that would move.
func (s *snapshot) undecided(moves []Move, next *logic.Stepper) string {
	if !s.settled {
		return "the job has not settled yet"
	}
	for _, m := range moves {
		if i := s.r.Program.Index(logic.OutputKind, m.Output); i >= 0 && next.Delayed(i) {
			return fmt.Sprintf("a delay runs in what calls %s, which the plant has %s", m.Output, m.From)
		}
	}
	return ""
}

// same reports whether two plans move the same.
func (p *Plan) same(o *Plan) bool {
	return slices.EqualFunc(asked(p.Moves), asked(o.Moves), sameMove) && slices.Equal(p.Changes, o.Changes) && slices.Equal(p.Wires, o.Wires)
}

// asked returns the moves that need an agreement.
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

// Arm does what a plan says, if that is still so; otherwise it returns the plan as it is now.
func (e *Engine) Arm(ctx context.Context, r *Revision, a Agreement) (changed *Plan, kept bool, err error) {
	known, err := ask(ctx, e, func() bool { return a.Plan != 0 && slices.Contains(e.plans.numbers, a.Plan) })
	if err != nil {
		return nil, false, err
	}
	if !known {
		return nil, false, refuse("nobody was shown a plan of that number, or it was carried out already; ask for the plan first")
	}
	p, err := e.planned(ctx, r)
	if err != nil {
		return nil, false, err
	}
	type done struct {
		changed *Plan
		err     error
		kept    chan bool
	}
	d, err := tell(ctx, e, func() done {
		if e.keeping.notKept != 0 {
			return done{err: refuse("nothing can be kept since %s, so that a job cannot be armed: %s; make room first",
				e.clockOf(e.keeping.notKept), e.keeping.why)}
		}
		if now := e.offer(p); p.Waiting == notHeard || now.Number != a.Plan || e.steady > e.plans.until {
			return done{changed: &now}
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

// arm lets the job drive its outputs, by a revision that takes over if it is another. It takes the lease of what that writes first.
func (e *Engine) arm(r *Revision, a Agreement) error {
	if err := r.Lease.Take(nil); err != nil {
		return err
	}
	from := fmt.Sprintf("%s, revision %d", e.armed.Mode, e.armed.Revision)
	for _, o := range e.outputs {
		o.leaving, o.decided = false, 0
	}
	e.broken = false
	if r.Number != e.armed.Revision {
		if err := e.takeOver(r); err != nil {
			return err
		}
	} else {
		e.endSurvey()
		e.enter(e.next(), capture.Event{Kind: capture.Listen, On: false})
	}
	if e.lease != r.Lease {
		if e.leftovers.lease.Release(); len(e.leftovers.all) > 0 {
			e.leftovers.lease = e.lease
		} else {
			e.lease.Release()
		}
		e.lease = r.Lease
	}
	e.armed.Mode, e.armed.Revision, e.armed.Since, e.armed.Fault, e.armed.Again = Armed, r.Number, e.next(), "", store.NotAgain
	e.plans = plans{}
	e.keeping.check = true
	e.keeping.entry(store.Entry{Time: e.last, Kind: "command", From: from, To: fmt.Sprintf("armed, revision %d", r.Number), Because: a.Why, Who: a.Who,
		Via: "arm"})
	return nil
}
