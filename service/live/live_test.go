package live_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	mb "github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/device"
	"rectura/service/live"
	"rectura/service/store"
)

// kill ends the engine as a power cut does: what comes after is what was committed before.
func (x *plant) kill(away time.Duration) {
	synctest.Wait()
	folder := x.t.TempDir()
	for _, name := range []string{"plant.db", "plant.db-wal", "plant.head", "plant.head.synced"} {
		in, err := os.Open(filepath.Join(x.folder, name))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		require.NoError(x.t, err)
		out, err := os.Create(filepath.Join(folder, name))
		require.NoError(x.t, err)
		_, err = io.Copy(out, in)
		require.NoError(x.t, errors.Join(err, in.Close(), out.Close()))
	}
	x.halt()
	x.folder = folder
	time.Sleep(away)
	x.open()
	x.start()
}

// running is a plant that is armed and has settled.
func running(t *testing.T, text string) *plant {
	x := newPlant(t, text)
	x.start()
	time.Sleep(3 * time.Second)
	x.arm()
	time.Sleep(3 * time.Second)
	return x
}

const pulses = tank + `output horn
  drives rack coil 3
  fail off
rule ring
  on when oxygen < 5.5 mg/L
  pulse 1 h
  call horn
`

func TestKilled(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, pulses)
		x.set("button", 1)
		x.set("oxygen", 5)
		time.Sleep(50 * time.Second)
		x.set("button", 0)
		x.set("oxygen", 6.2) // inside the band of low, which stays on
		time.Sleep(10 * time.Second)
		for _, name := range []string{"blower", "beacon", "horn"} {
			require.Equal(t, 1.0, x.get(name), name)
		}
		x.do(live.Request{Do: "shelve", Name: "oxygen.bad", For: time.Hour, Who: "anna", Why: "cleaning"})
		x.do(live.Request{Do: "off", Name: "feeder", Who: "anna"})
		before := x.since()
		x.kill(20 * time.Second)
		time.Sleep(30 * time.Second)
		assert.Empty(t, x.written(before), "no write after the restart changes anything")
		var outage string
		for _, line := range x.journal("service") {
			if strings.Contains(line, "nobody was there from") {
				outage = line
			}
		}
		assert.NotEmpty(t, outage, "the gap is stated")
		by, err := x.engine.Bypasses(t.Context())
		require.NoError(t, err)
		require.Len(t, by, 2)
		assert.Equal(
			t,
			[]string{"feeder off anna", "oxygen.bad shelving anna"},
			[]string{by[0].Name + " " + by[0].Kind + " " + by[0].Who, by[1].Name + " " + by[1].Kind + " " + by[1].Who},
		)
		x.do(live.Request{Do: "reset", Name: "latched", Who: "anna"})
		time.Sleep(time.Second)
		assert.Equal(t, 0.0, x.get("beacon"), "the latch has held through it")
		x.stop()
	})
}

// A hand that the plant has lost ends, and one that it still has goes on to its end.
func TestHandsOverAKill(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		x.do(live.Request{Do: "hand", Name: "feeder", Value: "on", For: time.Minute, Who: "anna"})
		x.do(live.Request{Do: "hand", Name: "beacon", Value: "on", For: time.Minute, Who: "anna"})
		time.Sleep(1100 * time.Millisecond) // between two polls
		x.set("beacon", 0)                  // the power cut took it
		x.kill(20 * time.Second)
		time.Sleep(10 * time.Second)
		assert.Equal(t, "hand", x.point("feeder").Mode)
		assert.Equal(t, "off", x.point("beacon").Mode)
		assert.Equal(t, 0.0, x.get("beacon"))
		assert.Contains(t, x.journal("bypass"), "beacon hand→off: it was taken out of hand: the plant did not have it any more when it could be read again")
		alarms, err := x.engine.Alarms(t.Context(), false)
		require.NoError(t, err)
		require.Len(t, alarms, 1)
		assert.Equal(t, "beacon.hand active, unacknowledged", alarms[0].Name+" "+alarms[0].State, "which is an alarm")
		x.do(live.Request{Do: "acknowledge", Name: "beacon.hand", Who: "anna"})
		assert.Empty(t, x.alarms())
		time.Sleep(40 * time.Second)
		assert.Equal(t, "auto", x.point("feeder").Mode)
		x.stop()
	})
}

