package live_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	vendor "github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/service/device"
	"rectura/service/live"
)

func (x *plant) plan(r *live.Revision) live.Plan {
	p, err := x.engine.Plan(context.Background(), r)
	require.NoError(x.t, err)
	return p
}

// blind has the rack refuse to read an output back.
func (x *plant) blind(name string) {
	b, w := x.wire(name)
	b.RefuseReads(w.Table, w.Address, vendor.ErrIllegalDataAddress)
}

// takesOver is another revision of the job, over the same rack.
func (x *plant) takesOver(text string) *live.Revision {
	p, sources := program(x.t, text)
	x.other = p
	return &live.Revision{Number: 2, Program: p, Sources: sources, Drivers: func() ([]device.Driver, error) { return x.drivers(p), nil }}
}

// A plan says what would move; where that has changed until somebody agrees, there is another plan. An output that cannot be
// read is listed as unknown, and is written.
func TestPlans(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := newPlant(t, chilled)
		x.set("oxygen", 5.5)
		x.blind("valve")
		x.start()
		time.Sleep(time.Second)
		assert.Equal(t, "the job has not settled yet", x.plan(x.revision()).Waiting)
		time.Sleep(2 * time.Second)
		plan := x.plan(x.revision())
		assert.Empty(t, plan.Waiting)
		var moves []string
		for _, m := range plan.Moves {
			moves = append(moves, fmt.Sprintf("%s %s→%s, unknown %t: %s", m.Output, m.From, m.To, m.Unknown, m.Because))
		}
		assert.Equal(t, []string{
			"chiller off→on, unknown false: called by cold", "valve unknown→80 %, unknown true: called by cold",
		}, moves)
		assert.Equal(t, plan.Number, x.plan(x.revision()).Number, "as long as it would do the same")
		x.set("oxygen", 7)
		time.Sleep(time.Second)
		changed, _, err := x.engine.Arm(t.Context(), x.revision(), live.Agreement{Plan: plan.Number})
		require.NoError(t, err)
		require.NotNil(t, changed)
		assert.NotEqual(t, plan.Number, changed.Number)
		assert.Len(t, changed.Moves, 1, "the unknown alone")
		assert.Empty(t, x.log(), "nothing was done")
		_, _, err = x.engine.Arm(t.Context(), x.revision(), live.Agreement{Plan: changed.Number})
		require.NoError(t, err)
		time.Sleep(time.Second)
		assert.Contains(t, x.written(0), "4.002 valve=0")
		assert.Empty(t, x.writtenAs(0, 1))
		x.refuses(
			live.Request{Do: "hand", Name: "chiller", Value: "on", For: 5 * time.Hour},
			"hand lasts for 4 h at the most, and 5 h was asked for",
		)
		x.stop()
	})
}

// An output that a loop moves all the time asks nobody anew, unless it has gone far meanwhile.
func TestPlanOfALoop(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, looped)
		x.set("oxygen", 7)
		x.set("flow", 5)
		time.Sleep(time.Minute)
		r := x.takesOver(strings.Replace(looped, "flow < 3", "flow < 6", 1))
		plan := x.plan(r)
		require.Equal(t, "pump", plan.Moves[len(plan.Moves)-1].Output)
		for range 10 { // somebody reads it
			time.Sleep(1300 * time.Millisecond)
			assert.Equal(t, plan.Number, x.plan(r).Number)
		}
		x.set("oxygen", 2)
		time.Sleep(10 * time.Second)
		assert.Equal(t, plan.Number, x.plan(r).Number, "it follows from where it stands")
		x.set("flow", 8)
		time.Sleep(time.Second)
		assert.NotEqual(t, plan.Number, x.plan(r).Number, "the pump does not move any more")
		x.stop()
	})
}

// A first arming waits for a delay that may decide an output which the plant has otherwise, and for 5 minutes at the most.
func TestListensFirst(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := newPlant(t, strings.Replace(tank, "for 45 s", "for 10 min", 1))
		x.set("oxygen", 5)
		x.set("blower", 1)
		x.start()
		time.Sleep(4 * time.Minute)
		assert.Equal(t, "a delay runs in what calls blower, which the plant has on", x.plan(x.revision()).Waiting)
		time.Sleep(61 * time.Second)
		plan := x.plan(x.revision())
		assert.Empty(t, plan.Waiting)
		require.Len(t, plan.Moves, 1)
		assert.Equal(t, "blower on off", plan.Moves[0].Output+" "+plan.Moves[0].From+" "+plan.Moves[0].To, "it is told")
		x.stop()
	})
}

