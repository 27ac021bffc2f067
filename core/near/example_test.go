package near_test

import (
	"fmt"

	"rectura/core/near"
)

func ExampleWord() {
	fmt.Println(near.Word("oxigen", []string{"inflow", "oxygen", "temperature"}))
	fmt.Printf("%q\n", near.Word("mains", []string{"inflow", "oxygen", "temperature"}))
	fmt.Println(near.Word("sacn", []string{"save", "scan"}))
	// Output:
	// oxygen
	// ""
	// scan
}
