package logic

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const handJob = `job "Q2"
  settle 3 s
device rack modbus tcp "127.0.0.1:1502" unit 1
input level
  source rack holding 0
  unit mm
  alarm when bad for 8 s priority high
input trip discrete
  source rack discrete 0
output p1
  drives rack coil 0
  interlock when trip
  minimum off 8 s
  fail hold
output fan
  drives rack coil 1
  fail on
rule r1
  on when level > 500 mm
  call p1, fan
`

// A hands is a job whose outputs people take in hand.
type hands struct {
	t *testing.T
	*Stepper
}

func newHands(t *testing.T) hands {
	x := hands{t, NewStepper(compiled(t, handJob))}
	x.at(0, 200, 0)
	x.at(10, 200, 0)
	return x
}

func (x hands) at(at, level, trip float64) []string {
	x.Read(int64(at*1e9), 0, level, 0)
	x.Read(int64(at*1e9), 1, trip, 0)
	return step(x.t, x.Stepper, at)
}

func (x hands) do(at float64, do, name, value string, lasts float64) []string {
	c, err := x.p.Command(do, name, value)
	require.NoError(x.t, err)
	c.For = int64(lasts * 1e9)
	_, err = x.Command(c)
	require.NoError(x.t, err)
	return step(x.t, x.Stepper, at)
}

func (x hands) alarm(name string) string {
	a := x.Alarm(x.p.Index(AlarmKind, name))
	return a.State().String()
}

// An output whose own interlock trips while it is in hand stays off until the hand's own end, and then follows its rules again. The
// alarm of that stays until somebody acknowledges it.
func TestHandsAndInterlocks(t *testing.T) {
	x := newHands(t)
	assert.Equal(t, []string{"p1 off→on: in hand: on"}, x.do(20, "hand", "p1", "on", 60))
	assert.Equal(t, []string{
		"p1.hand normal→active: it was taken out of hand: its own interlock turned it off: trip is on",
		"p1 on→off: interlocked: trip is on",
	}, x.at(30, 200, 1))
	assert.Equal(t, []string{"r1 off→on: level 600 mm > 500 mm", "fan off→on: called by r1"}, x.at(40, 600, 0), "p1 stays off")
	assert.Equal(t, "kept off, since a hand of it could not go on", x.p.Sentence(x.Standing(Ref{OutputKind, 0}), nil))
	assert.Equal(t, "active, unacknowledged", x.alarm("p1.hand"))
	assert.Equal(t, []string{"p1 off→on: called by r1"}, step(t, x.Stepper, 80), "the hand's own end")
	assert.Equal(t, "active, unacknowledged", x.alarm("p1.hand"))
	x.do(81, "acknowledge", "p1.hand", "", 0)
	assert.Equal(t, "normal", x.alarm("p1.hand"))

	x.at(90, 600, 1)
	assert.Empty(t, x.do(91, "hand", "p1", "on", 60))
	require.Len(t, x.Refused(), 1)
	assert.Equal(t, "p1 cannot be taken in hand while its own interlock keeps it off: trip is on", x.Refused()[0].Text)
	assert.Equal(t, Auto, x.Mode(0), "a refused hand leaves everything as it was")
	assert.Equal(t, "normal", x.alarm("p1.hand"))
	x.do(92, "hand", "p1", "off", 5)
	x.at(100, 600, 0)
	assert.Equal(t, Auto, x.Mode(0), "an off in hand ends at its time, interlock or not")
}

// A hand goes on where the plant still has what it gave. Where it does not, the output is off until the hand's own end, or goes to
// its rules at once where it fails on.
func TestHandsOverALoss(t *testing.T) {
	for _, restart := range []bool{true, false} {
		back := func(x hands, at float64, p1, fan State) []string {
			rack := x.p.Index(InputKind, "rack")
			if restart {
				x.Restart()
			} else {
				x.Fail(int64((at-3)*1e9), rack, "no answer")
				x.Fail(int64((at-3)*1e9), 0, "no answer")
				x.Fail(int64((at-3)*1e9), 1, "no answer")
				x.LoseDevice(rack)
				step(t, x.Stepper, at-3)
				x.Resettle(int64(at*1e9), rack)
				x.Read(int64(at*1e9), rack, 1, 0)
			}
			x.Found(0, Stand{State: p1})
			x.Found(1, Stand{State: fan})
			step(t, x.Stepper, at)
			return x.at(at+0.1, 200, 0)
		}
		x := newHands(t)
		x.do(20, "hand", "p1", "on", 60)
		x.do(21, "hand", "fan", "on", 60)
		back(x, 40, On, On)
		assert.Equal(t, []Mode{HandOn, HandOn}, []Mode{x.Mode(0), x.Mode(1)}, "restart %t", restart)
		assert.Empty(t, step(t, x.Stepper, 43.1))
		assert.Equal(t, On, x.stand(0).State)
		assert.Equal(t, "normal", x.alarm("p1.hand"))
		back(x, 50, Off, Off)
		assert.Equal(t, []Mode{Stood, Auto}, []Mode{x.Mode(0), x.Mode(1)}, "restart %t", restart)
		assert.Equal(t, []string{"active, unacknowledged", "active, unacknowledged"}, []string{x.alarm("p1.hand"), x.alarm("fan.hand")})
		x.at(54, 600, 0)
		assert.Equal(t, []State{Off, On}, []State{x.stand(0).State, x.stand(1).State})
		assert.Equal(t, []string{"p1 off→on: called by r1"}, step(t, x.Stepper, 80))
	}
}

// A pin that ends on a reading that is bad is an alarm at once; so is one that somebody takes away.
func TestPinsOnBadReadings(t *testing.T) {
	for _, ends := range []bool{true, false} {
		x := newHands(t)
		x.do(20, "pin", "level", "300 mm", 10)
		x.Fail(21e9, 0, "the loop is open")
		step(t, x.Stepper, 21)
		var told []string
		if ends {
			told = step(t, x.Stepper, 30)
		} else {
			told = x.do(25, "unpin", "level", "", 0)
		}
		assert.Contains(t, told, "level.bad normal→active: level is bad: the loop is open", "%t", ends)
		x.at(31, 300, 0)
		x.do(32, "pin", "level", "300 mm", 1)
		assert.NotContains(t, step(t, x.Stepper, 33), "level.bad", "a good reading is none")
		x.Fail(40e9, 0, "the loop is open")
		step(t, x.Stepper, 40)
		assert.Equal(t, []string{"level.bad normal→active: level is bad: the loop is open for 8 s"}, step(t, x.Stepper, 48))
	}
}

// Asking how things stand takes no more room, however often it is asked.
func TestStandingTakesNoRoom(t *testing.T) {
	x := newHands(t)
	ask := func() {
		for _, kind := range []Kind{InputKind, RuleKind, AlarmKind, OutputKind} {
			for _, r := range x.p.All(kind) {
				x.Standing(r)
				x.Grounds(r, nil)
			}
		}
	}
	ask()
	terms, named := cap(x.terms), cap(x.rulesNamed)
	for range 1000 {
		ask()
	}
	assert.Equal(t, []int{terms, named}, []int{cap(x.terms), cap(x.rulesNamed)})
}