// A lock is given back by its own name only, or with a reason, which is an alarm until somebody knows.
func TestLocks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		alarms := func() (all []string) {
			active, err := x.engine.Alarms(t.Context(), false)
			require.NoError(t, err)
			for _, a := range active {
				all = append(all, strings.Join([]string{a.Name, a.Priority, a.State, a.Because}, ", "))
			}
			return all
		}
		lock := live.Request{Do: "off", Name: "blower", Lock: "anna", Who: "anna"}
		x.do(lock)
		x.refuses(live.Request{Do: "auto", Name: "blower", Who: "ben"},
			"blower is kept off with the lock of anna, who gives it back; somebody else needs a reason")
		x.refuses(live.Request{Do: "hand", Name: "blower", Value: "on", Who: "ben"},
			"blower is kept off with the lock anna, which alone gives it back")
		x.do(live.Request{Do: "auto", Name: "blower", Who: "anna"})
		x.do(lock)
		x.do(live.Request{Do: "auto", Name: "blower", Who: "ben", Lock: "anna"})
		assert.Empty(t, alarms(), "it was given back by its name")
		x.do(lock)
		x.do(live.Request{Do: "auto", Name: "blower", Who: "ben", Why: "anna is at home, and the fish gasp"})
		because := "ben gave blower back past the lock of anna: anna is at home, and the fish gasp"
		assert.Equal(t, []string{"service.unlocked, high, active, unacknowledged, " + because}, alarms())
		time.Sleep(time.Hour)
		assert.Len(t, alarms(), 1, "it stays until somebody knows")
		x.do(live.Request{Do: "acknowledge", Name: "service.unlocked", Who: "anna"})
		assert.Empty(t, alarms())
		assert.Contains(t, x.journal("command"),
			"blower off, with the lock anna→auto: past the lock of anna: anna is at home, and the fish gasp")
		assert.Positive(t, x.verify())
		x.stop()
	})
}

func TestRackRestsAndReturns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, strings.Replace(tank, "  interlock unless mains\n", "", 1))
		x.set("button", 1)
		time.Sleep(time.Second)
		require.Equal(t, 1.0, x.get("beacon"))
		x.set("button", 0)

		x.set("beacon", 0) // behind an open connection
		time.Sleep(600 * time.Millisecond)
		assert.Equal(t, 1.0, x.get("beacon"), "put right within one poll")

		before := x.since()
		x.rack().Switch(false)
		time.Sleep(10 * time.Second)
		alarms, err := x.engine.Alarms(t.Context(), false)
		require.NoError(t, err)
		require.Len(t, alarms, 1, "one alarm, not one a point")
		assert.Equal(t, "rack.lost critical", alarms[0].Name+" "+alarms[0].Priority)
		assert.Contains(t, alarms[0].Because, "rack does not answer since ")
		assert.Equal(t, "on", x.point("blower").State, "what fails on is on, as far as the job knows")
		assert.Contains(t, x.point("blower").NotWritten, "rack does not answer since ")
		x.refuses(
			live.Request{Do: "hand", Name: "blower", Value: "on"},
			"blower cannot be written: "+x.point("blower").NotWritten+"; only off is taken",
		)
		x.rack().Switch(true)
		time.Sleep(10 * time.Second)
		assert.Empty(t, x.written(before), "no `fail` in between")
		assert.Equal(t, 0.0, x.get("blower"))

		x.rack().Hang(true) // its driver hangs
		time.Sleep(3*500*time.Millisecond + 2*time.Second + 100*time.Millisecond)
		assert.Equal(t, "bad", x.point("oxygen").Quality, "whatever the driver does")
		x.rack().Hang(false)
		assert.Contains(t, x.point("oxygen").Reason, "rack was not heard since ")
		x.stop()
	})
}

