package modbus

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"rectura/core/unit"
	"rectura/service/device"
)

// How a lost device is tried again, and when an engine counts as silent.
const (
	firstPause  = time.Second
	lastPause   = 30 * time.Second
	tick        = time.Second
	silentTicks = 5
)

// A Driver has a line and the devices behind it.
type Driver struct {
	line  *Line
	units []*behind
	log   *slog.Logger

	mu     sync.Mutex
	orders []device.Write // in the order in which they came, one a point
	beats  map[string]bool
	anew   bool
	held   []device.Write
	heard  bool // the engine has said something since the last tick
	woken  chan struct{}
}

// behind is a device behind the line, as its driver's goroutine sees it.
type behind struct {
	*Device
	connection int
	connected  bool
	tried      bool          // once at least
	pause      time.Duration // until it is tried again
	retry      time.Time
	polls      []poll
	outputs    map[string]*output
	beat       *Wire
	beating    bool // what the heartbeat was written to
}

type poll struct {
	Request
	due time.Time
}

// An output as its driver knows it.
type output struct {
	wire      *Wire
	want      float64 // what it was last ordered to have
	wanted    bool
	confirmed float64 // what a write was last confirmed with, on this connection
	known     bool
	pending   bool   // it is to be written, with the next poll
	again     bool   // it was found otherwise, and written once more
	refused   string // what the device says to the last write, that was not taken
	refusals  int    // since it last took one
	differs   string
	written   time.Time
}

// NewDrivers gives one for each connection that the devices of a job need: devices at one address share it.
func NewDrivers(devices []*Device, to *slog.Logger) ([]*Driver, error) {
	var all []*Driver
	at := map[string]*Driver{}
	longest := map[string]time.Duration{}
	for _, d := range devices {
		longest[d.Address] = max(longest[d.Address], d.Timeout)
	}
	for _, d := range devices {
		x := at[d.Address]
		if x == nil {
			shared := *d
			shared.Timeout = longest[d.Address]
			line, err := NewLine(&shared, slog.NewLogLogger(to.Handler(), slog.LevelDebug))
			if err != nil {
				return nil, err
			}
			x = &Driver{line: line, log: to, beats: map[string]bool{}, woken: make(chan struct{}, 1)}
			at[d.Address] = x
			all = append(all, x)
		}
		b := &behind{Device: d, pause: firstPause, outputs: map[string]*output{}}
		for _, r := range d.Requests() {
			b.polls = append(b.polls, poll{Request: r})
		}
		for i := range d.Wires {
			switch w := &d.Wires[i]; {
			case w.Heartbeat:
				b.beat = w
			case w.Driven:
				b.outputs[w.Point] = &output{wire: w}
			}
		}
		x.units = append(x.units, b)
	}
	return all, nil
}

// Devices are those behind the line.
func (x *Driver) Devices() []device.Device {
	var all []device.Device
	for _, b := range x.units {
		d := device.Device{Name: b.Name, Timeout: int64(b.Timeout)}
		for _, w := range b.Wires {
			if w.Heartbeat {
				d.Heartbeat = int64(w.Every)
				continue
			}
			d.Points = append(d.Points, device.Point{Name: w.Point, Driven: w.Driven, Every: int64(w.Every), Again: int64(w.Refresh)})
		}
		all = append(all, d)
	}
	return all
}

// Same compares two values of a point as the words that they are.
func (x *Driver) Same(point string, a, b float64) bool {
	for _, u := range x.units {
		if o := u.outputs[point]; o != nil {
			return o.wire.same(a, b)
		}
	}
	return a == b
}

// same tells whether two values are the same where the wire stands.
func (w *Wire) same(a, b float64) bool {
	if w.Type == "bool" {
		return (a != 0) == (b != 0)
	}
	x, err := w.words(a)
	y, other := w.words(b)
	return err == nil && other == nil && slices.Equal(x, y)
}

// Order takes what the engine wants.
func (x *Driver) Order(o device.Order) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if o.Anew {
		x.anew, x.orders = true, nil
	}
	for _, w := range o.Writes {
		x.orders = slices.DeleteFunc(x.orders, func(old device.Write) bool { return old.Point == w.Point })
		x.orders = append(x.orders, w)
	}
	for _, name := range o.Beats {
		x.beats[name] = true
	}
	x.held, x.heard = o.Held, true
	select {
	case x.woken <- struct{}{}:
	default: // it is awake
	}
}

