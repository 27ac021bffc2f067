package bench_test

import (
	"bytes"
	"flag"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/plot"
)

var update = flag.Bool("update", false, "draw docs/figures anew")

// The raceway answers the valve by the first order after a dead time.
const (
	racewayGain = 0.05 // mg/L for one per cent
	racewayLag  = 120  // seconds
	racewayDead = 10
	still       = 5.0 // mg/L with the valve shut
)

// racewayLoop is tuned for a time constant of its own of 40 s, by the rule of
// internal model control: gain = lag/(0.05·(40+10)) = 48 % per mg/L, integral =
// lag.
const (
	racewayTuned = 40
	racewayLoop  = `job "Raceway"
  settle 1 s
input oxygen
  scale 4..20 mA to 0..16 mg/L
  healthy 3.6..21 mA
setpoint oxygen_target 6.5 mg/L
output dosing "Oxygen dosing valve" analog 0..100 %
  fail 40 %
loop oxygen_dosing
  keep oxygen at oxygen_target
  acting reverse
  proportional band 2.0833333333333335 mg/L
  integral 120 s
  every 1 s
  call dosing
`
)

// raceway is the water, a second at a time.
type raceway struct {
	oxygen float64
	pipe   [racewayDead]float64 // the valve as it was
}

func (r *raceway) second(now int, valve float64) {
	i := now % racewayDead
	late := r.pipe[i]
	r.pipe[i] = valve
	end := still + racewayGain*late
	r.oxygen = end + (r.oxygen-end)*math.Exp(-1.0/racewayLag)
}

func find(p *logic.Program, name string) logic.Ref {
	r, found := p.Find(name)
	if !found {
		panic(name)
	}
	return r
}

// at is a command at a second.
func at(second int, c logic.Command) bench.Command {
	return bench.Command{At: int64(second) * 1e9, Command: c}
}

// The loop drives the raceway: a step of the target, a person's hand, a bad
// signal, and a target out of reach. Then its readings are replayed.
func TestLoopDrivesARaceway(t *testing.T) {
	const (
		hand, auto     = 600, 780
		bad, good      = 1500, 1560
		beyond, within = 2280, 2880
		end            = 3840
		target, step   = 6.5, 1.5
		gain, integral = 48.0, 120.0
		stepped        = racewayDead + 5*racewayTuned // a step of the target has passed,
		loaded         = racewayDead + 4*integral     // or what else drove the water away
	)
	p := compileJob(t, racewayLoop)
	valve := p.Index(logic.OutputKind, "dosing")
	commands := []bench.Command{
		at(hand, logic.Command{Do: logic.TakeInHand, Of: find(p, "dosing"), Value: 10}),
		at(auto, logic.Command{Do: logic.GiveBack, Of: find(p, "dosing")}),
		at(beyond, logic.Command{Do: logic.SetSetting, Of: find(p, "oxygen_target"), Value: 12}),
		at(within, logic.Command{Do: logic.SetSetting, Of: find(p, "oxygen_target"), Value: target}),
	}
	water, s := &raceway{oxygen: still}, logic.NewStepper(p)
	var file strings.Builder
	file.WriteString("time,oxygen [mA]\n")
	var oxygen, dosing []float64
	waiting := commands
	for now := 0; now <= end; now++ {
		mA := math.Round((4+water.oxygen)*1e6) / 1e6
		if now >= bad && now < good {
			mA = 2.4
		}
		fmt.Fprintf(&file, "%d,%g\n", now, mA)
		ns := int64(now) * 1e9
		for s.Next() < ns {
			_, err := s.Step(s.Next())
			require.NoError(t, err)
		}
		s.Read(ns, p.Index(logic.InputKind, "oxygen"), mA, 0)
		for len(waiting) > 0 && waiting[0].At == ns {
			s.Command(waiting[0].Command)
			waiting = waiting[1:]
		}
		_, err := s.Step(ns)
		require.NoError(t, err)
		oxygen, dosing = append(oxygen, water.oxygen), append(dosing, s.Level(valve))
		water.second(now, s.Level(valve))
	}
	// back holds that a loop that takes over at a time goes on from where the valve
	// stands, and that the water is at the target when the integral has had its time.
	back := func(t *testing.T, now int) {
		away := math.Abs(target - oxygen[now])
		assert.Greater(t, away, 0.1, "there is something to do")
		assert.InDelta(t, dosing[now-1], dosing[now], 1e-9)
		assert.InDelta(t, dosing[now], dosing[now+1], gain*(away/integral+math.Abs(oxygen[now+1]-oxygen[now]))+0.01, "one step of a second")
		for later := now + loaded; later < now+700; later++ {
			require.InDelta(t, target, oxygen[later], 0.05*away, "after %d s", later)
		}
	}

	t.Run("a step settles as it is tuned", func(t *testing.T) {
		assert.InDelta(t, gain*step, dosing[0], 0.01, "proportion acts at once")
		assert.InDelta(t, 0.632, (oxygen[racewayDead+racewayTuned]-still)/step, 0.05)
		for now := range hand {
			require.Less(t, oxygen[now], target+0.05*step, "overshoot after %d s", now)
			if now >= stepped {
				require.InDelta(t, target, oxygen[now], 0.02*step, "after %d s", now)
			}
		}
	})
	t.Run("back from hand without a bump", func(t *testing.T) {
		for now := hand; now < auto; now++ {
			require.Equal(t, 10.0, dosing[now])
		}
		back(t, auto)
	})
	t.Run("back from a bad signal without a bump", func(t *testing.T) {
		for now := bad; now < good; now++ {
			require.Equal(t, 40.0, dosing[now])
		}
		back(t, good)
	})
	t.Run("does not wind up", func(t *testing.T) {
		for now := beyond + 60; now < within; now++ {
			require.Equal(t, 100.0, dosing[now])
		}
		assert.Less(t, dosing[within], 1.0, "it leaves the limit as soon as the target is in reach")
		for now := within; now <= end; now++ {
			require.Greater(t, oxygen[now], target-0.1*step, "nor is it wound up at the other limit, after %d s", now)
			if now >= within+loaded+150 { // the water needs 145 s to fall with the valve shut
				require.InDelta(t, target, oxygen[now], 0.02*step, "after %d s", now)
			}
		}
	})

	r := record(t, file.String())
	result, err := bench.Replay(p, r, bench.Options{Commands: commands})
	require.NoError(t, err)
	for now, want := range dosing {
		level, known := result.Level(valve).Held(int64(now) * 1e9)
		require.True(t, known)
		require.Equal(t, want, level, "replayed, after %d s", now)
	}
	if *update {
		chart, err := plot.FromReplay(
			result,
			"Oxygen of a raceway, kept at 6.5 mg/L",
			"from 5 mg/L; by hand from 10 min to 13 min; no signal from 25 min to 26 min; a target of 12 mg/L, out of reach, from 38 min to 48 min",
		)
		require.NoError(t, err)
		var picture bytes.Buffer
		require.NoError(t, chart.SVG(&picture))
		require.NoError(t, os.WriteFile(filepath.Join("..", "..", "docs", "figures", "raceway_loop.svg"), picture.Bytes(), 0o644))
		picture.Reset()
		require.NoError(t, chart.PNG(&picture))
		require.NoError(t, os.WriteFile(filepath.Join(os.TempDir(), "raceway_loop.png"), picture.Bytes(), 0o644))
	}
}
