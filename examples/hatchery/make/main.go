// Command make writes the recordings of the Fennick trout hatchery: raw
// readings at 1 Hz of a raceway that exists only here. The same program always
// writes the same files.
//
// The raceway is one stirred volume. Its oxygen balance, per second:
//
//	dO/dt = inflow/volume · (O_in − O) − demand/volume + k·(O_sat − O)
//
// where k is the re-aeration through the surface and, while it runs, the
// blower. Saturation follows Elmore and Hayes (1960) for fresh water at sea
// level.
package main

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"log"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// The raceway.
const (
	volume       = 60_000 // L
	demandAtRest = 88     // mg/s of oxygen, some 1,500 kg of trout
	demandFed    = 34     // mg/s more, an hour after feeding
	surface      = 2.5e-5 // 1/s
	blowing      = 5.5e-4 // 1/s
)

// saturation is the oxygen that fresh water holds, in mg/L, at degrees Celsius.
func saturation(celsius float64) float64 {
	return 14.652 - 0.41022*celsius + 0.007991*celsius*celsius - 0.000077774*celsius*celsius*celsius
}

// A plant is the raceway and what stands round it, at one moment.
type plant struct {
	rng *rand.Rand

	oxygen, temperature, inflow, filter, ph, hopper float64 // in engineering units

	pump, blower, feeding, backwash bool
	digesting                       float64 // 0 to 1: how much of the last meal still burns
	spring                          float64 // oxygen of the inflow, mg/L
	mains, hatchShut                bool
	oxygenLoop                      float64 // 1 whole, 0 broken
	starting                        bool    // the oxygen transmitter, which gives a constant current
	hopperNoise                     float64 // kg
}

func newPlant(seed uint64) *plant {
	return &plant{
		rng: rand.New(rand.NewPCG(seed, 1862)), oxygen: 7.6, temperature: 10.8, inflow: 42, filter: 12, ph: 7.25, hopper: 310,
		pump: true, spring: 9.9, mains: true, hatchShut: true, oxygenLoop: 1, hopperNoise: 0.15,
	}
}

// second lets one second pass.
func (p *plant) second() {
	wanted := 42.0
	if !p.pump {
		wanted = 3 // what leaks past the closed flap
	}
	p.inflow += (wanted - p.inflow) / 25
	demand := demandAtRest + demandFed*p.digesting
	k := surface
	if p.blower {
		k += blowing
	}
	p.oxygen += p.inflow/volume*(p.spring-p.oxygen) - demand/volume + k*(saturation(p.temperature)-p.oxygen)
	if p.feeding {
		p.digesting += (1 - p.digesting) / 1800
		p.hopper -= 0.012
	} else {
		p.digesting -= p.digesting / 5400
	}
	// The fish's carbon dioxide pulls the pH down where the water stands.
	p.ph += (7.3 - 0.012*(42-p.inflow) - 0.06*p.digesting - p.ph) / 900
	if p.backwash {
		p.filter -= (p.filter - 5) / 40
	} else {
		p.filter += 0.0045 * p.inflow / 42 * (1 + 0.3*p.digesting)
	}
	if p.filter > 36.2 {
		p.backwash = true
	} else if p.filter < 6.5 {
		p.backwash = false
	}
}

func (p *plant) noise(sigma float64) float64 { return p.rng.NormFloat64() * sigma }

// counts is what the 12-bit card reads of a 4–20 mA signal.
func counts(milliamps float64) int {
	return int(math.Round(math.Min(math.Max(milliamps/20*4095, 0), 4095)))
}