// An output that is proven goes back to what it was, at the end of 10 minutes at the most: where that cannot be read to its
// fail state. Its own interlock is obeyed.
func TestProving(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := newPlant(t, chilled)
		x.set("horn", 1)
		x.set("valve", 12)
		x.blind("valve")
		x.start()
		time.Sleep(3 * time.Second)
		x.refuses(
			live.Request{Do: "hand", Name: "valve", Value: "60 %", For: time.Hour},
			"hand lasts for 10 min at the most, and 1 h was asked for",
		)
		a := x.do(live.Request{Do: "hand", Name: "valve", Value: "60 %"})
		assert.Equal(t, "60 %", a.State)
		x.refuses(live.Request{Do: "off", Name: "chiller"},
			"the job listens and writes one output at a time: take it in hand instead, hand chiller off")
		time.Sleep(9 * time.Minute)
		assert.Equal(t, 60.0, x.get("valve"))
		time.Sleep(61 * time.Second)
		assert.Equal(t, 30.0, x.get("valve"), "its fail state")

		x.do(live.Request{Do: "hand", Name: "horn", Value: "off", For: time.Minute})
		time.Sleep(time.Second)
		assert.Equal(t, 0.0, x.get("horn"))
		time.Sleep(time.Minute)
		assert.Equal(t, 1.0, x.get("horn"), "it has back what it had")
		x.do(live.Request{Do: "hand", Name: "horn", Value: "off", For: time.Minute})
		time.Sleep(time.Second)
		x.set("mains", 0)
		time.Sleep(time.Minute)
		assert.Equal(t, 0.0, x.get("horn"), "but for its interlock")
		for _, w := range x.log() {
			assert.NotEqual(t, "chiller", w.point, "nobody has touched it")
		}
		x.stop()
	})
}

// Outputs are left at their fail states, off, or as they are; minimum times are passed, own interlocks obeyed, hands end, and
// what a person keeps off stays so.
func TestDisarming(t *testing.T) {
	for to, want := range map[live.Parting][]float64{live.ToFail: {0, 30, 1}, live.ToOff: {0, 0, 0}, live.ToHold: {1, 80, 1}} {
		t.Run(string(to), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				x := running(t, chilled)
				x.set("oxygen", 4)
				time.Sleep(5 * time.Second) // within its minimum on
				require.Equal(t, []float64{1, 80, 1}, []float64{x.get("chiller"), x.get("valve"), x.get("horn")})
				beats := 0
				left, kept, err := x.engine.Disarm(t.Context(), to, "anna", "the jars are empty")
				require.NoError(t, err)
				assert.True(t, kept)
				assert.Empty(t, left)
				assert.Equal(
					t,
					want,
					[]float64{x.get("chiller"), x.get("valve"), x.get("horn")},
					"it answers when it is read back",
				)
				beats = x.beats()
				s, err := x.engine.Status(t.Context())
				require.NoError(t, err)
				assert.Equal(t, live.Listening, s.Mode)
				time.Sleep(time.Minute)
				assert.Equal(t, want, []float64{x.get("chiller"), x.get("valve"), x.get("horn")})
				assert.Equal(t, beats, x.beats())
				assert.Contains(t, x.journal("command"), "armed, revision 1→listening, outputs to "+string(to)+": the jars are empty")
				x.kill(time.Second)
				time.Sleep(10 * time.Second)
				assert.Equal(
					t,
					want,
					[]float64{x.get("chiller"), x.get("valve"), x.get("horn")},
					"nor does a restart move them",
				)
				x.stop()
			})
		})
	}
	synctest.Test(t, func(t *testing.T) {
		x := running(t, chilled)
		x.set("oxygen", 4)
		time.Sleep(40 * time.Second)
		x.do(live.Request{Do: "hand", Name: "chiller", Value: "on"})
		x.do(live.Request{Do: "off", Name: "valve", Lock: "anna", Who: "anna"})
		x.bank().Stick("coil", 0, true)
		x.set("mains", 0)
		time.Sleep(2 * time.Second)
		left, _, err := x.engine.Disarm(t.Context(), live.ToFail, "anna", "")
		require.NoError(t, err)
		assert.Equal(t, []string{"chiller"}, left, "what is not read back is named")
		assert.Equal(t, []float64{0, 0}, []float64{x.get("valve"), x.get("horn")}, "kept off, and interlocked")
		by, err := x.engine.Bypasses(t.Context())
		require.NoError(t, err)
		require.Len(t, by, 1)
		assert.Equal(t, "valve lock", by[0].Name+" "+by[0].Kind, "the hand has ended")
		x.stop()
	})
}

const looped = `job "Jars"
  settle 2 s
device rack modbus tcp "127.0.0.1:1502" unit 1
  poll 500 ms
input oxygen
  source rack input 0 real
  unit mg/L
input flow
  source rack input 2 real
  unit L/s
output valve analog 0..100 %
  drives rack holding 20
  fail hold
output pump
  drives rack coil 0
  fail off
loop dosing
  keep oxygen at 8 mg/L
  acting reverse
  proportional band 10 mg/L
  integral 10 min
  every 1 s
  call valve
rule pumping
  on when flow < 3 L/s
  call pump
`

