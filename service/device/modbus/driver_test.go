package modbus_test

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
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
}

func drive(t *testing.T, text string) *driven {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rack.Close()) })
	drivers, err := modbus.NewDrivers(devicesOf(t, fmt.Sprintf(text, rack.Address())), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.Len(t, drivers, 1)
	x := &driven{t, rack, drivers[0], make(chan device.Report, 10_000)}
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		x.driver.Run(ctx, func(r device.Report) { x.reports <- r })
	}()
	t.Cleanup(func() {
		stop()
		<-done
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

func TestDriver(t *testing.T) {
	x := drive(t, drivenJob)
	began := func(r device.Report) bool { return r.Began }
	first := x.until("it answers", began)
	assert.Equal(t, 1, first.Connection)
	assert.Len(t, first.Readings, 3, "everything that is wired")

	x.order(device.Write{Connection: 1, Point: "blower", Value: 1}, device.Write{Connection: 1, Point: "valve", Value: 40})
	x.until("it is written", func(r device.Report) bool { return len(r.Written) == 1 && r.Written[0].Point == "valve" })
	x.until("it is read back", func(r device.Report) bool { v := reading(r, "valve"); return v != nil && v.Value == 40 })
	assert.Equal(t, []string{"coil 0=1", "holding 20=40"}, log(x.rack))

	x.rack.Reboot() // behind the open connection
	x.until("it is put right", func(r device.Report) bool { return len(r.Written) == 1 && r.Written[0].Point == "valve" })
	assert.Eventually(t, func() bool { return x.rack.Bit("coil", 0) && x.rack.Word("holding", 20) == 40 }, 5*time.Second, time.Millisecond)

	x.rack.Refuse("coil", 0, vendor.ErrIllegalDataAddress) // read and write
	r := x.until("the exception's name", func(r device.Report) bool { b := reading(r, "blower"); return b != nil && b.Fault != "" })
	assert.Contains(t, reading(r, "blower").Fault, "rack refuses to read coil 0: illegal data address")
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
	x.until("it is written", func(r device.Report) bool { return len(r.Written) == 1 && r.Written[0].Point == "valve" })
	assert.Equal(t, []string{"holding 20=40"}, log(x.rack)[before:], "what was decided before counts no more")
}

// A device without inputs is asked, too: what is switched off behind its connection is put right.
func TestOutputsAlone(t *testing.T) {
	x := drive(t, "job \"x\"\ndevice rack modbus tcp \"%s\" unit 1\n  poll 50 ms\noutput blower\n  drives rack coil 0\n  fail on\n")
	x.until("it answers", func(r device.Report) bool { return r.Began && reading(r, "blower") != nil })
	x.order(device.Write{Connection: 1, Point: "blower", Value: 1})
	x.until("it is read back", func(r device.Report) bool { b := reading(r, "blower"); return b != nil && b.Value == 1 })
	x.rack.Reboot()
	x.until("it is put right", func(r device.Report) bool { return len(r.Written) == 1 })
	assert.Equal(t, []string{"coil 0=1", "coil 0=1"}, log(x.rack))
}

// An output that stays otherwise is told, and left alone until somebody changes it.
func TestMismatch(t *testing.T) {
	x := drive(t, drivenJob)
	x.until("it answers", func(r device.Report) bool { return r.Began })
	x.order(device.Write{Connection: 1, Point: "blower", Value: 1})
	x.until("it is written", func(r device.Report) bool { return len(r.Written) == 1 })
	x.rack.Stick("coil", 0, false)
	r := x.until("it is told", func(r device.Report) bool { b := reading(r, "blower"); return b != nil && b.Differs != "" })
	assert.Equal(t, "rack coil 0 reads 0 where 1 was written", reading(r, "blower").Differs)
	n := len(x.rack.Writes())
	assert.Equal(t, 2, n, "written, and once more")
	for range 5 {
		x.until("a poll", func(r device.Report) bool { return reading(r, "blower") != nil })
	}
	assert.Len(t, x.rack.Writes(), n, "and left alone")
	x.rack.Unstick("coil", 0)
	x.order(device.Write{Connection: 1, Point: "blower", Value: 1})
	x.until("it is right", func(r device.Report) bool {
		b := reading(r, "blower")
		return b != nil && b.Value == 1 && b.Differs == ""
	})

	x.rack.RefuseWrites("coil", 0, vendor.ErrServerDeviceFailure)
	x.order(device.Write{Connection: 1, Point: "blower", Value: 0})
	r = x.until("the exception's name", func(r device.Report) bool { b := reading(r, "blower"); return b != nil && b.Differs != "" })
	assert.Equal(t, "rack refuses to write blower to coil 0: server device failure", reading(r, "blower").Differs)
	x.rack.RefuseWrites("coil", 0, nil)
	x.until("it is taken at last", func(r device.Report) bool {
		b := reading(r, "blower")
		return b != nil && b.Value == 0 && b.Differs == ""
	})
}

// A driver that hears nothing of its engine writes what it holds, after five of its own ticks; one that does, does not.
func TestSilentEngine(t *testing.T) {
	x := drive(t, drivenJob)
	x.until("it answers", func(r device.Report) bool { return r.Began })
	held := []device.Write{{Device: "rack", Connection: 1, Point: "blower", Value: 1}}
	begun := time.Now()
	x.driver.Order(device.Order{Held: held, Beats: []string{"rack"}})
	x.until("it is written", func(r device.Report) bool { return len(r.Written) == 1 })
	assert.Greater(t, time.Since(begun), 4*time.Second)
	assert.Equal(t, []string{"coil 9=1", "coil 0=1"}, log(x.rack))
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

// An output that is to be refreshed is written again though nothing has changed; the others are not.
func TestRefresh(t *testing.T) {
	x := drive(t, drivenJob+"output lamp\n  drives rack coil 3\n  refresh 200 ms\n  fail off\n")
	x.until("it answers", func(r device.Report) bool { return r.Began })
	x.order(device.Write{Connection: 1, Point: "lamp", Value: 1}, device.Write{Connection: 1, Point: "blower", Value: 1})
	for range 3 {
		x.until("it is written", func(r device.Report) bool { return len(r.Written) == 1 && r.Written[0].Point == "lamp" })
	}
	all := map[string]int{}
	for _, w := range log(x.rack) {
		all[w]++
	}
	assert.GreaterOrEqual(t, all["coil 3=1"], 3)
	assert.Equal(t, 1, all["coil 0=1"], "never for nothing")
}

// Two units behind one address share a connection, and each is read.
func TestSharedLine(t *testing.T) {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rack.Close()) })
	text := fmt.Sprintf(
		"job \"x\"\ndevice one modbus tcp %[1]q unit 1\n  poll 50 ms\n  timeout 200 ms\ndevice two modbus tcp %[1]q unit 2\n  poll 50 ms\n  timeout 200 ms\n"+
			"input a\n  source one holding 0\n  unit mm\ninput b\n  source two holding 5\n  unit mm\noutput o\n  fail off\nrule r\n  on when a < 1 mm and b < 1 mm\n  call o\n",
		rack.Address(),
	)
	drivers, err := modbus.NewDrivers(devicesOf(t, text), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.Len(t, drivers, 1)
	assert.Len(t, drivers[0].Devices(), 2)
	reports := make(chan device.Report, 10_000)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		drivers[0].Run(ctx, func(r device.Report) { reports <- r })
	}()
	began := map[string]bool{}
	for len(began) < 2 {
		if r := <-reports; r.Began {
			began[r.Device] = true
		}
	}

	// One that is dead costs its timeout once per pause, not once per poll.
	rack.Dead(2)
	lost, polls := false, 0
	for polls < 60 {
		r := <-reports
		lost = lost || r.Lost != "" && r.Device == "two"
		if lost && len(r.Readings) > 0 {
			assert.Equal(t, "one", r.Device)
			polls++
		}
	}
	assert.Less(t, 6*rack.Asked(2), polls, "the other is read meanwhile")
	stop()
	<-done
}
