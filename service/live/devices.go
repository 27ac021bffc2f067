package live

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"rectura/core/capture"
	"rectura/core/run"
	"rectura/service/background"
	"rectura/service/device"
)

// The states of a device.
const (
	connecting = "connecting"
	connected  = "connected"
	lost       = "lost"
)

// crashed is the pause before a driver that has panicked is started again.
const crashed = 5 * time.Second

// A dev is a device as its engine knows it.
type dev struct {
	device.Device
	driver     *driving
	answers    int32 // the input that says whether it does; of a device of another revision, nothing
	state      string
	since      int64 // in service time
	opened     int64 // when the engine began to wait for it, steady
	why        string
	connection int
	paces      []*pace
	paceOf     map[string]*pace
	place      map[string]*device.Point
	beatDue    int64 // steady; 0 for not yet
}

// A pace is the points of a device that are read equally often: they come together, or stay away together.
type pace struct {
	every  int64
	points []string
	heard  int64 // when one was read, or could have been, steady
	last   int64 // when one really was; 0 for never
}

// An inputNow is an input as its device has it, for plans.
type inputNow struct {
	value float64
	fault string
	known bool
	first float64 // since the job has listened
	moved bool
}

func newDev(d device.Device, x *driving, answers int32, steady, now int64) *dev {
	v := &dev{Device: d, driver: x, answers: answers, state: connecting, since: now, opened: steady, paceOf: map[string]*pace{},
		place: map[string]*device.Point{}}
	for i := range d.Points {
		pt := &d.Points[i]
		v.place[pt.Name] = pt
		k := slices.IndexFunc(v.paces, func(p *pace) bool { return p.every == pt.Every })
		if k < 0 {
			k = len(v.paces)
			v.paces = append(v.paces, &pace{every: pt.Every, heard: steady})
		}
		v.paces[k].points, v.paceOf[pt.Name] = append(v.paces[k].points, pt.Name), v.paces[k]
	}
	return v
}

// engage takes drivers into service, and starts them.
func (e *Engine) engage(drivers []device.Driver) (err error) {
	e.devices, e.drivers = map[string]*dev{}, nil
	if e.base, err = fit(drivers); err != nil {
		return err
	}
	for _, d := range drivers {
		x, err := e.serve(d, device.Part{Of: d})
		if err != nil {
			return err
		}
		e.drivers = append(e.drivers, x)
	}
	e.wireOutputs()
	for _, x := range e.drivers {
		e.runs(x)
	}
	return nil
}

// serve has a driver that does not run yet serve parts.
func (e *Engine) serve(d device.Driver, parts ...device.Part) (*driving, error) {
	x := &driving{Driver: d, done: make(chan struct{})}
	var can bool
	if x.serving, can = d.Serve(parts...); !can {
		return nil, fmt.Errorf("the driver of %s cannot serve what it was made for", d.Line())
	}
	e.know(x)
	return x, nil
}

// know takes note of the devices that a driver serves now. One that it served before stays as it is.
func (e *Engine) know(x *driving) {
	served := map[string]bool{}
	for _, of := range x.Devices() {
		served[of.Name] = true
		if d := e.devices[of.Name]; d != nil && d.driver == x {
			d.Device = of
			continue
		}
		e.devices[of.Name] = newDev(of, x, e.byInput[of.Name], e.steady, e.time.t)
	}
	for name, d := range e.devices {
		if d.driver == x && !served[name] {
			delete(e.devices, name)
		}
	}
}

// wireOutputs finds the outputs that are wired, each behind its driver.
func (e *Engine) wireOutputs() {
	e.outputs, e.outputOf = nil, map[string]*out{}
	for i, o := range e.p.Job.Outputs {
		if o.Drives == nil {
			continue
		}
		d := e.devices[o.Drives.Device.Name]
		x := &out{index: i, name: o.Name, dev: d, readBack: e.byInput[o.ReadBack()], point: d.place[o.Name],
			shortOff: o.MinimumOff != nil}
		if o.Flash != nil {
			x.flash = e.p.Job.DurationValue(o.Flash.Duration)
		}
		e.outputs, e.outputOf[o.Name] = append(e.outputs, x), x
		d.driver.outputs = append(d.driver.outputs, x)
	}
}