// A loop that is tuned otherwise starts from where its output stands, and one without an integral may jump, which is listed. An
// input that is wired elsewhere is not read yet, and what depends on it settles anew: nothing that need not move moves.
func TestRetuned(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, looped)
		x.set("oxygen", 7)
		x.set("flow", 2)
		time.Sleep(3 * time.Minute)
		had := x.get("valve")
		require.InDelta(t, 15, had, 10)
		require.Equal(t, 1.0, x.get("pump"))
		other := strings.NewReplacer("proportional band 10", "proportional band 4", "input 2 real\n", "input 4 real\n").Replace(looped)
		r := x.takesOver(other)
		plan := x.ready(r)
		assert.Empty(t, plan.Moves, "it goes on from where it stands")
		assert.Equal(
			t,
			[]string{
				"flow: its source, its chain or its filters have changed: it is not read yet",
				"dosing: it works otherwise: it starts from where its output stands",
			},
			plan.Changes,
		)
		_, _, err := x.engine.Arm(t.Context(), r, live.Agreement{Plan: plan.Number, Who: "anna"})
		require.NoError(t, err)
		time.Sleep(5 * time.Second)
		assert.InDelta(t, had, x.get("valve"), 1, "without a bump")
		assert.Equal(t, 1.0, x.get("pump"))
		for _, w := range x.log() {
			assert.False(t, w.point == "pump" && w.value == 0, "it is never written off")
		}
		time.Sleep(11 * time.Second)
		assert.Positive(t, x.verify())
		x.stop()
	})
	synctest.Test(t, func(t *testing.T) {
		x := running(t, looped)
		x.set("oxygen", 7)
		x.set("flow", 2)
		time.Sleep(3 * time.Minute)
		plan := x.plan(x.takesOver(strings.Replace(looped, "  integral 10 min\n", "  bias 50 %\n", 1)))
		assert.Contains(t, plan.Changes, "dosing: it works otherwise and has no integral: it starts anew, and its output may jump")
		require.Len(t, plan.Moves, 1)
		assert.Equal(t, "valve", plan.Moves[0].Output)
		x.stop()
	})
}

// Where the plant has an output that was dropped or is wired elsewhere, it is left at its old fail state; the new wire is
// written when the job has settled.
func TestWiredElsewhere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, looped)
		x.set("flow", 2)
		time.Sleep(5 * time.Second)
		require.Equal(t, 1.0, x.get("pump"))
		r := x.takesOver(strings.Replace(looped, "drives rack coil 0", "drives rack coil 7", 1))
		assert.Equal(t, "rack is being read for the first time", x.plan(r).Waiting)
		plan := x.takes(r)
		assert.Equal(t, []string{"pump: rack coil 0 → rack coil 7: rack coil 0 is written off; of the new one, it stands at 0"}, plan.Wires)
		time.Sleep(10 * time.Second)
		assert.Equal(t, 0.0, x.get("pump"), "the coil 0")
		assert.True(t, x.bank().Bit("coil", 7))
		x.stop()
	})
}

// Service time goes on where the machine's clock is behind what is kept, until it is set; and the journal says that nobody
// knows for how long it was away.
func TestClockBehind(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		x.set("oxygen", 5)
		time.Sleep(50 * time.Second)
		require.Equal(t, 1.0, x.get("blower"))
		before, err := x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.True(t, before.Synchronised && before.SynchronisedKnown)
		x.stop()
		x.clock.setBy(-1000 * time.Hour) // a battery that is empty
		time.Sleep(10 * time.Second)
		x.open()
		x.start()
		time.Sleep(5 * time.Second)
		s, err := x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.Greater(t, s.Clock, before.Clock, "it never goes back")
		assert.False(t, s.Synchronised)
		assert.Contains(
			t,
			strings.Join(x.journal("service"), "\n"),
			"nobody was there, for how long is not known: the machine's clock is behind what was kept",
		)
		assert.Equal(t, 1.0, x.get("blower"))
		x.clock.setBy(1000 * time.Hour)
		time.Sleep(5 * time.Second)
		assert.Len(t, x.journal("clock"), 1)
		s, err = x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.InDelta(t, time.Now().UnixNano(), s.Clock, 1e9)

		// A small difference is approached, by 1 ms a second.
		x.clock.setBy(500 * time.Millisecond)
		time.Sleep(100 * time.Second)
		s, err = x.engine.Status(t.Context())
		require.NoError(t, err)
		assert.InDelta(t, 100e6, s.Clock-time.Now().UnixNano(), 20e6)
		assert.Len(t, x.journal("clock"), 1)
		assert.Positive(t, x.verify())
		x.stop()
	})
}

// What is decided is kept at once; where there are readings alone, after 10 s.
func TestKeptSoon(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := running(t, tank)
		kept := func() (n int) {
			for _, s := range x.segments() {
				n += len(s.Stretches)
			}
			return n
		}
		time.Sleep(time.Minute)
		before := kept()
		time.Sleep(time.Minute)
		assert.InDelta(t, 6, kept()-before, 1, "every 10 s")
		before = kept()
		x.set("button", 1)
		time.Sleep(501 * time.Millisecond)
		synctest.Wait()
		assert.Contains(t, x.journal(logic.RuleKind.String()), "latched off→on: button is on")
		assert.Greater(t, kept(), before)
		x.stop()
	})
}
