package live_test

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/live"
)

// A chiller has minimum times, a valve a range, and the horn an interlock of its own.
const chilled = `job "Hatching jars"
  settle 2 s
device rack modbus tcp "127.0.0.1:1502" unit 1
  poll 500 ms
input oxygen
  source rack input 0 real
  unit mg/L
input mains discrete
  source rack discrete 0
output chiller
  drives rack coil 0
  fail off
  minimum on 30 s
  minimum off 60 s
output valve analog 0..100 %
  drives rack holding 20
  fail 30 %
output horn
  drives rack coil 2
  fail hold
  interlock unless mains
rule cold
  on when oxygen < 6 mg/L
  call chiller, valve at 80 %
rule ring
  on when oxygen < 5 mg/L
  call horn
`

// Minimum times bind a person's off, too, and the answer says until when.
func TestMinimumTimesBindPeople(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, chilled)
		x.set("oxygen", 5.5)
		time.Sleep(10 * time.Second)
		require.Equal(t, 1.0, x.get("chiller"))
		a := x.do(live.Request{Do: "off", Name: "chiller", Who: "anna"})
		assert.Equal(t, "on", a.State)
		assert.Regexp(t, `^kept off by a person, but its minimum on of 30 s lasts until \d\d:\d\d:\d\d$`, a.Because)
		time.Sleep(15 * time.Second)
		assert.Equal(t, 1.0, x.get("chiller"))
		time.Sleep(10 * time.Second)
		assert.Equal(t, 0.0, x.get("chiller"))
		a = x.do(live.Request{Do: "hand", Name: "chiller", Value: "on", For: time.Hour, Who: "anna"})
		assert.Equal(t, "off", a.State)
		assert.Regexp(t, `^in hand: on, but its minimum off of 1 min lasts until \d\d:\d\d:\d\d$`, a.Because)
		x.stop()
	})
}

// Of a rack that is lost, off is taken and nothing else; what was decided meanwhile is written once it has settled, and the
// journal has both times. A minimum off runs from that write, for until then the plant had it on.
func TestWrittenLater(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, chilled)
		x.set("oxygen", 5.5)
		x.do(live.Request{Do: "hand", Name: "valve", Value: "50 %", For: time.Hour, Who: "anna"})
		time.Sleep(40 * time.Second)
		require.Equal(t, []float64{1, 50}, []float64{x.get("chiller"), x.get("valve")})
		assert.Empty(t, x.journal("write"), "what is written at once has no second time")

		x.rack().Switch(false)
		time.Sleep(time.Minute)
		x.refuses(live.Request{Do: "hand", Name: "valve", Value: "60 %", For: time.Hour},
			"valve cannot be written: "+x.point("valve").NotWritten+"; only off is taken")
		x.do(live.Request{Do: "off", Name: "chiller", Who: "anna"}) // which its fail state had done
		assert.Equal(t, 1.0, x.get("chiller"), "the plant has it as it was")
		before := x.since()
		x.set("oxygen", 5.4)
		x.rack().Switch(true)
		x.until(func() bool { return x.connected("rack") })
		time.Sleep(time.Second)
		assert.Equal(t, []string(nil), x.writtenAs(before, 1), "nothing is turned on before it has settled")
		assert.Equal(t, 0.0, x.get("chiller"), "a person's off does not wait")
		x.do(live.Request{Do: "auto", Name: "chiller", Who: "anna"})
		time.Sleep(50 * time.Second)
		assert.Equal(t, 0.0, x.get("chiller"))
		assert.Regexp(t, "minimum off of 1 min", x.point("chiller").Reason)
		time.Sleep(12 * time.Second)
		assert.Equal(t, 1.0, x.get("chiller"))
		require.Len(t, x.journal("write"), 1)
		assert.Regexp(t, `^chiller →off: decided at \d\d:\d\d:\d\d$`, x.journal("write")[0])
		assert.Equal(t, "hand", x.point("valve").Mode, "the plant still had it")
		assert.Positive(t, x.verify())
		x.stop()
	})
}

