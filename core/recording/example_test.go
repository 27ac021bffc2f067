package recording_test

import (
	"fmt"
	"strings"

	"rectura/core/recording/csv"
)

// What a plot of a few pixels shows is the smallest and the largest value of each, and
// where no reading came, what held.
func ExampleColumn_HeldExtents() {
	r, err := csv.Reader{Name: "a.csv"}.Read(strings.NewReader("time,oxygen [mg/L]\n2,7\n3,5\n4,9\n9,bad\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	all, first := r.Columns[0].HeldExtents(0, 10e9, 5)
	for i, e := range all[first:] {
		fmt.Println(first+i, e.Min, e.Max, e.Bad)
	}
	// Output:
	// 1 5 7 false
	// 2 9 9 false
	// 3 9 9 false
	// 4 NaN NaN true
}
