package live_test

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/service/device"
	"rectura/service/device/simulated"
	"rectura/service/live"
	"rectura/service/store"
)

var (
	evenings = flag.Int("evenings", 8, "how many random evenings are played")
	eveningN = flag.Uint64("evening", 0, "the number of one evening, which alone is played and told")
)

// Random jobs run through random evenings in which everything fails that can fail. The racks' own logs and what really was in the plant
// are held against what the job may do. See judge for the rules.
func TestEvenings(t *testing.T) {
	if *eveningN != 0 {
		t.Run(fmt.Sprint(*eveningN), func(t *testing.T) { synctest.Test(t, func(t *testing.T) { playEvening(t, *eveningN) }) })
		return
	}
	begin := uint64(time.Now().UnixNano()) // other evenings each time; a failure names its own
	if *evenings <= 100 {
		begin = 1 // but for those that everybody plays
	}
	for n := range uint64(*evenings) {
		t.Run(fmt.Sprint(begin+n), func(t *testing.T) { synctest.Test(t, func(t *testing.T) { playEvening(t, begin+n) }) })
		if t.Failed() {
			return
		}
	}
}

// A happening is what a random evening has.
type happening struct {
	at   time.Duration // by the evening's own clock, pauses included
	what string
	name string  // of a point, or a place
	v    float64 // of a point
	ends time.Duration
}

// A trace is a write that a rack has taken, with what it had before.
type trace struct {
	at            time.Duration
	place         string
	value, before float64
}

// A line is an entry of the journal, with the time of the evening.
type line struct {
	at time.Duration
	store.Entry
}

// An eventful plant is one with a random evening.
type eventful struct {
	*plant
	r       *rand.Rand
	number  int64 // of the job in force, in specs
	given   int64 // the last number of a revision
	specs   []spec
	disk    *eveningDisk
	history []happening
	traces  []trace
	lines   []line
	shadow  map[string]float64 // values in the racks, by place
	seen    map[string]int     // writes of each rack that were collected
	told    int64              // entries of the journal that were collected
	ahead   time.Duration      // of the service's clock over the evening's, as of the last entry
	moves   int                // of take-overs that were compared with their plans
}

func playEvening(t *testing.T, n uint64) {
	r := rand.New(rand.NewPCG(n, 20))
	s := randomSpec(r)
	x := &eventful{plant: newPlant(t, s.text()), r: r, number: 1, specs: []spec{s}, shadow: map[string]float64{}, seen: map[string]int{}}
	x.disk = &eveningDisk{x: x.plant}
	x.keeper = x.disk
	for name, v := range map[string]float64{"level": 400, "flow": 10, "trip": 0} {
		x.signal(name, v)
	}
	x.start()
	time.Sleep(4 * time.Second)
	x.agree(x.ready(x.at(0)), x.at(0))
	time.Sleep(3 * time.Second)
	for range 25 + r.IntN(25) {
		x.happen()
		x.wait(time.Duration(r.Int64N(int64([]time.Duration{time.Second, 4 * time.Second, 20 * time.Second}[r.IntN(3)]))))
	}
	x.calm()
	x.judge()
	x.stop()
}

// now is the time of the evening.
func (x *eventful) now() time.Duration { return x.since() + x.clock.slept }

// note remembers what happens.
func (x *eventful) note(what, name string, v float64) *happening {
	x.history = append(x.history, happening{at: x.now(), what: what, name: name, v: v, ends: 1 << 62})
	return &x.history[len(x.history)-1]
}

// end ends what was noted.
func (x *eventful) end(what, name string) {
	for i := range x.history {
		if h := &x.history[i]; h.what == what && h.name == name && h.ends == 1<<62 {
			h.ends = x.now()
		}
	}
}

// wait lets time pass, and collects what came of it.
func (x *eventful) wait(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
	x.collect()
}

// signal gives an input another value.
func (x *eventful) signal(name string, v float64) {
	x.set(name, v)
	x.note("signal", name, v)
}