// runs starts a driver. One that panics is started again after a while: its devices are lost meanwhile.
func (e *Engine) runs(x *driving) {
	var ctx context.Context
	ctx, x.stop = context.WithCancel(e.context)
	log := e.log.With(slog.String("line", x.Line()))
	report := func(r device.Report) { e.mail.report(x, r) }
	background.Go(log, "serving devices", func() error {
		defer close(x.done)
		for {
			err := background.Do(log, "serving devices", func() error { x.Run(ctx, report, e.passes.Load); return nil })
			if ctx.Err() != nil {
				return nil
			}
			if err == nil {
				err = errors.New("its driver has ended")
			}
			for _, d := range x.Devices() {
				report(device.Report{Device: d.Name, Serving: -1, Lost: fmt.Sprintf("%s does not answer: %v", d.Name, err)})
			}
			t := e.clock.Timer(crashed)
			select {
			case <-ctx.Done():
				t.Stop()
				return nil
			case <-t.C:
			}
		}
	})
}

// disengage ends all drivers. It waits for none: what hangs in a request is left behind, and closes its connection when the
// request ends.
func (e *Engine) disengage() {
	for _, x := range e.drivers {
		x.stop()
	}
}

func (e *Engine) namesOf(x *driving) (names []string) {
	for _, d := range e.devices {
		if d.driver == x {
			names = append(names, d.Name)
		}
	}
	slices.Sort(names)
	return names
}

// heardAll reports whether each device has answered or was found not to, or the engine has waited for long enough.
func (e *Engine) heardAll() bool {
	waiting := false
	for _, d := range e.devices {
		waiting = waiting || d.state == connecting && d.present()
	}
	if waiting && e.steady-e.opened < patience {
		return false
	}
	for _, d := range e.devices {
		if d.state == connecting && d.present() {
			e.lose(d, d.Name+" does not answer")
		}
	}
	return true
}

// present reports whether the device is one of the revision in force.
func (d *dev) present() bool { return !strings.Contains(d.Name, " ") }

// hear takes a report of a driver.
func (e *Engine) hear(r mail) {
	d := e.devices[r.Device]
	if d == nil || d.driver != r.from || r.Serving >= 0 && r.Serving < r.from.valid {
		return // of a revision before this one
	}
	switch {
	case r.Lost != "":
		e.lose(d, r.Lost)
		return
	case r.Began:
		e.found(d, &r.Report)
		return
	case d.state == connecting && !d.present(): // it is on a connection that there was already
		d.state, d.connection = connected, r.Connection
	case d.state != connected:
		return // it is read anew
	case r.Connection != d.connection:
		d.driver.Order(device.Order{Anew: []string{d.Name}})
		return
	}
	e.takeLate(d, r.Late)
	for i := range r.Readings {
		e.read(d, &r.Readings[i])
	}
	for _, w := range r.Written {
		e.took(d, w, r.Held)
	}
}

// takeLate notes points that could not be asked for: they are not silent.
func (e *Engine) takeLate(d *dev, points []string) {
	e.counts.latePoints += int64(len(points))
	for _, name := range points {
		if p := d.paceOf[name]; p != nil {
			p.heard = e.steady
		}
	}
}

// lose makes a device one that does not answer, and its points bad. Nothing that is decided reaches its outputs any more.
func (e *Engine) lose(d *dev, why string) {
	if d.state == lost {
		return
	}
	d.state, d.since = lost, e.next()
	d.why = why + " since " + e.clockOf(d.since)
	if !d.present() {
		return
	}
	e.note("device", d.Name, "", lost, d.why, "")
	var last []capture.Event // how outputs were last read that were to be written otherwise
	for _, o := range e.outputs {
		if o.dev != d {
			continue
		}
		if o.ordered && !o.confirmed && o.hasKnown {
			last = append(last, e.finding(o, o.has))
		}
		o.forget()
	}
	if e.began {
		e.arrived.add(append(e.losing(d), last...)...)
		return
	}
	e.arrived.drop(func(ev capture.Event) bool { // earlier readings of it do not count
		return ev.Kind == capture.Reading && slices.ContainsFunc(d.Points, func(p device.Point) bool { return p.Name == e.p.Inputs[ev.Of].Name })
	})
}

