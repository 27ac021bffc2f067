package logic

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/sheet/sheettest"
)

// byServiceTime are the clauses whose time runs on while nobody runs the job.
var byServiceTime = regexp.MustCompile(`(?m)^[ ]+minimum (on|off)[^\n]*\n`)

// However long nobody ran a job, and whatever the plant did meanwhile, its answer is that to an outage of no length: nothing
// is proven while nobody looks.
func TestOutage(t *testing.T) {
	const week = int64(7 * 24 * 3600e9) // which leaves the time of day
	rapid.Check(t, func(t *rapid.T) {
		text := byServiceTime.ReplaceAllString(sheettest.Job(t), "")
		text = regexp.MustCompile(`(?m)^( +)pulse `).ReplaceAllString(text, "${1}off after ")
		p := compiled(t, text)
		all := events(t, p, moments(t, p))
		for i := range all {
			all[i].commands = nil // what people do ends by service time
		}
		at := rapid.IntRange(1, len(all)).Draw(t, "outage")
		var found []Stand
		for i := range p.Outputs {
			on := rapid.SampledFrom([]float64{0, 1}).Draw(t, "found")
			if o := &p.Outputs[i]; o.Analog() {
				found = append(found, o.FromWire(o.ToWire(Stand{Level: on * 40})))
			} else {
				found = append(found, Stand{State: onIf(on == 1)})
			}
		}
		outage := func(length int64) (out []string) {
			s, away := NewStepper(p), int64(0)
			step := func(t int64) {
				for _, c := range s.MustStep(t) {
					if from, to := p.States(c); away > 0 && c.Kind != MessageKind {
						out = append(out, fmt.Sprintf("%d %s %s→%s", t-away, p.Name(c.Ref), from, to))
					}
				}
			}
			for k, e := range all {
				for s.Next() < e.at+away {
					step(s.Next())
				}
				if k == at {
					away = length
					s.Restart()
					for o := range p.Outputs {
						s.Found(o, found[o])
					}
					step(s.now + length)
					for s.Next() < e.at+away {
						step(s.Next())
					}
				}
				for i, v := range e.readings {
					s.Read(e.at+away, i, v, 0)
				}
				step(e.at + away)
			}
			return out
		}
		require.Equal(t, outage(1), outage(week+1), text)
	})
}

// A delay that has not run out begins anew at a restart, whatever the level did meanwhile; one that has run out stays so.
func TestDelaysOverARestart(t *testing.T) {
	p := compiled(t, `job "Q2"
  settle 3 s
input level
  unit mm
output p1
  minimum off 8 s
  fail hold
rule r1
  on when level > 500 mm hysteresis 100 mm for 6 s
  off when level < 300 mm for 6 s
  call p1
rule r2
  on when level > 500 mm
  off after 6 s
`)
	s := NewStepper(p)
	at := func(t0 float64, level float64) []string {
		s.Read(int64(t0*1e9), 0, level, 0)
		return step(t, s, t0)
	}
	at(0, 200)
	require.Equal(t, []string{"r2 off→on: level 600 mm > 500 mm"}, at(10, 600))
	s.Restart() // killed after 2 s, and away for 10 s
	assert.Equal(t, []string{"r1 off→undecided: level is not read yet", "r2 on→undecided: level is not read yet"}, step(t, s, 22))
	assert.Equal(t, []string{"r1 undecided→off: decided again: level 600 mm > 500 mm from now on, and must last 6 s",
		"r2 undecided→on: decided again: level 600 mm > 500 mm"}, at(22.1, 600))
	assert.Empty(t, step(t, s, 28))
	assert.Equal(t, "r1 off→on: level 600 mm > 500 mm for 6 s", step(t, s, 28.1)[0])
	s.Restart()
	step(t, s, 100)
	assert.Equal(t, []string{"r1 undecided→on: decided again: level 600 mm >= 300 mm",
		"r2 undecided→on: decided again: level 600 mm > 500 mm"}, at(100.1, 600), "a delay that has run out stays so")
	at(110, 250)
	s.Restart()
	step(t, s, 200)
	at(200.1, 250)
	assert.Empty(t, step(t, s, 206))
	assert.Contains(t, strings.Join(step(t, s, 206.1), "\n"), "r1 on→off: level 250 mm < 300 mm for 6 s")
}

// A loop goes on from where its output stands, however long nobody ran it, and no period is longer than its own.
func TestLoopOverARestart(t *testing.T) {
	p := compiled(t, "job \"x\"\ninput x\n  unit mg/L\ndevice rack modbus tcp \"127.0.0.1:1502\" unit 1\noutput v analog 0..100 %\n  drives rack holding 0\n"+
		"  fail 20 %\nloop l\n  keep x at 8 mg/L\n  acting reverse\n  proportional band 10 mg/L\n  integral 60 s\n  every 1 s\n  call v\n")
	for _, c := range []struct {
		name string
		away func(s *Stepper)
	}{
		{"a restart", func(s *Stepper) {
			s.Restart()
			s.Found(0, s.Plant(0))
			step(t, s, 68)
		}},
		{"a pause", func(s *Stepper) { s.Pause(27.9e9) }},
		{"a cable that was out", func(s *Stepper) {
			rack := p.Index(InputKind, "rack")
			s.Fail(40.5e9, rack, "away")
			s.Fail(40.5e9, 0, "away")
			s.LoseDevice(rack)
			step(t, s, 40.5)
			require.Equal(t, 20.0, s.Level(0), "it fails, as far as the job knows")
			s.Resettle(68e9, rack)
			s.Found(0, s.Plant(0))
			assert.Equal(t, []string{"v 20 %→30 %: found so in the plant"}, step(t, s, 68))
			s.Read(68e9, rack, 1, 0)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := NewStepper(p)
			for k := range 41 {
				s.Read(int64(k)*1e9, 0, 6.2, 0)
				step(t, s, float64(k))
			}
			before := s.Level(0)
			require.InDelta(t, 30, before, 1)
			c.away(s)
			s.Read(68.05e9, 0, 6.2, 0)
			step(t, s, 68.05)
			assert.InDelta(t, before, s.Level(0), 0.31, "a period at most")
			step(t, s, 69.05)
			assert.InDelta(t, before, s.Level(0), 0.7)
		})
	}
}
