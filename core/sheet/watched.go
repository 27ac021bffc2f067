package sheet

import "slices"

// A job watches its plant without being told to: whether each device answers, and whether each output that can be read
// back has what was written. Each is a contact that no device has and that whoever runs the plant reports bad, with
// why; on the bench, where nobody does, it is good. An alarm says that it is.

const (
	lostSuffix     = ".lost"     // makes the name of a device that of the alarm that it does not answer
	mismatchSuffix = ".mismatch" // makes the name of an output that of the alarm that it is not as it was written
	readBackSuffix = ".readback" // makes the name of an output that of what it is read back as
	inHandSuffix   = ".inhand"   // makes the name of an output that of whether its last hand could go on
	handSuffix     = ".hand"     // and that of the alarm that it could not

	// HoursSuffix makes the name of an output that of what says whether it has been on for too long since its last service, and
	// ServiceSuffix that of the alarm.
	HoursSuffix   = ".hours"
	ServiceSuffix = ".service"
)

// The input that says whether the service runs on, and the alarm that it restarts again and again: delays begin anew each
// time, and may never run out. The input that says whether people keep to each other's locks, and the alarm that somebody
// gave an output back past one. The input that says whether what was kept of the job is as it was kept, and the alarm that it
// is not.
const (
	ServiceRuns     = "service.running"
	serviceRestarts = "service.restarts"
	LocksHold       = "service.locks"
	LockPassed      = "service.unlocked"
	RecordsHold     = "service.records"
	RecordsDamaged  = "service.damaged"
)

// ReadBack is the name of the input of Job.Watched that an output is read back by.
func (d *Output) ReadBack() string { return d.Name + readBackSuffix }

// InHand is the name of the input of Job.Watched that is bad once a hand of the output could not go on.
func (d *Output) InHand() string { return d.Name + inHandSuffix }

// HandAlarm is the name of the alarm that says so.
func (d *Output) HandAlarm() string { return d.Name + handSuffix }

// watch declares what is watched, and its alarms.
func (c *checker) watch() {
	behind := map[string][]*Input{}
	for _, in := range c.job.Inputs {
		if in.Source != nil {
			behind[in.Source.Device.Name] = append(behind[in.Source.Device.Name], in)
		}
	}
	for _, d := range c.job.Devices {
		h := Head{At: d.At, NameAt: d.NameAt, Name: d.Name, Label: d.Title()}
		priority := "high"
		if d.Lost != nil {
			priority = d.Lost.Word
			h.At = d.Lost.At
		}
		for _, in := range behind[d.Name] {
			if in.BadAlarm == nil {
				continue
			}
			a := c.job.names[in.Name+badSuffix].(*Alarm)
			a.Inhibit = &ConditionClause{Clause{At: a.At}, &Test{Name: &Name{Name: d.Name}, Is: "bad"}}
			if slices.Index(Priorities, a.Priority.Word) < slices.Index(Priorities, priority) {
				priority = a.Priority.Word // it stands for that
			}
		}
		d.answers = c.watchIt(h, h.Name+lostSuffix, d.Title()+" does not answer", priority)
	}
	for _, o := range c.job.Outputs {
		if o.Drives != nil {
			h := Head{At: o.Drives.At, NameAt: o.Drives.At, Name: o.ReadBack(), Label: o.Title() + " as it is read back"}
			c.watchIt(h, o.Name+mismatchSuffix, o.Title()+" is not as it was written", "high")
			h.Name, h.Label = o.InHand(), o.Title()+" in hand"
			c.watchIt(h, o.HandAlarm(), o.Title()+" was taken out of hand", "high")
		}
		if o.Service != nil {
			h := Head{At: o.Service.At, NameAt: o.Service.At, Name: o.Name + HoursSuffix, Label: o.Title() + ": hours since its service"}
			c.watchIt(h, o.Name+ServiceSuffix, o.Title()+" is due for its service", "low")
		}
	}
	if len(c.job.Devices) > 0 {
		at := c.job.Devices[0].At
		own := func(name, label, alarm, title string) {
			c.watchIt(Head{At: at, NameAt: at, Name: name, Label: label}, alarm, title, "high")
		}
		own(ServiceRuns, "The service runs on", serviceRestarts, "The service restarts again and again")
		own(LocksHold, "Locks hold", LockPassed, "An output was given back past a lock")
		own(RecordsHold, "Records are as they were kept", RecordsDamaged, "Records of this job are damaged or missing")
	}
}

// watchIt declares one thing that is watched, and its alarm.
func (c *checker) watchIt(h Head, alarm, label, priority string) *Input {
	in := &Input{Head: h, Discrete: true, watched: true}
	c.job.Watched = append(c.job.Watched, in)
	if c.job.names[h.Name] == nil {
		c.job.names[h.Name] = in
	}
	of := Head{At: h.At, NameAt: h.At, Name: alarm, Label: label}
	d := &Alarm{Head: of, Rule: &Rule{Head: of}, Own: true, Watches: true}
	d.Rule.Alarm, d.Rule.OnWhen = d, &ConditionClause{Clause{At: h.At}, &Test{Name: &Name{Name: h.Name}, Is: "bad"}}
	d.Priority = &WordClause{Clause{At: h.At}, priority}
	c.job.Alarms = append(c.job.Alarms, d)
	c.job.names[alarm] = d
	return in
}
