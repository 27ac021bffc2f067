package capture_test

import (
	"errors"
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
		for _, c := range s.ContactChanges() {
			*to = append(*to, fmt.Sprintf("%d %s %t", t, p.Inputs[c.Input].Name, c.On))
		}
		for _, c := range s.AlarmChanges() {
			*to = append(*to, fmt.Sprintf("%d %s: %s→%s", t, p.Alarms[c.Alarm].Name, c.From.String(), c.To.String()))
		}
	}}
}

// random is an event of an instant.
func random(t *rapid.T, p *logic.Program, at int64) capture.Event {
	e := capture.Event{T: at, Kind: rapid.SampledFrom([]capture.Kind{capture.Reading, capture.Reading, capture.Reading, capture.Failing,
		capture.Finding, capture.Command, capture.Settle, capture.Listen, capture.Losing}).Draw(t, "kind")}
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
		e.Do = &c
	default:
		e.Of = int32(rapid.IntRange(0, len(p.Inputs)-1).Draw(t, "input"))
		switch e.Kind {
		case capture.Reading:
			e.Value = rapid.OneOf(
				rapid.Map(rapid.IntRange(0, 800), func(i int) float64 { return float64(i) / 100 }),
				rapid.Map(rapid.Float32(), func(x float32) float64 { return float64(x) }),
				rapid.Float64(),
			).Draw(t, "value")
		case capture.Failing:
			e.Text = rapid.SampledFrom([]string{"rack does not answer", "rack is busy"}).Draw(t, "text")
		case capture.Listen:
			e.Of, e.On = 0, rapid.Bool().Draw(t, "listen")
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
		again, lost, err := logic.Resume(p, rows)
		require.NoError(t, err)
		require.Empty(t, lost)
		var played []string
		var events []capture.Event
		run := journal(again, &played)
		var d capture.Decoder
		for _, stretch := range stretches(t, segment) {
			require.NoError(t, d.Read(stretch, func(some []capture.Event) error {
				events = append(events, some...)
				return run.Enter(some)
			}))
		}
		require.Equal(t, segment, events)
		require.Equal(t, append([]string{}, lived[before:]...), append([]string{}, played...), text)
	})
}

// stretches packs events, some at once.
func stretches(t *rapid.T, events []capture.Event) (all [][]byte) {
	var e capture.Encoder
	for len(events) > 0 {
		n := 1
		for n < len(events) && events[n].T == events[0].T {
			n++
		}
		e.Add(events[:n])
		events = events[n:]
		if rapid.IntRange(0, 3).Draw(t, "flush") == 0 {
			all = append(all, e.Flush())
		}
	}
	return append(all, e.Flush())
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

var errLong = errors.New("long enough")

// Whatever the bytes are, they are events that can be played, or an error.
func FuzzRead(f *testing.F) {
	p := program(f, "job \"x\"\ninput x\n  unit mg/L\noutput o\n  fail off\nrule r\n  on when x > 5 mg/L\n  call o\n")
	f.Add(
		capture.Write([]capture.Event{{Kind: capture.Reading, T: 1, Value: 6}, {Kind: capture.Shift, T: 2, By: 5}, {Kind: capture.Pass, T: 9}}),
	)
	f.Add(
		capture.Write(
			[]capture.Event{{Kind: capture.Command, T: 1, Do: &logic.Command{Do: logic.StandOff, Of: logic.Ref{Kind: logic.OutputKind}}}},
		),
	)
	var e capture.Encoder
	for k := range int64(4) {
		e.Add([]capture.Event{{Kind: capture.Reading, T: k, Value: 6.25 + float64(k)}, {Kind: capture.Failing, T: k, Text: "no answer"}})
		f.Add(e.Flush())
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var d capture.Decoder
		var again capture.Encoder
		n, r := 0, &capture.Run{S: logic.NewStepper(p)}
		err := d.Read(data, func(events []capture.Event) error {
			if n += len(events); n > 10_000 {
				return errLong // a reading that stands still takes next to nothing
			}
			again.Add(events)
			_ = r.Enter(events) // which may be an error, and no panic
			return nil
		})
		if err != nil {
			return
		}
		m := 0
		require.NoError(t, new(capture.Decoder).Read(again.Flush(), func(events []capture.Event) error { m += len(events); return nil }))
		require.Equal(t, n, m)
	})
}
