package plot_test

import (
	"fmt"

	"rectura/core/plot"
)

// An axis has round values.
func ExampleValueTicks() {
	fmt.Println(plot.ValueTicks(0.3, 8.9, 5))
	// Output: [2 4 6 8]
}
