package live

import (
	"cmp"
	"slices"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/run"
	"rectura/service/device"
)

// An out is an output that is wired.
type out struct {
	index    int // in the program
	dev      *dev
	readBack int32 // the input that is bad while it is otherwise than it was written
	flash    int64 // of an output that flashes: nanoseconds on and off

	ordered    bool // on the present connection, to value
	value      float64
	written    bool  // and its device has taken it
	decided    int64 // the service time of a change of which the device has not taken the write; 0 for none
	refused    string
	found      float64 // as it was last read back, on this connection
	foundKnown bool
	differs    string // how it is otherwise, as it was told
	parting    bool   // the job was disarmed, and it is to be read back as value
	parted     bool   // its device has taken that
}

// took notes what became of a write. Where it came later than the change by more than an instant may be late, since the
// job settled, say, or the device was away, the journal has the time of both.
func (e *Engine) took(o *out, w device.Written) {
	o.refused = w.Fault
	if o.parting && !o.parted && w.Fault == "" && w.Value == o.value {
		o.parted, o.foundKnown = true, false // what was read before says nothing of it
	}
	o.written = w.Fault == "" && o.ordered && w.Value == o.value
	if !o.written || o.decided == 0 {
		return
	}
	if e.time.t-o.decided > lateness {
		r := logic.Ref{Kind: logic.OutputKind, Index: int32(o.index)}
		name, to := e.p.Outputs[o.index].Name, e.p.StandText(r, e.p.Outputs[o.index].FromWire(w.Value))
		e.note("write", name, "", to, "decided at "+e.clockOf(o.decided), "")
		e.entered = append(e.entered, capture.Event{Kind: capture.Finding, Of: r.Index, Stand: e.p.Outputs[o.index].FromWire(w.Value)})
	}
	o.decided = 0
}

// readBack takes what an output is read back as.
func (e *Engine) readBack(o *out, r *device.Reading) {
	if r.Fault != "" {
		o.foundKnown = false
	} else {
		// While the job drives its outputs, what they are found to have never changes what it thinks of them.
		if to, taken := e.run.S.Drive(o.index); !e.began || e.run.S.Listening() && (taken || !o.foundKnown || r.Value != o.found) {
			stand := e.p.Outputs[o.index].FromWire(r.Value)
			if o.dev.driver.Same(r.Point, r.Value, e.p.Outputs[o.index].ToWire(to)) {
				stand = to // what is the same on the wire is the same: a word holds less than a value
			}
			e.entered = append(e.entered, capture.Event{Kind: capture.Finding, Of: int32(o.index), Stand: stand})
		}
		o.found, o.foundKnown = r.Value, true
	}
	if e.armed.Mode != Armed || r.Differs == o.differs {
		return
	}
	o.differs = r.Differs
	if r.Differs != "" {
		e.fault(o.readBack, r.Differs)
		return
	}
	e.entered = append(e.entered, capture.Event{Kind: capture.Reading, Of: o.readBack, Value: 1})
}

// wired is what an output is to be written as, which of one that flashes is another twice a period.
func (e *Engine) wired(o *out, to logic.Stand) float64 {
	if o.flash > 0 && to.State == logic.On && e.time.t/(o.flash/2)%2 == 1 {
		to.State = logic.Off
	}
	return e.p.Outputs[o.index].ToWire(to)
}

// drive hands on what is to be written after the instants of a pass: what turns off before what turns on. A driver that has
// nothing to do is told from time to time that the engine is there.
func (e *Engine) drive() {
	if !e.began || e.leaving {
		return
	}
	for _, x := range e.drivers {
		var o device.Order
		off := map[string]bool{}
		for _, y := range e.outputs {
			if y.dev.driver != x || y.dev.state != connected {
				continue
			}
			to, now := e.run.S.Drive(y.index)
			if e.broken {
				var holds bool
				to, holds = e.run.S.Abandoned(y.index)
				now = e.armed.Mode == Armed && !holds
			}
			if (e.run.S.Listening() || e.broken) && !now {
				y.ordered = false
				continue
			}
			name := e.p.Outputs[y.index].Name
			v := e.wired(y, to)
			if !now || y.ordered && x.Same(name, y.value, v) {
				continue
			}
			y.ordered, y.value, y.written = true, v, false
			off[name] = e.p.Outputs[y.index].ToWire(logic.Stand{State: logic.Off, Level: e.p.Outputs[y.index].Low}) == v
			o.Writes = append(o.Writes, device.Write{Device: y.dev.Name, Connection: y.dev.connection, Point: name, Value: v})
		}
		slices.SortStableFunc(o.Writes, func(a, b device.Write) int { return cmp.Compare(rank(off[a.Point]), rank(off[b.Point])) })
		o.Beats = e.beats(x)
		if len(o.Writes) == 0 && len(o.Beats) == 0 && e.steady-x.told < ping {
			continue
		}
		x.told = e.steady
		if e.driving() {
			o.Held = e.abandoned(x)
		}
		x.Order(o)
	}
}

func rank(off bool) int {
	if off {
		return 0
	}
	return 1
}

// driving tells whether the job writes its outputs.
func (e *Engine) driving() bool {
	return e.began && e.armed.Mode == Armed && e.armed.Fault == "" && !e.run.S.Listening() && e.run.S.Settled()
}

// alive tells whether a watchdog is to see a heartbeat.
func (e *Engine) alive() bool {
	return e.driving() || e.began && e.run.S.Listening() && e.run.S.Settled() && e.people.inHand(e)
}

// watchdogs are the devices with a watchdog that sees the heartbeat of an armed job.
func (e *Engine) watchdogs() (all []string) {
	for _, d := range e.devices {
		if d.Heartbeat > 0 && e.armed.Mode == Armed {
			all = append(all, d.Name)
		}
	}
	slices.Sort(all)
	return all
}

// beats are the devices behind a driver whose heartbeat is due: while the job drives its outputs, or a person one of them.
func (e *Engine) beats(x *driving) (all []string) {
	if !e.alive() || e.late > beatsLate {
		return nil
	}
	for _, d := range e.devices {
		if d.driver == x && d.Heartbeat > 0 && d.state == connected && e.steady >= d.beatDue {
			d.beatDue = max(d.beatDue+d.Heartbeat, e.steady+d.Heartbeat/2)
			all = append(all, d.Name)
		}
	}
	slices.Sort(all)
	return all
}

// abandoned is what outputs behind a driver are to have when nobody drives them any more.
func (e *Engine) abandoned(x *driving) (all []device.Write) {
	for _, o := range e.outputs {
		if o.dev.driver != x {
			continue
		}
		if to, holds := e.run.S.Abandoned(o.index); !holds {
			all = append(all, device.Write{Device: o.dev.Name, Connection: o.dev.connection, Point: e.p.Outputs[o.index].Name,
				Value: e.p.Outputs[o.index].ToWire(to)})
		}
	}
	return all
}

// nextDrive is when something is to be written by the time alone, steady.
func (e *Engine) nextDrive() int64 {
	at := int64(run.Never)
	if !e.began || e.leaving {
		return at
	}
	for _, x := range e.drivers {
		at = min(at, x.told+ping)
	}
	if e.alive() {
		for _, d := range e.devices {
			if d.Heartbeat > 0 && d.state == connected {
				at = min(at, d.beatDue)
			}
		}
	}
	for _, o := range e.outputs {
		if half := o.flash / 2; half > 0 && e.driving() {
			at = min(at, e.steady+half-e.time.t%half)
		}
	}
	return at
}
