package live

import (
	"cmp"
	"fmt"
	"slices"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/run"
	"rectura/core/unit"
	"rectura/service/device"
)

// mostRepeats is the number of repetitions of a write after which it counts as a mismatch.
const mostRepeats = 3

// An out is an output that is wired. What its device has (has) and what it was last ordered to have (value) are two things, both
// of the present connection alone.
type out struct {
	index    int // in the program
	name     string
	dev      *dev
	point    *device.Point
	readBack int32 // the input that is bad while the output is otherwise than it was written
	flash    int64 // of an output that flashes: nanoseconds on and off
	shortOff bool  // it has a minimum off: turned off in the plant, it is off

	has      float64 // as it was read back last, or as a later write was taken
	hasKnown bool
	unread   string // why it could not be read back the last time

	ordered   bool    // it is to have value
	value     float64 // as written on the wire
	confirmed bool    // its device has taken value, or had it already
	refused   string  // why it did not take it the last time
	repeats   int     // how often the write was repeated since
	writtenAt int64   // when it was last taken, steady

	sent     bool   // a write was handed on, and nobody has said what became of it; over connections, too
	decided  int64  // the service time of a change of which the device has not taken the write; 0 for none
	again    bool   // it was found otherwise than it was taken, and written once more
	differs  string // the mismatch that was raised
	repaired int    // of what must be off: how often it was written since it was found otherwise

	leaving bool // the job was disarmed, or the service ends: it is to have value, whatever the rules say
	parted  bool // and it has
}

// keepLease gives back what a job that listens does not write any more.
func (e *Engine) keepLease() {
	if e.armed.Mode != Armed {
		e.lease.Keep(e.writes)
	}
}

// writes reports whether a job that listens writes an output: a person has it in hand, or it is being left.
func (e *Engine) writes(point string) bool {
	o := e.outputOf[point]
	if o == nil {
		return false
	}
	_, taken := e.run.S.Drive(o.index)
	return o.leaving || taken
}

// forget drops what is known of an output on a connection that has ended.
func (o *out) forget() {
	*o = out{index: o.index, name: o.name, dev: o.dev, point: o.point, readBack: o.readBack, flash: o.flash, shortOff: o.shortOff,
		sent: o.sent, decided: o.decided, differs: o.differs, leaving: o.leaving, value: o.value}
}

// finding returns the event that the plant has an output at a value.
func (e *Engine) finding(o *out, value float64) capture.Event {
	return capture.Event{Kind: capture.Finding, Of: int32(o.index), Stand: e.standOf(o, value)}
}

// standOf returns the stand of an output that is read back as a value.
func (e *Engine) standOf(o *out, value float64) logic.Stand {
	return standAs(e.run.S, o.index, o.point, value)
}

// standText returns a value of an output in words, with its value on the wire where the words alone say nothing.
func (e *Engine) standText(o *out, value float64) string {
	return e.p.StandText(logic.Ref{Kind: logic.OutputKind, Index: int32(o.index)}, e.p.Outputs[o.index].FromWire(value))
}

// isOff reports whether a value on the wire is off, or the low end.
func (e *Engine) isOff(o *out, value float64) bool {
	p := &e.p.Outputs[o.index]
	return o.point.Same(value, p.ToWire(logic.Stand{State: logic.Off, Level: p.Low}))
}

// took takes what became of a write.
func (e *Engine) took(d *dev, w device.Written, held bool) {
	if !d.present() {
		e.tookBeside(d, w)
		return
	}
	o := e.outputOf[w.Point]
	if o == nil {
		return
	}
	if held {
		because := fmt.Sprintf("the engine made no pass: the driver of %s wrote it", d.Name)
		if w.Fault != "" {
			because += ", in vain: " + w.Fault
		}
		e.noteWrite(o, w.Value, because)
	}
	if w.Fault != "" {
		o.refused = w.Fault
		return
	}
	o.sent = false
	moved := !o.hasKnown || !o.point.Same(o.has, w.Value)
	o.has, o.hasKnown, o.refused, o.repeats = w.Value, true, "", 0
	if !o.ordered || !o.point.Same(w.Value, o.value) {
		if moved && !held && o.flash == 0 && !e.p.Outputs[o.index].Analog() {
			e.noteWrite(o, w.Value, "it was on its way when the job decided otherwise")
			if e.began { // one that the plant turned off by it has its minimum off
				e.arrived.add(e.finding(o, w.Value))
			}
		}
		return
	}
	o.confirmed, o.writtenAt = true, e.steady
	e.tellLateWrite(o)
	if o.unread != "" { // that is all that can be known of it
		o.parted, o.leaving = o.leaving, o.leaving && e.leaving
	}
}