// taken gives what was ordered since it was last asked.
func (x *Driver) taken() (writes []device.Write, beats map[string]bool, anew bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	writes, beats, anew = x.orders, x.beats, x.anew
	x.orders, x.beats, x.anew = nil, map[string]bool{}, false
	return writes, beats, anew
}

// silent counts the ticks at which nothing was heard of the engine, and gives what is to be written once they are too
// many. They are counted, not measured: a process that has slept does not take that for silence.
func (x *Driver) silent(ticks *int) []device.Write {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.heard || len(x.held) == 0 {
		x.heard, *ticks = false, 0
		return nil
	}
	if *ticks++; *ticks != silentTicks {
		return nil
	}
	return x.held
}

// Run reads and writes until the context ends.
func (x *Driver) Run(ctx context.Context, report func(device.Report)) {
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	wait := time.NewTimer(0)
	defer wait.Stop()
	ticks := 0
	for {
		writes, beats, anew := x.taken()
		for _, b := range x.units {
			if anew {
				b.connected, b.retry, b.pause = false, time.Time{}, firstPause
			}
		}
		x.put(writes, report)
		for _, b := range x.units {
			if beats[b.Name] && b.connected && b.beat != nil {
				x.toggle(b, report)
			}
		}
		wait.Reset(time.Until(x.read(report)))
		select {
		case <-ctx.Done():
			if err := x.line.Close(); err != nil {
				x.log.Debug("a line is closed", slog.Any("error", err))
			}
			return
		case <-ticker.C:
			if writes := x.silent(&ticks); writes != nil {
				x.log.Error("the engine is silent: outputs are written to what they fail to", slog.String("device", x.units[0].Name))
				for i := range writes { // whatever it knew of the connection
					writes[i].Connection = 0
				}
				x.put(writes, report)
			}
		case <-x.woken:
		case <-wait.C:
		}
	}
}

