package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"rectura/core/unit"
)

// addFormat gives a command the flag that says how it lists.
func addFormat(c *cobra.Command, format *string) {
	c.Flags().StringVar(format, "format", "table", "how to list: table, json or csv")
	_ = c.RegisterFlagCompletionFunc(
		"format",
		cobra.FixedCompletions([]string{"table", "json", "csv"}, cobra.ShellCompDirectiveNoFileComp),
	) // fails only for a flag that does not exist
	before := c.PreRunE
	c.PreRunE = func(c *cobra.Command, args []string) error {
		if !slices.Contains([]string{"table", "json", "csv"}, *format) {
			return fmt.Errorf("--format %s: it is one of table, json, csv", *format)
		}
		if before != nil {
			return before(c, args)
		}
		return nil
	}
}

func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(plainWriter{w, true})
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return fmt.Errorf("writing JSON: %w", err)
	}
	return nil
}

// streamJSON is writeJSON of what writes itself as it goes.
func streamJSON(w io.Writer, v any) error {
	out := bufio.NewWriterSize(w, 1<<16)
	err := jsonv2.MarshalWrite(plainWriter{out, true}, v, jsontext.WithIndent("  "), jsontext.AllowInvalidUTF8(true))
	if err == nil {
		err = errors.Join(out.WriteByte('\n'), out.Flush())
	}
	if err != nil {
		return fmt.Errorf("writing JSON: %w", err)
	}
	return nil
}

// seconds is a number of nanoseconds that JSON shows as seconds, exactly, and
// always with a decimal point.
type seconds int64

func (s seconds) MarshalJSON() ([]byte, error) {
	text := unit.FormatDecimal(int64(s), 1e9)
	if !strings.Contains(text, ".") {
		text += ".0"
	}
	return []byte(text), nil
}
