package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/pmezard/go-difflib/difflib"
	"github.com/spf13/cobra"

	"rectura/core/sheet"
)

func newFmt() *cobra.Command {
	var diff bool
	c := &cobra.Command{
		Use:   "fmt JOB",
		Short: "Lay the sheets of a job out canonically",
		Long: `Lays the sheets of a job out canonically: two blanks of indent, clauses in the
order of the language's description, one blank line between declarations.
Comments keep their place. With --diff nothing is written; the exit code is 1 if
something would be.`,
		Example:           "  rectura fmt examples/hatchery --diff",
		ValidArgsFunction: completeJob(nil),
		RunE:              func(c *cobra.Command, args []string) error { return runFmt(c, args[0], diff) },
	}
	c.Flags().BoolVar(&diff, "diff", false, "show what would change, and change nothing")
	return c
}

func runFmt(c *cobra.Command, folder string, diff bool) error {
	sources, err := readSheets(folder)
	if err != nil {
		return err
	}
	type change struct {
		path string
		text string
	}
	var changes []change
	var unread []sheet.Finding
	for _, s := range sources {
		f, found := sheet.ParseFile(s.Name, s.Text)
		unread = append(unread, found...)
		path := filepath.Join(folder, s.Name)
		text := f.String()
		if len(found) > 0 || text == string(s.Text) {
			continue
		}
		changes = append(changes, change{path, text})
		if !diff {
			continue
		}
		err := difflib.WriteUnifiedDiff(c.OutOrStdout(), difflib.UnifiedDiff{
			A: difflib.SplitLines(string(s.Text)), B: difflib.SplitLines(text), FromFile: path, ToFile: path + " (laid out)", Context: 3,
		})
		if err != nil {
			return fmt.Errorf("showing the difference in %s: %w", path, err)
		}
	}
	if len(unread) > 0 {
		printFindings(c.ErrOrStderr(), folder, sources, unread)
		fmt.Fprintln(c.ErrOrStderr(), "rectura: a sheet with errors is not laid out; nothing was written")
		return errSaid
	}
	if diff {
		if len(changes) > 0 {
			return errNo
		}
		return nil
	}
	for _, ch := range changes {
		if err := replaceFile(ch.path, []byte(ch.text)); err != nil {
			return err
		}
		fmt.Fprintln(c.OutOrStdout(), ch.path)
	}
	return nil
}

// replaceFile puts new contents in a file's place in one step, so that a
// power cut leaves the old or the new and nothing between.
func replaceFile(path string, contents []byte) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".rectura-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	_, err = f.ReadFrom(bytes.NewReader(contents))
	err = errors.Join(err, f.Chmod(info.Mode().Perm()), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("writing %s: %w", path, err), os.Remove(f.Name()))
	}
	return nil
}
