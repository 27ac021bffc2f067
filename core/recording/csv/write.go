package csv

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"rectura/core/cells"
	"rectura/core/recording"
)

// Write writes a recording as wide CSV. What is written reads back the same.
func Write(w io.Writer, r *recording.Recording) error {
	rows := 0
	if err := r.EachRow(func(int64, []recording.Reading) error { rows++; return nil }); err != nil {
		return err
	}
	if err := r.FitsTable(rows); err != nil {
		return fmt.Errorf("writing CSV: %w", err)
	}
	out := bufio.NewWriterSize(w, 1<<16)
	out.WriteString("time") // a bufio.Writer keeps its first error for Flush
	for _, c := range r.Columns {
		out.WriteByte(',')
		out.WriteString(quoted(cells.Guarded(c.Heading())))
	}
	out.WriteByte('\n')
	err := r.EachRow(func(t int64, some []recording.Reading) error {
		out.WriteString(r.Clock.Full(t))
		at := 0
		for _, c := range some {
			for ; at <= c.Column; at++ {
				out.WriteByte(',')
			}
			out.WriteString(recording.FormatValue(c.Value))
		}
		for ; at < len(r.Columns); at++ {
			out.WriteByte(',')
		}
		return out.WriteByte('\n')
	})
	if err == nil {
		err = out.Flush()
	}
	if err != nil {
		return fmt.Errorf("writing CSV: %w", err)
	}
	return nil
}

// quoted is a heading in quotes, unless it is all letters, digits and a few signs
// that no reader takes for anything else.
func quoted(heading string) string {
	plain := func(r rune) bool {
		return 'a' <= r|0x20 && r|0x20 <= 'z' || '0' <= r && r <= '9' || strings.ContainsRune("_.-[]/ ", r)
	}
	if strings.ContainsFunc(heading, func(r rune) bool { return !plain(r) }) {
		return `"` + strings.ReplaceAll(heading, `"`, `""`) + `"`
	}
	return heading
}
