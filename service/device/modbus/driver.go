package modbus

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strconv"
	"sync"
	"time"

	"rectura/service/device"
)

// How a lost device is tried again, and when an engine counts as silent.
const (
	firstPause  = time.Second
	lastPause   = 30 * time.Second
	tick        = time.Second
	silentTicks = 5
)

// A Driver serves the devices at one address. Reads, writes and attempts at lost devices take turns on its line, so that none
// of the three keeps the others waiting for longer than one request takes.
type Driver struct {
	made []*Device // the devices it was made for
	dial Dialer
	log  *slog.Logger

	traffic traffic

	mu     sync.Mutex
	serves []*station // as of the last Serve
	served int        // how often Serve was called
	queue  []device.Write
	spared []device.Write // out of the queue: what the device has already
	beats  map[string]bool
	anew   map[string]bool
	held   []device.Write
	woken  chan struct{}

	// The driver's goroutine alone uses all below.

	line    *Line
	units   []*station
	serving int
	turn    kind
	rest    time.Time // no attempt at a lost device before
	report  func(device.Report)
}

// A kind of request that takes its turn on the line.
type kind int

const (
	toWrite kind = iota
	toRead
	toTry
	kinds
)

// A station is a device behind the line, as its driver's goroutine knows it.
type station struct {
	*Device
	name   string // with the prefix of its part
	polls  []*poll
	points map[string]*Wire // the outputs, by their names with the prefix
	names  map[*Wire]string
	beat   *Wire

	connection int
	connected  bool
	tried      bool             // at least once
	began      []device.Reading // read so far while it connects
	pause      time.Duration    // until it is tried again
	retry      time.Time
	beating    bool // the value last written to the heartbeat
	single     bool // it refuses requests that write several points
}

type poll struct {
	Request
	due  time.Time
	late time.Time // when it was last reported to be late
}

// NewDrivers returns a driver for each address at which the devices of a job are.
func NewDrivers(devices []*Device, to *slog.Logger) ([]*Driver, error) {
	return DriversOver(devices, nil, to)
}

// DriversOver returns drivers that reach their devices by a dialer.
func DriversOver(devices []*Device, dial Dialer, to *slog.Logger) ([]*Driver, error) {
	var all []*Driver
	at := map[string]*Driver{}
	for _, d := range devices {
		x := at[d.line()]
		if x == nil {
			x = &Driver{dial: dial, log: to, beats: map[string]bool{}, anew: map[string]bool{}, woken: make(chan struct{}, 1)}
			at[d.line()] = x
			all = append(all, x)
		}
		x.made = append(x.made, d)
	}
	for _, x := range all {
		if _, err := newLine(x.made[0], dial, nil); err != nil { // the driver's goroutine makes its own
			return nil, err
		}
	}
	return all, nil
}

// line identifies the connection that a device is reached by.
func (d *Device) line() string {
	if d.Serial {
		return fmt.Sprintf("%s %d %s", d.Address, d.Baud, d.Frame)
	}
	return d.Address
}

// Line identifies the driver's connection.
func (x *Driver) Line() string { return x.made[0].line() }

