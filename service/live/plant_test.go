package live_test

import (
	"context"
	"fmt"
	"log/slog"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/device"
	"rectura/service/live"
	"rectura/service/store"
)

// A panel is a device in memory that reads, writes and misbehaves as it is told, with a log of what is written to it.
type panel struct {
	mu      sync.Mutex
	values  map[string]float64 // of its points
	every   time.Duration      // between two polls
	block   chan struct{}      // until it is closed, ordering hangs, as no driver's may
	lost    bool
	frozen  bool          // its driver hangs
	delay   time.Duration // before a report
	writes  []written
	beats   int
	refused map[string]string
	stuck   map[string]float64 // whatever is written
	blind   map[string]bool    // cannot be read

	device device.Device
	orders chan device.Order
	held   []device.Write
	start  time.Time
}

type written struct {
	at    time.Duration // since the panel was made
	point string
	value float64
}

func (w written) String() string { return fmt.Sprintf("%g %s=%g", w.at.Seconds(), w.point, w.value) }

func newPanel(p *logic.Program, name string) *panel {
	x := &panel{
		every:   500 * time.Millisecond,
		values:  map[string]float64{},
		refused: map[string]string{},
		orders:  make(chan device.Order, 10_000),
		start:   time.Now(),
		device:  device.Device{Name: name, Timeout: 1e9, Heartbeat: 1e9},
	}
	if d, is := p.Job.Lookup(name).(*sheet.Device); is && d.Poll != nil {
		x.every = time.Duration(p.Job.DurationValue(d.Poll.Duration))
	}
	for _, in := range p.Job.Inputs {
		if in.Source != nil && in.Source.Device.Name == name {
			x.device.Points = append(x.device.Points, device.Point{Name: in.Name, Every: int64(x.every)})
		}
	}
	for _, o := range p.Job.Outputs {
		if o.Drives != nil && o.Drives.Device.Name == name {
			x.device.Points = append(x.device.Points, device.Point{Name: o.Name, Driven: true, Every: int64(x.every)})
		}
	}
	return x
}

func (x *panel) Devices() []device.Device         { return []device.Device{x.device} }
func (x *panel) Same(_ string, a, b float64) bool { return math.Abs(a-b) < 1e-6 }
func (x *panel) Order(o device.Order) {
	x.mu.Lock()
	block := x.block
	x.mu.Unlock()
	if block != nil {
		<-block
	}
	x.orders <- o
}

func (x *panel) set(point string, v float64) { x.mu.Lock(); defer x.mu.Unlock(); x.values[point] = v }
func (x *panel) get(point string) float64    { x.mu.Lock(); defer x.mu.Unlock(); return x.values[point] }
func (x *panel) is(change func(x *panel))    { x.mu.Lock(); defer x.mu.Unlock(); change(x) }
func (x *panel) log() (all []written) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.writes)
}
func (x *panel) changed(since time.Duration) (all []string) {
	had := map[string]float64{}
	for _, w := range x.log() {
		if before, is := had[w.point]; (!is || before != w.value) && w.at >= since {
			all = append(all, w.String())
		}
		had[w.point] = w.value
	}
	return all
}

// changedTo are the writes that gave a point a value that it did not have.
func (x *panel) changedTo(since time.Duration, value float64) (all []string) {
	for _, w := range x.changed(since) {
		if strings.HasSuffix(w, fmt.Sprintf("=%g", value)) {
			all = append(all, w)
		}
	}
	return all
}

