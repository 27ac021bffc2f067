package modbus_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	vendor "github.com/simonvetter/modbus"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/device"
	"rectura/service/device/modbus"
	"rectura/service/device/simulated"
)

// driven is a driver that works on a rack, and what it reports.
type driven struct {
	t       *testing.T
	rack    *simulated.Rack
	driver  *modbus.Driver
	reports chan device.Report
	passes  atomic.Int64 // of an engine that makes one whenever it is asked, unless it hangs
	hangs   atomic.Bool
	done    chan struct{}
}

func drive(t *testing.T, text string) *driven {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rack.Close()) })
	return driveOver(t, rack, fmt.Sprintf(text, rack.Address()))
}

func driveOver(t *testing.T, rack *simulated.Rack, text string) *driven {
	drivers, err := modbus.NewDrivers(devicesOf(t, text), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.Len(t, drivers, 1)
	x := &driven{t: t, rack: rack, driver: drivers[0], reports: make(chan device.Report, 100_000), done: make(chan struct{})}
	serving, can := x.driver.Serve(device.Part{Of: x.driver})
	require.Equal(t, 1, serving)
	require.True(t, can)
	ctx, stop := context.WithCancel(t.Context())
	go func() {
		defer close(x.done)
		x.driver.Run(ctx, func(r device.Report) { x.reports <- r }, func() int64 {
			if x.hangs.Load() {
				return x.passes.Load()
			}
			return x.passes.Add(1)
		})
	}()
	t.Cleanup(func() {
		stop()
		<-x.done
	})
	return x
}

// until waits for a report that is as it should be.
func (x *driven) until(what string, is func(r device.Report) bool) device.Report {
	limit := time.After(20 * time.Second)
	for {
		select {
		case r := <-x.reports:
			if is(r) {
				return r
			}
		case <-limit:
			require.Fail(x.t, "no report: "+what)
		}
	}
}

func (x *driven) order(writes ...device.Write) {
	for i := range writes {
		writes[i].Device = "rack"
	}
	x.driver.Order(device.Order{Writes: writes})
}

func reading(r device.Report, point string) *device.Reading {
	if i := slices.IndexFunc(r.Readings, func(x device.Reading) bool { return x.Point == point }); i >= 0 {
		return &r.Readings[i]
	}
	return nil
}

const drivenJob = `job "x"
device rack modbus tcp "%s" unit 1
  poll 50 ms
  timeout 300 ms
  heartbeat coil 9 every 1 s
input oxygen
  source rack holding 0 real
  unit mg/L
output blower
  drives rack coil 0
  fail on
output valve analog 0..100 %%
  drives rack holding 20
  fail 30 %%
`

func began(r device.Report) bool { return r.Began }

// tells reports whether a report has a reading of a point with a value.
func tells(point string, v float64) func(device.Report) bool {
	return func(r device.Report) bool { x := reading(r, point); return x != nil && x.Value == v && x.Fault == "" }
}

func wrote(point string) func(device.Report) bool {
	return func(r device.Report) bool {
		return slices.ContainsFunc(r.Written, func(w device.Written) bool { return w.Point == point })
	}
}

func TestDriver(t *testing.T) {
	x := drive(t, drivenJob)
	first := x.until("it answers", began)
	assert.Equal(t, []int{1, 1}, []int{first.Connection, first.Serving})
	assert.Len(t, first.Readings, 3, "everything that is wired")

	x.order(device.Write{Connection: 1, Point: "blower", Value: 1}, device.Write{Connection: 1, Point: "valve", Value: 40})
	x.until("it is written", wrote("valve"))
	x.until("it is read back", tells("valve", 40))
	assert.Equal(t, []string{"coil 0=1", "holding 20=40"}, log(x.rack))

	x.rack.Reboot() // behind the open connection
	x.until("it is told", tells("valve", 0))
	for range 5 {
		x.until("a poll", func(r device.Report) bool { return reading(r, "blower") != nil })
	}
	assert.Len(t, x.rack.Writes(), 2, "what is to be done about it is not for a driver to say")

	x.rack.Refuse("coil", 0, vendor.ErrIllegalDataAddress) // read and write
	r := x.until("the exception's name", func(r device.Report) bool { b := reading(r, "blower"); return b != nil && b.Fault != "" })
	assert.Contains(t, reading(r, "blower").Fault, "rack refuses to read coil 0: illegal data address")
	x.order(device.Write{Connection: 1, Point: "blower", Value: 1})
	r = x.until("it is refused", wrote("blower"))
	assert.Equal(t, "rack refuses to write blower to coil 0: illegal data address", r.Written[0].Fault)
	x.rack.Refuse("coil", 0, nil)

	x.rack.Misbehave(simulated.Silent, 0)
	lost := x.until("it is lost", func(r device.Report) bool { return r.Lost != "" })
	assert.Equal(t, "rack does not answer", lost.Lost)
	before := len(x.rack.Writes())
	x.order(device.Write{Connection: 1, Point: "blower", Value: 0}) // decided before it was away
	x.rack.Misbehave(simulated.None, 0)
	again := x.until("it answers again", began)
	assert.Equal(t, 2, again.Connection)
	x.order(device.Write{Connection: 1, Point: "blower", Value: 0})
	x.order(device.Write{Connection: 2, Point: "valve", Value: 40})
	x.until("it is written", wrote("valve"))
	assert.Equal(t, []string{"holding 20=40"}, log(x.rack)[before:], "what was decided before counts no more")

	x.driver.Order(device.Order{Anew: []string{"rack"}})
	assert.Equal(t, 3, x.until("it is read anew", began).Connection)
	x.rack.Drop() // it was switched off and on, perhaps
	again = x.until("it is read anew", func(r device.Report) bool { assert.Empty(t, r.Lost); return r.Began })
	assert.Equal(t, 4, again.Connection)
}

// A write that nobody answers is told, is not repeated, and what the rack has is read at once.
func TestUnansweredWrite(t *testing.T) {
	x := drive(t, strings.Replace(drivenJob, "poll 50 ms", "poll 5 s", 1))
	x.until("it answers", began)
	x.rack.Misbehave(simulated.Slow, 500*time.Millisecond)
	x.order(device.Write{Connection: 1, Point: "blower", Value: 1})
	r := x.until("it is told", wrote("blower"))
	assert.Contains(t, r.Written[0].Fault, "rack did not answer when blower was written")
	x.rack.Misbehave(simulated.None, 0)
	begun := time.Now()
	x.until("it is read", tells("blower", 1))
	assert.Less(t, time.Since(begun), 3*time.Second)
	assert.Equal(t, []string{"coil 0=1"}, log(x.rack))
}

// Neighbours that change at once are written with one request, what turns off in one of its own, before the rest. A rack that
// does not know such requests gets them one by one.
func TestNeighbours(t *testing.T) {
	text := "job \"x\"\ndevice rack modbus tcp \"%s\" unit 1\n  poll 50 ms\n"
	for i := range 6 {
		text += fmt.Sprintf("output o%d\n  drives rack coil %d\n  fail off\n", i, i)
	}
	text += "output speed analog 0..50 Hz\n  drives rack holding 3 real\n  fail off\noutput far\n  drives rack coil 9\n  fail off\n"
	x := drive(t, text)
	x.until("it answers", began)
	some := func(values ...float64) (all []device.Write) {
		for i, v := range values {
			all = append(all, device.Write{Connection: 1, Point: fmt.Sprintf("o%d", i), Value: v, Off: v == 0})
		}
		return append(all, device.Write{Connection: 1, Point: "far", Value: 1}, device.Write{Connection: 1, Point: "speed", Value: 12.5})
	}
	read := len(x.rack.Reads())
	x.order(some(1, 1, 0, 0, 1, 1)...)
	x.until("all is written", wrote("speed"))
	assert.Equal(t, []string{"coil 2=0", "coil 3=0"}, log(x.rack)[:2])
	assert.ElementsMatch(t, []string{"coil 0=1", "coil 1=1", "coil 4=1", "coil 5=1", "coil 9=1", "holding 3=16712", "holding 4=0"},
		log(x.rack)[2:])
	assert.Less(t, len(x.rack.Reads())-read, 10, "a read between two requests, at most")

	x.rack.Refuse("coil", 1, vendor.ErrServerDeviceBusy)
	x.order(some(1, 1, 1)...)
	x.until("the first", func(r device.Report) bool { return wrote("o0")(r) && len(r.Written) == 1 && r.Written[0].Fault == "" })
	r := x.until("the refused", wrote("o1"))
	assert.Contains(t, r.Written[0].Fault, "refuses to write o1 to coil 1: server device busy")
	x.until("the last", func(r device.Report) bool { return wrote("o2")(r) && r.Written[0].Fault == "" })
}

// A driver whose engine makes no pass writes what it holds, after five of its own ticks and until it is taken; one whose engine
// is alive does not, however long there is nothing to order.
func TestSilentEngine(t *testing.T) {
	x := drive(t, drivenJob)
	x.until("it answers", began)
	held := []device.Write{{Device: "rack", Connection: 1, Point: "blower", Value: 1}, {Device: "rack", Point: "valve", Value: 0}}
	x.driver.Order(device.Order{Held: &held, Beats: []string{"rack"}})
	time.Sleep(6 * time.Second) // that nothing happens can only be waited for
	require.Equal(t, []string{"coil 9=1"}, log(x.rack))
	begun := time.Now()
	x.rack.RefuseWrites("coil", 0, vendor.ErrServerDeviceBusy)
	x.hangs.Store(true)
	x.until("it is tried", func(r device.Report) bool { return r.Held && r.Written[0].Fault != "" })
	assert.Greater(t, time.Since(begun), 3900*time.Millisecond, "four whole ticks, at the least")
	x.rack.RefuseWrites("coil", 0, nil)
	x.until("it is written", func(r device.Report) bool { return r.Held && r.Written[0].Fault == "" })
	assert.Equal(t, []string{"coil 9=1", "coil 0=1"}, log(x.rack), "and what the rack has already is not")
}

func log(r *simulated.Rack) (all []string) {
	for _, w := range r.Writes() {
		all = append(all, fmt.Sprintf("%s %d=%d", w.Table, w.Address, w.Value))
	}
	return all
}

func devicesOf(t *testing.T, text string) []*modbus.Device {
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	return modbus.Devices(p)
}

// However much there is to write to a slow rack, it is read, too; a poll that has to wait is reported late.
func TestTurns(t *testing.T) {
	x := drive(t, drivenJob)
	x.until("it answers", began)
	x.rack.Misbehave(simulated.Slow, 60*time.Millisecond)
	late, reads, writes := 0, 0, 0
	for i := 0; reads < 20; i++ {
		x.order(device.Write{Connection: 1, Point: "blower", Value: float64(i % 2)}, device.Write{Connection: 1, Point: "valve", Value: float64(i % 50)})
		r := x.until("something", func(device.Report) bool { return true })
		require.Empty(t, r.Lost)
		late += len(r.Late)
		reads += len(r.Readings)
		writes += len(r.Written)
	}
	assert.InDelta(t, reads, writes, 8, "they take turns")
	assert.Positive(t, late)
}

// What a driver serves can be replaced without ending its connection: another revision is looked at beside the present one, takes
// over, and what it has wired elsewhere is still written.
func TestServe(t *testing.T) {
	x := drive(t, drivenJob)
	x.until("it answers", began)
	next := strings.NewReplacer("coil 0", "coil 5", "device rack", "device panel", "source rack", "source panel", "drives rack", "drives panel").
		Replace(fmt.Sprintf(drivenJob, x.rack.Address()))
	others, err := modbus.NewDrivers(devicesOf(t, next), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.Equal(t, x.driver.Line(), others[0].Line())
	x.rack.SetBit("coil", 5, true)
	blower := func(p string) bool { return p == "blower" }
	serving, can := x.driver.Serve(device.Part{Of: x.driver}, device.Part{Of: others[0], Prefix: "next ", Points: blower})
	require.True(t, can)
	assert.Equal(t, 2, serving)
	x.until("both are read", tells("next blower", 1))
	x.until("both are read", tells("blower", 0))
	serving, can = x.driver.Serve(device.Part{Of: others[0]}, device.Part{Of: x.driver, Prefix: "last ", Points: blower})
	require.True(t, can)
	r := x.until("it has taken over", func(r device.Report) bool { return r.Serving == serving && r.Device == "panel" })
	assert.Equal(t, 1, r.Connection, "on the same connection")
	x.driver.Order(device.Order{Writes: []device.Write{{Device: "last rack", Connection: 1, Point: "last blower", Value: 1},
		{Device: "panel", Connection: 1, Point: "blower", Value: 0, Off: true}}})
	x.until("both are written", wrote("last blower"))
	assert.Equal(t, []string{"coil 5=0", "coil 0=1"}, log(x.rack))
	_, can = x.driver.Serve(device.Part{Of: mustDriver(t, fmt.Sprintf(drivenJob, "127.0.0.1:1"))})
	assert.False(t, can, "another line")
}

func mustDriver(t *testing.T, text string) *modbus.Driver {
	drivers, err := modbus.NewDrivers(devicesOf(t, text), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return drivers[0]
}

// However an address is spelt, it leads to one place; and what is written there is claimed, a bit with its register, and the
// units 0 and 255 with every other.
func TestClaims(t *testing.T) {
	link := filepath.Join(t.TempDir(), "ttyRack")
	require.NoError(t, os.Symlink("/dev/null", link))
	tcp := mustDriver(t, fmt.Sprintf(drivenJob, "127.0.0.1:1502")).Transports(t.Context())
	assert.Equal(t, []string{"tcp 127.0.0.1:1502"}, tcp)
	for _, a := range []string{"[::ffff:127.0.0.1]:01502", "0.0.0.0:1502", "localhost:1502"} {
		assert.Contains(t, mustDriver(t, fmt.Sprintf(drivenJob, a)).Transports(t.Context()), tcp[0], a)
	}
	serial := func(a string) []string {
		tty := strings.Replace(fmt.Sprintf(drivenJob, "/dev/ttyS9"), `modbus tcp "/dev/ttyS9"`, `modbus rtu "/dev/ttyS9" 19200 8E1`, 1)
		all := devicesOf(t, tty)
		all[0].Address = a
		drivers, err := modbus.NewDrivers(all, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		return drivers[0].Transports(t.Context())
	}
	assert.Equal(t, serial("/dev/null"), serial(link))
	claims := func(text string) []device.Claim {
		x := mustDriver(t, fmt.Sprintf(text, "127.0.0.1:1502"))
		x.Serve(device.Part{Of: x})
		return x.Devices()[0].Claims
	}
	mine := claims(drivenJob + "output lamp\n  drives rack holding 30 bit 2\n  fail off\n")
	overlap := func(text string) (all []string) {
		for _, a := range mine {
			for _, b := range claims(text) {
				if a.Overlaps(&b) {
					all = append(all, a.Point+" "+b.Point)
				}
			}
		}
		return all
	}
	job := func(unit int, drives string) string {
		return fmt.Sprintf("job \"y\"\ndevice rack modbus tcp \"%%s\" unit %d\noutput o\n  drives rack %s\n  fail off\n", unit, drives)
	}
	for drives, want := range map[string][]string{"coil 0": {"blower o"}, "coil 9": {" o"}, "coil 1": nil, "holding 30 bit 3": {"lamp o"}} {
		assert.Equal(t, want, overlap(job(1, drives)), drives)
	}
	assert.Equal(t, []string{"blower o"}, overlap(job(0, "coil 0")))
	assert.Nil(t, overlap(job(2, "coil 0")))
	assert.Equal(t, []string{"valve o"}, overlap(strings.Replace(job(1, "holding 19 real"), "output o", "output o analog 0..100 %%", 1)))
}

// Units behind one address share a connection. Those that are dead cost the others one request between two of theirs.
func TestSharedLine(t *testing.T) {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rack.Close()) })
	text := "job \"x\"\n"
	for unit := range 5 {
		rack.Dead(byte(unit + 2))
		text += fmt.Sprintf("device d%d modbus tcp %q unit %d\n  poll 50 ms\n  timeout 100 ms\ninput i%d\n  source d%d holding 5\n  unit mm\n", unit+2,
			rack.Address(), unit+2, unit+2, unit+2)
	}
	x := driveOver(t, rack, text+fmt.Sprintf("device one modbus tcp %q unit 1\n  poll 50 ms\n  timeout 200 ms\ninput a\n  source one holding 0\n  unit mm\n",
		rack.Address()))
	require.Len(t, x.driver.Devices(), 6)
	assert.Equal(t, int64(5*2*100e6+2*200e6), x.driver.Devices()[0].Patience)
	lost, polls, last, longest := map[string]bool{}, 0, time.Time{}, time.Duration(0)
	x.until("the healthy one is read meanwhile", func(r device.Report) bool {
		if r.Lost != "" {
			lost[r.Device] = true
		}
		if len(r.Readings) > 0 {
			require.Equal(t, "one", r.Device)
			if polls++; !last.IsZero() {
				longest = max(longest, time.Since(last))
			}
			last = time.Now()
		}
		return len(lost) == 5 && polls > 60
	})
	assert.Less(t, longest, 2*400*time.Millisecond, "two time-outs of one dead unit, at most")
	for unit := range 5 {
		assert.Less(t, rack.Asked(byte(unit+2)), 8)
	}
}
