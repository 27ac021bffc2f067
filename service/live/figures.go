package live

import (
	"fmt"
	"math"
	"strings"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/store"
)

// figures are what outputs have done over the years.
type figures struct {
	p     *logic.Program
	of    []store.Figures
	since []int64 // when it was turned on, or -1
	after []int64 // for how long it may be on until its service; 0 where nobody sees to it
	due   []due   // of outputs that somebody sees to after a time
	seen  bool    // the plant's state is known, so that turning on counts as a start
	moved bool
	kept  int64 // steady
}

// figuresEvery is how often figures are kept though nothing has moved: so much of what they say can be lost.
const figuresEvery = 60 * second

// A due is the service of an output.
type due struct {
	output int
	input  int32 // that is bad once it is due
	told   bool
}

func (f *figures) begin(p *logic.Program, kept []store.Figures, byInput map[string]int32) {
	*f = figures{p: p, of: make([]store.Figures, len(p.Outputs)), since: make([]int64, len(p.Outputs)), after: make([]int64, len(p.Outputs))}
	of := map[string]store.Figures{}
	for _, k := range kept {
		of[k.Name] = k
	}
	for i, o := range p.Outputs {
		f.of[i], f.since[i] = of[o.Name], -1
		f.of[i].Name = o.Name
		if service := p.Job.Outputs[i].Service; service != nil {
			f.after[i] = p.Job.DurationValue(service.Duration)
			f.due = append(f.due, due{i, byInput[o.Name+sheet.HoursSuffix], false})
		}
	}
}

// isOn tells whether an output is on, or above its low end.
func (f *figures) isOn(i int, s logic.Stand) bool {
	if o := &f.p.Outputs[i]; o.Analog() {
		return s.Level != o.Low
	}
	return s.State == logic.On
}

// look notes what the plant has outputs at. What runs already when an engine begins, or is found to run after an outage, does not start.
func (f *figures) look(s *logic.Stepper, now int64) {
	for i := range f.of {
		on := f.isOn(i, s.Plant(i))
		switch {
		case on && f.since[i] < 0:
			if f.seen {
				f.of[i].Starts++
				f.moved = true
			}
			f.since[i] = now
		case !on && f.since[i] >= 0:
			f.of[i].OnNs += max(now-f.since[i], 0)
			f.since[i], f.moved = -1, true
		}
	}
	f.seen = true
}

// now returns the figures of an output, with what is on counted up to now.
func (f *figures) now(i int, now int64) store.Figures {
	x := f.of[i]
	if f.since[i] >= 0 {
		x.OnNs += max(now-f.since[i], 0)
	}
	return x
}

// changed returns the figures to be kept.
func (f *figures) changed(job, now int64) (all []store.Figures) {
	for i := range f.of {
		if x := f.now(i, now); x.OnNs > 0 || x.Starts > 0 {
			x.Job = job
			all = append(all, x)
		}
	}
	f.moved = false
	return all
}

// rest notes that nobody looked for a while: what ran before counts up to then, and what is found to run does not start.
func (f *figures) rest(until int64) {
	for i := range f.since {
		if f.since[i] >= 0 {
			f.of[i].OnNs += max(until-f.since[i], 0)
			f.since[i] = -1
		}
	}
	f.seen = false
}

// shift moves the times that are remembered.
func (f *figures) shift(by int64) {
	for i := range f.since {
		if f.since[i] >= 0 {
			f.since[i] += by
		}
	}
}

// left is for how many seconds more an output may be on until its service; NaN where nobody sees to it.
func (f *figures) left(i int, ran store.Figures) float64 {
	if f.after[i] == 0 {
		return math.NaN()
	}
	return float64(max(f.after[i]-(ran.OnNs-ran.ServicedNs), 0)) / 1e9
}

// sinceService is how long an output has been on since its last service, to the second.
func sinceService(x store.Figures) string {
	return unit.FormatDuration((x.OnNs - x.ServicedNs) / second * second)
}

// dueForService raises the alarms of outputs that are due for their service.
func (e *Engine) dueForService() {
	for k := range e.figures.due {
		d := &e.figures.due[k]
		x := e.figures.now(d.output, e.time.t)
		if d.told || x.OnNs-x.ServicedNs < e.figures.after[d.output] {
			continue
		}
		d.told = true
		e.tell(failing(d.input, fmt.Sprintf("%s has been on for %s since its last service, and is due after %s", x.Name,
			sinceService(x), unit.FormatDuration(e.figures.after[d.output]))))
	}
}

// service notes that somebody has seen to an output, as `reset OUTPUT.service` says. It tells whether the command is one.
func (e *Engine) service(q *Request) (a Answer, is bool, err error) {
	output, is := strings.CutSuffix(q.Name, sheet.ServiceSuffix)
	if !is || q.Do != "reset" {
		return a, false, nil
	}
	for k := range e.figures.due {
		d := &e.figures.due[k]
		x := e.figures.now(d.output, e.time.t)
		if x.Name != output {
			continue
		}
		if q.Value != "" {
			return a, true, refuse("%s: reset takes no value, and %q is one", q.Name, q.Value)
		}
		if nk := e.keeping.notKept; nk != 0 {
			return a, true, refuse("nothing can be kept since %s, so that this would be lost at a restart: %s; make room first",
				e.clockOf(nk), e.keeping.why)
		}
		a.Before, a.After = sinceService(x)+" since its service", "seen to"
		e.figures.of[d.output].ServicedNs, e.figures.moved, d.told = x.OnNs, true, false
		e.enter(e.next(), reading(d.input, 1))
		stand := e.run.S.Standing(logic.Ref{Kind: logic.AlarmKind, Index: int32(e.p.Index(logic.AlarmKind, q.Name))})
		_, a.State = e.p.States(stand)
		a.Because = e.p.Sentence(stand, e.clockOf)
		e.keeping.entry(
			store.Entry{Time: e.last, Kind: "command", Name: q.Name, From: a.Before, To: a.After, Because: q.Why, Who: q.Who, Via: q.Do},
		)
		return a, true, nil
	}
	return a, false, nil
}
