package bench_test

import (
	"fmt"
	"os"
	"strings"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording/csv"
	"rectura/core/sheet"
)

// The sheet of the README.
const readme = `job "Raceway 2"

input oxygen "Raceway 2 dissolved oxygen"
  scale 0..4095 counts to 0..20 mA
  scale 4..20 mA to 0..20 mg/L
  healthy 3.6..21 mA

setpoint oxygen_low "Low oxygen" 6.0 mg/L
  allow 4.0..9.0 mg/L

output blower "Standby blower"
  fail on

rule standby_blower "Standby blower on low oxygen"
  on when oxygen < oxygen_low for 45 s
  off when oxygen > oxygen_low + 0.4 mg/L for 2 min
  call blower
`

func racewayProgram() *logic.Program {
	_, p, found := logic.Check([]sheet.Source{{Name: "raceway.rct", Text: []byte(readme)}})
	if p == nil {
		panic(fmt.Sprint(found))
	}
	return p
}

// The hatchery's night is played through the README's sheet.
func ExampleReplay() {
	f, err := os.Open("../../examples/hatchery/recordings/night.csv")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer f.Close()
	r, err := csv.Reader{Name: "night.csv"}.Read(f)
	if err != nil {
		fmt.Println(err)
		return
	}
	p := racewayProgram()
	result, err := bench.Replay(p, r, bench.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, t := range result.Transitions {
		if from, to := p.States(t); to == "on" {
			fmt.Printf("%s  %s  %s → %s  %s\n", r.Clock.FormatMillis(t.Time), p.Name(t.Ref), from, to, p.Sentence(t, r.Clock.Format))
		}
	}
	// Output:
	// 02:34:54.000  standby_blower  off → on  oxygen 5.824 mg/L < oxygen_low 6 mg/L for 45 s, since 02:34:09
	// 02:34:54.000  blower  off → on  called by standby_blower
}

// Where a rule trips and resets is found by moving its input.
func ExampleTrip() {
	t, err := bench.Trip(racewayProgram(), "standby_blower", "", nil, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, f := range []*bench.Found{t.Trip, t.Reset} {
		var stages []string
		for _, q := range f.Stages {
			stages = append(stages, fmt.Sprintf("%.4g %s", q.Value, q.Unit))
		}
		fmt.Println(strings.Join(stages, " · "))
	}
	// Output:
	// 1801 counts · 8.796 mA · 5.995 mg/L
	// 1868 counts · 9.123 mA · 6.404 mg/L
}