// Run polls, as a driver does.
func (x *panel) Run(ctx context.Context, report func(device.Report)) {
	connection, connected, known := 0, false, map[string]float64{}
	again, differs := map[string]bool{}, map[string]string{}
	poll := time.NewTicker(x.every)
	defer poll.Stop()
	write := func(w device.Write) {
		x.mu.Lock()
		fault := x.refused[w.Point]
		if fault == "" && !x.lost {
			x.values[w.Point] = w.Value
			if v, is := x.stuck[w.Point]; is {
				x.values[w.Point] = v
			}
			x.writes = append(x.writes, written{time.Since(x.start), w.Point, w.Value})
			known[w.Point] = w.Value
		}
		lost := x.lost
		x.mu.Unlock()
		if !lost {
			report(
				device.Report{
					Device:     x.device.Name,
					Connection: connection,
					Written:    []device.Written{{Point: w.Point, Value: w.Value, Fault: fault}},
				},
			)
		}
	}
	read := func() {
		x.mu.Lock()
		lost, frozen, delay := x.lost, x.frozen, x.delay
		r := device.Report{Device: x.device.Name, Connection: connection}
		for _, p := range x.device.Points {
			y := device.Reading{Point: p.Name, Value: x.values[p.Name]}
			if x.blind[p.Name] {
				r.Readings = append(r.Readings, device.Reading{Point: p.Name, Fault: "it cannot be read"})
				continue
			}
			if want, is := known[p.Name]; p.Driven && is {
				switch {
				case want == y.Value:
					again[p.Name], differs[p.Name] = false, ""
				case again[p.Name]:
					differs[p.Name] = "it reads otherwise"
				default:
					again[p.Name] = true
				}
				y.Differs = differs[p.Name]
			}
			r.Readings = append(r.Readings, y)
		}
		x.mu.Unlock()
		switch {
		case frozen:
			<-ctx.Done()
			return
		case lost && (connected || connection == 0):
			connected = false
			if connection == 0 {
				connection = 1
			}
			clear(known)
			report(device.Report{Device: x.device.Name, Lost: x.device.Name + " does not answer"})
			return
		case lost:
			return
		case !connected:
			connection++
			connected, r.Began, r.Connection = true, true, connection
			for i := range r.Readings {
				r.Readings[i].Differs = ""
			}
		}
		if delay > 0 {
			time.Sleep(delay)
		}
		report(r)
		for name, is := range again {
			if is && differs[name] == "" {
				write(device.Write{Point: name, Value: known[name]})
			}
		}
	}
	read()
	for {
		select {
		case <-ctx.Done():
			return
		case <-poll.C:
			read()
		case o := <-x.orders:
			if o.Anew {
				connected = false
				clear(known)
				read()
			}
			for _, w := range o.Writes {
				if connected && (w.Connection == 0 || w.Connection == connection) {
					write(w)
				}
			}
			x.is(func(x *panel) { x.beats += len(o.Beats); x.held = o.Held })
		}
	}
}

// A clock of a test can be set.
type clock struct {
	mu    sync.Mutex
	start time.Time
	set   time.Duration
	slept time.Duration
}

func newClock() *clock { return &clock{start: time.Now()} }

func (c *clock) Now() (wall, steady int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Add(c.set).UnixNano(), int64(time.Since(c.start)+c.slept) + 1
}
func (c *clock) Timer(d time.Duration) *time.Timer { return time.NewTimer(d) }
func (c *clock) Synchronised() (is, known bool)    { return c.set == 0, true }

// sleep has the machine sleep.
func (c *clock) sleep(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.set, c.slept = c.set+d, c.slept+d
}

func (c *clock) setBy(d time.Duration) { c.mu.Lock(); defer c.mu.Unlock(); c.set += d }

const tank = `job "Fry tank"
  settle 2 s
device rack modbus tcp "127.0.0.1:1502" unit 1
  poll 500 ms
  heartbeat coil 9 every 1 s
input oxygen
  source rack holding 0
  unit mg/L
  alarm when bad priority critical
input mains discrete
  source rack discrete 0
input button discrete
  source rack discrete 1
setpoint oxygen_low 6 mg/L
  allow 4..9 mg/L
constant band 0.5 mg/L
output blower
  drives rack coil 0
  called by any
  fail on
output feeder
  drives rack coil 1
  fail off
output beacon
  drives rack coil 2
  fail hold
rule low
  on when oxygen < oxygen_low hysteresis band for 45 s
  interlock unless mains
  call blower
rule latched
  on when button
  latch
  call beacon
rule feeding
  on when oxygen > 7 mg/L
  call feeder
`

func program(t require.TestingT, text string) (*logic.Program, []sheet.Source) {
	sources := []sheet.Source{{Name: "a.rct", Text: []byte(text)}}
	job, found := sheet.Parse(sources)
	require.False(t, sheet.HasErrors(found), "%v", found)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	return p, sources
}

// A plant is an engine over a panel, and the file that it keeps.
type plant struct {
	t       *testing.T
	p       *logic.Program
	sources []sheet.Source
	rack    *panel
	field   *panel // of jobs that have a second device
	clock   *clock
	file    *store.Plant
	folder  string
	engine  *live.Engine
	keeper  live.Keeper // nil for the file
	next    *panel      // of a revision that takes over
	other   *logic.Program
}