// read makes the requests that are due, one device after the other, and gives the time of the next.
func (x *Driver) read(report func(device.Report)) (next time.Time) {
	now := time.Now()
	next = now.Add(lastPause)
	for _, b := range x.units {
		switch {
		case !b.connected && now.Before(b.retry):
			next = earlier(next, b.retry)
			continue
		case !b.connected:
			x.connect(b, report)
		default:
			for i := range b.polls {
				if p := &b.polls[i]; b.connected && !p.due.After(now) {
					x.poll(b, p, report)
				}
			}
		}
		if !b.connected {
			next = earlier(next, b.retry)
			continue
		}
		for _, p := range b.polls {
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

// connect reads everything of a device that has not answered so far.
func (x *Driver) connect(b *behind, report func(device.Report)) {
	r := device.Report{Device: b.Name, Began: true}
	x.line.name, x.line.once = b.Name, b.tried
	defer func() { x.line.once = false }()
	for _, o := range b.outputs {
		*o = output{wire: o.wire} // the engine says anew what it is to have
	}
	for i := range b.polls {
		readings, err := x.line.Read(b.Device, b.polls[i].Request)
		if err != nil {
			x.lose(b, err, report)
			return
		}
		r.Readings = append(r.Readings, b.take(readings)...)
		b.polls[i].due = time.Now().Add(b.polls[i].Every)
	}
	b.connected, b.tried, b.pause = true, true, firstPause
	b.connection++
	r.Connection = b.connection
	report(r)
}

// poll makes one request.
func (x *Driver) poll(b *behind, p *poll, report func(device.Report)) {
	x.line.name = b.Name
	readings, err := x.line.Read(b.Device, p.Request)
	now := time.Now()
	if p.due = p.due.Add(p.Every); p.due.Before(now) { // what was missed is not made up for
		p.due = now.Add(p.Every)
	}
	if err != nil {
		x.lose(b, err, report)
		return
	}
	report(device.Report{Device: b.Name, Connection: b.connection, Readings: b.take(readings)})
	var writes []device.Write
	for _, o := range b.outputs {
		if o.pending && slices.Contains(p.Points, o.wire.Point) ||
			o.wanted && o.wire.Refresh > 0 && now.Sub(o.written) >= o.wire.Refresh {
			writes = append(writes, device.Write{Device: b.Name, Connection: b.connection, Point: o.wire.Point, Value: o.want})
		}
	}
	slices.SortFunc(writes, func(a, b device.Write) int {
		return cmp.Or(cmp.Compare(onlyIf(a.Value != 0), onlyIf(b.Value != 0)), cmp.Compare(a.Point, b.Point))
	})
	x.write(writes, report)
}

func onlyIf(on bool) int {
	if on {
		return 1
	}
	return 0
}

// take compares what outputs are read back as with the last write that was confirmed before. One that is found otherwise
// is written once more with the next poll; if it stays so, that is told, and it is left alone.
func (b *behind) take(readings []Reading) []device.Reading {
	all := make([]device.Reading, len(readings))
	for i, r := range readings {
		all[i] = device.Reading{Point: r.Point, Value: r.Value, Fault: r.Fault}
		o := b.outputs[r.Point]
		if o == nil {
			continue
		}
		switch {
		case r.Fault != "":
		case !o.known || o.pending && o.refused == "":
		case o.wire.same(r.Value, o.confirmed):
			o.again, o.differs = false, ""
		case !o.again:
			o.again, o.pending = true, true
		case o.differs == "":
			o.differs = fmt.Sprintf(
				"%s %s %d reads %s where %s was written",
				b.Name,
				r.Table,
				r.Address,
				o.text(r.Value),
				o.text(o.confirmed),
			)
		}
		if all[i].Differs = o.differs; o.refusals > 1 {
			all[i].Differs = o.refused
		}
	}
	return all
}

// text is a value as the plant has it.
func (o *output) text(v float64) string {
	switch {
	case o.wire.Type != "bool":
		return unit.Short(v)
	case v != 0:
		return "1"
	}
	return "0"
}

// put takes orders and writes them, each device's on its present connection.
func (x *Driver) put(writes []device.Write, report func(device.Report)) {
	writes = slices.DeleteFunc(writes, func(w device.Write) bool {
		b := x.unit(w.Device)
		return b == nil || !b.connected || w.Connection != 0 && w.Connection != b.connection || b.outputs[w.Point] == nil
	})
	for _, w := range writes {
		o := x.unit(w.Device).outputs[w.Point]
		o.want, o.wanted, o.again, o.pending = w.Value, true, false, true
	}
	x.write(writes, report)
}

func (x *Driver) unit(name string) *behind {
	for _, b := range x.units {
		if b.Name == name {
			return b
		}
	}
	return nil
}

// write writes, one request an output, and tells what came of it. What a device refuses is tried again with each poll.
func (x *Driver) write(writes []device.Write, report func(device.Report)) {
	for _, w := range writes {
		b := x.unit(w.Device)
		if !b.connected {
			continue // it was lost meanwhile
		}
		o := b.outputs[w.Point]
		x.line.name = b.Name
		err := x.line.Write(b.Device, o.wire, w.Value)
		if errors.Is(err, ErrNoAnswer) {
			x.lose(b, err, report)
			continue
		}
		became := device.Written{Point: w.Point, Value: w.Value}
		if err != nil {
			o.refused, became.Fault = err.Error(), err.Error()
			o.refusals++
		} else {
			o.refused, o.refusals, o.differs, o.pending = "", 0, "", false
			o.confirmed, o.known, o.written = w.Value, true, time.Now()
		}
		report(device.Report{Device: b.Name, Connection: b.connection, Written: []device.Written{became}})
	}
}

// toggle gives a device its heartbeat.
func (x *Driver) toggle(b *behind, report func(device.Report)) {
	x.line.name = b.Name
	b.beating = !b.beating
	value := 0.0
	if b.beating {
		value = 1
	}
	w := *b.beat
	if w.Registers() {
		w.Type, w.Bit = "uint", -1
	}
	switch err := x.line.Write(b.Device, &w, value); {
	case errors.Is(err, ErrNoAnswer):
		x.lose(b, err, report)
	case err != nil:
		x.log.Warn("a heartbeat is refused", slog.String("device", b.Name), slog.Any("error", err))
	}
}

// lose has a device tried again after a pause, each time a longer one.
func (x *Driver) lose(b *behind, err error, report func(device.Report)) {
	now := time.Now()
	first := b.connected || !b.tried || b.retry.IsZero()
	if !first {
		b.pause = min(2*b.pause, lastPause)
	}
	if b.connected {
		b.pause = firstPause
	}
	b.connected, b.tried = false, true
	b.retry = now.Add(b.pause)
	for i := range b.polls {
		b.polls[i].due = time.Time{}
	}
	x.log.Debug("a device does not answer", slog.String("device", b.Name), slog.Any("error", err))
	if first {
		report(device.Report{Device: b.Name, Connection: b.connection, Lost: fmt.Sprintf("%s does not answer", b.Name)})
	}
}
