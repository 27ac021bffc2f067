package bench

// A Stop is asked now and then, while something is worked out, whether to go on.
// The error that it gives ends the work; a nil Stop lets it run to its end.
type Stop func() error

// between is how many small steps are done from one question to the next; they
// take a millisecond or so.
const between = 1024

// A patience counts steps, and asks its Stop between them.
type patience struct {
	stop  Stop
	steps int
}

func (p *patience) over() error {
	if p.steps++; p.steps%between != 0 || p.stop == nil {
		return nil
	}
	return p.stop()
}

// now asks at once, before a longer step.
func (s Stop) now() error {
	if s == nil {
		return nil
	}
	return s()
}