// collect takes what racks have written, and what the journal says, since it was called last.
func (x *eventful) collect() {
	for _, address := range []string{first, second} {
		if x.banks[address] == nil {
			continue
		}
		all := x.banks[address].Writes()
		for _, w := range all[x.seen[address]:] {
			place := fmt.Sprintf("%s %s %d", address, w.Table, w.Address)
			x.traces = append(x.traces, trace{w.At.Sub(x.begun) + x.clock.slept, place, float64(w.Value), x.shadow[place]})
			x.shadow[place] = float64(w.Value)
		}
		x.seen[address] = len(all)
	}
	if !x.disk.full.Load() {
		_, err := x.engine.Flush(context.Background())
		require.NoError(x.t, err)
	}
	entries, err := x.file.Journal(context.Background(), job, store.JournalFilter{After: x.told})
	require.NoError(x.t, err)
	for _, e := range entries {
		if e.Kind == "clock" || e.Kind == "service" { // up to such an entry, the service goes by the clock as it was
			x.ahead = x.clock.set - x.clock.slept
		}
		x.lines = append(x.lines, line{time.Duration(e.Time-x.begun.UnixNano()) - x.ahead, e})
		x.told = e.Number
	}
	slices.SortStableFunc(x.traces, func(a, b trace) int { return cmp.Compare(a.at, b.at) })
	x.mustBeOff()
}

// at returns the revision of a spec.
func (x *eventful) at(n int) *live.Revision {
	p, sources := program(x.t, x.specs[n].text())
	if n > 0 { // that of a plan that nobody agreed to is not given again
		x.given++
	}
	return &live.Revision{Number: 1 + x.given, Program: p, Sources: sources,
		Drivers: func() ([]device.Driver, error) { return x.drivers(p), nil }}
}

// agree arms a revision by its plan, if that is still so.
func (x *eventful) agree(plan live.Plan, r *live.Revision) bool {
	changed, _, err := x.engine.Arm(context.Background(), r, live.Agreement{Plan: plan.Number, Who: "anna"})
	if err != nil {
		require.ErrorIs(x.t, err, live.ErrRefused)
		return false
	}
	return changed == nil
}

// happen has something happen.
func (x *eventful) happen() {
	r := x.r
	port, bank := x.plant.at([]string{first, second}[r.IntN(2)])
	address := map[bool]string{true: first, false: second}[port == x.ports[first]]
	switch what := r.IntN(26); {
	case what < 7:
		x.signal([]string{"level", "level", "flow"}[r.IntN(3)], float64(r.IntN(11)*100))
	case what < 9:
		x.signal("trip", float64(r.IntN(2)))
	case what < 13:
		x.someCommand()
	case what == 13: // no longer than a silence
		x.note("gone", address, 0)
		port.Switch(false)
		x.wait(time.Duration(r.Int64N(int64(3 * time.Second))))
		port.Switch(true)
		x.end("gone", address)
	case what == 14:
		x.note("gone", address, 0)
		port.Switch(false)
		x.wait(time.Duration(r.Int64N(int64(40 * time.Second))))
		if r.IntN(2) == 0 {
			x.foreign(address, bank, 0, true)
		}
		port.Switch(true)
		x.end("gone", address)
	case what == 15:
		x.note("mishaps", address, 0)
		port.ByChance(simulated.Mishaps(rand.New(rand.NewPCG(r.Uint64(), 1)), 50+r.IntN(300), 800*time.Millisecond))
		x.wait(time.Duration(r.Int64N(int64(20 * time.Second))))
		port.ByChance(nil)
		x.end("mishaps", address)
	case what == 16:
		x.foreign(address, bank, 0, true)
	case what == 17:
		x.foreign(address, bank, r.IntN(5), false)
	case what < 20:
		x.pause([]time.Duration{50 * time.Millisecond, 2 * time.Second, 8 * time.Second, time.Hour}[r.IntN(4)])
	case what == 20:
		x.die(time.Duration(r.Int64N(int64(40 * time.Second))))
	case what == 21 && !x.disk.full.Load():
		x.note("full", "", 0)
		x.disk.full.Store(true)
		x.wait(time.Duration(r.Int64N(int64(20 * time.Second))))
		x.disk.full.Store(false)
		x.wait(12 * time.Second)
		x.end("full", "")
	case what == 22:
		x.collect()
		x.note("clock", "", 0)
		x.history[len(x.history)-1].ends = x.now() + 2*time.Second
		x.clock.setBy([]time.Duration{-time.Hour, -3 * time.Second, 3 * time.Second, time.Hour}[r.IntN(4)])
		x.wait(2 * time.Second)
	case what == 23:
		x.insist()
	case what == 24:
		x.dropAndTakeBack()
	default:
		x.overtake(x.specs[x.number-1].neighbour(r))
	}
}

