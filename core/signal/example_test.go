package signal_test

import (
	"fmt"

	"rectura/core/sheet"
	"rectura/core/signal"
)

// A reading goes through its chain stage by stage, and is judged on the way.
func ExampleChain() {
	job, _ := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(`job "Fry tank"
input oxygen
  scale 0..4095 counts to 0..20 mA
  scale 4..20 mA to 0..20 mg/L
  healthy 3.6..21 mA
`)}})
	c := signal.NewChain(job.Input("oxygen"), job.DurationValue)
	for _, text := range []string{"12 mA", "2.9 mA"} {
		v, at, err := c.ParseReading("oxygen", text)
		if err != nil {
			fmt.Println(err)
			continue
		}
		value := c.Carry(v, at, len(c.Units)-1)
		fmt.Printf("%.4g %s: %q\n", value, c.Engineering(), c.Explain(c.Judge(v, at), v, at))
	}
	// Output:
	// 10 mg/L: ""
	// -1.375 mg/L: "2.9 mA is below 3.6 mA: broken loop or no supply"
}
