package records

import (
	"errors"
	"fmt"

	"rectura/core/logic"
)

// A Why is why something stands as it does.
type Why struct {
	State, Because string
	Grounds        []logic.Ground
	Under          []int // the grounds that it stands on itself
}

// ErrRefused is the error of a question that has no answer.
var ErrRefused = errors.New("refused")

// A refusal says in one sentence why a question has no answer.
type refusal string

func (r refusal) Error() string { return string(r) }

// Is makes every refusal an ErrRefused.
func (r refusal) Is(target error) bool { return target == ErrRefused }

// WhyOf returns why something is as a stepper has it. What decides nothing, or is not there, is an ErrRefused.
func WhyOf(s *logic.Stepper, name string) (w Why, err error) {
	p := s.Program()
	r, found := p.Find(name)
	switch {
	case !found:
		return w, refusal(fmt.Sprintf("nothing is named %s%s", name,
			p.Job.DidYouMean(name, "rule", "output", "alarm", "input", "bands", "follow", "loop")))
	case r.Kind == logic.SettingKind || r.Kind == logic.MessageKind || r.Kind == logic.DerivedKind:
		return w, refusal(name + " decides nothing; ask for a rule, an output, an alarm or an input")
	}
	clock, stand := ClockOf(p), s.Standing(r)
	_, w.State = p.States(stand)
	w.Because = p.Sentence(stand, clock)
	w.Grounds, w.Under = s.Grounds(r, clock)
	return w, nil
}