func newPlant(t *testing.T, text string) *plant {
	x := &plant{t: t, clock: newClock(), folder: t.TempDir()}
	x.p, x.sources = program(t, text)
	x.rack = newPanel(x.p, "rack")
	x.rack.is(func(r *panel) { r.values["oxygen"], r.values["mains"] = 7.5, 1 })
	if len(x.p.Job.Devices) > 1 {
		x.field = newPanel(x.p, x.p.Job.Devices[1].Name)
	}
	x.open()
	return x
}

func (x *plant) open() {
	var err error
	x.file, err = store.OpenPlant(context.Background(), filepath.Join(x.folder, "plant.db"), store.Options{})
	require.NoError(x.t, err)
}

func (x *plant) drivers() []device.Driver {
	if x.field != nil {
		return []device.Driver{x.rack, x.field}
	}
	return []device.Driver{x.rack}
}

// start starts the engine from what is kept.
func (x *plant) start() {
	ctx := context.Background()
	setup := live.Setup{Program: x.p, Clock: x.clock, Keeper: x.file, Drivers: x.drivers(), Log: slog.New(slog.DiscardHandler),
		Armed: store.Armed{Job: "fry", Mode: live.Listening, Revision: 1, Sources: x.sources}}
	if x.keeper != nil {
		setup.Keeper, x.keeper = x.keeper, nil
	}
	kept, err := x.file.Armed(ctx)
	require.NoError(x.t, err)
	if len(kept) > 0 {
		setup.Armed = kept[0]
		setup.Memory, err = x.file.Memory(ctx, "fry")
		require.NoError(x.t, err)
		setup.Bypasses, err = x.file.Bypasses(ctx, "fry")
		require.NoError(x.t, err)
		setup.Figures, err = x.file.Figures(ctx, "fry")
		require.NoError(x.t, err)
		setup.Restarts, err = live.Restarts(ctx, x.file, "fry")
		require.NoError(x.t, err)
	}
	x.engine, err = live.Start(ctx, setup)
	require.NoError(x.t, err)
}

func (x *plant) stop() {
	x.engine.Stop()
	require.NoError(x.t, x.file.Close())
}

func (x *plant) revision() *live.Revision {
	return &live.Revision{
		Number:  1,
		Program: x.p,
		Sources: x.sources,
		Drivers: func() ([]device.Driver, error) { return x.drivers(), nil },
	}
}

// arm arms the job, and gives what that moved.
func (x *plant) arm() []live.Move {
	plan, err := x.engine.Plan(context.Background(), x.revision())
	require.NoError(x.t, err)
	changed, kept, err := x.engine.Arm(context.Background(), x.revision(), live.Agreement{Plan: plan.Number, Who: "anna"})
	require.NoError(x.t, err)
	require.Nil(x.t, changed)
	require.True(x.t, kept)
	return plan.Moves
}

func (x *plant) do(q live.Request) live.Answer {
	a, err := x.engine.Do(context.Background(), q)
	require.NoError(x.t, err, "%+v", q)
	return a
}

func (x *plant) refuses(q live.Request, why string) {
	_, err := x.engine.Do(context.Background(), q)
	require.ErrorIs(x.t, err, live.ErrRefused)
	assert.EqualError(x.t, err, why)
}

func (x *plant) journal(kinds ...string) (all []string) {
	entries, err := x.file.Journal(context.Background(), "fry", store.JournalFilter{})
	require.NoError(x.t, err)
	for i, e := range entries {
		require.Equal(x.t, int64(i+1), e.Number, "numbers have no gap")
		if len(kinds) == 0 || slices.Contains(kinds, e.Kind) {
			all = append(all, strings.TrimSpace(fmt.Sprintf("%s %s→%s: %s", e.Name, e.From, e.To, e.Because)))
		}
	}
	return all
}

func (x *plant) point(name string) live.PointNow {
	all, err := x.engine.Points(context.Background())
	require.NoError(x.t, err)
	i := slices.IndexFunc(all, func(p live.PointNow) bool { return p.Name == name })
	require.GreaterOrEqual(x.t, i, 0)
	return all[i]
}

