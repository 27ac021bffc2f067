package live

import (
	"context"
	"fmt"
	"hash/fnv"
	"log/slog"
	"slices"
	"strings"
	"sync"

	"rectura/service/device"
)

// Leases are the places in devices that the jobs of a service write, and the serial lines that they talk on. No two jobs hold one
// place, nor do two services of one machine. Its methods, and those of its leases, may be called concurrently; none waits for I/O
// but Of.
type Leases struct {
	mu   sync.Mutex
	all  map[*Lease]bool
	file leaseFile
	log  *slog.Logger
}

// mostLines is the largest number of connections of one job. Each is a descriptor and a goroutine of the process that runs all plants.
const mostLines = 128

// mayReach refuses a revision that talks to a place that the operator has not allowed, or to too many.
func mayReach(ctx context.Context, drivers []device.Driver, allowed *device.Allowed) error {
	if len(drivers) > mostLines {
		return refuse("its devices are at %d addresses, and a job may have %d; divide it into several jobs", len(drivers), mostLines)
	}
	for _, d := range drivers {
		if err := mayBeAt(d.Transports(ctx), allowed); err != nil {
			return err
		}
	}
	return nil
}

func mayBeAt(transports []string, allowed *device.Allowed) error {
	if allowed == nil {
		return nil
	}
	if where := allowed.Refuses(transports); where != "" {
		return refuse("a device is at %s, and this service may have devices at %s only; start it with --device %s and with --device for each of "+
			"those that are needed", where, allowed, where)
	}
	return nil
}

// NewLeases returns the leases of a service. If the machine has no folder in which services find each other's, a line in the log says
// so.
func NewLeases(log *slog.Logger) *Leases {
	l := &Leases{all: map[*Lease]bool{}, log: log}
	var err error
	if l.file, err = openLeaseFile(); err != nil {
		log.Warn("another service on this machine would not see what this one drives", slog.Any("error", err))
	}
	return l
}

// Close gives back what is left.
func (l *Leases) Close() error { return l.file.close() }

// A Lease is what one revision of a job may write. A nil Lease lets everything be written, for tests.
type Lease struct {
	of  *Leases
	job string
	can []leasable // all places that the revision writes
	has []leasable
}

// A leasable is a place that can be held, or a whole line.
type leasable struct {
	transports []string
	device     string
	line       bool // of a serial line: whoever listens on it
	device.Claim
}

// Of returns the lease of a revision of a job. It holds nothing yet. Of resolves the addresses of the devices until ctx ends, and
// refuses a revision with two points at one place.
func (l *Leases) Of(ctx context.Context, job string, drivers []device.Driver) (*Lease, error) {
	x := &Lease{of: l, job: job}
	made, err := fit(drivers)
	if err != nil {
		return nil, err
	}
	for _, d := range made {
		transports := d.Transports(ctx)
		if slices.ContainsFunc(transports, func(t string) bool { return strings.HasPrefix(t, "serial ") }) {
			x.can = append(x.can, leasable{transports: transports, line: true, Claim: device.Claim{Where: "the line " + d.Line(), Unit: -1}})
		}
		for _, of := range d.made {
			for _, c := range of.Claims {
				x.can = append(x.can, leasable{transports, of.Name, false, c})
			}
		}
	}
	for i := range x.can {
		for k := range x.can[:i] {
			if x.can[i].overlaps(&x.can[k]) {
				return nil, refuse("%s and %s are one place: %s is %s; wire one of them elsewhere", x.can[k].what(), x.can[i].what(), x.can[k].Where,
					x.can[i].Where)
			}
		}
	}
	return x, nil
}

func (x *leasable) what() string {
	if x.Point == "" {
		return "the heartbeat of " + x.device
	}
	return x.Point
}

func (x *leasable) overlaps(y *leasable) bool {
	return slices.ContainsFunc(x.transports, func(t string) bool { return slices.Contains(y.transports, t) }) && x.Overlaps(&y.Claim)
}

// Listen takes the serial lines that the revision talks on: two jobs on one would disturb each other.
func (x *Lease) Listen() error {
	if x == nil {
		return nil
	}
	return x.take(func(c *leasable) bool { return c.line })
}

