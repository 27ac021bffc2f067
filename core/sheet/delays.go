package sheet

// A Delay is a duration by which a declaration waits, or keeps a state.
type Delay struct {
	What     string // on-delay, off-delay, pulse, …
	Duration *Duration
}

// Delays are those of a declaration that decides. Delays of single terms stand
// in its sentence alone.
func (j *Job) Delays(d Declaration) []Delay {
	var all []Delay
	add := func(what string, d *Duration) {
		if d != nil {
			all = append(all, Delay{what, d})
		}
	}
	clause := func(what string, c *DurationClause) {
		if c != nil {
			add(what, c.Duration)
		}
	}
	switch d := d.(type) {
	case *Alarm:
		return j.Delays(d.Rule)
	case *Rule:
		if d.OnWhen != nil {
			_, delay := d.OnCondition()
			add("on-delay", delay)
		}
		if d.OffWhen != nil {
			if f, ok := ungroup(d.OffWhen.Condition).(*For); ok && f.Crossing() == nil {
				add("off-delay", f.Duration)
			}
		}
		clause("off after", d.OffAfter)
		clause("pulse", d.Pulse)
		clause("minimum on", d.MinimumOn)
		clause("minimum off", d.MinimumOff)
	case *Bands:
		clause("delay", d.For)
	case *Loop:
		clause("integral", d.Integral)
		clause("derivative", d.Derivative)
		clause("worked out every", d.Every)
	case *Message:
		clause("every", d.Every)
	}
	return all
}

// SayDelay is a delay in words: "on-delay Blower start delay (45 s)".
func (j *Job) SayDelay(d Delay) string {
	return d.What + " " + (&teller{Job: j}).sayDuration(d.Duration)
}

// Calls are the outputs that a declaration calls.
func Calls(d Declaration) []*Call {
	switch d := d.(type) {
	case *Rule:
		return d.Calls()
	case *Bands:
		return d.Calls()
	case *Follow:
		return d.Calls()
	case *Loop:
		return d.Calls()
	case *Alarm:
		return d.Outputs()
	}
	return nil
}