// tellLateWrite has the journal say, of a write that was taken, what no transition says: that it came later than its transition by
// more than an instant may be late, or that it was written again. Minimum times run from when the plant has it.
func (e *Engine) tellLateWrite(o *out) {
	late := o.decided != 0 && e.time.t-o.decided > lateness
	if late {
		e.noteWrite(o, o.value, "decided at "+e.clockOf(o.decided))
	}
	if (late || o.again || o.repaired > 0) && e.began {
		e.arrived.add(e.finding(o, o.value))
	}
	o.decided = 0
}

func (e *Engine) noteWrite(o *out, value float64, because string) {
	e.note("write", o.name, "", e.standText(o, value), because, "")
}

// readBack takes what an output is read back as.
func (e *Engine) readBack(o *out, r *device.Reading) {
	if r.Fault != "" {
		o.unread, o.hasKnown = r.Fault, false
		e.repeat(o)
		return
	}
	if o.unread != "" && e.began { // to its output, the end of exceptions is what a connection is to a device
		was := o.unread
		o.forget()
		o.has, o.hasKnown = r.Value, true
		e.note("device", o.dev.Name, "", "", fmt.Sprintf("%s can be read back again; before: %s", o.name, was), "")
		e.arrived.cut()
		e.arrived.add(capture.Event{Kind: capture.Settle, Of: o.readBack}, e.finding(o, r.Value))
		e.arrived.cut()
		return
	}
	before, known := o.has, o.hasKnown
	o.has, o.hasKnown = r.Value, true
	moved := known && !o.point.Same(before, r.Value)
	if !e.began {
		return // the first instant takes it
	}
	if e.run.S.Listening() {
		if _, taken := e.run.S.Drive(o.index); taken || moved || !known {
			e.arrived.add(e.finding(o, r.Value))
		}
	}
	switch {
	case !o.ordered:
		if moved && !e.run.S.Listening() {
			e.arrived.add(e.finding(o, r.Value))
		}
	case o.point.Same(r.Value, o.value):
		e.right(o)
	case o.refused != "":
		e.repeat(o)
	case o.confirmed:
		e.otherwise(o)
	}
}

// right takes that an output is read back as it was written.
func (e *Engine) right(o *out) {
	if !o.confirmed { // nobody had answered the write
		o.confirmed, o.writtenAt = true, e.steady
		e.tellLateWrite(o)
	}
	if o.repaired > 1 {
		e.noteWrite(o, o.value, fmt.Sprintf("it was written %d times until the plant had it", o.repaired))
	}
	o.refused, o.repeats, o.again, o.repaired, o.sent = "", 0, false, 0, false
	o.parted, o.leaving = o.leaving, o.leaving && e.leaving
	e.agree(o)
}

// agree ends a mismatch.
func (e *Engine) agree(o *out) {
	if o.differs != "" {
		o.differs = ""
		e.arrived.add(reading(o.readBack, 1))
	}
}

// mismatch raises the alarm that an output is otherwise.
func (e *Engine) mismatch(o *out, how string) {
	if o.differs != how {
		o.differs = how
		e.arrived.add(failing(o.readBack, how))
	}
}

// repeat writes again, with a poll, what a device has refused, or what nobody has answered.
func (e *Engine) repeat(o *out) {
	if !o.ordered || o.confirmed || o.refused == "" {
		return
	}
	if o.repeats >= mostRepeats {
		e.mismatch(o, o.refused)
	}
	o.repeats++
	e.order(o, o.value)
}

