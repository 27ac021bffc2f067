package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"rectura/core/iolist"
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

// A list is rows under headings, for people as an aligned table or for
// programs as CSV.
type list struct {
	heads   []string
	numbers []int // the columns that are aligned to the right
	rows    [][]string
}

func (l *list) add(cells ...string) { l.rows = append(l.rows, cells) }

func (l *list) table(w io.Writer) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleDefault
	style.Options = table.Options{}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	head := table.Row{}
	for _, h := range l.heads {
		head = append(head, h)
	}
	t.AppendHeader(head)
	for _, r := range l.rows {
		row := table.Row{}
		for _, c := range r {
			row = append(row, c)
		}
		t.AppendRow(row)
	}
	var configs []table.ColumnConfig
	for _, n := range l.numbers {
		configs = append(configs, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(configs)
	t.SuppressTrailingSpaces()
	t.Render()
}

func (l *list) csv(w io.Writer) error {
	c := csv.NewWriter(w)
	rows := [][]string{l.heads}
	for _, row := range l.rows {
		guarded := make([]string, len(row))
		for i, cell := range row {
			guarded[i] = iolist.Guarded(cell)
		}
		rows = append(rows, guarded)
	}
	if err := c.WriteAll(rows); err != nil {
		return fmt.Errorf("writing CSV: %w", err)
	}
	return nil
}

func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(plainWriter{w, inJSON})
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
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