// Serve replaces what the driver serves. A device with the same unit keeps its connection.
func (x *Driver) Serve(parts ...device.Part) (serving int, can bool) {
	var units []*station
	for _, p := range parts {
		of, is := p.Of.(*Driver)
		if !is || of.Line() != x.Line() {
			return 0, false
		}
		for _, d := range of.made {
			if u := newStation(d, p); len(u.names) > 0 || u.beat != nil || p.Points == nil {
				units = append(units, u)
			}
		}
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	before, now := placesOf(x.serves), placesOf(units)
	x.queue = slices.DeleteFunc(x.queue, func(w device.Write) bool {
		name := w.Device + " " + w.Point
		return now[name] == "" || now[name] != before[name]
	})
	x.serves = units
	x.served++
	x.wake()
	return x.served, true
}

// placesOf returns where outputs stand.
func placesOf(units []*station) map[string]string {
	all := map[string]string{}
	for _, u := range units {
		for name, w := range u.points {
			all[u.name+" "+name] = w.key(u.Device)
		}
	}
	return all
}

func newStation(d *Device, p device.Part) *station {
	some := *d
	some.Wires = nil
	u := &station{Device: &some, name: p.Prefix + d.Name, pause: firstPause, points: map[string]*Wire{}, names: map[*Wire]string{}}
	for _, w := range d.Wires {
		if p.Points == nil || !w.Heartbeat && p.Points(w.Point) {
			some.Wires = append(some.Wires, w)
		}
	}
	for i := range some.Wires {
		w := &some.Wires[i]
		switch {
		case w.Heartbeat:
			u.beat = w
			continue
		case w.Driven:
			u.points[p.Prefix+w.Point] = w
		}
		u.names[w] = p.Prefix + w.Point
	}
	for _, r := range some.Requests() {
		u.polls = append(u.polls, &poll{Request: r})
	}
	return u
}

// Devices returns the devices that the driver serves.
func (x *Driver) Devices() []device.Device {
	x.mu.Lock()
	defer x.mu.Unlock()
	patience := int64(0)
	for _, u := range x.serves {
		patience += 2 * int64(u.Timeout)
	}
	all := make([]device.Device, len(x.serves))
	for i, u := range x.serves {
		all[i] = device.Device{Name: u.name, ID: strconv.Itoa(u.Unit), Patience: patience, Claims: u.claims()}
		for k := range u.Wires {
			w := &u.Wires[k]
			if w.Heartbeat {
				all[i].Heartbeat = int64(w.Every)
				continue
			}
			all[i].Points = append(all[i].Points, device.Point{Name: u.names[w], Driven: w.Driven, Every: int64(w.Every),
				Refresh: int64(w.Refresh), Place: fmt.Sprintf("%s %s", u.Name, w.place()), Key: w.key(u.Device), Same: w.same})
		}
	}
	return all
}

// same reports whether two values are one where the wire stands.
func (w *Wire) same(a, b float64) bool {
	if w.Type == "bool" {
		return (a != 0) == (b != 0)
	}
	x, err := w.words(a)
	y, other := w.words(b)
	return err == nil && other == nil && slices.Equal(x, y)
}

// Order takes over what the engine wants. The newest write of a point takes the place of an older one.
func (x *Driver) Order(o device.Order) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, name := range o.Anew {
		x.anew[name] = true
		x.queue = slices.DeleteFunc(x.queue, func(w device.Write) bool { return w.Device == name })
	}
	for _, w := range o.Writes {
		x.enqueue(w)
	}
	for _, name := range o.Beats {
		x.beats[name] = true
	}
	if o.Held != nil {
		x.held = *o.Held
	}
	x.wake()
}

func (x *Driver) enqueue(w device.Write) {
	if i := slices.IndexFunc(x.queue, func(old device.Write) bool { return old.Point == w.Point }); i >= 0 {
		old := x.queue[i]
		x.queue = slices.Delete(x.queue, i, i+1)
		if w.Had, w.Known = old.Had, old.Known; w.Known && w.Had == w.Value {
			x.spared = append(x.spared, w)
			return
		}
	}
	x.queue = append(x.queue, w)
}

// spare reports, of what the device has already, that it was taken: what was to change it was not sent yet.
func (x *Driver) spare() {
	x.mu.Lock()
	all := x.spared
	x.spared = nil
	x.mu.Unlock()
	for _, w := range all {
		if u := x.station(w.Device); u != nil && u.connected && (w.Connection == 0 || w.Connection == u.connection) {
			x.report(device.Report{Device: u.name, Connection: u.connection, Written: []device.Written{{Point: w.Point, Value: w.Value}}})
		}
	}
}

func (x *Driver) wake() {
	select {
	case x.woken <- struct{}{}:
	default: // it is awake
	}
}

// Run serves the line until ctx ends.
func (x *Driver) Run(ctx context.Context, report func(device.Report), passes func() int64) {
	x.report = func(r device.Report) {
		r.Serving = x.serving
		report(r)
	}
	x.units, x.serving, x.line = nil, 0, nil
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	wait := time.NewTimer(0)
	defer wait.Stop()
	defer x.hangUp()
	watch := silence{last: passes()}
	for ctx.Err() == nil {
		if err := x.adopt(); err != nil {
			x.log.Error("a line cannot be used", slog.Any("error", err))
			return
		}
		next := x.request()
		x.tellLate()
		wait.Reset(time.Until(next))
		select {
		case <-ctx.Done():
		case <-ticker.C:
			if watch.ticked(passes()) {
				x.hold(watch.ticks == silentTicks)
			}
		case <-x.woken:
		case <-wait.C:
		}
	}
}

func (x *Driver) hangUp() {
	if x.line == nil {
		return
	}
	if err := x.line.Close(); err != nil {
		x.log.Debug("a line is closed", slog.Any("error", err))
	}
}

// A silence counts the driver's ticks at which the engine had made no pass. It counts ticks and not time: a whole process that
// was stopped does not take that for an engine that hangs.
type silence struct {
	last  int64
	ticks int
}

