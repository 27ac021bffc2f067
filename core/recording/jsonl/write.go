package jsonl

import (
	"bufio"
	"fmt"
	"io"
	"math"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"rectura/core/recording"
)

// Write writes a recording as wide JSON Lines. What is written reads back the
// same.
func Write(w io.Writer, r *recording.Recording) error {
	out := bufio.NewWriterSize(w, 1<<16)
	keys := make([]string, len(r.Columns))
	for i, c := range r.Columns {
		quoted, err := jsontext.AppendQuote([]byte(","), c.Heading())
		if err != nil {
			return fmt.Errorf("writing JSON Lines: the name %q: %w", c.Heading(), err)
		}
		keys[i] = string(quoted) + ":"
	}
	err := r.EachRow(func(t int64, some []recording.Reading) error {
		out.WriteString(`{"time":`) // a bufio.Writer keeps its first error for Flush
		if r.Clock.Elapsed {
			out.WriteString(r.Clock.Full(t))
		} else {
			out.WriteString(strconv.Quote(r.Clock.Full(t)))
		}
		for _, c := range some {
			out.WriteString(keys[c.Column])
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
