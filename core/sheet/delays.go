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
	switch d := d.(type) {
	case *Output: // whose minimum times are its own, and no part of what calls it
		return nil
	case *Rule:
		all = d.delays()
	case *Alarm:
		all = d.Rule.delays()
	}
	for _, r := range d.rows() {
		if r.delay == "" {
			continue
		}
		for _, duration := range r.durations() {
			all = append(all, Delay{r.delay, duration})
		}
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