// pt1000 is the resistance of the thermometer, in ohms, above 0 °C (IEC 60751).
func pt1000(celsius float64) float64 {
	return 1000 * (1 + 3.9083e-3*celsius - 5.775e-7*celsius*celsius)
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

const heading = "time,oxygen,temperature,inflow,filter_dp,ph,hopper,mains,hatch_open"

// row is the readings of one second, as they come off the cards.
func (p *plant) row(t time.Time) string {
	oxygen := 4 + 16*(p.oxygen+p.noise(0.045))/20
	if p.oxygenLoop < 1 {
		oxygen = oxygen*p.oxygenLoop + math.Abs(p.noise(0.02))
	}
	if p.starting {
		oxygen = 2.4
	}
	ohms := pt1000(p.temperature + p.noise(0.02))
	inflow := 4 + 16*(p.inflow+p.noise(0.5))/80
	volts := (p.filter + p.noise(0.35)) / 60 * 10
	return fmt.Sprintf("%s,%d,%d,%d,%d,%.2f,%.1f,%d,%d", t.Format(time.RFC3339Nano), counts(oxygen),
		int(math.Round(ohms*10)), counts(inflow), int(math.Round(volts/20*65535)), p.ph+p.noise(0.012),
		p.hopper+p.noise(p.hopperNoise), bit(p.mains), bit(p.hatchShut))
}

// A story is what happens in one recording, second by second.
type story struct {
	name  string
	start string
	hours int
	seed  uint64
	did   bool // the recording has what the plant did with the blower, too
	late  int  // milliseconds by which a busy logger may stamp a row late
	begin func(*plant)
	tell  func(p *plant, second int)
}

// at is a time of the story in seconds.
func at(hours, minutes, seconds int) int { return (hours*60+minutes)*60 + seconds }

var stories = []story{
	{
		// The oxygen transmitter has only just been switched on and needs four
		// seconds. The spring's oxygen falls towards morning; the inflow pump trips at
		// 02:14 and is started again at 02:52. The watchman starts the blower by
		// hand at 02:41. A short dip of the mains at 03:30.
		name: "night.csv", start: "2026-03-01T22:00:00Z", hours: 6, seed: 11,
		begin: func(p *plant) { p.digesting, p.filter = 0.7, 21 },
		tell: func(p *plant, s int) {
			hour := float64(s) / 3600
			p.temperature = 10.8 - 0.18*hour
			p.spring = 9.9 - 0.75*(1-math.Cos(math.Pi*hour/6))/2
			p.pump = s < at(4, 14, 0) || s >= at(4, 52, 0)
			p.blower = s >= at(4, 41, 0) && s < at(5, 20, 0)
			p.mains = s < at(5, 30, 0) || s >= at(5, 30, 25)
			p.starting = s < 4
		},
	},
	{
		// The inflow pump trips twice, for 26 and for 7 minutes. The watchman
		// starts the blower by hand ten minutes after the rule would, and stops it
		// late.
		name: "pump-trip.csv", start: "2026-03-09T02:00:00Z", hours: 2, seed: 53, did: true,
		begin: func(p *plant) { p.digesting, p.filter, p.oxygen, p.spring = 0.6, 14, 7.0, 9.3 },
		tell: func(p *plant, s int) {
			p.temperature = 11.2 - 0.1*float64(s)/3600
			p.pump = !(s >= at(0, 14, 0) && s < at(0, 40, 0) || s >= at(1, 15, 0) && s < at(1, 22, 0))
			p.blower = s >= at(0, 36, 0) && s < at(1, 5, 0)
		},
	},
	{
		// A loose clamp in the oxygen loop: two short breaks, then a long one of
		// a quarter of an hour; the hatch is opened for a look.
		name: "broken-loop.csv", start: "2026-03-04T09:00:00Z", hours: 2, seed: 23, late: 180,
		begin: func(p *plant) { p.feeding, p.digesting, p.filter = true, 0.4, 9 },
		tell: func(p *plant, s int) {
			p.temperature = 9.6 + 0.2*float64(s)/3600
			p.oxygenLoop = 1
			switch {
			case s >= at(0, 31, 0) && s < at(0, 31, 3), s >= at(0, 38, 20) && s < at(0, 38, 28):
				p.oxygenLoop = 0.1
			case s >= at(0, 52, 0) && s < at(1, 7, 0):
				p.oxygenLoop = 0
			}
			p.hatchShut = s < at(1, 24, 0) || s >= at(1, 29, 30)
		},
	},
	{
		// The hopper empties past its refill weight while the feeder shakes the
		// load cell; it is refilled at 16:20.
		name: "hopper.csv", start: "2026-03-05T13:30:00Z", hours: 3, seed: 37,
		begin: func(p *plant) { p.hopper, p.hopperNoise, p.filter = 158, 1.1, 16 },
		tell: func(p *plant, s int) {
			p.temperature = 10.4 + 0.5*math.Sin(math.Pi*float64(s)/10800)
			p.feeding = s%1800 < 1200
			p.hopperNoise = 0.15
			if p.feeding {
				p.hopperNoise = 1.1
			}
			if s >= at(2, 50, 0) && s < at(2, 53, 0) {
				p.hopper += 1.4
			}
		},
	},
}

// write writes one recording.
func write(folder string, s story) (err error) {
	start, err := time.Parse(time.RFC3339, s.start)
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(folder, s.name))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	w := bufio.NewWriter(f)
	w.WriteString(heading) // a bufio.Writer keeps its first error for Flush
	if s.did {
		w.WriteString(",blower")
	}
	w.WriteString("\n")
	p := newPlant(s.seed)
	s.begin(p)
	for second := 0; second <= s.hours*3600; second++ {
		s.tell(p, second)
		p.second()
		stamp := start.Add(time.Duration(second) * time.Second)
		if s.late > 0 && second > 0 {
			stamp = stamp.Add(time.Duration(p.rng.IntN(s.late)) * time.Millisecond)
		}
		w.WriteString(p.row(stamp))
		if s.did {
			fmt.Fprintf(w, ",%d", bit(p.blower))
		}
		w.WriteString("\n")
	}
	return w.Flush()
}

func main() {
	folder := flag.String("o", "examples/hatchery/recordings", "the folder to write to")
	flag.Parse()
	for _, s := range stories {
		if err := write(*folder, s); err != nil {
			log.Fatalf("writing %s: %v", s.name, err)
		}
	}
}
