package live

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rectura/service/device"
)

// Prefixes of the devices and points that drivers serve besides those of the revision in force. No name in a sheet has a space.
const (
	ofNext = "next " // of a revision that may take over: they are read
	ofLast = "last " // of the revision before: they are written to their fail states
)

// surveyLasts is the time, in nanoseconds, after which a survey ends that no request for a plan renews.
const surveyLasts = planLasts

// A survey reads what another revision has wired elsewhere, before it takes over.
type survey struct {
	revision int64
	drivers  []fitted
	points   map[string]device.Reading // by the names in the revision
	began    int64                     // steady
	until    int64                     // steady
}

// surveys begins to read what a revision has wired elsewhere, or goes on with that.
func (e *Engine) surveys(r *Revision) (*survey, error) {
	if s := e.plans.survey; s != nil && s.revision == r.Number {
		s.until = e.steady + surveyLasts
		return s, nil
	}
	e.endSurvey()
	drivers, err := r.fit()
	if err != nil {
		return nil, err
	}
	e.plans.survey = &survey{revision: r.Number, drivers: drivers, points: map[string]device.Reading{}, began: e.steady,
		until: e.steady + surveyLasts}
	return e.plans.survey, e.rearrange()
}

// endSurvey stops reading what nobody asks for any more.
func (e *Engine) endSurvey() {
	if e.plans.survey == nil {
		return
	}
	e.plans.survey = nil
	if err := e.rearrange(); err != nil {
		panic(err) // it only serves less than before
	}
}

// elsewhere reports which points of a survey are wired elsewhere than now.
func (e *Engine) elsewhere(d *fitted) func(point string) bool {
	keys := map[string]string{}
	for _, made := range d.made {
		for _, p := range made.Points {
			keys[p.Name] = p.Key
		}
	}
	here := map[string]bool{}
	for _, of := range e.devices {
		for _, p := range of.Points {
			if of.present() {
				here[p.Name+" "+p.Key] = true
			}
		}
	}
	return func(point string) bool { return !here[point+" "+keys[point]] }
}

// partsOf returns what the driver of a line is to serve: the revision in force, what is surveyed, and what was left behind.
func (e *Engine) partsOf(line string) (parts []device.Part) {
	for i := range e.base {
		if d := &e.base[i]; d.Line() == line {
			parts = append(parts, device.Part{Of: d.Driver})
		}
	}
	present := len(parts) > 0
	if s := e.plans.survey; s != nil {
		for i := range s.drivers {
			d := &s.drivers[i]
			if which := e.elsewhere(d); d.Line() == line && (!present || slices.ContainsFunc(d.points(), which)) {
				parts = append(parts, device.Part{Of: d.Driver, Prefix: ofNext, Points: which})
			}
		}
	}
	for i := range e.leftovers.drivers {
		d := &e.leftovers.drivers[i]
		if d.Line() == line && slices.ContainsFunc(d.points(), e.leftovers.has) {
			parts = append(parts, device.Part{Of: d.Driver, Prefix: ofLast, Points: e.leftovers.has})
		}
	}
	return parts
}

// A fitted driver is one with the devices that it was made for, whatever it serves now.
type fitted struct {
	device.Driver
	made []device.Device
}

// fit makes the drivers of a revision.
func (r *Revision) fit() ([]fitted, error) {
	drivers, err := r.Drivers()
	if err != nil {
		return nil, fmt.Errorf("making the drivers of revision %d: %w", r.Number, err)
	}
	return fit(drivers)
}

func fit(drivers []device.Driver) ([]fitted, error) {
	all := make([]fitted, len(drivers))
	for i, d := range drivers {
		if _, can := d.Serve(device.Part{Of: d}); !can {
			return nil, fmt.Errorf("the driver of %s cannot serve what it was made for", d.Line())
		}
		all[i] = fitted{d, d.Devices()}
	}
	return all, nil
}

func (d *fitted) points() (names []string) {
	for _, made := range d.made {
		for _, p := range made.Points {
			names = append(names, p.Name)
		}
	}
	return names
}

// rearrange has each line serve what it is to serve now. Drivers of new lines are started, those with nothing left to do are ended.
func (e *Engine) rearrange() error {
	lines := map[string]device.Driver{} // with a driver that can serve it
	add := func(drivers []fitted) {
		for _, d := range drivers {
			if lines[d.Line()] == nil {
				lines[d.Line()] = d.Driver
			}
		}
	}
	add(e.base)
	if e.plans.survey != nil {
		add(e.plans.survey.drivers)
	}
	add(e.leftovers.drivers)
	var left []*driving
	for _, x := range e.drivers {
		delete(lines, x.Line())
		parts := e.partsOf(x.Line())
		if len(parts) == 0 {
			x.stop()
			e.forgetDevices(x)
			continue
		}
		serving, can := x.Serve(parts...)
		if !can {
			return fmt.Errorf("the line %s cannot serve what it is to serve", x.Line())
		}
		x.serving = serving
		e.know(x)
		left = append(left, x)
	}
	e.drivers = left
	for _, line := range slices.Sorted(maps.Keys(lines)) {
		parts := e.partsOf(line)
		if len(parts) == 0 {
			continue
		}
		x, err := e.serve(lines[line], parts...)
		if err != nil {
			return err
		}
		e.drivers = append(e.drivers, x)
		e.runs(x)
	}
	e.lines.Store(int64(len(e.drivers)))
	return nil
}

func (e *Engine) forgetDevices(x *driving) {
	for name, d := range e.devices {
		if d.driver == x {
			delete(e.devices, name)
		}
	}
}

// readBeside takes a reading of a point that is not of the revision in force.
func (e *Engine) readBeside(d *dev, r *device.Reading) {
	if name, is := strings.CutPrefix(r.Point, ofNext); is && e.plans.survey != nil {
		r.Point = name
		e.plans.survey.points[name] = *r
		return
	}
	if name, is := strings.CutPrefix(r.Point, ofLast); is {
		e.leftovers.read(e, name, r)
	}
}

// awaited returns the surveyed devices that have neither said all that is asked of them nor been found not to answer.
func (e *Engine) awaited(s *survey) (names []string) {
	for _, d := range e.devices {
		name, is := strings.CutPrefix(d.Name, ofNext)
		if is && d.state != lost && slices.ContainsFunc(d.Points, func(p device.Point) bool {
			_, read := s.points[strings.TrimPrefix(p.Name, ofNext)]
			return !read
		}) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
