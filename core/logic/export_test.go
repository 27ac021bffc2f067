package logic

// MustStep is Step for tests, whose times never go back unless that is tested.
func (s *Stepper) MustStep(t int64) []Transition {
	made, err := s.Step(t)
	if err != nil {
		panic(err)
	}
	return made
}
