// Package capture is what entered a job that ran, in the order in which it did, and playing it again. Played from the
// memory with which it began, it gives what the job gave, to the nanosecond and the word: the engine that runs a plant and
// whoever plays its capture hand the same events to a Stepper in the same way.
package capture

import (
	"fmt"

	"rectura/core/logic"
	"rectura/core/memo"
	"rectura/core/run"
)

// A Kind is what an Event is.
type Kind uint8

// The kinds.
const (
	Pass    Kind = iota // time has passed up to here, with what fell due
	Reading             // of an input: Value, at the place At of its chain
	Failing             // of an input: there is no reading; Text says why
	Finding             // of an output: the plant has it as Stand
	Command             // of a person
	Settle              // what depends on the points of a device settles anew; Of is the input that says whether it answers
	Shift               // the clock was set: every time moves By; On where nobody was there, so that nothing falls due before
	Restart             // nobody was there up to now
	Listen              // the job listens from now on, or drives, as On says
	Losing              // of a device, by the input that says whether it answers: nothing that is decided reaches its outputs
	Pause               // the job did not run for By: what is proven by lasting is postponed by that
	kinds               // how many there are
)

// An Event is something that entered. Inputs and outputs have the numbers that they have in the program.
type Event struct {
	Kind  Kind
	T     int64 // when
	Of    int32 // the input or output
	At    int32
	Value float64
	Text  string
	Stand logic.Stand
	On    bool
	By    int64
	Do    *logic.Command // of a Command
}

// fields lists what an event is made of.
func (e *Event) fields(f *memo.Fields) {
	memo.One(f, 1, kinds, &e.Kind)
	memo.Int(f, 2, &e.T)
	memo.Int(f, 3, &e.Of)
	memo.Int(f, 4, &e.At)
	f.Float(5, &e.Value)
	f.Text(6, &e.Text)
	memo.One(f, 7, logic.States, &e.Stand.State)
	f.Float(8, &e.Stand.Level)
	f.Bool(9, &e.On)
	memo.Int(f, 10, &e.By)
	if e.Kind != Command {
		return
	}
	if f.Reading() {
		e.Do = &logic.Command{}
	}
	memo.One(f, 11, logic.Dos, &e.Do.Do)
	memo.One(f, 12, logic.Kinds, &e.Do.Of.Kind)
	memo.Int(f, 13, &e.Do.Of.Index)
	f.Float(14, &e.Do.Value)
	f.Bool(15, &e.Do.On)
	memo.Int(f, 16, &e.Do.For)
	f.Text(17, &e.Do.Lock)
}

// Write gives events as bytes.
func Write(events []Event) []byte {
	return memo.Write(nil, func(f *memo.Fields) {
		for i := range events {
			f.Group(1, events[i].fields)
		}
	})
}

// Read gives the events that were written.
func Read(data []byte) ([]Event, error) {
	var events []Event
	err := memo.Read(data, func(f *memo.Fields) {
		n := 0
		f.Many(1, &n, func(f *memo.Fields, i int) {
			events = append(events, Event{})
			events[i].fields(f)
		})
	})
	if err != nil {
		return nil, fmt.Errorf("reading a capture: %w", err)
	}
	return events, nil
}

// check tells why an event cannot be one of a program.
func (e *Event) check(p *logic.Program) error {
	n := len(p.Inputs)
	switch e.Kind {
	case Reading:
		places := 1
		if e.Of >= 0 && int(e.Of) < n && p.Inputs[e.Of].Chain != nil {
			places = len(p.Inputs[e.Of].Chain.Units)
		}
		if e.At < 0 || int(e.At) >= places {
			return fmt.Errorf("the input of the number %d has no place %d", e.Of, e.At)
		}
	case Failing, Settle, Losing:
	case Finding:
		n = len(p.Outputs)
	case Command:
		if e.Do == nil {
			return fmt.Errorf("a command says nothing")
		}
		return nil
	default:
		return nil
	}
	if e.Of < 0 || int(e.Of) >= n {
		return fmt.Errorf("there is no point of the number %d", e.Of)
	}
	return nil
}

// hand hands an event of the next instant to a stepper. What comes of a command is its effect, or one sentence that
// says why it does nothing; any other error means that the event is none of the program.
func (e *Event) hand(s *logic.Stepper) (logic.Effect, error) {
	switch e.Kind {
	case Reading:
		s.Read(e.T, int(e.Of), e.Value, int(e.At))
	case Failing:
		s.Fail(e.T, int(e.Of), e.Text)
	case Finding:
		s.Found(int(e.Of), e.Stand)
	case Settle:
		s.Resettle(e.T, int(e.Of))
	case Listen:
		s.Listen(e.On)
	case Losing:
		s.LoseDevice(int(e.Of))
	case Command:
		return s.Command(*e.Do)
	}
	return logic.Effect{}, nil
}

// A Run is a job into which events enter.
type Run struct {
	S *logic.Stepper

	// Look is told of every instant, with its transitions, which are overwritten by the next.
	Look func(t int64, changes []logic.Transition)

	// Answer is told what comes of each command; nil for nobody.
	Answer func(e *Event, effect logic.Effect, err error)

	feed feed
}

// feed are the events of one instant.
type feed struct {
	*Run
	events []Event
}

func (f *feed) Next() int64 {
	if len(f.events) == 0 {
		return run.Never
	}
	return f.events[0].T
}

func (f *feed) Hand(_ int64, s *logic.Stepper) {
	for i := range f.events {
		e := &f.events[i]
		effect, err := e.hand(s)
		if e.Kind == Command && f.Answer != nil {
			f.Answer(e, effect, err)
		}
	}
	f.events = nil
}

// Enter lets events of one time enter: what fell due before comes first, then all of them make one instant. A Shift, a Pause and a
// Pass stand alone, and make none. A Restart comes first, and what fell due while nobody was there falls due with it.
func (r *Run) Enter(events []Event) error {
	if len(events) == 0 {
		return nil
	}
	t := events[0].T
	for i := range events {
		e := &events[i]
		if err := e.check(r.S.Program()); err != nil {
			return err
		}
		if e.T != t || e.alone() && len(events) > 1 || e.Kind == Restart && i > 0 {
			return fmt.Errorf("events of an instant must be of one time, what moves time stands alone, and a restart comes first")
		}
	}
	switch e := &events[0]; e.Kind {
	case Restart:
		r.S.Restart()
		r.feed = feed{r, events[1:]}
		r.feed.Hand(t, r.S)
		changes, err := r.S.Step(t)
		if err == nil && r.Look != nil {
			r.Look(t, changes)
		}
		return err
	case Pause:
		r.S.Pause(e.By)
		return nil
	case Shift, Pass:
		if !e.On {
			if err := run.Until(r.S, nil, t, r.Look, nil); err != nil {
				return err
			}
		}
		if e.Kind == Shift {
			r.S.Shift(e.By)
		}
		return nil
	}
	r.feed = feed{r, events}
	return run.Until(r.S, []run.Feed{&r.feed}, t, r.Look, nil)
}

// Play lets events enter in their order, each time an instant.
func (r *Run) Play(events []Event) error {
	return inGroups(events, func(some []Event) error {
		if err := r.Enter(some); err != nil {
			return fmt.Errorf("playing a capture: %w", err)
		}
		return nil
	})
}

// together tells whether two events are of one instant.
func together(a, b *Event) bool { return a.T == b.T && !a.alone() && !b.alone() && b.Kind != Restart }

// alone tells whether the event makes no instant.
func (e *Event) alone() bool { return e.Kind == Shift || e.Kind == Pass || e.Kind == Pause }
