package live_test

import (
	"cmp"
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
	"rectura/service/device/modbus"
	"rectura/service/device/simulated"
	"rectura/service/live"
	"rectura/service/store"
)

// A clock of a test can be set, and can have the machine sleep, the process be stopped, and whoever asks it hang.
type clock struct {
	mu      sync.Mutex
	start   time.Time
	set     time.Duration
	slept   time.Duration
	stopped time.Duration
	hangs   chan struct{}
}

func newClock() *clock { return &clock{start: time.Now()} }

func (c *clock) Now() (wall, steady int64) {
	c.mu.Lock()
	hangs := c.hangs
	c.mu.Unlock()
	if hangs != nil {
		<-hangs
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Add(c.set).UnixNano(), int64(time.Since(c.start)+c.slept) + 1
}

func (c *clock) Stopped() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return int64(c.stopped)
}

func (c *clock) Timer(d time.Duration) *time.Timer { return time.NewTimer(d) }
func (c *clock) Synchronised() (is, known bool)    { return c.set == 0, true }

// sleep has the machine sleep: nothing runs meanwhile, and both clocks go on.
func (c *clock) sleep(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.set, c.slept, c.stopped = c.set+d, c.slept+d, c.stopped+d
}

func (c *clock) setBy(d time.Duration) { c.mu.Lock(); defer c.mu.Unlock(); c.set += d }

// hang has whoever asks the time hang, until it is called again.
func (c *clock) hang(on bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if on {
		c.hangs = make(chan struct{})
		return
	}
	close(c.hangs)
	c.hangs = nil
}