// pause stops the process; in the meantime the plant goes on.
func (x *eventful) pause(d time.Duration) {
	x.collect()
	x.note("pause", "", d.Seconds())
	x.clock.sleep(d)
	x.end("pause", "")
	if x.r.IntN(2) == 0 {
		x.signal("level", float64(x.r.IntN(11)*100))
	}
}

// die kills the service, which is away for a while.
func (x *eventful) die(away time.Duration) {
	x.collect()
	x.note("away", "", 0)
	if x.r.IntN(2) == 0 { // the plant goes on
		x.signal("level", float64(x.r.IntN(11)*100))
	}
	x.keeper = x.disk
	x.kill(away)
	x.end("away", "")
}

// insist has a person take an interlocked output in hand, its interlock trip, and another master switch it on, again and again.
func (x *eventful) insist() {
	s := x.specAt(x.now())
	i := slices.IndexFunc(s.outs, func(o outSpec) bool { return o.interlock })
	if i < 0 {
		return
	}
	q := live.Request{Do: "hand", Name: s.outs[i].name, Value: "on", Who: "anna", For: time.Minute}
	if _, err := x.engine.Do(context.Background(), q); err == nil {
		x.note(q.Do, q.Name, 0)
		x.history[len(x.history)-1].ends = 0
	}
	x.wait(time.Second)
	x.signal("trip", 1)
	x.wait(1500 * time.Millisecond)
	tripped := x.now()
	address := []string{first, second}[s.outs[i].rack]
	_, bank := x.plant.at(address)
	for range 4 {
		x.switched(address, bank, s.outs[i].coil, true)
		x.wait(700 * time.Millisecond)
	}
	x.wait(4 * time.Second)
	x.signal("trip", 0)
	x.wait(2 * time.Second)
	for _, l := range x.lines { // a hand does not go on once the interlock has ended it
		if l.at > tripped && l.Name == q.Name && l.To == "on" && strings.HasPrefix(l.Because, "in hand") {
			x.blame(l.at, "%s is on by a hand that its interlock has ended", q.Name)
		}
	}
}

// foreign has another master write a coil, or the rack boot.
func (x *eventful) foreign(address string, bank *simulated.Bank, coil int, boots bool) {
	x.collect()
	if boots {
		bank.Reboot()
		for place := range x.shadow {
			if place[:len(address)] == address {
				x.shadow[place] = 0
			}
		}
		x.note("boots", address, 0)
		return
	}
	x.switched(address, bank, coil, x.r.IntN(2) == 0)
}

// switched has another master write a coil.
func (x *eventful) switched(address string, bank *simulated.Bank, coil int, on bool) {
	bank.SetBit("coil", coil, on)
	place := fmt.Sprintf("%s coil %d", address, coil)
	x.shadow[place] = float64(0)
	if on {
		x.shadow[place] = 1
	}
	x.note("foreign", place, x.shadow[place])
}

