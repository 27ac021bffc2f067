package memo_test

import (
	"fmt"

	"rectura/core/memo"
)

// A thing that remembers lists its fields once; they are written, read back, and moved in
// time.
func Example() {
	closed, since := true, int64(45)
	fields := func(f *memo.Fields) {
		f.Bool(1, &closed)
		f.Time(2, &since)
	}
	kept := memo.Write(nil, fields)
	closed, since = false, 0
	err := memo.Read(kept, fields)
	memo.Shift(100, fields)
	fmt.Println(len(kept), closed, since, err)
	// Output: 4 true 145 <nil>
}
