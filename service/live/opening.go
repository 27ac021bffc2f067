package live

import (
	"fmt"
	"slices"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/device"
)

// An opening is what a revision begins with when it is armed: how each of its points stands in the plant at that time, and which of
// them are wired otherwise than before. Arming enters its events; a plan plays them on a copy of the memory.
type opening struct {
	devices []openDevice
	outputs []openOutput
	inputs  []openInput
	back    []logic.Command // that keep off again what a person keeps off, and what is part of the job again
}

type openDevice struct {
	name, identity string
	answers        int32
	fresh          bool   // it is another device than the one that had the name before, if one had
	lost           string // why it does not answer
	was            string // the identity of the one that had the name
}

type openOutput struct {
	index    int
	name     string
	readBack int32
	device   int // in devices
	point    *device.Point
	changed  bool   // it is wired elsewhere, or was not driven
	was      string // where it was wired
	has      float64
	known    bool
	unread   string
	rests    bool // it is wired as before and not written now, and its minimum off is new: found off, it begins that
}

type openInput struct {
	index   int32
	name    string
	device  int
	place   string
	changed bool
	was     string
	now     inputNow
}

// identity tells devices apart by what they are, not by their names.
func identity(line, id string) string { return line + " " + id }

// opening returns that of a program whose points are wired by drivers, as the plant stands now. What is wired elsewhere is known as
// far as a survey has read it; survey may be nil.
func (e *Engine) opening(p *logic.Program, drivers []fitted, look *survey) *opening {
	x := &opening{}
	points := map[string]*device.Point{}
	of := map[string]int{}
	for _, d := range drivers {
		for k := range d.made {
			made := &d.made[k]
			of[made.Name] = len(x.devices)
			x.devices = append(x.devices, e.openDevice(p, d.Line(), made))
			for i := range made.Points {
				points[made.Points[i].Name] = &made.Points[i]
			}
		}
	}
	for i, o := range p.Job.Outputs {
		if o.Drives == nil {
			continue
		}
		y := openOutput{index: i, name: o.Name, readBack: inputOf(p, o.ReadBack()), device: of[o.Drives.Device.Name], point: points[o.Name]}
		e.openOutput(&y, look)
		y.rests = y.rests && o.MinimumOff != nil
		x.outputs = append(x.outputs, y)
	}
	for i, in := range p.Job.Inputs {
		if in.Source == nil {
			continue
		}
		y := openInput{index: int32(i), name: in.Name, device: of[in.Source.Device.Name], place: points[in.Name].Place}
		e.openInput(&y, in, points[in.Name], look)
		x.inputs = append(x.inputs, y)
	}
	for _, b := range e.people.comeBack(e.p, p) {
		of := logic.Ref{Kind: logic.OutputKind, Index: int32(p.Index(logic.OutputKind, b.Name))}
		x.back = append(x.back, logic.Command{Do: logic.StandOff, Of: of, Lock: b.Lock})
	}
	return x
}

// inputOf returns the number of an input, those that watch the plant included.
func inputOf(p *logic.Program, name string) int32 { return int32(p.Index(logic.InputKind, name)) }

func (e *Engine) openDevice(p *logic.Program, line string, made *device.Device) openDevice {
	x := openDevice{name: made.Name, identity: identity(line, made.ID), answers: inputOf(p, made.Name), fresh: true}
	if d := e.devices[made.Name]; d != nil {
		x.was = identity(d.driver.Line(), d.ID)
		x.fresh = x.was != x.identity
	}
	x.lost = made.Name + " has not answered yet"
	for _, d := range e.devices { // under any name, or surveyed
		if identity(d.driver.Line(), d.ID) != x.identity {
			continue
		}
		if d.state == connected {
			x.lost = ""
			break
		}
		if d.state == lost {
			x.lost = d.why
		}
	}
	return x
}

func (e *Engine) openOutput(x *openOutput, look *survey) {
	x.changed = true
	for _, o := range e.outputs {
		if o.name == x.name {
			x.was = o.point.Place
		}
		if o.point.Key != x.point.Key {
			continue
		}
		x.has, x.known, x.unread = o.has, o.hasKnown, o.unread
		x.changed = o.name != x.name
		if !x.changed {
			x.rests = !o.shortOff && !o.ordered
			return
		}
	}
	if look == nil || x.known {
		return
	}
	if r, is := look.points[x.name]; is {
		x.has, x.known, x.unread = r.Value, r.Fault == "", r.Fault
	}
}

func (e *Engine) openInput(x *openInput, in *sheet.Input, at *device.Point, look *survey) {
	x.changed = true
	if i, is := e.byInput[in.Name]; is {
		for _, d := range e.devices {
			if before := d.place[in.Name]; before != nil && d.present() {
				x.was = before.Place
				x.changed = before.Key != at.Key
			}
		}
		if !x.changed {
			x.now = e.inputs[i]
			return
		}
	}
	if look == nil {
		return
	}
	if r, is := look.points[in.Name]; is {
		x.now.take(&r)
	}
}