func TestFirstEvening(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := newPlant(t, tank)
		x.rack.set("blower", 1) // it runs, at 5 mg/L
		x.rack.set("oxygen", 5)
		x.start()
		time.Sleep(10 * time.Second)
		assert.Empty(t, x.rack.log(), "a job that listens writes nothing")
		assert.Equal(t, "on", x.point("blower").State)
		assert.Equal(t, "off", x.point("blower").Would)
		plan, err := x.engine.Plan(t.Context(), x.revision())
		require.NoError(t, err)
		assert.Equal(t, "a delay runs in what calls blower, which the plant has on", plan.Waiting)

		// One output at a time is proven by hand.
		a := x.do(live.Request{Do: "hand", Name: "beacon", Value: "on", Who: "anna"})
		assert.Equal(t, "on", a.State)
		x.refuses(
			live.Request{Do: "hand", Name: "feeder", Value: "on"},
			"the job listens and writes one output at a time; give beacon back first: auto beacon",
		)
		time.Sleep(2 * time.Second)
		assert.Equal(t, 1.0, x.rack.get("beacon"))
		x.do(live.Request{Do: "auto", Name: "beacon", Who: "anna"})
		time.Sleep(2 * time.Second)
		assert.Equal(t, 0.0, x.rack.get("beacon"), "it has back what it had")

		time.Sleep(40 * time.Second) // the on-delay has run out
		assert.Empty(t, x.arm(), "arming over a blower that runs moves nothing")
		time.Sleep(5 * time.Second)
		assert.Equal(t, "blower", x.point("blower").Name)
		for _, w := range x.rack.log() {
			assert.False(t, w.point == "blower" && w.value == 0, "it is never written off: %v", w)
		}
		x.rack.is(func(r *panel) { assert.Positive(t, r.beats) })

		x.rack.set("mains", 0)
		time.Sleep(time.Second)
		assert.Equal(t, 0.0, x.rack.get("blower"), "interlocked")
		a = x.do(live.Request{Do: "hand", Name: "blower", Value: "on", Who: "anna"})
		assert.Equal(t, "on", a.State, "a rule's interlock does not bind a person")
		x.do(live.Request{Do: "off", Name: "blower", Lock: "anna", Who: "anna"})
		time.Sleep(2 * time.Second)
		x.rack.is(func(r *panel) {
			assert.Contains(
				t,
				r.held,
				device.Write{Device: "rack", Connection: 1, Point: "blower", Value: 0},
				"nor does a lost engine start it",
			)
			assert.Contains(t, r.held, device.Write{Device: "rack", Connection: 1, Point: "feeder", Value: 0})
		})
		x.refuses(
			live.Request{Do: "auto", Name: "blower", Who: "ben"},
			"blower is kept off with the lock of anna, who gives it back; somebody else needs a reason",
		)
		x.do(live.Request{Do: "set", Name: "oxygen_low", Value: "6.5 mg/L", Who: "anna", Why: "warm nights"})
		x.refuses(
			live.Request{Do: "set", Name: "oxygen_low", Value: "20 mg/L"},
			"oxygen_low cannot be set to 20 mg/L; it is allowed from 4..9 mg/L",
		)
		x.refuses(
			live.Request{Do: "pin", Name: "rack", Value: "on", Why: "it is quieter so"},
			"rack says what becomes of the plant, and cannot be pinned",
		)
		x.refuses(
			live.Request{Do: "set", Name: "band", Value: "1 mg/L"},
			"band is a constant; it is changed in the sheet, by another revision",
		)
		assert.Equal(
			t,
			[]string{
				"idle→listening, revision 1:",
				"beacon auto→hand on:",
				"beacon hand on→auto:",
				"listening, revision 1→armed, revision 1:",
				"blower auto→hand on:",
				"blower hand on→off, with the lock anna:",
				"oxygen_low 6 mg/L→6.5 mg/L: warm nights",
			},
			x.journal("command"),
		)
		left, kept, err := x.engine.Disarm(t.Context(), live.ToFail, "anna", "")
		require.NoError(t, err)
		assert.True(t, kept)
		assert.Empty(t, left)
		assert.Equal(t, 0.0, x.rack.get("blower"), "no fail starts what a person keeps off: %v", x.rack.log())
		x.stop()
	})
}
