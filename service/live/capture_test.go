package live_test

import (
	"context"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/service/live"
	"rectura/service/records"
	"rectura/service/store"
)

// verify plays every segment of the capture, and holds it beside the journal.
func (x *plant) verify() (same int) {
	_, err := x.engine.Flush(context.Background())
	require.NoError(x.t, err)
	var v records.Verification
	require.NoError(x.t, x.file.Record(context.Background(), job, func(r *store.Record) (err error) {
		v, err = records.Verify(context.Background(), r, func(revision int64) (*logic.Program, error) {
			sheets, err := x.file.Sheets(context.Background(), job, revision)
			_, p, _ := logic.Check(sheets)
			return p, err
		}, 0, 1<<62, time.UTC)
		return err
	}))
	for _, d := range v.Differ[:min(len(v.Differ), 3)] {
		x.t.Errorf("the journal says %+v, the capture %+v", d.Journal, d.Capture)
	}
	assert.Empty(x.t, v.LeftOut)
	return v.Same
}

const lively = `job "Fry tank"
  settle 2 s
device rack modbus tcp "127.0.0.1:1502" unit 1
  poll 500 ms
input oxygen
  source rack input 0
  scale 0..1000 counts to 0..10 mg/L
  smooth average 4 samples
  alarm when bad for 3 s priority high
device field modbus tcp "127.0.0.1:1503" unit 1
  poll 500 ms
input mains discrete
  source rack discrete 0
  debounce 700 ms
input flow
  source field input 0
  unit L/s
setpoint oxygen_low 6 mg/L
  allow 4..9 mg/L
output blower
  drives rack coil 0
  called by any
  fail on
  minimum off 20 s
output valve analog 0..100 %
  drives rack holding 20
  called by highest
  fail 30 %
rule low
  on when oxygen < oxygen_low hysteresis 0.5 mg/L for 5 s
  off when oxygen > oxygen_low + 0.8 mg/L for 7 s
  interlock unless mains
  call blower, valve at 80 %
rule lost
  on when (rack is bad for 2 s) or (flow < 3 L/s and mains) or field is bad
  call blower
loop dosing
  keep oxygen at 7 mg/L
  acting reverse
  proportional band 3 mg/L
  integral 5 min
  every 1 s
  call valve
alarm dry
  on when oxygen falling faster than 0.5 mg/L per min over 30 s
  priority medium
  latch
  reset when mains turns on
`

// What was captured in an hour of random readings, faults, commands, a clock that is set and restarts, played on the bench,
// gives the journal: to the nanosecond and the word. HOURS says how many hours.
func TestCaptureIsLive(t *testing.T) {
	if raced {
		t.Skip("it is long, and is run without the race detector")
	}
	seeds := uint64(1)
	if n, err := strconv.ParseUint(os.Getenv("HOURS"), 10, 64); err == nil {
		seeds = n
	}
	for seed := range seeds {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 14))
			x := running(t, lively)
			oxygen, away, gone := 700.0, false, false
			for range 1200 {
				time.Sleep(time.Duration(random.IntN(6000)) * time.Millisecond)
				oxygen = min(max(oxygen+random.NormFloat64()*60, 300), 900)
				x.set("oxygen", float64(int(oxygen)))
				switch random.IntN(40) {
				case 0:
					x.set("mains", float64(random.IntN(2)))
				case 1:
					away = !away
					x.rack().Switch(!away)
				case 2: // what two devices say comes together, or one after the other
					x.rack().Take(time.Duration(random.IntN(300)) * time.Millisecond)
					x.field().Take(time.Duration(random.IntN(300)) * time.Millisecond)
				case 11:
					x.set("flow", float64(random.IntN(6)))
				case 12:
					gone = !gone
					x.field().Switch(!gone)
				case 3:
					x.clock.setBy(time.Duration(random.NormFloat64() * float64(time.Hour)))
				case 4:
					x.clock.setBy(time.Duration(random.NormFloat64() * float64(300*time.Millisecond)))
				case 5, 6, 7, 8:
					q := []live.Request{
						{Do: "hand", Name: "blower", Value: "on", For: 30 * time.Second}, {Do: "auto", Name: "blower"}, {Do: "off", Name: "valve"}, {Do: "auto", Name: "valve"},
						{Do: "set", Name: "oxygen_low", Value: "7 mg/L"}, {Do: "set", Name: "oxygen_low", Written: true},
						{Do: "pin", Name: "oxygen", Value: "5 mg/L", For: 20 * time.Second, Why: "cleaning"}, {Do: "acknowledge", Name: "dry"},
						{Do: "reset", Name: "dry"}, {Do: "shelve", Name: "dry", For: time.Minute, Why: "noise"},
					}[random.IntN(10)]
					if _, err := x.engine.Do(t.Context(), q); err != nil {
						require.ErrorIs(t, err, live.ErrRefused)
					}
				case 9:
					x.kill(time.Duration(random.IntN(60)) * time.Second)
				case 10:
					x.set("blower", float64(random.IntN(2))) // another master writes
				}
			}
			time.Sleep(15 * time.Second)
			assert.Greater(t, x.verify(), 200)
			s, err := x.engine.Status(t.Context())
			require.NoError(t, err)
			assert.Empty(t, s.Fault)
			x.stop()
		})
	}
}