// losing returns the events of a device that is lost.
func (e *Engine) losing(d *dev) []capture.Event {
	all := []capture.Event{failing(d.answers, d.why), {Kind: capture.Losing, Of: d.answers}}
	for _, p := range d.Points {
		if i, is := e.byInput[p.Name]; is && !p.Driven {
			all = append(all, failing(i, d.why))
			e.inputs[i].fault, e.inputs[i].known = d.why, true
		}
	}
	return all
}

// found makes it one that answers, or answers anew. At an instant of its own, its outputs get the state that the plant has, and
// everything that depends on its points begins to settle; its readings enter at the next instant.
func (e *Engine) found(d *dev, r *device.Report) {
	again := d.state == lost
	d.connection, d.state, d.why = r.Connection, connected, ""
	if again || !e.began {
		d.since = e.next()
	}
	for _, p := range d.paces {
		p.heard, p.last = e.steady, e.steady
	}
	if !d.present() {
		for i := range r.Readings {
			e.read(d, &r.Readings[i])
		}
		return
	}
	for _, o := range e.outputs {
		if o.dev == d {
			o.forget()
		}
	}
	if e.began {
		e.note("device", d.Name, map[bool]string{true: lost, false: "reconnected"}[again], connected, "it answers again", "")
		e.arrived.cut()
		e.arrived.add(capture.Event{Kind: capture.Settle, Of: d.answers})
	}
	for i := range r.Readings {
		x := &r.Readings[i]
		if o := e.outputOf[x.Point]; o != nil && x.Fault == "" {
			if o.has, o.hasKnown = x.Value, true; e.began {
				e.arrived.add(e.finding(o, x.Value))
			}
		} else if o != nil {
			o.unread = x.Fault
		}
	}
	e.arrived.add(reading(d.answers, 1))
	if e.began {
		e.arrived.cut()
	}
	for i := range r.Readings {
		if e.outputOf[r.Readings[i].Point] == nil {
			e.read(d, &r.Readings[i])
		}
	}
}

// read takes what a device has at a point.
func (e *Engine) read(d *dev, r *device.Reading) {
	if p := d.paceOf[r.Point]; p != nil {
		p.heard, p.last = e.steady, e.steady
	}
	if !d.present() {
		e.readBeside(d, r)
		return
	}
	if o := e.outputOf[r.Point]; o != nil {
		e.readBack(o, r)
		return
	}
	i, is := e.byInput[r.Point]
	if !is {
		return
	}
	e.counts.readings++
	e.inputs[i].take(r)
	if r.Fault != "" {
		e.arrived.add(failing(i, r.Fault))
		return
	}
	e.arrived.add(reading(i, r.Value))
}

func (x *inputNow) take(r *device.Reading) {
	if !x.known {
		x.first = r.Value
	}
	x.moved = x.moved || x.known && r.Fault == "" && r.Value != x.first
	x.value, x.fault, x.known = r.Value, r.Fault, true
}

// patience returns how long points may stay away, whatever their driver does: three polls, and two time-outs of every device on
// the line.
func (d *dev) patience(p *pace) int64 { return 3*p.every + d.Patience }

// judgeSilence makes a device lost that was not heard for too long, whatever its driver says: silence is not health. The driver is
// to read it anew.
func (e *Engine) judgeSilence() {
	for _, d := range e.devices {
		switch d.state {
		case connecting:
			if e.began && e.steady-d.opened >= patience {
				e.lose(d, d.Name+" does not answer")
			}
		case connected:
			for _, p := range d.paces {
				if e.steady-p.heard >= d.patience(p) {
					e.lose(d, d.Name+" was not heard")
					d.driver.Order(device.Order{Anew: []string{d.Name}})
					break
				}
			}
		}
	}
}

// forgiveSilence lets every silence begin anew, since the engine or the process has not run for a while.
func (e *Engine) forgiveSilence() {
	for _, d := range e.devices {
		for _, p := range d.paces {
			p.heard = e.steady
		}
	}
}

// nextSilence returns when the first of them would be, steady.
func (e *Engine) nextSilence() int64 {
	at := int64(run.Never)
	for _, d := range e.devices {
		switch d.state {
		case connecting:
			at = min(at, d.opened+patience)
		case connected:
			for _, p := range d.paces {
				at = min(at, p.heard+d.patience(p))
			}
		}
	}
	return at
}
