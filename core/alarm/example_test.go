package alarm_test

import (
	"fmt"

	"rectura/core/alarm"
)

// An alarm that nobody has acknowledged stays after its condition is over.
func ExampleAlarm() {
	var a alarm.Alarm
	a.Condition(true)
	fmt.Println(a.String())
	a.Condition(false)
	fmt.Println(a.String())
	a.Acknowledge()
	fmt.Println(a.String())
	a.Shelve(60)
	a.Step(30, true, false)
	fmt.Println(a.String())
	a.Step(60, true, false)
	fmt.Println(a.String())
	// Output:
	// active, unacknowledged
	// returned, unacknowledged
	// normal
	// active, unacknowledged, shelved
	// active, unacknowledged
}
