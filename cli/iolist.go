package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/iolist"
	"rectura/core/sheet"
)

func newIolist() *cobra.Command {
	c := &cobra.Command{
		Use:   "iolist",
		Short: "Take points from a spreadsheet, or write them into one",
		Long: `Takes the points of a job from a list that is kept as CSV or .xlsx, or writes them
into one. A list has a row of headings and a row a point. The headings are
` + strings.Join(iolist.Headings, ", ") + `.`,
	}
	c.AddCommand(newIolistImport(), newIolistExport())
	return c
}

func newIolistImport() *cobra.Command {
	var out, table string
	var mappings []string
	var skip bool
	c := &cobra.Command{
		Use:   "import JOB LIST.csv|xlsx",
		Short: "Make a sheet of a list's points",
		Long: `Makes a sheet of the points in a list, in the job's folder. Names are made legal
and unique. Points that the job has already stay as they are there. Every row is
accounted for; if one is no point, nothing is written, unless --skip-bad-rows.`,
		Example: "  rectura iolist import raceway points.xlsx --map 'point=Signal name' --map 'description=Service'",
		RunE: func(c *cobra.Command, args []string) error {
			return runIolistImport(c, args[0], args[1], out, table, mappings, skip)
		},
	}
	c.Flags().StringVarP(&out, "output", "o", "", "the `name` of the sheet (default: the list's, with .rct)")
	c.Flags().StringArrayVar(&mappings, "map", nil, "the list's own heading of a column, `OURS=THEIRS`; may be repeated")
	c.Flags().StringVar(&table, "sheet", "", "the `name` of the workbook's sheet (default: the first that holds a list)")
	c.Flags().BoolVar(&skip, "skip-bad-rows", false, "list rows that are no points and leave them out")
	return c
}

func runIolistImport(c *cobra.Command, folder, name, out, table string, mappings []string, skip bool) error {
	mapping := map[string]string{}
	for _, m := range mappings {
		ours, theirs, ok := strings.Cut(m, "=")
		if !ok {
			return fmt.Errorf("--map: %q is not OURS=THEIRS, such as 'point=Signal name'", m)
		}
		mapping[strings.ToLower(strings.TrimSpace(ours))] = strings.TrimSpace(theirs)
	}
	data, err := readList(name)
	if err != nil {
		return err
	}
	rows, err := iolist.ReadFile(name, data, table, mapping)
	if err != nil {
		return err
	}
	sources, err := sheet.ReadSources(os.DirFS(folder))
	fresh := errors.Is(err, sheet.ErrNoSheets) || errors.Is(err, fs.ErrNotExist)
	if err != nil && !fresh {
		return err
	}
	var job *sheet.Job
	if !fresh {
		job, _ = sheet.Parse(sources) // its own findings are for `check`
	}
	result := iolist.Sheet(name, rows, job)
	for _, b := range result.Bad {
		fmt.Fprintln(c.ErrOrStderr(), b)
	}
	if len(result.Bad) > 0 && !skip {
		return fmt.Errorf("%s of %d in %s %s no points, so nothing was written; mend them, or leave them out with --skip-bad-rows",
			count(len(result.Bad), "row", "rows"), len(rows), name, map[bool]string{true: "is", false: "are"}[len(result.Bad) == 1])
	}
	if out == "" {
		out = iolist.Legal(strings.TrimSuffix(filepath.Base(name), filepath.Ext(name)))
	}
	path := filepath.Join(folder, strings.TrimSuffix(out, ".rct")+".rct")
	if len(result.Points) > 0 {
		if err := createSheet(folder, path, result.Text, fresh); err != nil {
			return err
		}
	}
	w := c.OutOrStdout()
	if len(rows) > 0 && rows[0].Number > 2 {
		fmt.Fprintf(w, "%s: the headings are in row %d\n", name, rows[0].Number-1)
	}
	fmt.Fprintf(w, "%s: %s", name, count(len(rows), "row", "rows"))
	for _, part := range []struct {
		n    int
		what string
	}{{len(result.Points), "made points in " + path}, {len(result.Present), "in the job already"}, {result.Blank, "blank"}, {len(result.Bad), "left out"}} {
		if part.n > 0 {
			fmt.Fprintf(w, ", %d %s", part.n, part.what)
		}
	}
	fmt.Fprintln(w)
	for _, d := range result.Devices {
		fmt.Fprintf(w, "  %s is no device of this job yet; declare it: device %s modbus tcp \"HOST:PORT\" unit 1\n", d, d)
	}
	for _, r := range result.Renamed {
		fmt.Fprintln(w, "  named anew: "+r)
	}
	return nil
}

// readList reads a list's file up to its limit.
func readList(name string) (data []byte, err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("opening the list: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	data, err = io.ReadAll(io.LimitReader(f, iolist.MaxSize+1))
	if err != nil {
		return nil, fmt.Errorf("reading the list: %w", err)
	}
	return data, nil
}

// createSheet writes a new sheet, in a new job's folder where there is none.
func createSheet(folder, path, text string, fresh bool) error {
	if fresh {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return fmt.Errorf("making the job's folder: %w", err)
		}
		text = fmt.Sprintf("job %q\n\n", filepath.Base(folder)) + text
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already; give the new sheet another name with -o", path)
	}
	if err != nil {
		return fmt.Errorf("writing the sheet: %w", err)
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("writing the sheet: %w", err)
	}
	return nil
}

func newIolistExport() *cobra.Command {
	return &cobra.Command{
		Use:               "export JOB LIST.csv|xlsx",
		Short:             "Write a job's points into a list",
		Example:           "  rectura iolist export examples/hatchery points.xlsx",
		ValidArgsFunction: completeJob(nil),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadJob(c, args[0])
			if err != nil {
				return err
			}
			rows := iolist.Rows(p.Job)
			var b bytes.Buffer
			switch strings.ToLower(filepath.Ext(args[1])) {
			case ".xlsx":
				err = iolist.WriteWorkbook(&b, rows)
			case ".csv":
				err = iolist.WriteCSV(&b, rows)
			default:
				return fmt.Errorf("%s: the list's name ends in .csv or .xlsx", args[1])
			}
			if err != nil {
				return err
			}
			if err := os.WriteFile(args[1], b.Bytes(), 0o644); err != nil {
				return fmt.Errorf("writing the list: %w", err)
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: %s\n", args[1], count(len(rows)-1, "point", "points"))
			return nil
		},
	}
}