// otherwise takes that an output is found otherwise than its device had taken it. What must be off is written off for as long as it
// takes. What the plant has turned off, and has a minimum off, is off. Anything else is written once more, and then left alone.
func (e *Engine) otherwise(o *out) {
	how := fmt.Sprintf("%s reads %s where %s was written", o.point.Place, e.wireText(o, o.has), e.wireText(o, o.value))
	if !o.again && o.repaired == 0 && o.differs == "" {
		e.note("write", o.name, e.standText(o, o.value), e.standText(o, o.has),
			fmt.Sprintf("found %s, was %s: %s", e.standText(o, o.has), e.standText(o, o.value), how), "")
	}
	switch {
	case e.isOff(o, o.value) && e.mustStayOff(o):
		if o.repaired++; o.repaired == 1 {
			e.noteWrite(o, o.value, "it must be off, and is written until it is: "+e.decisionText(o))
		}
		e.mismatch(o, how)
		e.order(o, o.value)
	case o.shortOff && e.isOff(o, o.has) && !e.run.S.Listening():
		o.ordered = false // the plant's state becomes the decided one
		e.agree(o)
		e.arrived.add(e.finding(o, o.has))
	case !o.again:
		o.again = true
		e.noteWrite(o, o.value, "it is written once more")
		e.order(o, o.value)
	default:
		e.mismatch(o, how)
	}
}

// mustStayOff reports whether an output is off by its own interlock, by a person, or since the job was disarmed.
func (e *Engine) mustStayOff(o *out) bool { return o.leaving || e.run.S.MustBeOff(o.index) }

func (e *Engine) decisionText(o *out) string {
	return e.p.Sentence(e.run.S.Standing(logic.Ref{Kind: logic.OutputKind, Index: int32(o.index)}), e.clockOf)
}

// wireText returns a value as it stands on the wire.
func (e *Engine) wireText(o *out, v float64) string {
	switch {
	case e.p.Outputs[o.index].Analog():
		return unit.Short(v)
	case v != 0:
		return "1"
	}
	return "0"
}

// wireValue returns the value to write. An output that flashes alternates between its two values.
func (e *Engine) wireValue(o *out, to logic.Stand) float64 {
	if o.flash > 0 && to.State == logic.On && e.time.t/(o.flash/2)%2 == 1 {
		to.State = logic.Off
	}
	return e.p.Outputs[o.index].ToWire(to)
}

// order has a value of an output written with the next order to its driver.
func (e *Engine) order(o *out, value float64) {
	if !o.ordered || !o.point.Same(o.value, value) {
		o.again, o.repaired, o.repeats = false, 0, 0
	}
	w := device.Write{Device: o.dev.Name, Connection: o.dev.connection, Point: o.name, Value: value, Off: e.isOff(o, value)}
	w.Had, w.Known = o.has, o.hasKnown && (!o.ordered || o.confirmed)
	o.ordered, o.value, o.confirmed, o.refused = true, value, false, ""
	x := o.dev.driver
	if i := slices.IndexFunc(x.writes, func(before device.Write) bool { return before.Point == o.name }); i >= 0 { // of this pass
		w.Had, w.Known = x.writes[i].Had, x.writes[i].Known
		x.writes = slices.Delete(x.writes, i, i+1)
		if w.Known && o.point.Same(w.Had, value) {
			o.confirmed, o.writtenAt, o.decided = true, e.steady, 0
			return
		}
	}
	o.sent = true
	x.writes = append(x.writes, w)
}

// decide compares what was decided of an output with what its device has, and orders what differs. A write that is on its way is
// taken back by a newer one only.
func (e *Engine) decide(o *out) {
	if o.dev.state != connected {
		return
	}
	to, now := e.run.S.Drive(o.index)
	switch {
	case o.leaving:
		to, now = e.p.Outputs[o.index].FromWire(o.value), true
	case e.broken:
		var holds bool
		to, holds = e.run.S.FailStand(o.index)
		now = e.armed.Mode == Armed && !holds
	}
	if !now {
		o.ordered = false
		return
	}
	v := e.wireValue(o, to)
	if o.leaving {
		v = o.value
	}
	switch {
	case o.ordered && o.point.Same(o.value, v):
		if o.point.Refresh > 0 && o.confirmed && e.steady-o.writtenAt >= o.point.Refresh {
			o.writtenAt = e.steady
			o.dev.driver.writes = append(o.dev.driver.writes, device.Write{Device: o.dev.Name, Connection: o.dev.connection, Point: o.name,
				Value: v, Off: e.isOff(o, v)})
		}
	case o.hasKnown && o.point.Same(o.has, v) && (!o.ordered || o.confirmed): // nothing is written for nothing
		if o.sent {
			e.tellLateWrite(o)
		}
		o.sent = false
		o.ordered, o.value, o.confirmed, o.refused, o.decided = true, v, true, "", 0
		o.again, o.repaired, o.repeats, o.writtenAt = false, 0, 0, e.steady
		e.agree(o)
	default:
		e.tellUndecided(o, v)
		e.order(o, v)
	}
}

