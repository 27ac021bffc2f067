package capture_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
)

func program(t require.TestingT, text string) *logic.Program {
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	return p
}

// journal writes down what a run does, in words.
func journal(s *logic.Stepper, to *[]string) *capture.Run {
	p, clock := s.Program(), func(t int64) string { return fmt.Sprint(t) }
	return &capture.Run{S: s, Look: func(t int64, changes []logic.Transition) {
		for _, c := range changes {
			from, is := p.States(c)
			*to = append(*to, fmt.Sprintf("%d %s %s→%s: %s", t, p.Name(c.Ref), from, is, p.Sentence(c, clock)))
		}
		for _, c := range s.AlarmChanges() {
			*to = append(*to, fmt.Sprintf("%d %s: %s→%s", t, p.Alarms[c.Alarm].Name, c.From.String(), c.To.String()))
		}
	}}
}

// random is an event of an instant.
func random(t *rapid.T, p *logic.Program, at int64) capture.Event {
	e := capture.Event{T: at, Kind: rapid.SampledFrom([]capture.Kind{capture.Reading, capture.Reading, capture.Reading, capture.Failing,
		capture.Finding, capture.Command, capture.Settle, capture.Listen}).Draw(t, "kind")}
	switch e.Kind {
	case capture.Finding:
		e.Of = int32(rapid.IntRange(0, len(p.Outputs)-1).Draw(t, "output"))
		e.Stand = p.Outputs[e.Of].FromWire(float64(rapid.IntRange(0, 1).Draw(t, "found")))
	case capture.Command:
		o := p.Outputs[rapid.IntRange(0, len(p.Outputs)-1).Draw(t, "output")]
		value := "on"
		if o.Analog() {
			value = "20"
		}
		c, err := p.Command("hand", o.Name, value)
		require.NoError(t, err)
		c.For = int64(rapid.IntRange(0, 5).Draw(t, "for")) * 1e9
		e.Do = c
	default:
		e.Of = int32(rapid.IntRange(0, len(p.Inputs)-1).Draw(t, "input"))
		e.Value = float64(rapid.IntRange(0, 8).Draw(t, "value"))
		e.On = rapid.Bool().Draw(t, "listen")
		if e.Kind == capture.Failing {
			e.Text = "rack does not answer"
		}
	}
	return e
}

// What entered a job, kept as bytes and played from the memory at any place of it, gives what the job gave: to the
// nanosecond and the word, over restarts, settings of the clock, and listening.
func TestPlayedAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := sheettest.Job(t)
		p := program(t, text)
		var lived []string
		s := logic.NewStepper(p)
		r := journal(s, &lived)
		now, cut, before := int64(0), rapid.IntRange(0, 20).Draw(t, "cut"), 0
		var rows []logic.Row
		var segment []capture.Event
		enter := func(some ...capture.Event) {
			segment = append(segment, some...)
			require.NoError(t, r.Enter(some))
		}
		enter(random(t, p, 0))
		for i := range rapid.IntRange(20, 60).Draw(t, "instants") {
			now += int64(rapid.IntRange(1, 3000).Draw(t, "pause")) * 1e6
			switch rapid.IntRange(0, 15).Draw(t, "what") {
			case 0:
				by := int64(rapid.IntRange(-100, 100).Draw(t, "by")) * 1e9
				enter(capture.Event{Kind: capture.Shift, T: now, By: by})
				now += by
			case 1:
				enter(capture.Event{Kind: capture.Restart, T: now}, random(t, p, now), random(t, p, now))
			default:
				var some []capture.Event
				for range rapid.IntRange(1, 4).Draw(t, "events") {
					some = append(some, random(t, p, now))
				}
				enter(some...)
			}
			if i >= cut && rows == nil {
				rows, segment, before = s.Save(false), nil, len(lived)
			}
		}
		enter(capture.Event{Kind: capture.Pass, T: now + 60e9})
		if rows == nil {
			t.Skip("it was not saved")
		}
		events, err := capture.Read(capture.Write(segment))
		require.NoError(t, err)
		assert.Equal(t, segment, events)
		again, lost, err := logic.Resume(p, rows)
		require.NoError(t, err)
		require.Empty(t, lost)
		var played []string
		require.NoError(t, journal(again, &played).Play(events))
		require.Equal(t, lived[before:], append([]string{}, played...), text)
	})
}

func TestBadCaptures(t *testing.T) {
	p := program(t, "job \"x\"\ninput x\n  unit mg/L\noutput o\n  fail off\nrule r\n  on when x > 5 mg/L\n  call o\n")
	for _, e := range []capture.Event{
		{Kind: capture.Reading, Of: 1}, {Kind: capture.Reading, Of: -1}, {Kind: capture.Reading, At: 1},
		{Kind: capture.Failing, Of: 9}, {Kind: capture.Finding, Of: 1}, {Kind: capture.Settle, Of: 3},
	} {
		assert.Error(t, (&capture.Run{S: logic.NewStepper(p)}).Play([]capture.Event{e}), "%+v", e)
	}
	r := &capture.Run{S: logic.NewStepper(p)}
	require.NoError(t, r.Play([]capture.Event{{T: 5, Kind: capture.Reading}}))
	assert.ErrorContains(t, r.Play([]capture.Event{{T: 4, Kind: capture.Reading}}), "time does not go back")
}

// Whatever the bytes are, they are events that can be played, or an error.
func FuzzRead(f *testing.F) {
	p := program(f, "job \"x\"\ninput x\n  unit mg/L\noutput o\n  fail off\nrule r\n  on when x > 5 mg/L\n  call o\n")
	f.Add(
		capture.Write([]capture.Event{{Kind: capture.Reading, T: 1, Value: 6}, {Kind: capture.Shift, T: 2, By: 5}, {Kind: capture.Pass, T: 9}}),
	)
	f.Add(
		capture.Write(
			[]capture.Event{{Kind: capture.Command, T: 1, Do: logic.Command{Do: logic.StandOff, Of: logic.Ref{Kind: logic.OutputKind}}}},
		),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		events, err := capture.Read(data)
		if err != nil {
			return
		}
		again, err := capture.Read(capture.Write(events))
		require.NoError(t, err)
		require.Len(t, again, len(events))
		_ = (&capture.Run{S: logic.NewStepper(p)}).Play(events) // which may be an error, and no panic
	})
}
