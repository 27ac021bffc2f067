package logic

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const plantJob = `job "Fry tank"
device rack modbus tcp "127.0.0.1:1502" unit 1
input oxygen
  source rack holding 0
  unit mg/L
  alarm when bad priority critical
input mains discrete
output blower
  drives rack coil 0
  fail on
  minimum off 20 s
output horn
  drives rack coil 1
  fail off
  inverted
  interlock unless mains
output valve analog 0..100 %
  called by highest
  drives rack holding 2
  scale 0..100 % to 0..1000 counts
  fail 30 %
rule low
  on when oxygen < 6 mg/L for 45 s
  call blower, horn, valve at 80 %
rule lost
  on when rack is bad
  call valve at 10 %
`

// step makes an instant and gives its transitions in words.
func step(t *testing.T, s *Stepper, at float64) (out []string) {
	changes, err := s.Step(int64(at * 1e9))
	require.NoError(t, err)
	for _, c := range changes {
		from, to := s.p.States(c)
		out = append(out, fmt.Sprintf("%s %s→%s: %s", s.p.Name(c.Ref), from, to, s.p.Sentence(c, nil)))
	}
	return out
}

func TestListening(t *testing.T) {
	p := compiled(t, plantJob)
	s := NewStepper(p)
	oxygen, mains := p.Index(InputKind, "oxygen"), p.Index(InputKind, "mains")
	blower, horn, valve := p.Index(OutputKind, "blower"), p.Index(OutputKind, "horn"), p.Index(OutputKind, "valve")
	on, off := Stand{State: On}, Stand{State: Off}
	s.Listen(true)
	s.Read(0, oxygen, 5, 0)
	s.Read(0, mains, 1, 0)
	s.Found(blower, on)
	s.Found(horn, off)
	s.Found(valve, p.Outputs[valve].FromWire(400))
	assert.Equal(t, []string{"blower off→on: found so in the plant", "valve 0 %→40 %: found so in the plant"}, step(t, s, 0))
	assert.Equal(t, off, s.Standing(Ref{OutputKind, int32(blower)}).To, "its rule still waits")
	assert.True(t, s.Delayed(blower), "for its on-delay")
	assert.Equal(t, []string{"low off→on: oxygen 5 mg/L < 6 mg/L for 45 s"}, step(t, s, 45))
	assert.Equal(t, on, s.Standing(Ref{OutputKind, int32(blower)}).To)
	assert.False(t, s.Delayed(blower))
	_, now := s.Drive(blower)
	assert.False(t, now, "nothing is written")

	command := func(do, name, value string, d int64) {
		c, err := p.Command(do, name, value)
		require.NoError(t, err)
		c.For = d
		_, err = s.Command(c)
		require.NoError(t, err)
	}
	command("hand", "horn", "on", 60e9)
	assert.Equal(t, []string{"horn off→on: in hand: on"}, step(t, s, 50))
	to, now := s.Drive(horn)
	assert.True(t, now, "it alone is written")
	assert.Zero(t, p.Outputs[horn].ToWire(to), "inverted on the wire")
	s.Found(horn, on)
	assert.Equal(t, []string{"horn on→off: found so in the plant"}, step(t, s, 110), "what it had before the hand")
	_, now = s.Drive(horn)
	assert.True(t, now, "it is given back")
	s.Found(horn, off)
	assert.Empty(t, step(t, s, 111))
	_, now = s.Drive(horn)
	assert.False(t, now)

	again, lost, err := Resume(p, s.Save(false))
	require.NoError(t, err)
	assert.Empty(t, lost)
	assert.True(t, again.Listening())
	again.Listen(false)
	assert.Equal(t, []string{"horn off→on: called by low", "valve 40 %→80 %: called by low"}, step(t, again, 112), "what arming moves")
}

func TestRestartFindsOutputs(t *testing.T) {
	p := compiled(t, plantJob)
	oxygen, mains := p.Index(InputKind, "oxygen"), p.Index(InputKind, "mains")
	blower, horn, valve := p.Index(OutputKind, "blower"), p.Index(OutputKind, "horn"), p.Index(OutputKind, "valve")
	begin := func() *Stepper {
		s := NewStepper(p)
		s.Read(0, oxygen, 5, 0)
		s.Read(0, mains, 1, 0)
		step(t, s, 0)
		step(t, s, 45)
		require.Equal(t, On, s.stand(int32(blower)).State)
		again, _, err := Resume(p, s.Save(false))
		require.NoError(t, err)
		again.Restart()
		return again
	}
	s := begin()
	s.Found(blower, Stand{State: On})
	assert.Equal(t, []string{"low on→undecided: oxygen is not read yet"}, step(t, s, 60), "and the outputs stay")
	to, now := s.Drive(blower)
	assert.Equal(t, Stand{State: On}, to)
	assert.False(t, now, "until it has settled")
	s.Read(61e9, oxygen, 5, 0)
	s.Read(61e9, mains, 1, 0)
	step(t, s, 61)
	assert.Empty(t, step(t, s, 65))
	_, now = s.Drive(blower)
	assert.True(t, now)

	s = begin() // the plant has lost it
	s.Found(blower, Stand{State: Off})
	s.Read(60e9, oxygen, 5, 0)
	s.Read(60e9, mains, 1, 0)
	assert.Equal(t, []string{"blower on→off: found so in the plant"}, step(t, s, 60), "its minimum off runs from the restart")
	assert.Equal(t, []string{"blower off→on: called by low, once its minimum off of 20 s had passed"}, step(t, s, 80))

	s = begin() // an interlock that is true turns off before it has settled
	s.Found(horn, Stand{State: On})
	s.Read(60e9, mains, 0, 0)
	assert.Contains(t, step(t, s, 60), "horn on→off: interlocked: mains is off")
	_, now = s.Drive(horn)
	assert.True(t, now)

	for _, c := range []struct {
		output    int
		do, value string
		plant     Stand
		mode      Mode
		ended     bool
	}{
		{blower, "hand", "on", Stand{State: On}, HandOn, false},
		{blower, "hand", "on", Stand{State: Off}, Auto, true},
		{horn, "hand", "on", Stand{State: Off}, Stood, true},
		{blower, "off", "", Stand{State: On}, Stood, false},
		{valve, "hand", "55 %", p.Outputs[valve].FromWire(550), HandAt, false},
		{valve, "hand", "55 %", p.Outputs[valve].FromWire(549), Auto, true},
	} {
		x, err := p.Command(c.do, p.Outputs[c.output].Name, c.value)
		require.NoError(t, err)
		before := NewStepper(p)
		before.Read(0, mains, 1, 0)
		step(t, before, 0)
		_, err = before.Command(x)
		require.NoError(t, err)
		step(t, before, 1)
		s, _, err := Resume(p, before.Save(false))
		require.NoError(t, err)
		s.Restart()
		s.Found(c.output, c.plant)
		step(t, s, 60)
		assert.Equal(t, c.mode, s.Mode(c.output), "%+v", c)
	}
}