// ticked reports whether the engine has been silent for too many ticks.
func (s *silence) ticked(passes int64) bool {
	if s.ticks++; passes != s.last {
		s.last, s.ticks = passes, 0
	}
	return s.ticks >= silentTicks
}

// adopt takes over what Serve has said since it was last called, and which devices are to be read anew.
func (x *Driver) adopt() error {
	x.mu.Lock()
	units, served, anew := x.serves, x.served, x.anew
	x.anew = map[string]bool{}
	x.mu.Unlock()
	if served != x.serving {
		if err := x.dialled(units); err != nil {
			return err
		}
		for _, u := range units {
			for _, old := range x.units {
				if old.Unit == u.Unit {
					u.connection, u.connected, u.tried, u.beating, u.single = old.connection, old.connected, old.tried, old.beating, old.single
					u.pause, u.retry = old.pause, old.retry
				}
			}
		}
		x.units, x.serving = units, served
		for _, u := range units { // the engine may not have taken over what happened last
			switch {
			case u.connected:
				for _, p := range u.polls {
					p.due = time.Now()
				}
				x.report(device.Report{Device: u.name, Connection: u.connection})
			case u.tried:
				x.report(device.Report{Device: u.name, Connection: u.connection, Lost: unanswered(u)})
			}
		}
	}
	for _, u := range x.units {
		if anew[u.name] {
			x.restart(u)
			u.tried, u.pause = false, firstPause
		}
	}
	return nil
}

// dialled makes a line whose time-out is the longest of its devices', unless there is one.
func (x *Driver) dialled(units []*station) error {
	if len(units) == 0 {
		return nil
	}
	shared := *units[0].Device
	for _, u := range units {
		shared.Timeout = max(shared.Timeout, u.Timeout)
	}
	if x.line != nil && x.line.timeout == shared.Timeout {
		return nil
	}
	x.hangUp()
	line, err := newLine(&shared, x.dial, slog.NewLogLogger(x.log.Handler(), slog.LevelDebug))
	if err != nil {
		return err
	}
	x.line, line.traffic = line, &x.traffic
	for _, u := range x.units {
		x.restart(u)
	}
	return nil
}

// restart has everything of a device read before anything else happens to it.
func (x *Driver) restart(u *station) {
	u.connected, u.retry, u.began, u.single = false, time.Time{}, nil, false
	for _, p := range u.polls {
		p.due = time.Time{}
	}
}

// request makes the next request that is due, if one is, and returns when to look again.
func (x *Driver) request() (next time.Time) {
	now := time.Now()
	for range kinds {
		x.turn = (x.turn + 1) % kinds
		switch x.turn {
		case toWrite:
			if x.write() {
				return now
			}
		case toRead:
			if u, p := x.nextPoll(now); p != nil {
				x.poll(u, p)
				return now
			}
		case toTry:
			if u := x.nextLost(now); u != nil {
				x.try(u)
				if took := time.Since(now); !u.connected {
					x.rest = time.Now().Add(took) // lost devices take half of the line's time, at most
				}
				return now
			}
		}
	}
	return x.nextDue(now)
}

// nextPoll returns the poll of a connected device that has been due for longest.
func (x *Driver) nextPoll(now time.Time) (of *station, first *poll) {
	for _, u := range x.units {
		if !u.connected {
			continue
		}
		for _, p := range u.polls {
			if !p.due.After(now) && (first == nil || p.due.Before(first.due)) {
				of, first = u, p
			}
		}
	}
	return of, first
}

// nextLost returns the device to be tried that has waited for longest, or one that is being connected.
func (x *Driver) nextLost(now time.Time) (first *station) {
	for _, u := range x.units {
		switch {
		case u.connected || u.retry.After(now):
		case u.began != nil:
			return u
		case x.rest.After(now):
		case first == nil || u.retry.Before(first.retry):
			first = u
		}
	}
	return first
}

