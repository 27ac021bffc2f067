package cli

import (
	"fmt"
	"math"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rectura/core/bench"
	"rectura/core/sheet"
	"rectura/core/unit"
)

func newCalibrate() *cobra.Command {
	var format, note string
	var dry bool
	c := &cobra.Command{
		Use:   "calibrate JOB INPUT MEASURED=REFERENCE…",
		Short: "Write an input's calibration, and show the error before and after",
		Long: `Takes what an input showed and what a reference showed beside it, and writes the
clause that corrects the input into its sheet, in the place of one that is there.
One pair shifts, more are joined by straight lines. MEASURED may stand at any
stage of the chain, REFERENCE is a value of the input, and a number without a unit is
in the input's own; errors are shown in that unit and in percent of its span.`,
		Example: "  rectura calibrate examples/hatchery oxygen '0.12 mg/L=0 mg/L' '9.40 mg/L=9.10 mg/L' --dry-run",
		ValidArgsFunction: completeJob(func(folder string, args []string) []string {
			if len(args) > 0 {
				return nil
			}
			return declaredNames(folder, isAnalog)
		}),
		RunE: func(c *cobra.Command, args []string) error {
			return runCalibrate(c, args[0], args[1], args[2:], format, note, dry)
		},
	}
	addFormat(c, &format)
	c.Flags().StringVar(&note, "note", "", "what to write beside the date, such as who and with what")
	c.Flags().BoolVar(&dry, "dry-run", false, "show the clause and the errors, and write nothing")
	return c
}

func isAnalog(d sheet.Declaration) bool {
	in, ok := d.(*sheet.Input)
	return ok && !in.Discrete
}

// The JSON of `calibrate`.
type calibrationJSON struct {
	Input  string             `json:"input"`
	Unit   string             `json:"unit"`
	Clause string             `json:"clause"`
	Points []calibrationPoint `json:"points"`
}

type calibrationPoint struct {
	Measured       float64 `json:"measured"`
	Reference      float64 `json:"reference"`
	AsFound        float64 `json:"as_found"`
	AsLeft         float64 `json:"as_left"`
	AsFoundPercent float64 `json:"as_found_percent"`
	AsLeftPercent  float64 `json:"as_left_percent"`
}

func runCalibrate(c *cobra.Command, folder, input string, pairs []string, format, note string, dry bool) error {
	sources, err := readSheets(folder)
	if err != nil {
		return err
	}
	if _, err := loadJob(c, folder); err != nil {
		return err
	}
	var readings []bench.Reading
	for _, p := range pairs {
		measured, reference, ok := strings.Cut(p, "=")
		if !ok {
			return fmt.Errorf("%q is not MEASURED=REFERENCE, such as '9.40 mg/L=9.10 mg/L'", p)
		}
		r, err := bench.ParseReading(measured, reference)
		if err != nil {
			return err
		}
		readings = append(readings, r)
	}
	comment := "calibrated " + time.Now().Format(time.DateOnly)
	if note != "" {
		comment += ", " + note
	}
	result, err := bench.Calibrate(sources, input, readings, comment)
	if err != nil {
		return err
	}
	if !dry {
		if err := replaceFile(filepath.Join(folder, result.Sheet), []byte(result.Text)); err != nil {
			return err
		}
	}
	v := calibrationJSON{Input: input, Unit: result.Unit.Name(), Clause: result.Clause, Points: []calibrationPoint{}}
	for _, p := range result.Points {
		v.Points = append(
			v.Points,
			calibrationPoint{
				p.Measured,
				p.Reference,
				p.AsFound,
				p.AsLeft,
				zeroIfNaN(result.Percent(p.AsFound)),
				zeroIfNaN(result.Percent(p.AsLeft)),
			},
		)
	}
	if format == "json" {
		return writeJSON(c.OutOrStdout(), v)
	}
	l := list{
		heads:   []string{"measured", "reference", "as found", "as left", "as found, % of span", "as left, % of span"},
		numbers: []int{1, 2, 3, 4, 5, 6},
	}
	for _, p := range result.Points {
		l.add(
			precise(p.Measured),
			precise(p.Reference),
			signed(p.AsFound),
			signed(p.AsLeft),
			percent(result.Percent(p.AsFound)),
			percent(result.Percent(p.AsLeft)),
		)
	}
	if format == "csv" {
		return l.csv(c.OutOrStdout())
	}
	fmt.Fprintf(c.OutOrStdout(), "%s, in %s\n", input, v.Unit)
	if err := l.table(c.OutOrStdout()); err != nil {
		return err
	}
	what := filepath.Join(folder, result.Sheet) + " now has: "
	if dry {
		what = "It would be: "
	}
	fmt.Fprintf(c.OutOrStdout(), "\n%s%s\n", what, result.Clause)
	return nil
}

func zeroIfNaN(v float64) float64 {
	if math.IsNaN(v) {
		return 0
	}
	return v
}

// signed prints an error with its sign.
func signed(v float64) string {
	if math.Abs(v) < 1e-9 {
		return "0"
	}
	s := unit.Significant(v, 3)
	if v > 0 {
		return "+" + s
	}
	return s
}

func percent(v float64) string {
	if math.IsNaN(v) {
		return "-"
	}
	return fmt.Sprintf("%+.2f", v+0) // + 0 turns -0 into 0
}