// Take holds what the revision writes at some points, and the heartbeats of their devices; nil for all of it. What it holds besides
// stays. It refuses, and changes nothing, if another job holds part of that.
func (x *Lease) Take(points func(point string) bool) error {
	if x == nil {
		return nil
	}
	return x.take(x.chosen(points))
}

// Keep gives back everything but what the revision writes at some points.
func (x *Lease) Keep(points func(point string) bool) {
	if x == nil || len(x.can) == 0 {
		return
	}
	x.of.mu.Lock()
	defer x.of.mu.Unlock()
	chosen := x.chosen(points)
	left := slices.DeleteFunc(slices.Clone(x.has), func(c leasable) bool { return !chosen(&c) })
	if len(left) != len(x.has) {
		x.hold(left)
	}
}

// Release gives everything back.
func (x *Lease) Release() {
	if x == nil {
		return
	}
	x.of.mu.Lock()
	defer x.of.mu.Unlock()
	x.hold(nil)
	delete(x.of.all, x)
}

func (x *Lease) chosen(points func(point string) bool) func(*leasable) bool {
	devices := map[string]bool{}
	for i := range x.can {
		if c := &x.can[i]; c.Point != "" && (points == nil || points(c.Point)) {
			devices[c.device] = true
		}
	}
	return func(c *leasable) bool {
		return c.line || points == nil || c.Point != "" && points(c.Point) || c.Point == "" && devices[c.device]
	}
}

func (x *Lease) take(which func(*leasable) bool) error {
	x.of.mu.Lock()
	defer x.of.mu.Unlock()
	wants := slices.Clone(x.has)
	for i := range x.can {
		c := &x.can[i]
		if !which(c) || slices.ContainsFunc(x.has, func(h leasable) bool { return h.Where == c.Where && h.line == c.line }) {
			continue
		}
		for other := range x.of.all {
			if other.job == x.job {
				continue
			}
			for k := range other.has {
				if h := &other.has[k]; c.overlaps(h) {
					return refuse("%s", x.disturbs(c, h, other.job))
				}
			}
		}
		if !x.of.file.lock(c) {
			x.hold(x.has)
			return refuse("%s is driven by another service on this machine; disarm it there first", c.Where)
		}
		wants = append(wants, *c)
	}
	x.of.all[x] = true
	x.hold(wants)
	return nil
}

func (x *Lease) disturbs(c, h *leasable, job string) string {
	if c.line && h.line {
		return fmt.Sprintf("the job %s talks on %s, where two would disturb each other; give all devices of that line to one job, or disarm %s",
			job, strings.TrimPrefix(h.Where, "the line "), job)
	}
	return fmt.Sprintf("%s is wired to %s, which %s of the job %s drives; disarm that, or wire one of them elsewhere", c.what(), c.Where, h.what(), job)
}

// hold makes some places the ones that are held. In the machine's file, what nobody of this service holds is given back.
func (x *Lease) hold(places []leasable) {
	before := append(x.has, x.can...)
	x.has = places
	for i := range before {
		if !x.of.held(&before[i]) {
			x.of.file.unlock(&before[i])
		}
	}
}

// held reports whether a job of this service holds part of a place.
func (l *Leases) held(c *leasable) bool {
	for x := range l.all {
		if slices.ContainsFunc(x.has, func(h leasable) bool { return h.overlaps(c) }) {
			return true
		}
	}
	return false
}

// unitsAt is the number of bytes of the machine's file for an address: one a unit.
const unitsAt = 256

// offsets returns where the place stands in the machine's file: a byte for the unit, in a block that a hash of transport, table and
// address gives. A place of every unit is the whole block.
func (x *leasable) offsets() (all []uint64) {
	for _, t := range x.transports {
		for a := x.First; a <= x.Last; a++ {
			h := fnv.New64a()
			_, _ = fmt.Fprintf(h, "%s %s %d %t", t, x.Table, a, x.line) // a hash takes everything
			all = append(all, h.Sum64()>>16*unitsAt+uint64(max(x.Unit, 0)))
		}
	}
	return all
}
