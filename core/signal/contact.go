package signal

import (
	"math"

	"rectura/core/memo"
)

// Contact is the running state of a discrete input.
type Contact struct {
	Inverted bool
	Debounce int64 // nanoseconds
	On       bool  // meaningless while Fault is not None
	Fault    Fault

	turning bool // it reads the other way, and has not done so for long enough
	since   int64
}

// Fields lists all that lasts.
func (c *Contact) Fields(f *memo.Fields) {
	f.Bool(1, &c.On)
	memo.One(f, 2, faults, &c.Fault)
	f.Bool(3, &c.turning)
	f.Time(4, &c.since)
}

// Forget makes the contact one that has not been read yet.
func (c *Contact) Forget() { *c = NewContact(c.Inverted, c.Debounce) }

// NewContact gives a contact that has not been read yet.
func NewContact(inverted bool, debounce int64) Contact {
	return Contact{Inverted: inverted, Debounce: debounce, Fault: NotRead}
}

// Read takes a reading: 0 is an open circuit, NaN and infinities are bad,
// anything else is a closed one. It tells whether the state or the quality is
// another one now. The first good reading counts at once, a change once it has
// lasted for the debounce.
func (c *Contact) Read(t int64, reading float64) (changed bool) {
	fault, on := c.Fault, c.On
	switch {
	case math.IsNaN(reading):
		c.Fault, c.turning = Reported, false
	case math.IsInf(reading, 0):
		c.Fault, c.turning = Infinite, false
	default:
		now := (reading != 0) != c.Inverted
		switch {
		case c.Fault != None || c.Debounce <= 0:
			c.Fault, c.On, c.turning = None, now, false
		case now == c.On:
			c.turning = false
		case !c.turning:
			c.turning, c.since = true, t
		}
		c.Tick(t)
	}
	return c.Fault != fault || c.On != on
}

// Tick looks at the contact at a time at which no reading came.
func (c *Contact) Tick(t int64) (changed bool) {
	if !c.turning || t-c.since < c.Debounce {
		return false
	}
	c.On, c.turning = !c.On, false
	return true
}

// Due is when a change will have lasted; Never if none is under way.
func (c *Contact) Due() int64 {
	if !c.turning {
		return Never
	}
	return later(c.since, c.Debounce)
}

// Explain says in words why a contact is bad; nothing if it is not.
func (c *Contact) Explain() string { return explainPlain(c.Fault) }