// events returns the instants with which the revision begins: first, what is wired elsewhere begins to settle, with the state that the
// plant has; then, what its inputs read.
func (x *opening) events(s *logic.Stepper) [][]capture.Event {
	first := []capture.Event{{Kind: capture.Listen, On: false}}
	var then []capture.Event
	for i := range x.devices {
		d := &x.devices[i]
		switch {
		case d.lost != "" && d.fresh:
			first = append(first, failing(d.answers, d.lost), capture.Event{Kind: capture.Losing, Of: d.answers})
		case d.lost != "":
			first = append(first, capture.Event{Kind: capture.Losing, Of: d.answers})
		case d.fresh:
			first = append(first, capture.Event{Kind: capture.Settle, Of: d.answers}, reading(d.answers, 1))
		}
	}
	for i := range x.outputs {
		o := &x.outputs[i]
		d := &x.devices[o.device]
		decided, _ := s.Drive(o.index)
		stopped := o.rests && o.known && decided.State == logic.On && standAs(s, o.index, o.point, o.has).State == logic.Off
		if !(o.changed || d.fresh || stopped) || d.lost != "" {
			continue
		}
		if !d.fresh && !stopped {
			first = append(first, capture.Event{Kind: capture.Settle, Of: o.readBack})
		}
		if o.known {
			first = append(first, capture.Event{Kind: capture.Finding, Of: int32(o.index), Stand: standAs(s, o.index, o.point, o.has)})
		}
	}
	for i := range x.back {
		first = append(first, capture.Event{Kind: capture.Command, Do: &x.back[i]})
	}
	for i := range x.inputs {
		in := &x.inputs[i]
		d := &x.devices[in.device]
		switch {
		case !in.changed && !d.fresh:
		case d.lost != "":
			first = append(first, failing(in.index, d.lost))
		default:
			first = append(first, capture.Event{Kind: capture.Settle, Of: in.index})
			then = append(then, in.event()...)
		}
	}
	if len(then) == 0 {
		return [][]capture.Event{first}
	}
	return [][]capture.Event{first, then}
}

func (in *openInput) event() []capture.Event {
	switch {
	case !in.now.known:
		return nil
	case in.now.fault != "":
		return []capture.Event{failing(in.index, in.now.fault)}
	}
	return []capture.Event{reading(in.index, in.now.value)}
}

// readings returns what all inputs read, as the next poll would.
func (x *opening) readings() (all []capture.Event) {
	for i := range x.inputs {
		if in := &x.inputs[i]; x.devices[in.device].lost == "" {
			all = append(all, in.event()...)
		}
	}
	return all
}

// standAs returns the stand of an output that is read back as a value, as a stepper knows it. What is the same on the wire is the same:
// a word holds less than a value.
func standAs(s *logic.Stepper, output int, at *device.Point, value float64) logic.Stand {
	p := &s.Program().Outputs[output]
	decided, _ := s.Drive(output)
	for _, known := range []logic.Stand{s.Plant(output), decided} {
		if at.Same(value, p.ToWire(known)) {
			return logic.Stand{State: known.State, Level: known.Level}
		}
	}
	return p.FromWire(value)
}

// wires says in sentences what is wired otherwise than before.
func (x *opening) wires(left []leftover) (all []string) {
	for i := range x.devices {
		d := &x.devices[i]
		switch {
		case d.fresh && d.was == "":
			all = append(all, fmt.Sprintf("%s: a device that was not part of the job, at %s", d.name, d.identity))
		case d.fresh:
			all = append(all, fmt.Sprintf("%s: %s → %s", d.name, d.was, d.identity))
		}
	}
	for i := range x.outputs {
		o := &x.outputs[i]
		if !o.changed {
			continue
		}
		stands := "how it stands is not known"
		if o.known {
			stands = "it stands at " + wireNumber(o.has)
		}
		k := slices.IndexFunc(left, func(l leftover) bool { return l.name == o.name })
		switch {
		case o.was == "":
			all = append(all, fmt.Sprintf("%s: %s is driven from now on; %s", o.name, o.point.Place, stands))
		case k < 0:
			all = append(all, fmt.Sprintf("%s: %s → %s; %s", o.name, o.was, o.point.Place, stands))
		default:
			all = append(all, fmt.Sprintf("%s: %s → %s: %s; of the new one, %s", o.name, o.was, o.point.Place, left[k].text(), stands))
		}
	}
	for _, l := range left {
		if !slices.ContainsFunc(x.outputs, func(o openOutput) bool { return o.name == l.name }) {
			all = append(all, fmt.Sprintf("%s: no output drives %s any more: %s", l.name, l.place, l.text()))
		}
	}
	for i := range x.inputs {
		if in := &x.inputs[i]; in.changed && in.was != "" && in.was != in.place {
			all = append(all, fmt.Sprintf("%s: %s → %s", in.name, in.was, in.place))
		}
	}
	return all
}
