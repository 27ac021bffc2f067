package live

import (
	"fmt"
	"slices"
	"strings"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/device"
	"rectura/service/store"
)

// leftovers are the wires of the revision before that nothing drives any more. They are written to their fail states, for as long as
// it takes, once what has taken their place is to be written, too.
type leftovers struct {
	drivers []fitted
	sources []sheet.Source // of that revision
	lease   *Lease         // of the wires, until all are written
	all     []leftover
	from    int64 // when they may be written, steady
}

// A leftover is one of them.
type leftover struct {
	name   string // of the output that was wired there
	place  string
	key    string
	value  float64
	holds  bool // its fail state is what it has
	off    bool
	point  *device.Point
	states [2]string // how it stands and is to stand, in words

	has     float64
	known   bool
	blind   bool // it cannot be read back
	ordered bool
	told    bool
}

// text returns a sentence about the wire's future.
func (l *leftover) text() string {
	switch {
	case l.holds:
		return l.place + " stays as it is (fail hold)"
	case !l.known:
		return l.place + " is written " + l.states[1]
	case l.point.Same(l.has, l.value):
		return l.place + " stands " + l.states[1] + " and stays"
	}
	return l.place + " is written " + l.states[1]
}

// moves reports whether it is to be written.
func (l *leftover) moves() bool { return !l.holds && !(l.known && l.point.Same(l.has, l.value)) }

func wireNumber(v float64) string { return unit.Short(v) }

// leftBy returns what an opening leaves behind: of a job that listens nothing, since it drives nothing.
func (e *Engine) leftBy(x *opening) (all []leftover) {
	if e.armed.Mode != Armed {
		return nil
	}
	for _, o := range e.outputs {
		if slices.ContainsFunc(x.outputs, func(y openOutput) bool { return y.point.Key == o.point.Key }) {
			continue
		}
		to, holds := e.run.S.FailStand(o.index)
		p := &e.p.Outputs[o.index]
		l := leftover{name: o.name, place: o.point.Place, key: o.point.Key, value: p.ToWire(to), holds: holds, point: o.point, has: o.has,
			known: o.hasKnown}
		l.off = e.isOff(o, l.value)
		l.states = [2]string{"unknown", e.standText(o, l.value)}
		if o.hasKnown {
			l.states[0] = e.standText(o, o.has)
		}
		all = append(all, l)
	}
	return all
}

// has reports whether the wire of an output is left behind, and is not done with.
func (l *leftovers) has(output string) bool {
	return slices.ContainsFunc(l.all, func(x leftover) bool { return x.name == output })
}

func (l *leftovers) find(output string) *leftover {
	if i := slices.IndexFunc(l.all, func(x leftover) bool { return x.name == output }); i >= 0 {
		return &l.all[i]
	}
	return nil
}

// read takes what a wire that was left behind is read back as.
func (l *leftovers) read(e *Engine, output string, r *device.Reading) {
	x := l.find(output)
	if x == nil {
		return
	}
	x.ordered = false // it is written with this poll, unless it is right
	x.has, x.known, x.blind = r.Value, r.Fault == "", r.Fault != ""
}

// tookBeside takes what became of a write of such a wire.
func (e *Engine) tookBeside(d *dev, w device.Written) {
	name, _ := strings.CutPrefix(w.Point, ofLast)
	x := e.leftovers.find(name)
	if x == nil {
		return
	}
	if w.Fault != "" {
		if !x.told {
			x.told = true
			e.note("write", x.name, "", x.states[1], x.place+", which nothing drives any more, is not written yet: "+w.Fault, "")
		}
		return
	}
	e.note("write", x.name, x.states[0], x.states[1], "nothing drives "+x.place+" any more", "")
	x.states[0] = x.states[1]
	x.has, x.known = w.Value, x.known || x.blind
}

// leaveWires orders what is to be written of leftovers, and is done with those that the plant has as they are to be.
func (e *Engine) leaveWires() {
	l := &e.leftovers
	if len(l.all) == 0 || e.steady < l.from {
		return
	}
	before := len(l.all)
	l.all = slices.DeleteFunc(l.all, func(x leftover) bool { return !x.moves() })
	for i := range l.all {
		x := &l.all[i]
		for _, d := range e.devices {
			at := d.place[ofLast+x.name]
			if at == nil || d.state != connected || x.ordered || !x.known && !x.blind {
				continue
			}
			x.ordered = true
			d.driver.writes = append(d.driver.writes, device.Write{Device: d.Name, Connection: d.connection, Point: ofLast + x.name, Value: x.value,
				Off: x.off})
		}
	}
	if len(l.all) == before {
		return
	}
	if len(l.all) == 0 {
		l.lease.Release()
		*l = leftovers{}
	}
	e.armed.Left = e.left()
	e.keeping.urgent = true
	if err := e.rearrange(); err != nil {
		panic(err) // it only serves less than before
	}
}

// left returns leftovers as they are kept, so that a service that is ended meanwhile goes on with them.
func (e *Engine) left() *store.Left {
	if len(e.leftovers.all) == 0 {
		return nil
	}
	kept := &store.Left{Sources: e.leftovers.sources}
	for _, x := range e.leftovers.all {
		kept.Wires = append(kept.Wires, store.LeftWire{Output: x.name, Value: x.value, Off: x.off, To: x.states[1]})
	}
	return kept
}

