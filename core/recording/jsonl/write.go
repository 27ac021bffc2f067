package jsonl

import (
	"bufio"
	"fmt"
	"io"
	"math"
	"strconv"

	"rectura/core/recording"
)

// Write writes a recording as wide JSON Lines. What is written reads back the
// same.
func Write(w io.Writer, r *recording.Recording) error {
	out := bufio.NewWriterSize(w, 1<<16)
	keys := make([]string, len(r.Columns))
	for i, c := range r.Columns {
		keys[i] = "," + strconv.Quote(c.Heading()) + ":"
	}
	err := r.EachRow(func(t int64, cells []recording.Cell) error {
		out.WriteString(`{"time":`) // a bufio.Writer keeps its first error for Flush
		if r.Clock.Elapsed {
			out.WriteString(r.Clock.Full(t))
		} else {
			out.WriteString(strconv.Quote(r.Clock.Full(t)))
		}
		for i, c := range cells {
			if !c.Present {
				continue
			}
			out.WriteString(keys[i])
			text := recording.FormatValue(c.Value)
			if math.IsNaN(c.Value) || math.IsInf(c.Value, 0) {
				text = `"` + text + `"`
			}
			out.WriteString(text)
		}
		_, err := out.WriteString("}\n")
		return err
	})
	if err == nil {
		err = out.Flush()
	}
	if err != nil {
		return fmt.Errorf("writing JSON Lines: %w", err)
	}
	return nil
}