// At one instant what turns off is written before what turns on.
func TestOffFirst(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(
			t,
			"job \"x\"\n  settle 1 s\ndevice rack modbus tcp \"127.0.0.1:1502\" unit 1\n  poll 500 ms\ninput k discrete\n  source rack discrete 0\n"+
				"output a\n  drives rack coil 0\n  fail hold\noutput b\n  drives rack coil 1\n  fail hold\n"+
				"rule ra\n  on when k\n  call a\nrule rb\n  on when not k\n  call b\n",
		)
		for i, k := range []float64{1, 0, 1} {
			before := len(x.log())
			x.set("k", k)
			time.Sleep(time.Second)
			log := x.log()[before:]
			require.Len(t, log, 2)
			assert.Equal(t, []float64{0, 1}, []float64{log[0].value, log[1].value}, "%d: %v", i, log)
		}
		x.stop()
	})
}

// A disk is full while the test says so.
type disk struct {
	live.Keeper
	full atomic.Bool
}

func (d *disk) Commit(ctx context.Context, c *store.Cut) (int64, error) {
	if d.full.Load() {
		return 0, fmt.Errorf("keeping: %w", store.ErrFull)
	}
	return d.Keeper.Commit(ctx, c)
}

// onDisk is a plant that is armed, and its disk.
func onDisk(t *testing.T) (*plant, *disk) {
	x := newPlant(t, tank)
	d := &disk{Keeper: x.file}
	x.keeper = d
	x.start()
	time.Sleep(3 * time.Second)
	x.arm()
	return x, d
}

func TestFullDisk(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x, d := onDisk(t)
		x.set("oxygen", 8)
		time.Sleep(3 * time.Second)
		require.Equal(t, 1.0, x.get("feeder"))
		d.full.Store(true)
		a, err := x.engine.Do(t.Context(), live.Request{Do: "off", Name: "feeder", Who: "anna"})
		require.NoError(t, err)
		assert.False(t, a.Kept, "done, not kept")
		time.Sleep(time.Second)
		assert.Equal(t, 0.0, x.get("feeder"))
		_, err = x.engine.Do(t.Context(), live.Request{Do: "set", Name: "oxygen_low", Value: "7 mg/L"})
		require.ErrorIs(t, err, live.ErrRefused)
		assert.Regexp(
			t,
			`^nothing can be kept since [\d:]+, so that set would be lost at a restart: keeping: there is no room left; make room, or switch it off or back instead$`,
			err.Error(),
		)
		_, err = x.engine.Do(t.Context(), live.Request{Do: "acknowledge", Name: "oxygen.bad"})
		require.NoError(t, err)
		s, err := x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.NotZero(t, s.NotKept)
		d.full.Store(false)
		time.Sleep(10 * time.Second)
		s, err = x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.Zero(t, s.NotKept)
		assert.Contains(t, x.journal("command"), "feeder auto→off:", "all is written once there is room")
		x.kill(time.Second)
		time.Sleep(5 * time.Second)
		assert.Equal(t, "off", x.point("feeder").Mode)
		x.stop()
	})
}

// What cannot be kept waits, so many lines of it; the oldest are given up, and the journal says how many.
func TestFullDiskForLong(t *testing.T) {
	if raced {
		t.Skip("it is long, and is run without the race detector")
	}
	synctest.Test(t, func(t *testing.T) {
		x, d := onDisk(t)
		time.Sleep(3 * time.Second)
		before := len(x.journal())
		d.full.Store(true)
		const commands = 130_000
		for range commands {
			_, err := x.engine.Do(t.Context(), live.Request{Do: "unpin", Name: "oxygen", Who: "anna"})
			require.NoError(t, err)
		}
		d.full.Store(false)
		time.Sleep(20 * time.Second)
		after := x.journal()[before:]
		assert.LessOrEqual(t, len(after), 100_001)
		var given int
		_, err := fmt.Sscanf(after[0], "→: %d entries could not be kept and are given up", &given)
		require.NoError(t, err, after[0])
		assert.Equal(t, commands, given+len(after)-2, "all are there, or counted; the last says that there is room again")
		x.stop()
	})
}