// goOnLeaving goes on with leftovers of a service that was ended meanwhile.
func (e *Engine) goOnLeaving(kept *store.Left, drivers []device.Driver) error {
	if kept == nil {
		return nil
	}
	fitted, err := fit(drivers)
	if err != nil {
		return err
	}
	e.leftovers = leftovers{drivers: fitted, sources: kept.Sources, from: e.steady + settling(e.p)}
	for _, w := range kept.Wires {
		for _, d := range fitted {
			for _, made := range d.made {
				for i := range made.Points {
					if p := &made.Points[i]; p.Name == w.Output {
						e.leftovers.all = append(e.leftovers.all, leftover{name: p.Name, place: p.Place, key: p.Key, value: w.Value, off: w.Off,
							point: p, states: [2]string{"unknown", w.To}})
					}
				}
			}
		}
	}
	return e.rearrange()
}

// takeOver makes a revision the engine's: what it remembers by name, and what it has wired. Whatever is wired as before goes on
// without a gap.
func (e *Engine) takeOver(r *Revision) error {
	look, err := e.surveys(r)
	if err != nil {
		return err
	}
	if !e.broken {
		e.enter(e.next(), capture.Event{Kind: capture.Pass}) // the capture of the revision before ends here
	}
	rows := e.run.S.Save(false)
	e.keeping.resave(rows)
	next, lost, err := logic.Resume(r.Program, rows)
	if err != nil {
		return fmt.Errorf("taking over to revision %d: %w", r.Number, err)
	}
	open := e.opening(r.Program, look.drivers, look)
	left := e.leftBy(open)
	figures := e.figures.changed(e.armed.Number, e.last)
	before, outputs := e.p, e.outputs
	e.leftovers = leftovers{drivers: e.base, sources: e.armed.Sources, from: e.steady + settling(r.Program),
		all: slices.DeleteFunc(slices.Clone(left), func(l leftover) bool { return l.holds })}
	for i := range e.leftovers.all { // it is done with once it was read so from now on
		e.leftovers.all[i].known = false
	}
	e.use(next)
	e.figures.begin(r.Program, figures, e.byInput)
	e.armed.Sources, e.armed.Last = r.Sources, e.last
	e.armed.Left = e.left()
	e.keeping.takeOver(next)
	e.base, e.plans.survey = look.drivers, nil
	if err := e.rewire(open, outputs); err != nil {
		return err
	}
	for _, l := range lost {
		e.note("service", l.Name, "", "", l.Text, "")
	}
	for _, text := range open.wires(left) {
		e.note("service", "", "", "", text, "")
	}
	e.tellBypasses(before)
	for _, g := range open.events(next) {
		e.enter(e.next(), g...)
	}
	for _, o := range e.outputs { // a mismatch of the wire before says nothing of this one
		if o.differs == "" && slices.ContainsFunc(outputs, func(x *out) bool { return x.name == o.name && x.differs != "" }) {
			e.enter(e.next(), reading(o.readBack, 1))
		}
	}
	return nil
}

// settling returns for how long a job settles, in nanoseconds.
func settling(p *logic.Program) int64 {
	if d := p.Job.Settle; d != nil {
		return p.Job.DurationValue(d)
	}
	return sheet.DefaultSettle
}

// rewire has the drivers serve the revision that takes over. Devices and outputs that are what they were go on as they were.
func (e *Engine) rewire(open *opening, was []*out) error {
	type at struct {
		line *driving
		id   string
	}
	known := map[at]*dev{}
	for _, d := range e.devices {
		if k := (at{d.driver, d.ID}); known[k] == nil || d.present() {
			known[k] = d
		}
	}
	e.devices = map[string]*dev{}
	for _, x := range e.drivers {
		x.outputs, x.writes = nil, nil
	}
	if err := e.rearrange(); err != nil {
		return err
	}
	for _, x := range e.drivers {
		x.valid = x.serving
	}
	for _, d := range e.devices {
		if before := known[at{d.driver, d.ID}]; before != nil {
			d.state, d.since, d.why, d.connection, d.beatDue = before.state, before.since, before.why, before.connection, before.beatDue
			if d.state != connected && d.why == "" {
				d.why = d.Name + " has not answered yet"
			}
		}
		if d.state == connecting && d.present() {
			d.state, d.why = lost, d.Name+" has not answered yet"
		}
	}
	e.wireOutputs()
	for _, o := range e.outputs {
		for k := range open.outputs {
			if x := &open.outputs[k]; x.name == o.name && o.dev.state == connected {
				o.has, o.hasKnown, o.unread = x.has, x.known, x.unread
			}
		}
		for _, before := range was {
			if before.name == o.name && before.point.Key == o.point.Key && o.dev.state == connected {
				dev, point, index, readBack, flash, shortOff := o.dev, o.point, o.index, o.readBack, o.flash, o.shortOff
				*o = *before
				o.dev, o.point, o.index, o.readBack, o.flash, o.shortOff = dev, point, index, readBack, flash, shortOff
			}
		}
	}
	for _, in := range open.inputs {
		e.inputs[in.index] = in.now
	}
	return nil
}

// tellBypasses has the journal say what becomes of bypasses of outputs that the revision before did not have, or that this one does not
// have: an output that is kept off stays so, by its name; any other bypass ends.
func (e *Engine) tellBypasses(before *logic.Program) {
	for _, b := range e.people.comeBack(before, e.p) {
		e.note("bypass", b.Name, "", b.Value, "the output is part of the job again", b.Who)
	}
	for name, b := range e.people.in {
		if e.p.Index(logic.OutputKind, name) < 0 && before.Index(logic.OutputKind, name) >= 0 && !lasts(&b) {
			delete(e.people.in, name)
			e.note("bypass", name, b.Kind, "ended", "its output is no part of the job any more", "")
		}
	}
}
