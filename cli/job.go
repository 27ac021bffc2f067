package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"rectura/core/logic"
	"rectura/core/recording/format"
	"rectura/core/sheet"
)

// readSheets reads the sheets of a job's folder.
func readSheets(folder string) ([]sheet.Source, error) {
	if info, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no folder %s; a job is the folder that holds its sheets", folder)
	} else if err != nil {
		return nil, fmt.Errorf("opening the job: %w", err)
	} else if !info.IsDir() {
		return nil, fmt.Errorf("%s is a file; a job is the folder that holds the sheets", folder)
	}
	files, err := jobFolder(folder)
	if err != nil {
		return nil, err
	}
	sources, err := sheet.ReadSources(files)
	if errors.Is(err, sheet.ErrNoSheets) {
		return nil, fmt.Errorf("%s: %w; begin one with: job \"Title\"", folder, err)
	}
	return sources, err
}

// loadJob reads, checks and compiles a job. Errors in it are shown, with their
// lines, and stop the command; warnings are left to `check`.
func loadJob(c *cobra.Command, folder string) (*logic.Program, error) {
	sources, err := readSheets(folder)
	if err != nil {
		return nil, err
	}
	_, p, found := logic.Check(sources)
	if p == nil {
		found = slices.DeleteFunc(found, func(f sheet.Finding) bool { return f.Severity != sheet.Error })
		printFindings(c.ErrOrStderr(), folder, sources, found)
		fmt.Fprintf(c.ErrOrStderr(), "rectura: %s cannot run until its %s mended\n", folder, count(len(found), "error is", "errors are"))
		return nil, errSaid
	}
	return p, nil
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// printFindings lists findings with their lines, each below its own.
func printFindings(w io.Writer, folder string, sources []sheet.Source, found []sheet.Finding) {
	lines := map[string][]string{}
	for _, s := range sources {
		lines[s.Name] = strings.Split(string(s.Text), "\n")
	}
	for _, f := range found {
		excerpt := f.Excerpt(lines[f.File])
		f.File = filepath.Join(folder, f.File)
		fmt.Fprintln(w, f)
		if excerpt != "" {
			fmt.Fprintln(w, excerpt)
		}
	}
}

// recordingPath finds a recording: a path as it stands, or one within the job's
// folder, or a name in its recordings/. shown is how output names it.
func recordingPath(folder, name string) (path, shown string, err error) {
	tries := []struct{ path, shown string }{
		{name, relative(folder, name)},
		{filepath.Join(folder, name), filepath.ToSlash(filepath.Clean(name))},
		{filepath.Join(folder, "recordings", name), "recordings/" + name},
	}
	for _, ext := range slices.Sorted(maps.Keys(format.Extensions)) {
		tries = append(tries, struct{ path, shown string }{filepath.Join(folder, "recordings", name+ext), "recordings/" + name + ext})
	}
	for _, try := range tries {
		if info, err := os.Stat(try.path); err == nil && !info.IsDir() {
			return try.path, try.shown, nil
		}
	}
	hint := "it has none"
	if names := recordingNames(folder); len(names) > 0 {
		hint = "it has " + strings.Join(names, ", ")
	}
	return "", "", fmt.Errorf("no recording %s is here nor in %s; %s", name, filepath.Join(folder, "recordings"), hint)
}

// relative names a path from the job's folder if it lies within it.
func relative(folder, name string) string {
	if r, err := filepath.Rel(folder, name); err == nil && filepath.IsLocal(r) {
		return filepath.ToSlash(r)
	}
	return filepath.ToSlash(name)
}

func recordingNames(folder string) []string {
	entries, err := os.ReadDir(filepath.Join(folder, "recordings"))
	if err != nil {
		return nil // a job may have none
	}
	var names []string
	for _, e := range entries {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return names
}

func isTerminal(w io.Writer) bool {
	f, ok := file(w)
	return ok && term.IsTerminal(int(f.Fd()))
}

// completeJob completes a job's folder, then what else says.
func completeJob(rest func(folder string, args []string) []string) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return nil, cobra.ShellCompDirectiveFilterDirs
		}
		if rest == nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return rest(args[0], args[1:]), cobra.ShellCompDirectiveNoFileComp
	}
}

// declaredNames lists the names in a job for completion; none if it cannot be
// read, since a completion has nowhere to say why.
func declaredNames(folder string, want func(sheet.Declaration) bool) []string {
	sources, err := readSheets(folder)
	if err != nil {
		return nil
	}
	job, _ := sheet.Parse(sources)
	var names []string
	for _, f := range job.Files {
		for _, d := range f.Declarations {
			if h := d.Base(); h.Name != "" && want(d) {
				names = append(names, h.Name+"\t"+h.Title())
			}
		}
	}
	return names
}
