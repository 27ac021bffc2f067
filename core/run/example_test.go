package run_test

import (
	"fmt"

	"rectura/core/logic"
	"rectura/core/run"
	"rectura/core/sheet"
)

// A job is driven by its readings and its timers: the rule turns on when its delay has
// run out, between two readings.
func ExampleUntil() {
	parsed, _ := sheet.Parse([]sheet.Source{{Name: "fry.rct", Text: []byte(job)}})
	p, err := logic.Compile(parsed)
	if err != nil {
		fmt.Println(err)
		return
	}
	clock := func(t int64) string { return fmt.Sprintf("%d s", t/1e9) }
	look := func(t int64, changes []logic.Transition) {
		for _, c := range changes {
			_, to := p.States(c)
			fmt.Printf("%s: %s %s: %s\n", clock(t), p.Name(c.Ref), to, p.Sentence(c, clock))
		}
	}
	err = run.Until(logic.NewStepper(p), []run.Feed{&readings{{0, 7.2}, {60, 5.9}, {120, 6.4}}}, 300e9, look, nil)
	if err != nil {
		fmt.Println(err)
	}
	// Output:
	// 70 s: low on: oxygen 5.9 mg/L < oxygen_low 6 mg/L for 10 s, since 60 s
	// 70 s: blower on: called by low
	// 120 s: low off: oxygen 6.4 mg/L >= oxygen_low 6 mg/L
	// 120 s: blower off: no longer called by low
}
