package unit_test

import (
	"fmt"

	"rectura/core/unit"
)

func ExampleParseQuantity() {
	q, _ := unit.ParseQuantity("6000 ug/L")
	fmt.Println(q.In(unit.MustLookup("mg/L")))
	_, err := unit.ParseQuantity("six")
	fmt.Println(err)
	// Output:
	// 6
	// "six" does not begin with a number; write a value such as 12 mA
}

func ExampleFormatDuration() {
	ns, _ := unit.ParseDuration("1 min 30 s")
	fmt.Println(ns, unit.FormatDuration(ns))
	// Output: 90000000000 1 min 30 s
}
