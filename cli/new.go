package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"rectura/examples/patterns"
)

func newNew() *cobra.Command {
	var pattern, format string
	var listed bool
	c := &cobra.Command{
		Use:   "new [DIR]",
		Short: "Begin a job from one of the trade's building blocks, with a recording and a trial",
		Long: `Makes a folder that holds a small job: a sheet, a recording, and a trial that passes.
Nothing is written over: the folder must be empty, or not be there yet.`,
		Example: "  rectura new raceway3\n  rectura new sump --pattern high-rate\n  rectura new --list",
		RunE: func(c *cobra.Command, args []string) error {
			if listed == (len(args) == 1) {
				return errors.New("name one folder, or ask for the list of patterns with --list")
			}
			if listed {
				return listPatterns(c, format)
			}
			return runNew(c, args[0], pattern)
		},
	}
	c.Flags().StringVar(&pattern, "pattern", "start-stop", "the building block to begin from")
	c.Flags().BoolVar(&listed, "list", false, "list the building blocks")
	addFormat(c, &format)
	_ = c.RegisterFlagCompletionFunc(
		"pattern",
		cobra.FixedCompletions(patterns.Names(), cobra.ShellCompDirectiveNoFileComp),
	) // fails only for a flag that does not exist
	return c
}

func listPatterns(c *cobra.Command, format string) error {
	all, err := patterns.All()
	if err != nil {
		return err
	}
	type patternJSON struct {
		Name  string `json:"name"`
		Title string `json:"title"`
	}
	l, views := list{heads: []string{"PATTERN", "WHAT IT DOES"}}, []patternJSON{}
	for _, p := range all {
		l.add(p.Name, p.Title)
		views = append(views, patternJSON{p.Name, p.Title})
	}
	switch format {
	case "json":
		return writeJSON(c.OutOrStdout(), views)
	case "csv":
		l.heads = []string{"name", "title"}
		return l.csv(c.OutOrStdout())
	}
	return l.table(c.OutOrStdout())
}

func runNew(c *cobra.Command, folder, name string) error {
	p, err := patterns.Find(name)
	if err != nil {
		return err
	}
	there, err := os.ReadDir(folder)
	switch {
	case err == nil && len(there) > 0:
		return fmt.Errorf("%s is not empty, and nothing is written over; name another folder", folder)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("making a job: %w", err)
	}
	files, err := p.Folder()
	if err != nil {
		return fmt.Errorf("opening the pattern %s: %w", p.Name, err)
	}
	if err := os.CopyFS(folder, files); err != nil {
		return fmt.Errorf("making a job: %w", err)
	}
	fmt.Fprintf(
		c.OutOrStdout(),
		"%s: %s.\n\nNow read it back, and play its trial:\n\n    rectura show %s\n    rectura trial %s\n",
		folder,
		p.Title,
		folder,
		folder,
	)
	return nil
}
