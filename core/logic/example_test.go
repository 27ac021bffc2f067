package logic_test

import (
	"fmt"

	"rectura/core/logic"
	"rectura/core/sheet"
)

const raceway = `job "Raceway 2"
input oxygen
  unit mg/L
setpoint oxygen_low 6 mg/L
  allow 4..9 mg/L
output blower
  fail on
rule standby_blower
  on when oxygen < oxygen_low for 45 s
  off when oxygen > oxygen_low + 0.4 mg/L for 2 min
  call blower
`

func programOf(text string) *logic.Program {
	_, p, found := logic.Check([]sheet.Source{{Name: "raceway.rct", Text: []byte(text)}})
	if p == nil {
		panic(fmt.Sprint(found))
	}
	return p
}

// A Stepper is handed readings, and evaluates instants: those of readings, and those at
// which its timers fall due.
func ExampleStepper() {
	p := programOf(raceway)
	s := logic.NewStepper(p)
	oxygen := p.Index(logic.InputKind, "oxygen")
	clock := func(t int64) string { return fmt.Sprint(t/1e9, " s") }
	step := func(t int64) {
		changes, err := s.Step(t)
		if err != nil {
			fmt.Println(err)
		}
		for _, c := range changes {
			_, state := p.States(c)
			fmt.Printf("%s: %s %s: %s\n", clock(t), p.Name(c.Ref), state, p.Sentence(c, clock))
		}
	}
	for _, r := range []struct {
		t     int64
		value float64
	}{{0, 7.2}, {10e9, 5.9}, {100e9, 5.8}} {
		for s.Next() < r.t {
			step(s.Next())
		}
		s.Read(r.t, oxygen, r.value, 0)
		step(r.t)
	}
	// Output:
	// 55 s: standby_blower on: oxygen 5.9 mg/L < oxygen_low 6 mg/L for 45 s, since 10 s
	// 55 s: blower on: called by standby_blower
}

// A person's command is read from words, and answers with what it has changed, or with
// one sentence.
func ExampleStepper_Command() {
	p := programOf(raceway)
	s := logic.NewStepper(p)
	for _, value := range []string{"5.5 mg/L", "12 mg/L"} {
		c, err := p.Command("set", "oxygen_low", value)
		if err != nil {
			fmt.Println(err)
			continue
		}
		effect, err := s.Command(c)
		fmt.Println(effect.Before, "→", effect.After, err)
	}
	// Output:
	// 6 mg/L → 5.5 mg/L <nil>
	// oxygen_low cannot be set to 12 mg/L; it is allowed from 4..9 mg/L
}

// A run is saved, and goes on in a job that has changed meanwhile.
func ExampleResume() {
	s := logic.NewStepper(programOf(raceway))
	c, _ := s.Program().Command("set", "oxygen_low", "5.5 mg/L")
	_, _ = s.Command(c)
	rows := s.Save(false)
	_, lost, err := logic.Resume(programOf(raceway+"output horn\n  fail off\n"), rows)
	fmt.Println(len(lost), err)
	changed := "job \"Raceway 2\"\nsetpoint oxygen_low 7 mg/L\n  allow 4..9 mg/L\n"
	_, lost, _ = logic.Resume(programOf(changed), rows)
	fmt.Println(lost[0].Name+":", lost[0].Text)
	// Output:
	// 0 <nil>
	// oxygen_low: it was set to 5.5 mg/L; what is written has changed to 7 mg/L, which counts
}