// What a device says instead of a reading stands in every sentence about it, and is kept.
func TestFail(t *testing.T) {
	p := compiled(t, plantJob)
	s := NewStepper(p)
	oxygen, rack := p.Index(InputKind, "oxygen"), p.Index(InputKind, "rack")
	s.Read(0, oxygen, 7, 0)
	assert.Empty(t, step(t, s, 0))
	why := "rack does not answer since 02:14:05"
	s.Fail(10e9, rack, why)
	s.Fail(10e9, oxygen, why)
	assert.Equal(t, []string{
		"oxygen good→bad: " + why, "rack good→bad: " + why,
		"low off→undecided: oxygen is bad: " + why, "lost off→on: rack is bad: " + why,
		"oxygen.bad normal→active: oxygen is bad: " + why, "rack.lost normal→active: rack is bad: " + why,
		"blower off→on: low undecided: fails to on", "valve 0 %→10 %: called by lost",
	}, step(t, s, 10))
	assert.True(t, s.alarms[p.Index(AlarmKind, "rack.lost")].Announced())
	assert.False(t, s.alarms[p.Index(AlarmKind, "oxygen.bad")].Announced(), "one alarm, not one a point")
	assert.Equal(t, "critical", p.Job.Alarms[p.Index(AlarmKind, "rack.lost")].Priority.Word, "it stands for that of oxygen")
	again, _, err := Resume(p, s.Save(false))
	require.NoError(t, err)
	assert.Equal(t, why, again.p.Sentence(again.Standing(Ref{InputKind, int32(oxygen)}), nil))
	again.Read(11e9, oxygen, 7, 0)
	again.Read(11e9, rack, 1, 0)
	assert.Contains(t, step(t, again, 11), "oxygen bad→good: a good reading again, 7 mg/L")
}

// When a device answers again, its outputs settle anew, and every other that its inputs decide; the rest do not.
func TestResettle(t *testing.T) {
	p := compiled(t, `job "x"
  settle 5 s
device rack modbus tcp "127.0.0.1:1502" unit 1
device field modbus tcp "127.0.0.1:1503" unit 1
input oxygen
  source rack holding 0
  unit mg/L
input flow
  source field holding 0
  unit L/s
derived half = oxygen / 2
output by_rule
  drives rack coil 0
  fail off
output by_chain
  drives field coil 1
  fail off
output by_band
  drives rack coil 2
  fail off
output by_alarm
  drives rack coil 3
  fail off
output by_follow analog 0..100 %
  drives rack holding 20
  fail off
output by_loop analog 0..100 %
  drives rack holding 21
  fail off
output guarded
  drives field coil 5
  interlock when half < 2 mg/L
  fail off
output other
  drives field coil 6
  fail off
rule low
  on when half < 3 mg/L
  call by_rule
rule after_low
  on when low
  call by_chain
bands lamps of oxygen
  low: below 6 mg/L call by_band
  fine: else
alarm suffocating
  on when oxygen < 4 mg/L
  priority high
  call by_alarm until acknowledged
follow speed
  call by_follow from oxygen 0..10 mg/L to 0..100 %
loop dosing
  keep oxygen at 8 mg/L
  acting reverse
  proportional band 10 mg/L
  bias 50 %
  every 1 s
  call by_loop
rule flowing
  on when flow > 3 L/s
  call other, guarded
`)
	s := NewStepper(p)
	read := func(at int64) {
		s.Read(at*1e9, p.Index(InputKind, "oxygen"), 7, 0)
		s.Read(at*1e9, p.Index(InputKind, "flow"), 2, 0)
		step(t, s, float64(at))
	}
	now := func() (all []string) {
		for i, o := range p.Outputs {
			if _, now := s.Drive(i); now {
				all = append(all, o.Name)
			}
		}
		return all
	}
	read(0)
	read(10)
	require.Len(t, now(), len(p.Outputs))
	s.Resettle(20e9, p.Index(InputKind, "rack"))
	read(20)
	assert.Equal(t, []string{"other"}, now())
	read(25)
	assert.Len(t, now(), len(p.Outputs), "it ends at its time")
	s.Resettle(30e9, p.Index(InputKind, "by_rule.readback"))
	s.Found(p.Index(OutputKind, "by_rule"), Stand{State: On})
	read(30)
	assert.Len(t, now(), len(p.Outputs)-1)
	assert.Equal(t, On, s.Plant(p.Index(OutputKind, "by_rule")).State, "what the plant was found to have")
}
