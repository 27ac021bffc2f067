package csv

import (
	"bufio"
	stdcsv "encoding/csv"
	"fmt"
	"io"

	"rectura/core/recording"
)

// Write writes a recording as wide CSV. What is written reads back the same.
func Write(w io.Writer, r *recording.Recording) error {
	buffer := bufio.NewWriterSize(w, 1<<16)
	out := stdcsv.NewWriter(buffer)
	row := []string{"time"}
	for _, c := range r.Columns {
		row = append(row, c.Heading())
	}
	if err := out.Write(row); err != nil {
		return fmt.Errorf("writing CSV: %w", err)
	}
	err := r.EachRow(func(t int64, cells []recording.Cell) error {
		row = append(row[:0], r.Clock.Full(t))
		for _, c := range cells {
			text := ""
			if c.Present {
				text = recording.FormatValue(c.Value)
			}
			row = append(row, text)
		}
		return out.Write(row)
	})
	if err == nil {
		out.Flush()
		err = out.Error()
	}
	if err == nil {
		err = buffer.Flush()
	}
	if err != nil {
		return fmt.Errorf("writing CSV: %w", err)
	}
	return nil
}