// Before it has settled, a job that comes back writes nothing but what a true interlock turns off.
func TestInterlockedWhileSettling(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, chilled)
		x.set("oxygen", 4)
		time.Sleep(40 * time.Second)
		require.Equal(t, 1.0, x.get("horn"))
		time.Sleep(100 * time.Millisecond) // between two polls
		x.set("mains", 0)                  // while nobody is there
		x.set("oxygen", 9)
		before := x.since()
		x.kill(0)
		time.Sleep(1900 * time.Millisecond)
		changed := x.written(before)
		require.Len(t, changed, 1, "%v", changed)
		assert.True(t, strings.HasSuffix(changed[0], " horn=0"), changed[0])
		time.Sleep(2 * time.Second)
		assert.Equal(
			t,
			[]float64{0, 0, 0},
			[]float64{x.get("chiller"), x.get("valve"), x.get("horn")},
			"then what is decided",
		)
		x.stop()
	})
}

// Minimum times go on over a kill.
func TestMinimumTimesOverAKill(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, chilled)
		x.set("oxygen", 5.5)
		time.Sleep(10 * time.Second)
		require.Equal(t, 1.0, x.get("chiller"))
		begun := x.since()
		x.set("oxygen", 7)
		x.kill(5 * time.Second)
		time.Sleep(10 * time.Second)
		assert.Equal(t, 1.0, x.get("chiller"), "its minimum on has not passed")
		time.Sleep(20 * time.Second)
		off := x.writtenAs(begun, 0)
		assert.Len(t, off, 2, "it and its valve: %v", off)
		x.set("oxygen", 5.5)
		time.Sleep(10 * time.Second)
		x.kill(5 * time.Second)
		time.Sleep(20 * time.Second)
		assert.Equal(t, 0.0, x.get("chiller"), "nor its minimum off")
		time.Sleep(40 * time.Second)
		assert.Equal(t, 1.0, x.get("chiller"))
		x.stop()
	})
}

// What outputs have done is counted over kills, and an output that is due for its service says so until somebody has seen to it.
func TestService(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(
			t,
			strings.NewReplacer("  minimum off 60 s\n", "  minimum off 60 s\n  service after 20 min\n", "poll 500 ms", "poll 5 s").
				Replace(chilled),
		)
		active := func() (all []string) {
			alarms, err := x.engine.Alarms(t.Context(), false)
			require.NoError(t, err)
			for _, a := range alarms {
				all = append(all, a.Name+" "+a.Priority+" "+a.State+": "+a.Because)
			}
			return all
		}
		for range 3 {
			x.set("oxygen", 5.5)
			time.Sleep(5 * time.Minute)
			x.set("oxygen", 7)
			time.Sleep(2 * time.Minute)
		}
		x.set("oxygen", 5.5)
		time.Sleep(90 * time.Second)
		x.kill(time.Minute)
		time.Sleep(2 * time.Minute)
		p := x.point("chiller")
		assert.Equal(t, int64(4), p.Starts)
		assert.InDelta(t, 18.5*60, p.OnFor, 65, "what nobody saw is not counted")
		assert.InDelta(t, 1.5*60, p.Due, 65)
		assert.Empty(t, active())
		time.Sleep(3 * time.Minute)
		require.Len(t, active(), 1)
		assert.Equal(
			t,
			"chiller.service low active, unacknowledged: chiller has been on for 20 min since its last service, and is due after 20 min",
			active()[0],
		)
		x.do(live.Request{Do: "acknowledge", Name: "chiller.service", Who: "anna"})
		x.kill(time.Minute)
		time.Sleep(time.Minute)
		require.Len(t, active(), 1)
		assert.Contains(t, active()[0], "active, acknowledged", "a restart asks nobody anew")
		a := x.do(live.Request{Do: "reset", Name: "chiller.service", Who: "ben", Why: "new belt"})
		assert.Regexp(t, `^2\d min .+ since its service$`, a.Before)
		assert.Empty(t, active())
		assert.InDelta(t, 20*60, x.point("chiller").Due, 1)
		x.refuses(
			live.Request{Do: "reset", Name: "chiller.service", Value: "now"},
			`chiller.service: reset takes no value, and "now" is one`,
		)
		x.set("oxygen", 7)
		time.Sleep(10 * time.Minute) // so that the service is not restless
		x.set("oxygen", 5.5)
		time.Sleep(time.Minute)
		x.kill(time.Minute)
		time.Sleep(14 * time.Minute)
		assert.Empty(t, active(), "it counts anew, over a kill")
		time.Sleep(8 * time.Minute)
		assert.Len(t, active(), 1)
		assert.Positive(t, x.verify())
		x.stop()
	})
}