// someCommand gives one, and remembers what it did.
func (x *eventful) someCommand() {
	s := &x.specs[x.number-1]
	o := s.outs[x.r.IntN(len(s.outs))].name
	q := []live.Request{
		{Do: "hand", Name: o, Value: "on", Who: "anna", For: time.Minute},
		{Do: "hand", Name: o, Value: "off", Who: "anna"},
		{Do: "off", Name: o, Who: "anna"},
		{Do: "off", Name: o, Lock: "anna", Who: "anna"},
		{Do: "auto", Name: o, Lock: "anna", Who: "anna"},
		{Do: "auto", Name: o, Lock: "anna", Who: "anna"},
		{Do: "pin", Name: "level", Value: fmt.Sprintf("%d mm", x.r.IntN(11)*100), Who: "anna", Why: "test", For: 20 * time.Second},
		{Do: "unpin", Name: "level", Who: "anna"},
		{Do: "rewrite", Name: o, Who: "anna"},
	}[x.r.IntN(9)]
	_, err := x.engine.Do(context.Background(), q)
	if err != nil {
		require.ErrorIs(x.t, err, live.ErrRefused, "%+v", q)
		return
	}
	x.note(q.Do, q.Name, 0)
	x.history[len(x.history)-1].ends = 0
}

// dropAndTakeBack has a person lock the last output, arms a revision without it, and then the one with it again.
func (x *eventful) dropAndTakeBack() {
	s := x.specs[x.number-1]
	last := len(s.outs) - 1
	if last < 2 {
		return
	}
	q := live.Request{Do: "off", Name: s.outs[last].name, Lock: "anna", Who: "anna"}
	if _, err := x.engine.Do(context.Background(), q); err != nil {
		return
	}
	x.note(q.Do, q.Name, 0)
	x.history[len(x.history)-1].ends = 0
	x.wait(time.Second)
	less := s
	less.outs, less.rules = s.outs[:last], s.rules[:last]
	n := x.number
	if x.overtake(less); x.number == n {
		return
	}
	x.wait(2 * time.Second)
	x.overtake(s)
	x.wait(time.Duration(s.settle)*time.Second + 5*time.Second)
}

// overtake arms another revision, and compares what is written with what its plan says.
func (x *eventful) overtake(next spec) {
	x.collect()
	x.specs = append(x.specs[:x.number:x.number], next)
	r := x.at(int(x.number))
	plan, err := x.engine.Plan(context.Background(), r)
	for range 80 {
		if err != nil || plan.Waiting == "" {
			break
		}
		time.Sleep(250 * time.Millisecond)
		plan, err = x.engine.Plan(context.Background(), r)
	}
	if err != nil {
		require.ErrorIs(x.t, err, live.ErrRefused)
		x.specs = x.specs[:x.number]
		return
	}
	x.collect()
	n, quiet := len(x.traces), x.quiet(4*time.Second)
	if plan.Waiting != "" || !x.agree(plan, r) {
		x.specs = x.specs[:x.number]
		return
	}
	x.number++
	x.p, x.sources = r.Program, r.Sources
	x.note("takes", "", float64(x.number))
	x.wait(time.Duration(x.specs[x.number-1].settle)*time.Second + 1500*time.Millisecond)
	if quiet {
		x.compare(plan, x.traces[n:])
	}
}

// quiet reports whether everything has been in order for a while, and nothing has moved but by the job.
func (x *eventful) quiet(while time.Duration) bool {
	v, err := x.engine.Status(context.Background())
	require.NoError(x.t, err)
	now := x.now()
	return !slices.ContainsFunc(v.Devices, func(d live.DeviceStatus) bool { return d.State != "connected" || v.Clock-d.Since < int64(while) }) &&
		!slices.ContainsFunc(x.history, func(h happening) bool {
			return max(h.at, min(h.ends, now)) > now-while && h.ends != 1<<62 || h.at > now-while
		})
}

// calm ends everything that disturbs, and lets the plant come to rest.
func (x *eventful) calm() {
	x.signal("trip", 0)
	x.signal("level", []float64{0, 1000}[x.r.IntN(2)])
	x.wait(90 * time.Second)
	x.note("calm", "", 0)
	x.wait(5 * time.Second)
}

// first and second are the addresses of the racks.
const first, second = "127.0.0.1:1502", "127.0.0.1:1503"

// An eveningDisk keeps what is done in the file that the plant has now, unless it is full.
type eveningDisk struct {
	x    *plant
	full atomic.Bool
}

func (d *eveningDisk) Commit(ctx context.Context, c *store.Cut) (int64, error) {
	if d.full.Load() {
		return 0, store.ErrFull
	}
	return d.x.file.Commit(ctx, c)
}