func (x *Driver) nextDue(now time.Time) time.Time {
	next := now.Add(lastPause)
	for _, u := range x.units {
		if !u.connected {
			next = earlier(next, later(u.retry, x.rest))
			continue
		}
		for _, p := range u.polls {
			next = earlier(next, p.due)
		}
	}
	return next
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// tellLate reports the points that have been due for as long as their poll takes: the line is busy, and they are not silent.
func (x *Driver) tellLate() {
	now := time.Now()
	for _, u := range x.units {
		if !u.connected {
			continue
		}
		r := device.Report{Device: u.name, Connection: u.connection}
		for _, p := range u.polls {
			if since := later(p.due, p.late); now.Sub(since) < p.Every {
				continue
			}
			p.late = now
			for _, w := range u.wires(p) {
				r.Late = append(r.Late, u.names[w])
			}
		}
		if len(r.Late) > 0 {
			x.report(r)
		}
	}
}

// wires returns what a request reads.
func (u *station) wires(p *poll) (all []*Wire) {
	for i := range u.Wires {
		if w := &u.Wires[i]; p.reads(w) {
			all = append(all, w)
		}
	}
	return all
}

// try makes one request of a device that does not answer, or has just begun to. It is connected once all were answered.
func (x *Driver) try(u *station) {
	x.line.name, x.line.once = u.Name, u.tried && u.began == nil
	defer func() { x.line.once = false }()
	i := slices.IndexFunc(u.polls, func(p *poll) bool { return p.due.IsZero() })
	if i >= 0 {
		p := u.polls[i]
		readings, err := x.line.Read(u.Device, p.Request)
		gone := x.line.ended()
		if err != nil {
			x.lose(u, err, gone)
			return
		}
		if gone { // and with the connection what was read before
			for _, p := range u.polls {
				p.due = time.Time{}
			}
			u.began = nil
			x.reconnect(u)
		}
		u.began = append(u.began, u.take(readings)...)
		p.due = time.Now().Add(p.Every)
		if slices.ContainsFunc(u.polls, func(p *poll) bool { return p.due.IsZero() }) {
			return
		}
	}
	u.connection++
	x.report(device.Report{Device: u.name, Connection: u.connection, Began: true, Readings: u.began})
	u.connected, u.tried, u.began, u.pause = true, true, nil, firstPause
}

// reconnect has every device but one read anew, since whoever is at the other end has ended the connection.
func (x *Driver) reconnect(but *station) {
	for _, u := range x.units {
		if u != but && u.connected {
			x.restart(u)
		}
	}
}

// poll makes a request of a device that answers.
func (x *Driver) poll(u *station, p *poll) {
	x.line.name = u.Name
	readings, err := x.line.Read(u.Device, p.Request)
	now := time.Now()
	if p.due = p.due.Add(p.Every); p.due.Before(now) { // missed polls are not made up for
		p.due = now.Add(p.Every)
	}
	switch gone := x.line.ended(); {
	case err != nil:
		x.lose(u, err, gone)
	case gone:
		x.reconnect(nil)
	default:
		x.report(device.Report{Device: u.name, Connection: u.connection, Readings: u.take(readings)})
	}
}

func (u *station) take(readings []Reading) []device.Reading {
	all := make([]device.Reading, len(readings))
	for i, r := range readings {
		all[i] = device.Reading{Point: u.names[r.Wire], Value: r.Value, Fault: r.Fault}
	}
	return all
}

// write writes what is next in the queue, with its neighbours, or else toggles a heartbeat. It reports whether it did either.
func (x *Driver) write() bool {
	x.spare()
	u, some := x.nextWrites()
	if len(some) > 0 {
		x.put(u, some, false)
		return true
	}
	for _, u := range x.units {
		x.mu.Lock()
		due := x.beats[u.name] && u.connected && u.beat != nil
		delete(x.beats, u.name)
		x.mu.Unlock()
		if due {
			x.toggle(u)
			return true
		}
	}
	return false
}

// nextWrites takes a write out of the queue, one that turns off before all others, and those of its neighbours that one
// request can write with it. What was decided about another connection is dropped.
func (x *Driver) nextWrites() (u *station, some []device.Write) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.queue = slices.DeleteFunc(x.queue, func(w device.Write) bool {
		u := x.station(w.Device)
		return u == nil || !u.connected || w.Connection != 0 && w.Connection != u.connection || u.points[w.Point] == nil
	})
	if len(x.queue) == 0 {
		return nil, nil
	}
	first := x.queue[max(slices.IndexFunc(x.queue, func(w device.Write) bool { return w.Off }), 0)]
	u = x.station(first.Device)
	some = x.neighbours(u, first)
	x.queue = slices.DeleteFunc(x.queue, func(w device.Write) bool {
		return slices.ContainsFunc(some, func(s device.Write) bool { return s.Point == w.Point })
	})
	return u, some
}

