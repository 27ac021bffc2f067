package iolist_test

import (
	"fmt"

	"rectura/core/iolist"
)

// A list's own names become names that a sheet takes.
func ExampleLegal() {
	fmt.Println(iolist.Legal("AIT-101 DO Raceway 1"))
	// Output: ait_101_do_raceway_1
}
