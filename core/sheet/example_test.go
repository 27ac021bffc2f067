package sheet_test

import (
	"fmt"

	"rectura/core/sheet"
)

const raceway = `job "Raceway 2"
input oxygen "Raceway 2 dissolved oxygen"
  scale 0..4095 counts to 0..20 mA
  scale 4..20 mA to 0..20 mg/L
setpoint oxygen_low "Low oxygen" 6.0 mg/L
  allow 4.0..9.0 mg/L
output blower "Standby blower"
  fail on
rule standby_blower
  on when oxygen<oxygen_low for 45 s
  off when (oxygen > oxygen_low + 0.4 mg/L) for 2 min
  call blower
`

// A job is read, and each rule says what it means.
func ExampleParse() {
	job, found := sheet.Parse([]sheet.Source{{Name: "raceway.rct", Text: []byte(raceway)}})
	if sheet.HasErrors(found) {
		fmt.Println(found)
	}
	for _, r := range job.Rules {
		fmt.Println(job.Say(r))
	}
	// Output:
	// Call Standby blower when Raceway 2 dissolved oxygen is below Low oxygen (6.0 mg/L) for 45 s. Stop when Raceway 2 dissolved oxygen is above Low oxygen (6.0 mg/L) + 0.4 mg/L for 2 min.
}

// What is wrong comes with its place, and with what to do.
func ExampleFinding() {
	_, found := sheet.Parse(
		[]sheet.Source{{Name: "a.rct", Text: []byte("job \"Fry tank\"\ninput oxygen\n  unit mg/L\nrule low\n  on when oxygen < 6 degC\n")}},
	)
	for _, f := range found {
		if f.Severity == sheet.Error {
			fmt.Println(f)
		}
	}
	// Output:
	// a.rct:5:20: error: oxygen is in mg/L (concentration) and 6 degC is in degC (temperature); they cannot be compared [unit-mismatch]
}

// A sheet is laid out in one way, whoever wrote it.
func ExampleFile_String() {
	f, _ := sheet.ParseFile("a.rct", []byte("job   \"Fry tank\"\n   settle 3 s # as the card needs\n"))
	fmt.Print(f)
	// Output:
	// job "Fry tank"
	//   settle 3 s  # as the card needs
}