const tank = `job "Fry tank"
  settle 2 s
device rack modbus tcp "127.0.0.1:1502" unit 1
  poll 500 ms
  heartbeat coil 9 every 1 s
input oxygen
  source rack input 0 real
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
	_, p, found := logic.Check(sources)
	require.NotNil(t, p, "%v\n%s", found, text)
	return p, sources
}

// A plant is an engine over racks in memory, reached by the driver of real ones, and the file that it keeps.
type plant struct {
	t       *testing.T
	p       *logic.Program // of the revision in force, as far as the test says
	sources []sheet.Source
	banks   map[string]*simulated.Bank // by address
	ports   map[string]*simulated.Port
	clock   *clock
	begun   time.Time
	file    *store.Plant
	folder  string
	engine  *live.Engine
	leases  *live.Leases
	keeper  live.Keeper // nil for the file
	other   *logic.Program
	spoil   bool // the memory cannot be read at the next start, though it is as it was kept
}

// job is the number of the job of all plants.
const job = 7

func newPlant(t *testing.T, text string) *plant {
	x := &plant{t: t, clock: newClock(), folder: t.TempDir(), begun: time.Now(), banks: map[string]*simulated.Bank{},
		ports: map[string]*simulated.Port{}}
	x.p, x.sources = program(t, text)
	if len(x.p.Job.Devices) > 0 {
		x.rack()
	}
	for _, name := range []string{"oxygen", "mains"} {
		if x.p.Job.Input(name) != nil {
			x.set(name, map[string]float64{"oxygen": 7.5, "mains": 1}[name])
		}
	}
	x.open()
	t.Cleanup(x.stop)
	return x
}

// at returns the rack at an address, which it makes.
func (x *plant) at(address string) (*simulated.Port, *simulated.Bank) {
	if x.banks[address] == nil {
		x.banks[address] = simulated.NewBank()
		x.ports[address] = simulated.NewPort(x.banks[address])
		x.ports[address].Take(2 * time.Millisecond)
	}
	return x.ports[address], x.banks[address]
}

// rack is the first device of the job, field the second.
func (x *plant) rack() *simulated.Port { p, _ := x.at(x.p.Job.Devices[0].Address); return p }

func (x *plant) bank() *simulated.Bank { _, b := x.at(x.p.Job.Devices[0].Address); return b }

func (x *plant) field() *simulated.Port { p, _ := x.at(x.p.Job.Devices[1].Address); return p }

// wire finds where a point stands.
func (x *plant) wire(name string) (*simulated.Bank, *modbus.Wire) {
	for _, d := range modbus.Devices(x.p) {
		for i := range d.Wires {
			if w := &d.Wires[i]; w.Point == name && !w.Heartbeat {
				_, b := x.at(d.Address)
				return b, w
			}
		}
	}
	require.Fail(x.t, "nothing is wired as "+name)
	return nil, nil
}

// set gives a point a value, as the plant or another master does.
func (x *plant) set(name string, v float64) {
	b, w := x.wire(name)
	switch {
	case !w.Registers():
		b.SetBit(w.Table, w.Address, v != 0)
	case w.Type == "real":
		bits := math.Float32bits(float32(v))
		b.SetWords(w.Table, w.Address, uint16(bits>>16), uint16(bits))
	default:
		b.SetWords(w.Table, w.Address, uint16(int(v)))
	}
}

func (x *plant) get(name string) float64 {
	b, w := x.wire(name)
	switch {
	case w.Registers() && w.Type == "real":
		return float64(math.Float32frombits(uint32(b.Word(w.Table, w.Address))<<16 | uint32(b.Word(w.Table, w.Address+1))))
	case w.Registers():
		return float64(b.Word(w.Table, w.Address))
	case b.Bit(w.Table, w.Address):
		return 1
	}
	return 0
}

// refuse has the rack answer writes of a point, or all that is about it, with an exception; nil takes that back.
func (x *plant) refuse(name string, reads bool, exception error) {
	b, w := x.wire(name)
	if reads {
		b.Refuse(w.Table, w.Address, exception)
	} else {
		b.RefuseWrites(w.Table, w.Address, exception)
	}
}

type written struct {
	at      time.Duration // since the plant was made
	point   string        // or the place, if no point is wired there
	address string
	value   float64
}

func (w written) String() string { return fmt.Sprintf("%g %s=%g", w.at.Seconds(), w.point, w.value) }

// log returns what was written to the racks, heartbeats left out, in the order in which it was.
func (x *plant) log() (all []written) {
	names := map[string]string{}
	beats := map[string]bool{}
	for _, d := range modbus.Devices(x.p) {
		for _, w := range d.Wires {
			place := fmt.Sprintf("%s %s %d", d.Address, w.Table, w.Address)
			if names[place] = w.Point; w.Heartbeat {
				beats[place] = true
			}
		}
	}
	for address, b := range x.banks {
		for _, w := range b.Writes() {
			place := fmt.Sprintf("%s %s %d", address, w.Table, w.Address)
			if !beats[place] {
				all = append(all, written{w.At.Sub(x.begun), cmp.Or(names[place], fmt.Sprintf("%s %d", w.Table, w.Address)), address, float64(w.Value)})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b written) int { return cmp.Compare(a.at, b.at) })
	return all
}

// beats returns the number of writes of the heartbeat.
func (x *plant) beats() (n int) {
	for _, w := range x.bank().Writes() {
		if w.Table == "coil" && w.Address == 9 {
			n++
		}
	}
	return n
}

// since is the time since the plant was made.
func (x *plant) since() time.Duration { return time.Since(x.begun) }

// written returns what was written from a time on.
func (x *plant) written(since time.Duration) (all []string) {
	for _, w := range x.log() {
		if w.at >= since {
			all = append(all, w.String())
		}
	}
	return all
}

// writtenAs returns the writes of a value from a time on.
func (x *plant) writtenAs(since time.Duration, value float64) (all []string) {
	for _, w := range x.log() {
		if w.at >= since && w.value == value {
			all = append(all, w.String())
		}
	}
	return all
}

func (x *plant) open() {
	var err error
	x.file, err = store.OpenPlant(context.Background(), filepath.Join(x.folder, "plant.db"), store.PlantOptions{})
	require.NoError(x.t, err)
}

// drivers makes those of a program, over the racks in memory.
func (x *plant) drivers(p *logic.Program) []device.Driver {
	made, err := modbus.DriversOver(modbus.Devices(p), func(d *modbus.Device, timeout time.Duration) modbus.Client {
		port, _ := x.at(d.Address)
		return port.Client(timeout)
	}, slog.New(slog.DiscardHandler))
	require.NoError(x.t, err)
	all := make([]device.Driver, len(made))
	for i, d := range made {
		all[i] = d
	}
	return all
}

// errorsOnly is the level of the log that tests print.
const errorsOnly = slog.LevelError

// start starts the engine from what is kept.
func (x *plant) start() {
	ctx := context.Background()
	if x.leases == nil {
		x.leases = live.NewLeases(slog.New(slog.DiscardHandler))
	}
	setup := live.Setup{Clock: x.clock, Keeper: x.file, Log: slog.New(slog.NewTextHandler(x.t.Output(), &slog.HandlerOptions{Level: errorsOnly})),
		Armed: store.Armed{Number: job, Name: "fry", Mode: live.Listening, Revision: 1, Sources: x.sources}}
	if x.keeper != nil {
		setup.Keeper, x.keeper = x.keeper, nil
	}
	kept, err := x.file.Recall(ctx)
	require.NoError(x.t, err)
	if len(kept) > 0 {
		setup.Armed, setup.Memory, setup.Bypasses, setup.Figures = kept[0].Armed, kept[0].Memory, kept[0].Bypasses, kept[0].Figures
		setup.Since, err = x.file.SinceCheckpoint(ctx, job)
		require.NoError(x.t, err)
		setup.Damage, setup.Unlocked = kept[0].Damage, kept[0].Unlocked
		setup.Restarts, err = live.Restarts(ctx, x.file, job)
		require.NoError(x.t, err)
	}
	_, setup.Program, _ = logic.Check(setup.Armed.Sources)
	setup.Drivers = x.drivers(setup.Program)
	if x.spoil {
		setup.Memory[len(setup.Memory)/2].Data = []byte{0xff}
	}
	if l := setup.Armed.Left; l != nil {
		_, before, _ := logic.Check(l.Sources)
		setup.Left = x.drivers(before)
	}
	x.engine, err = live.Start(ctx, setup)
	require.NoError(x.t, err)
}

// stop ends the engine, and waits until drivers that are in the middle of a request have left.
func (x *plant) stop() {
	x.halt()
	time.Sleep(11 * time.Second)
}

// halt ends the engine.
func (x *plant) halt() {
	if x.file == nil {
		return
	}
	if x.engine != nil {
		x.engine.Stop()
	}
	require.NoError(x.t, x.file.Close())
	if x.leases != nil {
		require.NoError(x.t, x.leases.Close())
		x.leases = nil
	}
	x.file = nil
}

// until waits for something that comes within a minute.
func (x *plant) until(is func() bool) {
	for range 600 {
		if is() {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Fail(x.t, "it did not come")
}

// connected reports whether a device answers.
func (x *plant) connected(name string) bool {
	s, err := x.engine.Status(context.Background())
	require.NoError(x.t, err)
	return slices.ContainsFunc(s.Devices, func(d live.DeviceStatus) bool { return d.Name == name && d.State == "connected" })
}

func (x *plant) revision() *live.Revision {
	return &live.Revision{
		Number:  1,
		Program: x.p,
		Sources: x.sources,
		Drivers: func() ([]device.Driver, error) { return x.drivers(x.p), nil },
	}
}

// arm arms the job, and returns what that moved.
func (x *plant) arm() []live.Move {
	plan, err := x.engine.Plan(context.Background(), x.revision())
	require.NoError(x.t, err)
	changed, kept, err := x.engine.Arm(context.Background(), x.revision(), live.Agreement{Plan: plan.Number, Who: "anna"})
	require.NoError(x.t, err)
	require.Nil(x.t, changed)
	require.True(x.t, kept)
	return plan.Moves
}

// ready returns the plan of a revision once nothing is waited for any more.
func (x *plant) ready(r *live.Revision) live.Plan {
	plan := x.plan(r)
	for ; plan.Waiting != ""; plan = x.plan(r) {
		time.Sleep(100 * time.Millisecond)
	}
	return plan
}

// takes arms another revision over the present one, whatever it moves.
func (x *plant) takes(r *live.Revision) live.Plan {
	plan := x.ready(r)
	changed, kept, err := x.engine.Arm(context.Background(), r, live.Agreement{Plan: plan.Number, Who: "anna"})
	require.NoError(x.t, err)
	require.Nil(x.t, changed)
	require.True(x.t, kept)
	return plan
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

// entries returns the journal.
func (x *plant) entries() []store.Entry {
	entries, err := x.file.Journal(context.Background(), job, store.JournalFilter{})
	require.NoError(x.t, err)
	for i, e := range entries {
		require.Equal(x.t, int64(i+1), e.Number, "numbers have no gap")
	}
	return entries
}

func (x *plant) journal(kinds ...string) (all []string) {
	for _, e := range x.entries() {
		if len(kinds) == 0 || slices.Contains(kinds, e.Kind) {
			all = append(all, strings.TrimSpace(fmt.Sprintf("%s %s→%s: %s", e.Name, e.From, e.To, e.Because)))
		}
	}
	return all
}

// segments returns the capture.
func (x *plant) segments() (all []*store.Captured) {
	require.NoError(x.t, x.file.Record(context.Background(), job, func(r *store.Record) error {
		some, err := r.Segments(0, 1<<62)
		require.NoError(x.t, err)
		for _, s := range some {
			c, err := r.Captured(s.ID)
			require.NoError(x.t, err)
			all = append(all, c)
		}
		return nil
	}))
	return all
}

func (x *plant) point(name string) live.PointNow {
	all, err := x.engine.Points(context.Background())
	require.NoError(x.t, err)
	i := slices.IndexFunc(all, func(p live.PointNow) bool { return p.Name == name })
	require.GreaterOrEqual(x.t, i, 0)
	return all[i]
}

// alarms returns the announced alarms.
func (x *plant) alarms() (all []string) {
	active, err := x.engine.Alarms(context.Background(), false)
	require.NoError(x.t, err)
	for _, a := range active {
		all = append(all, fmt.Sprintf("%s, %s, %s: %s", a.Name, a.Priority, a.State, a.Because))
	}
	return all
}

func TestFirstEvening(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := newPlant(t, tank)
		x.set("blower", 1) // it runs, at 5 mg/L
		x.set("oxygen", 5)
		x.start()
		time.Sleep(10 * time.Second)
		assert.Empty(t, x.log(), "a job that listens writes nothing")
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
		assert.Equal(t, 1.0, x.get("beacon"))
		x.do(live.Request{Do: "auto", Name: "beacon", Who: "anna"})
		time.Sleep(2 * time.Second)
		assert.Equal(t, 0.0, x.get("beacon"), "it has back what it had")

		time.Sleep(40 * time.Second) // the on-delay has run out
		assert.Empty(t, x.arm(), "arming over a blower that runs moves nothing")
		time.Sleep(5 * time.Second)
		assert.Equal(t, "blower", x.point("blower").Name)
		for _, w := range x.log() {
			assert.False(t, w.point == "blower" && w.value == 0, "it is never written off: %v", w)
		}
		assert.Positive(t, x.beats())

		x.set("mains", 0)
		time.Sleep(time.Second)
		assert.Equal(t, 0.0, x.get("blower"), "interlocked")
		a = x.do(live.Request{Do: "hand", Name: "blower", Value: "on", Who: "anna"})
		assert.Equal(t, "on", a.State, "a rule's interlock does not bind a person")
		x.do(live.Request{Do: "off", Name: "blower", Lock: "anna", Who: "anna"})
		time.Sleep(2 * time.Second)
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
		assert.Equal(t, 0.0, x.get("blower"), "no fail starts what a person keeps off: %v", x.log())
		x.stop()
	})
}
