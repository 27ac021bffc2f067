package modbus

import (
	"math"
	"slices"
	"sync"
	"time"

	"rectura/service/device"
)

// traffic counts the requests of a line, by unit. Its methods may be called concurrently.
type traffic struct {
	mu sync.Mutex
	of map[int]*counted
}

// counted is the traffic of one unit.
type counted struct {
	requests, timeOuts, exceptions int64

	took [256]time.Duration // of the last requests that were answered
	n    int
	last string // the last error
}

// count counts a request that began at a time. An exception is an answer.
func (t *traffic) count(unit int, began time.Time, err error) {
	if t == nil {
		return
	}
	took := time.Since(began)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.of == nil {
		t.of = map[int]*counted{}
	}
	c := t.of[unit]
	if c == nil {
		c = &counted{}
		t.of[unit] = c
	}
	c.requests++
	if err != nil {
		c.last = err.Error()
	}
	switch {
	case err == nil:
	case exception(err):
		c.exceptions++
	default:
		c.timeOuts++
		return
	}
	c.took[c.n%len(c.took)] = took
	c.n++
}

// sum returns the traffic of a unit.
func (t *traffic) sum(unit int) device.Traffic {
	t.mu.Lock()
	defer t.mu.Unlock()
	c := t.of[unit]
	if c == nil {
		return device.Traffic{}
	}
	v := device.Traffic{Requests: c.requests, TimeOuts: c.timeOuts, Exceptions: c.exceptions, LastError: c.last}
	if some := slices.Clone(c.took[:min(c.n, len(c.took))]); len(some) > 0 {
		slices.Sort(some)
		v.P99 = some[int(math.Ceil(0.99*float64(len(some))))-1].Seconds()
	}
	return v
}

// Traffic returns the traffic of the devices that the driver serves, by their names.
func (x *Driver) Traffic() map[string]device.Traffic {
	x.mu.Lock()
	serves := slices.Clone(x.serves)
	x.mu.Unlock()
	all := map[string]device.Traffic{}
	for _, u := range serves {
		all[u.name] = x.traffic.sum(u.Unit)
	}
	return all
}
