package live

import (
	"fmt"
	"slices"

	"rectura/core/capture"
	"rectura/core/run"
	"rectura/service/device"
)

// The states of a device.
const (
	connecting = "connecting"
	connected  = "connected"
	lost       = "lost"
)

// A dev is a device as its engine knows it.
type dev struct {
	device.Device
	driver     *driving
	answers    int32 // the input that says whether it does
	state      string
	since      int64 // in service time
	opened     int64 // when it was first waited for, steady
	why        string
	connection int
	paces      []*pace
	paceOf     map[string]*pace
	beatDue    int64 // steady; 0 for not yet
}

// A pace is the points of a device that are read equally often: they come together, or stay away together.
type pace struct {
	every  int64
	points []string
	heard  int64 // when one was, or could have been, steady
	last   int64 // when one really was; 0 for never
	silent bool  // for too long
}

func newDev(d device.Device, x *driving, answers int32, steady, now int64) *dev {
	v := &dev{Device: d, driver: x, answers: answers, state: connecting, since: now, opened: steady, paceOf: map[string]*pace{}}
	for _, pt := range d.Points {
		i := slices.IndexFunc(v.paces, func(p *pace) bool { return p.every == pt.Every })
		if i < 0 {
			i = len(v.paces)
			v.paces = append(v.paces, &pace{every: pt.Every, heard: steady})
		}
		v.paces[i].points, v.paceOf[pt.Name] = append(v.paces[i].points, pt.Name), v.paces[i]
	}
	return v
}

// heardAll tells whether each device has answered or has been found not to, or the engine has waited for long enough.
func (e *Engine) heardAll() bool {
	waiting := false
	for _, d := range e.devices {
		waiting = waiting || d.state == connecting
	}
	if waiting && e.steady-e.opened < opening {
		return false
	}
	for _, d := range e.devices {
		if d.state == connecting {
			e.lose(d, d.Name+" does not answer")
		}
	}
	return true
}

// hear takes a report of a driver.
func (e *Engine) hear(r mail) {
	d := e.devices[r.Device]
	if d == nil || d.driver != r.from {
		return // of a revision before this one
	}
	if r.Lost != "" {
		e.lose(d, r.Lost)
		return
	}
	if r.Began {
		e.found(d, r.Connection)
	}
	if d.state == lost { // a report that was on its way when it was lost
		return
	}
	for i := range r.Readings {
		e.read(d, &r.Readings[i])
	}
	for _, w := range r.Written {
		if o := e.outputOf[w.Point]; o != nil {
			e.took(o, w)
		}
	}
}

// lose makes a device one that does not answer, and its points bad.
func (e *Engine) lose(d *dev, why string) {
	if d.state == lost {
		return
	}
	d.state, d.since = lost, e.next()
	d.why = why + " since " + e.clockOf(d.since)
	e.note("device", d.Name, "", lost, d.why, "")
	e.fault(d.answers, d.why)
	for _, p := range d.paces {
		e.silence(p, d.why)
	}
	for _, o := range e.outputs {
		if o.dev == d {
			o.ordered, o.written, o.foundKnown = false, false, false
		}
	}
}

// found makes it one that answers, or answers again: then what depends on it settles anew.
func (e *Engine) found(d *dev, connection int) {
	again := d.state == lost
	d.connection = connection
	if d.state != connected {
		d.state, d.since, d.why = connected, e.next(), ""
	}
	if again {
		e.note("device", d.Name, lost, connected, "it answers again", "")
		e.entered = append(e.entered, capture.Event{Kind: capture.Settle, Of: d.answers})
	}
	e.entered = append(e.entered, capture.Event{Kind: capture.Reading, Of: d.answers, Value: 1})
	for _, o := range e.outputs {
		if o.dev == d {
			o.ordered, o.written, o.foundKnown = false, false, false
		}
	}
}

func (e *Engine) fault(input int32, why string) {
	e.entered = append(e.entered, capture.Event{Kind: capture.Failing, Of: input, Text: why})
}

// silence makes the points of a pace bad.
func (e *Engine) silence(p *pace, why string) {
	p.silent = true
	for _, name := range p.points {
		if i, is := e.byInput[name]; is {
			e.fault(i, why)
		}
	}
}

// read takes what a device says of a point.
func (e *Engine) read(d *dev, r *device.Reading) {
	if p := d.paceOf[r.Point]; p != nil {
		if p.heard, p.last = e.steady, e.steady; p.silent {
			p.silent = false
			e.heardAgain(d)
		}
	}
	if o := e.outputOf[r.Point]; o != nil {
		e.readBack(o, r)
		return
	}
	i, is := e.byInput[r.Point]
	switch {
	case !is:
	case r.Fault != "":
		e.fault(i, r.Fault)
	default:
		e.entered = append(e.entered, capture.Event{Kind: capture.Reading, Of: i, Value: r.Value})
	}
}

// heardAgain makes a device answer that the engine had found silent by itself, once all of it does.
func (e *Engine) heardAgain(d *dev) {
	if slices.ContainsFunc(d.paces, func(p *pace) bool { return p.silent }) || d.state == lost || d.why == "" {
		return
	}
	d.why = ""
	e.note("device", d.Name, "silent", d.state, "it is heard again", "")
	e.entered = append(
		e.entered,
		capture.Event{Kind: capture.Settle, Of: d.answers},
		capture.Event{Kind: capture.Reading, Of: d.answers, Value: 1},
	)
}

// patience is how long points may stay away, whatever their driver does: three polls and two time-outs.
func (d *dev) patience(p *pace) int64 { return 3*p.every + 2*d.Timeout }

// listenForSilence makes bad what has stayed away for too long: silence is not health.
func (e *Engine) listenForSilence() {
	for _, d := range e.devices {
		if d.state == connecting && e.began && e.steady-d.opened >= opening {
			e.lose(d, d.Name+" does not answer")
		}
		if d.state != connected {
			for _, p := range d.paces {
				p.heard = e.steady
			}
			continue
		}
		for _, p := range d.paces {
			if p.silent || e.steady-p.heard < d.patience(p) {
				continue
			}
			if d.why == "" {
				d.why = fmt.Sprintf("%s has not been heard since %s", d.Name, e.clockOf(e.time.t-(e.steady-p.heard)))
				e.note("device", d.Name, d.state, "silent", d.why, "")
				e.fault(d.answers, d.why)
			}
			e.silence(p, d.why)
		}
	}
}

// nextSilence is when the first of them would be, steady.
func (e *Engine) nextSilence() int64 {
	at := int64(run.Never)
	for _, d := range e.devices {
		if d.state == connecting {
			at = min(at, d.opened+opening)
		}
		for _, p := range d.paces {
			if d.state == connected && !p.silent {
				at = min(at, p.heard+d.patience(p))
			}
		}
	}
	return at
}