// neighbours returns a write with those that lie next to it, in the order of their addresses.
func (x *Driver) neighbours(u *station, first device.Write) []device.Write {
	some := []device.Write{first}
	if u.single || !u.points[first.Point].joins() {
		return some
	}
	var all []device.Write
	for _, w := range x.queue {
		if at := u.points[w.Point]; w.Device == first.Device && w.Off == first.Off && at.joins() && at.Table == u.points[first.Point].Table {
			all = append(all, w)
		}
	}
	slices.SortFunc(all, func(a, b device.Write) int { return cmp.Compare(u.points[a.Point].Address, u.points[b.Point].Address) })
	from := slices.IndexFunc(all, func(w device.Write) bool { return w.Point == first.Point })
	to, size := from+1, u.points[first.Point].Size
	for ; to < len(all) && size < mostWritten && u.follows(all[to-1], all[to]); to++ {
		size += u.points[all[to].Point].Size
	}
	for ; from > 0 && size < mostWritten && u.follows(all[from-1], all[from]); from-- {
		size += u.points[all[from-1].Point].Size
	}
	return all[from:to]
}

// follows reports whether nothing lies between two points.
func (u *station) follows(a, b device.Write) bool {
	before := u.points[a.Point]
	return u.points[b.Point].Address == before.Address+before.Size
}

func (x *Driver) station(name string) *station {
	for _, u := range x.units {
		if u.name == name {
			return u
		}
	}
	return nil
}

// put writes to a device that answers, and reports what became of it. A device that refuses several points at once gets them
// one by one. After a write that nobody answers, what the device has is read at once: it may have taken the write, or not.
func (x *Driver) put(u *station, some []device.Write, held bool) {
	x.line.name = u.Name
	wires := make([]*Wire, len(some))
	values := make([]float64, len(some))
	for i, w := range some {
		wires[i], values[i] = u.points[w.Point], w.Value
	}
	var err error
	if len(some) > 1 {
		if err = x.line.WriteAll(u.Device, wires, values); exception(err) {
			u.single = u.single || errors.Is(err, errFunction)
			for i := range some {
				x.put(u, some[i:i+1], held)
			}
			return
		}
	} else {
		err = x.line.Write(u.Device, wires[0], values[0])
	}
	r := device.Report{Device: u.name, Connection: u.connection, Held: held}
	for _, w := range some {
		became := device.Written{Point: w.Point, Value: w.Value}
		if err != nil {
			became.Fault = err.Error()
		}
		r.Written = append(r.Written, became)
	}
	x.report(r)
	switch gone := x.line.ended(); {
	case gone:
		x.reconnect(nil)
	case errors.Is(err, ErrNoAnswer):
		for _, p := range u.polls {
			if slices.ContainsFunc(u.wires(p), func(w *Wire) bool { return w.Driven }) {
				p.due = time.Now()
			}
		}
	}
}

// hold writes what the engine said to hold, as far as it was not taken yet.
func (x *Driver) hold(first bool) {
	x.mu.Lock()
	if first {
		x.queue = nil
	}
	held := x.held
	x.mu.Unlock()
	if first && len(held) > 0 {
		x.log.Error("the engine makes no pass: outputs are written to their fail states", slog.String("line", x.Line()))
	}
	for _, w := range held {
		u := x.station(w.Device)
		if u == nil || !u.connected || u.points[w.Point] == nil {
			continue
		}
		if has, err := x.line.has(u.Device, u.points[w.Point]); err == nil && u.points[w.Point].same(has, w.Value) {
			continue
		}
		x.put(u, []device.Write{w}, true)
	}
}

// toggle gives a device its heartbeat.
func (x *Driver) toggle(u *station) {
	x.line.name = u.Name
	u.beating = !u.beating
	value := 0.0
	if u.beating {
		value = 1
	}
	w := *u.beat
	if w.Registers() {
		w.Type, w.Bit = "uint", -1
	}
	if err := x.line.Write(u.Device, &w, value); err != nil {
		x.log.Warn("a heartbeat was not taken", slog.String("device", u.Name), slog.Any("error", err))
	}
	if x.line.ended() {
		x.reconnect(nil)
	}
}

// lose has a device tried again after a pause, each time a longer one.
func (x *Driver) lose(u *station, err error, gone bool) {
	first := u.connected || !u.tried
	if !first {
		u.pause = min(2*u.pause, lastPause)
	} else {
		u.pause = firstPause
	}
	if gone {
		x.reconnect(u)
	}
	x.restart(u)
	u.tried, u.retry = true, time.Now().Add(u.pause)
	x.log.Debug("a device does not answer", slog.String("device", u.Name), slog.Any("error", err))
	if first {
		x.report(device.Report{Device: u.name, Connection: u.connection, Lost: unanswered(u)})
	}
}

func unanswered(u *station) string { return u.Name + " does not answer" }