// tellUndecided journals the reason of a write that has no transition: another master moved the output while the job settled, for
// example.
func (e *Engine) tellUndecided(o *out, v float64) {
	switch {
	case o.decided != 0, o.leaving, e.broken, e.run.S.Listening(), !o.hasKnown, o.flash > 0, e.p.Outputs[o.index].Analog():
		return
	}
	o.decided = e.time.t
	e.note("write", o.name, e.standText(o, o.has), e.standText(o, v), "the plant has it otherwise than decided: "+e.decisionText(o), "")
}

// drive hands orders to the drivers after the instants of a pass.
func (e *Engine) drive() {
	if !e.began {
		return
	}
	for _, o := range e.outputs {
		e.decide(o)
	}
	e.leaveWires()
	e.figures.look(e.run.S, e.time.t)
	e.keepLease()
	for _, x := range e.drivers {
		slices.SortStableFunc(x.writes, func(a, b device.Write) int { return cmp.Compare(onlyIf(!a.Off), onlyIf(!b.Off)) })
		o := device.Order{Writes: x.writes, Beats: e.beats(x)}
		x.writes = nil
		if held := e.heldBy(x); !slices.Equal(held, x.held) {
			x.held, o.Held = held, &held
		}
		if len(o.Writes) > 0 || len(o.Beats) > 0 || o.Held != nil {
			x.Order(o)
		}
	}
}

func onlyIf(on bool) int {
	if on {
		return 1
	}
	return 0
}

// heldBy returns what a driver is to write should the engine fall silent: while the job drives, its fail states, but off for what
// must be off.
func (e *Engine) heldBy(x *driving) (all []device.Write) {
	if e.armed.Mode != Armed || e.leaving || !(e.driving() || e.armed.Fault != "") {
		return nil
	}
	for _, o := range x.outputs {
		if to, holds := e.run.S.FailStand(o.index); !holds {
			all = append(all, device.Write{Device: o.dev.Name, Point: o.name, Value: e.p.Outputs[o.index].ToWire(to)})
		}
	}
	return all
}

// driving reports whether the job writes its outputs.
func (e *Engine) driving() bool {
	return e.began && e.armed.Mode == Armed && e.armed.Fault == "" && !e.run.S.Listening() && e.run.S.Settled()
}

// alive reports whether a watchdog is to see a heartbeat.
func (e *Engine) alive() bool {
	return !e.leaving && (e.driving() || e.began && e.run.S.Listening() && e.run.S.Settled() && e.people.hand(e) >= 0)
}

// watchdogs returns the devices with a watchdog that sees the heartbeat of an armed job.
func (e *Engine) watchdogs() (all []string) {
	for _, d := range e.devices {
		if d.Heartbeat > 0 && e.armed.Mode == Armed {
			all = append(all, d.Name)
		}
	}
	slices.Sort(all)
	return all
}

// beats returns the devices behind a driver whose heartbeat is due.
func (e *Engine) beats(x *driving) (all []string) {
	if !e.alive() || e.late > beatsLate {
		return nil
	}
	for _, d := range e.devices {
		if d.driver == x && d.Heartbeat > 0 && d.present() && d.state == connected && e.steady >= d.beatDue {
			d.beatDue = max(d.beatDue+d.Heartbeat, e.steady+d.Heartbeat/2)
			all = append(all, d.Name)
		}
	}
	slices.Sort(all)
	return all
}

// nextDrive returns when something is to be written by the time alone, steady.
func (e *Engine) nextDrive() int64 {
	at := int64(run.Never)
	if !e.began {
		return at
	}
	if e.alive() {
		for _, d := range e.devices {
			if d.Heartbeat > 0 && d.present() && d.state == connected {
				at = min(at, d.beatDue)
			}
		}
	}
	for _, o := range e.outputs {
		if half := o.flash / 2; half > 0 && e.driving() {
			at = min(at, e.steady+half-e.time.t%half)
		}
		if o.point.Refresh > 0 && o.ordered && o.confirmed {
			at = min(at, o.writtenAt+o.point.Refresh)
		}
	}
	return at
}