// A delay is 45 s however the clock is set meanwhile, and what was captured is still there.
func TestClockIsSet(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		// The lamp burns from 10 in the evening to 6 in the morning: the day at 01:00, when it is 1970, and at noon later.
		x := newPlant(t, strings.Replace(tank, "  settle 2 s\n", "  settle 2 s\n  timezone Europe/London\n", 1)+
			"output lamp\n  drives rack coil 5\n  fail off\nrule night\n  on when time between 22:00 and 06:00\n  call lamp\n")
		x.clock.setBy(-time.Since(time.Unix(0, 0)) + time.Hour) // a machine that has no clock
		x.start()
		time.Sleep(3 * time.Second)
		x.arm()
		time.Sleep(3 * time.Second)
		x.set("oxygen", 5)
		begun := x.since()
		time.Sleep(20 * time.Second)
		assert.Equal(t, 1.0, x.get("lamp"))
		x.clock.setBy(time.Since(time.Unix(0, 0)) - time.Hour + 12*time.Hour)
		time.Sleep(10 * time.Second)
		assert.Equal(t, 0.0, x.get("lamp"), "the time of day is looked at anew")
		x.clock.setBy(12 * 365 * 24 * time.Hour)
		time.Sleep(5 * time.Second)
		x.clock.setBy(-12 * 365 * 24 * time.Hour)
		time.Sleep(20 * time.Second)
		var on time.Duration
		for _, w := range x.log() {
			if w.point == "blower" && w.value == 1 {
				on = w.at
			}
		}
		assert.InDelta(t, 45, (on - begun).Seconds(), 0.6, "a poll at the most")
		assert.Len(t, x.journal("clock"), 3)
		segments := x.segments()
		assert.Len(t, segments, 4, "split at each")
		x.kill(time.Second)
		time.Sleep(5 * time.Second)
		assert.Equal(t, 1.0, x.get("blower"))
		x.stop()
	})
}

// A machine that has slept goes on as after a restart.
func TestSlept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		x.set("button", 1)
		time.Sleep(time.Second)
		x.set("button", 0)
		before := x.since()
		x.clock.sleep(time.Hour)
		time.Sleep(20 * time.Second)
		assert.Contains(t, strings.Join(x.journal("service"), "\n"), "asleep→awake: the process did not run for 3600 s")
		assert.Empty(t, x.written(before))
		assert.Equal(t, 1.0, x.get("beacon"))
		x.stop()
	})
}

func TestTakingOver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		x.set("oxygen", 5)
		x.set("button", 1)
		time.Sleep(50 * time.Second)
		x.set("button", 0)
		x.do(live.Request{Do: "set", Name: "oxygen_low", Value: "6.5 mg/L", Who: "anna"})
		require.Equal(t, 1.0, x.get("blower"))
		before := x.since()

		other := strings.NewReplacer("for 45 s", "for 60 s", "setpoint oxygen_low 6 mg/L\n  allow 4..9 mg/L", "setpoint oxygen_low 6000 ug/L\n  allow 4000..9000 ug/L").
			Replace(tank)
		other = other[:strings.Index(other, "rule feeding")] // and the feeder is dropped
		other = strings.Replace(other, "output feeder\n  drives rack coil 1\n  fail off\n", "", 1)
		x.set("feeder", 1)
		p, sources := program(t, other)
		r := &live.Revision{Number: 2, Program: p, Sources: sources, Drivers: func() ([]device.Driver, error) { return x.drivers(p), nil }}
		plan, err := x.engine.Plan(t.Context(), r)
		require.NoError(t, err)
		assert.Empty(t, plan.Moves)
		assert.Contains(t, plan.Changes, "feeder: it is no part of the job any more")
		changed, kept, err := x.engine.Arm(t.Context(), r, live.Agreement{Plan: plan.Number, Who: "anna"})
		require.NoError(t, err)
		assert.Nil(t, changed)
		assert.True(t, kept)
		time.Sleep(90 * time.Second)
		assert.Equal(t, 0.0, x.get("feeder"), "an output that is dropped is written to its old `fail`")
		assert.Len(t, x.writtenAs(before, 0), 1, "nothing else was turned off")
		settings, err := x.engine.Settings(t.Context())
		require.NoError(t, err)
		assert.Equal(t, live.SettingNow{Name: "oxygen_low", Title: "oxygen_low", Value: 6500, Written: 6000, Unit: "ug/L"}, settings[0])
		assert.Equal(t, 1.0, x.get("blower"))
		time.Sleep(11 * time.Second)
		x.other = p
		assert.Greater(t, x.verify(), 5, "each revision's capture, played by its own program")
		x.stop()
	})
}

