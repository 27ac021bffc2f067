package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/recording"
	"rectura/core/recording/format"
	"rectura/core/unit"
)

func newConvert() *cobra.Command {
	var f readingFlags
	var out string
	c := &cobra.Command{
		Use:   "convert RECORDING -o FILE",
		Short: "Convert a recording between formats",
		Long: `Reads a recording in any form (CSV wide or long, JSON Lines, Parquet, a text
capture) and writes it as CSV, JSON Lines or Parquet, by the end of the name:
.csv, .jsonl or .parquet. What is written reads back the same, to the last bit.
How the file was understood is said.`,
		Example: "  rectura convert examples/hatchery/recordings/night.csv -o night.parquet\n" +
			"  rectura convert logger.csv --zone Europe/Dublin --map 'DO R1=oxygen [mg/L]' -o logger.jsonl",
		RunE: func(c *cobra.Command, args []string) error {
			o, err := f.options("")
			if err != nil {
				return err
			}
			to, ok := format.Extensions[strings.ToLower(filepath.Ext(out))]
			if !ok {
				return fmt.Errorf("-o %s: the file's name ends in .csv, .jsonl or .parquet", out)
			}
			if a, err := os.Stat(args[0]); err == nil {
				if b, err := os.Stat(out); err == nil && os.SameFile(a, b) {
					return fmt.Errorf("-o %s: that is the recording itself", out)
				}
			}
			r, err := readRecording(c, args[0], o)
			if err != nil {
				return err
			}
			if err := writeRecording(out, to, r); err != nil {
				return err
			}
			for _, n := range r.Notes {
				fmt.Fprintf(c.ErrOrStderr(), "%s: %s\n", args[0], n)
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: %s\n%s: %s, %s, %s\n", args[0], r.Understood, out, count(len(r.Columns), "column", "columns"),
				count(r.Samples(), "reading", "readings"), unit.FormatDuration(r.End-r.Start))
			return nil
		},
	}
	c.Flags().StringVarP(&out, "output", "o", "", "the `file` to write")
	_ = c.MarkFlagRequired("output") // fails only for a flag that does not exist
	addReading(c, &f)
	return c
}

// writeRecording writes a recording into a file; a failed one is taken away
// again.
func writeRecording(name string, f format.Format, r *recording.Recording) (err error) {
	file, err := os.Create(name)
	if err != nil {
		return fmt.Errorf("writing the recording: %w", err)
	}
	w := bufio.NewWriterSize(file, 1<<18)
	err = format.Write(f, w, r)
	if err == nil {
		err = w.Flush()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return errors.Join(fmt.Errorf("writing %s: %w", name, err), os.Remove(name))
	}
	return nil
}
