package run_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/core/run"
	"rectura/core/sheet"
)

const job = `job "Fry tank"
input oxygen
  unit mg/L
setpoint oxygen_low 6 mg/L
output blower
  fail on
rule low
  on when oxygen < oxygen_low for 10 s
  call blower
`

func program(t require.TestingT, text string) *logic.Program {
	parsed, found := sheet.Parse([]sheet.Source{{Name: "fry.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	p, err := logic.Compile(parsed)
	require.NoError(t, err)
	return p
}

// readings is a feed of one input: a time in seconds and a value each.
type readings [][2]float64

func (r *readings) Next() int64 {
	if len(*r) == 0 {
		return run.Never
	}
	return int64((*r)[0][0] * 1e9)
}

func (r *readings) Hand(t int64, s *logic.Stepper) {
	for r.Next() <= t {
		s.Read(t, 0, (*r)[0][1], 0)
		*r = (*r)[1:]
	}
}

// journal writes down the instants and what changes at them.
func journal(p *logic.Program, out *strings.Builder) func(int64, []logic.Transition) {
	return func(t int64, changes []logic.Transition) {
		fmt.Fprintf(out, "%g:", float64(t)/1e9)
		for _, c := range changes {
			_, to := p.States(c)
			fmt.Fprintf(out, " %s %s", p.Name(c.Ref), to)
		}
		out.WriteString("\n")
	}
}

func command(t *testing.T, p *logic.Program, at float64, do, name, value string) run.Command {
	c, err := p.Command(do, name, value)
	require.NoError(t, err)
	return run.Command{At: int64(at * 1e9), Command: c}
}

func TestUntil(t *testing.T) {
	p := program(t, job)
	for _, c := range []struct {
		name     string
		readings readings
		commands []run.Command
		want     string
	}{
		{"readings and due timers", readings{{0, 7}, {1, 5}, {20, 7}}, nil, "0:\n1:\n5:\n11: low on blower on\n20: low off blower off\n"},
		{"a reading and what was set at one time are one instant", readings{{0, 7}, {5, 7}}, []run.Command{command(t, p, 5, "set", "oxygen_low", "8 mg/L")}, "0:\n5:\n15: low on blower on\n"},
		{"a command after the reading of its time: pinned at what a person says", readings{{0, 7}, {5, 7}}, []run.Command{command(t, p, 5, "pin", "oxygen", "5 mg/L")}, "0:\n5:\n15: low on blower on\n"},
		{"a reading at the time of a timer counts", readings{{0, 5}, {10, 7}}, nil, "0:\n5:\n10:\n"},
		{"nothing after the end", readings{{0, 5}, {31, 7}}, nil, "0:\n5:\n10: low on blower on\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var out strings.Builder
			feeds := []run.Feed{&c.readings, &run.Commands{Rest: c.commands}}
			require.NoError(t, run.Until(logic.NewStepper(p), feeds, 30e9, journal(p, &out), nil))
			assert.Equal(t, c.want, out.String())
		})
	}
}

// A scan takes the newest reading, and looks at timers only when it is due.
func TestScan(t *testing.T) {
	p := program(t, job)
	var out strings.Builder
	feeds := []run.Feed{&readings{{0, 7}, {1, 5}, {2, 7}, {3, 5}, {20, 5}}}
	require.NoError(t, run.Scan(logic.NewStepper(p), feeds, 0, 4e9, 30e9, journal(p, &out), nil))
	assert.Equal(t, "0:\n4:\n8:\n16: low on blower on\n20:\n", out.String())
	assert.EqualError(t, run.Scan(logic.NewStepper(p), nil, 0, 0, 1, nil, nil), "a scan of 0 ns; it must be above 0")
	require.NoError(
		t,
		run.Scan(logic.NewStepper(p), []run.Feed{&readings{{0, 7}, {9e9, 5}}}, 0, 1<<62, run.Never, nil, nil),
		"scans past the end of time are none",
	)
}

// A run can be ended between two instants, and goes on from there.
func TestStop(t *testing.T) {
	p := program(t, job)
	s := logic.NewStepper(p)
	var out strings.Builder
	feeds := []run.Feed{&readings{{0, 7}, {1, 5}, {20, 7}}}
	left := 2
	stop := func() bool { left--; return left < 0 }
	require.ErrorIs(t, run.Until(s, feeds, 30e9, journal(p, &out), stop), run.ErrStopped)
	require.NoError(t, run.Until(s, feeds, 30e9, journal(p, &out), nil))
	assert.Equal(t, "0:\n1:\n5:\n11: low on blower on\n20: low off blower off\n", out.String())
}

// What a feed has for a time that is over is an error, and what a person cannot have is
// told to who asked.
func TestErrors(t *testing.T) {
	p := program(t, job)
	s := logic.NewStepper(p)
	require.NoError(t, run.Until(s, []run.Feed{&readings{{5, 7}}}, 10e9, nil, nil))
	err := run.Until(s, []run.Feed{&readings{{4, 7}}}, 10e9, nil, nil)
	require.EqualError(t, err, "driving the job: an instant at 4000000000 ns after one at 10000000000 ns; time does not go back")

	var refused error
	commands := &run.Commands{Rest: []run.Command{{At: 12e9, Command: logic.Command{Do: logic.ResetRule, Of: p.All(logic.RuleKind)[0]}}},
		Answer: func(_ run.Command, _ logic.Effect, err error) { refused = errors.Join(refused, err) }}
	require.NoError(t, run.Until(s, []run.Feed{commands}, 20e9, nil, nil))
	assert.EqualError(t, refused, "low has no latch, so there is nothing to reset")
}