// An output that stays otherwise raises one alarm, which says how; a wire that flashes is on and off, while the output is on.
func TestMismatchAndFlash(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(
			t,
			"job \"x\"\n  settle 1 s\ndevice rack modbus tcp \"127.0.0.1:1502\" unit 1\n  poll 500 ms\ninput k discrete\n  source rack discrete 0\n"+
				"output lamp\n  drives rack coil 0\n  fail off\n  flash 2 s\noutput pump\n  drives rack coil 1\n  fail off\n  inverted\n"+
				"rule r\n  on when k\n  call lamp, pump\n",
		)
		x.set("k", 1)
		time.Sleep(10*time.Second + 100*time.Millisecond)
		var lamp []float64
		for _, w := range x.log() {
			if w.point == "lamp" {
				lamp = append(lamp, w.value)
			}
		}
		assert.InDelta(t, 11, len(lamp), 2, "a second on and a second off: %v", lamp)
		assert.Equal(t, "on", x.point("lamp").State, "which is no transition")
		for _, line := range x.journal("output") {
			assert.NotContains(t, line, "lamp on→off")
		}
		assert.Equal(t, 0.0, x.get("pump"), "inverted on the wire")

		x.bank().Stick("coil", 1, true) // the relay is welded
		time.Sleep(3 * time.Second)
		alarms, err := x.engine.Alarms(t.Context(), false)
		require.NoError(t, err)
		require.Len(t, alarms, 1)
		assert.Equal(t, "pump.mismatch", alarms[0].Name)
		assert.Equal(t, "rack coil 1 reads 1 where 0 was written", alarms[0].Because)
		assert.Equal(t, "rack coil 1 reads 1 where 0 was written", x.point("pump").NotWritten)
		x.bank().Unstick("coil", 1)
		x.set("k", 0)
		time.Sleep(2 * time.Second)
		x.do(live.Request{Do: "acknowledge", Name: "pump.mismatch"})
		alarms, err = x.engine.Alarms(t.Context(), false)
		require.NoError(t, err)
		assert.Empty(t, alarms)
		x.stop()
	})
}

// A rack refuses a write for a while: it is repeated at each poll with the newest state, raises an alarm with the exception's name after
// the third repetition, and is through as soon as the rack takes it.
func TestRefusedWrite(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(
			t,
			"job \"x\"\n  settle 1 s\ndevice rack modbus tcp \"127.0.0.1:1502\" unit 1\n  poll 500 ms\ninput k discrete\n  source rack discrete 0\n"+
				"output pump\n  drives rack coil 1\n  fail off\nrule r\n  on when k\n  call pump\n",
		)
		x.refuse("pump", false, mb.ErrServerDeviceFailure)
		x.set("k", 1)
		time.Sleep(4 * time.Second)
		assert.Equal(t, 0.0, x.get("pump"))
		require.Len(t, x.alarms(), 1)
		assert.Contains(t, x.alarms()[0], "pump.mismatch, high, active, unacknowledged: ")
		assert.Contains(t, x.point("pump").NotWritten, "server device failure")
		since := x.since()
		x.refuse("pump", false, nil)
		time.Sleep(2 * time.Second)
		require.Len(t, x.written(since), 1, "once")
		assert.Empty(t, x.point("pump").NotWritten)
		x.do(live.Request{Do: "acknowledge", Name: "pump.mismatch"})
		assert.Empty(t, x.alarms())
		x.stop()
	})
}

// A day goes by: goroutines stay as they are, and what is kept of it grows no more than its journal and its capture.
func TestADay(t *testing.T) {
	if raced {
		t.Skip("it is long, and is run without the race detector")
	}
	if testing.Short() {
		t.Skip("takes a day")
	}
	synctest.Test(t, func(t *testing.T) {
		x := running(t, strings.Replace(tank, "poll 500 ms", "poll 5 s", 1))
		time.Sleep(time.Minute)
		before, memory := runtime.NumGoroutine(), allocated()
		for hour := range 24 {
			x.set("oxygen", []float64{5, 8}[hour%2])
			time.Sleep(time.Hour)
		}
		assert.Equal(t, before, runtime.NumGoroutine())
		assert.Less(t, allocated(), memory+8<<20)
		segments := x.segments()
		assert.InDelta(t, 25, len(segments), 1, "one an hour")
		s, err := x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.Zero(t, s.Late)
		assert.Empty(t, s.Fault)

		// What is older than it is kept for goes, segment by segment; the last one stays.
		kept := store.Retention{Journal: time.Hour, Capture: 3 * time.Hour, Bytes: 1 << 40}
		require.NoError(t, x.file.Forget(t.Context(), time.Now().UnixNano(), kept))
		segments = x.segments()
		assert.InDelta(t, 4, len(segments), 1)
		entries, err := x.file.Journal(t.Context(), job, store.JournalFilter{})
		require.NoError(t, err)
		assert.NotEmpty(t, entries)
		assert.Greater(t, entries[0].Number, int64(10), "numbers go on")
		require.NoError(
			t,
			x.file.Forget(t.Context(), time.Now().UnixNano(), store.Retention{Journal: time.Hour, Capture: 100 * time.Hour, Bytes: 1}),
		)
		segments = x.segments()
		assert.Len(t, segments, 1, "the one that goes on")
		x.stop()
	})
}

func allocated() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// A memory that cannot be read does not keep a job down: it listens, as from idle, is armed again, and says so. Where records are
// damaged, so that locks may be missing, somebody has to acknowledge that first.
func TestUnreadableMemory(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		x.halt()
		x.open()
		x.spoil = true
		x.start()
		x.spoil = false
		time.Sleep(3 * time.Second)
		s, err := x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.Equal(t, live.Armed, s.Mode, "it has listened, and does not stay down")
		assert.Contains(t, strings.Join(x.journal("service"), "\n"), "→listening: the memory cannot be read: going on from a memory: ")
		assert.Contains(t, x.journal("command"), "listening, revision 1→armed, revision 1: it was armed before its memory was lost")

		x.do(live.Request{Do: "off", Name: "feeder", Lock: "anna", Who: "anna"})
		x.set("oxygen", 8)
		x.halt()
		db, err := sql.Open("sqlite", "file:"+filepath.Join(x.folder, "plant.db"))
		require.NoError(t, err)
		_, err = db.Exec("UPDATE bypasses SET name = 'beacon' WHERE name = 'feeder'")
		require.NoError(t, errors.Join(err, db.Close()))
		for range 2 { // and over a restart
			x.open()
			x.start()
			time.Sleep(30 * time.Second)
			s, err = x.engine.Status(t.Context())
			require.NoError(t, err)
			assert.Equal(t, live.Listening, s.Mode)
			assert.Contains(t, s.Damage, "its register of bypasses is not as it was kept; locks may be missing")
			require.Len(t, x.alarms(), 1)
			assert.Contains(t, x.alarms()[0], "service.damaged, high, active, unacknowledged: its register of bypasses is not as it was kept")
			assert.Equal(t, 0.0, x.get("feeder"))
			x.halt()
		}
		x.open()
		x.start()
		time.Sleep(3 * time.Second)
		x.do(live.Request{Do: "acknowledge", Name: "service.damaged", Who: "ben"})
		time.Sleep(3 * time.Second)
		s, err = x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.Equal(t, live.Armed, s.Mode)
		assert.Empty(t, s.Damage)
		assert.Equal(t, 1.0, x.get("feeder"), "ben knows that it was locked, or nobody does")
		x.stop()
	})
}

// Outputs that do not come to rest put the job in fault: they go to what they fail to, the heartbeat ends, a person's off is
// obeyed, and arming anew ends it. It outlasts a restart.
func TestCircle(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(
			t,
			"job \"x\"\n  settle 1 s\ndevice rack modbus tcp \"127.0.0.1:1502\" unit 1\n  poll 500 ms\n  heartbeat coil 9 every 1 s\n"+
				"input k discrete\n  source rack discrete 0\noutput o\n  drives rack coil 0\n  fail on\noutput q\n  drives rack coil 1\n  fail on\n"+
				"rule r\n  on when k and not o\n  call o\nrule s\n  on when not k\n  call q\n",
		)
		status := func() live.Status {
			s, err := x.engine.Status(t.Context())
			require.NoError(t, err)
			return s
		}
		require.Empty(t, status().Fault)
		x.set("k", 1)
		time.Sleep(2 * time.Second)
		assert.Contains(t, status().Fault, "o and what looks at it switch each other to and fro")
		assert.Equal(t, []float64{1, 1}, []float64{x.get("o"), x.get("q")})
		before := x.beats()
		x.do(live.Request{Do: "off", Name: "q", Who: "anna"})
		x.kill(10 * time.Second)
		time.Sleep(5 * time.Second)
		assert.Equal(t, before, x.beats(), "the heartbeat has ended")
		assert.Contains(t, status().Fault, "o and what looks at it switch each other to and fro")
		assert.Equal(t, []float64{1, 0}, []float64{x.get("o"), x.get("q")}, "no `fail` starts what a person keeps off")
		x.set("k", 0)
		time.Sleep(2 * time.Second)
		assert.NotEmpty(t, status().Fault, "until it is armed again")
		x.arm()
		time.Sleep(2 * time.Second)
		assert.Empty(t, status().Fault)
		assert.Equal(t, 0.0, x.get("o"))
		assert.Greater(t, x.beats(), before)
		x.stop()
	})
}

// A service that restarts again and again says so, until it has run on for a while; and what a person has put in place is
// told of before it ends.
func TestRestlessService(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		x.do(live.Request{Do: "hand", Name: "feeder", Value: "on", For: 20 * time.Minute, Who: "anna"})
		active := func() (all []string) {
			alarms, err := x.engine.Alarms(t.Context(), false)
			require.NoError(t, err)
			for _, a := range alarms {
				all = append(all, a.Name+": "+a.Because)
			}
			return all
		}
		for n := range 3 {
			require.Empty(t, active(), n)
			x.kill(time.Minute)
			time.Sleep(5 * time.Second)
		}
		require.Len(t, active(), 1)
		assert.Regexp(t, `^service.restarts: the service was started 3 times since [\d:]+$`, active()[0])
		x.do(live.Request{Do: "acknowledge", Name: "service.restarts", Who: "anna"})
		assert.NotContains(t, strings.Join(x.journal("bypass"), "\n"), "ends soon")
		time.Sleep(12 * time.Minute)
		assert.Empty(t, active())
		assert.Regexp(t, `feeder hand→ends soon: it ends at [\d:]+`, strings.Join(x.journal("bypass"), "\n"))
		time.Sleep(6 * time.Minute)
		assert.Equal(t, "auto", x.point("feeder").Mode)
		x.stop()
	})
}

// Whoever asks an engine that hangs is told so, and does not hang with it.
func TestHangingEngine(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		x.clock.hang(true)
		time.Sleep(2 * time.Second)
		_, err := x.engine.Status(t.Context())
		require.ErrorIs(t, err, live.ErrSilent)
		_, err = x.engine.Do(t.Context(), live.Request{Do: "off", Name: "feeder"})
		require.ErrorIs(t, err, live.ErrSilent)
		x.clock.hang(false)
		time.Sleep(20 * time.Second)
		s, err := x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.Equal(t, live.Armed, s.Mode)
		assert.Contains(
			t,
			strings.Join(x.journal("service"), "\n"),
			"asleep→awake: the engine stood still for ",
			"it goes on as after a restart",
		)
		assert.Equal(t, "auto", x.point("feeder").Mode, "what was answered so is not done later")
		x.stop()
	})
}
