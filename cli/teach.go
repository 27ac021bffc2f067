package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/bench"
	"rectura/core/recording"
	"rectura/core/unit"
)

type teachFlags struct {
	reading                                     readingFlags
	recording, normal, trouble, like, write, by string
	format                                      string
}

func newTeach() *cobra.Command {
	var f teachFlags
	c := &cobra.Command{
		Use:   "teach JOB INPUT --recording R --normal T..T --trouble T..T",
		Short: "Propose a trip point from a signal's normal and trouble windows",
		Long: `Looks at an input, as the rules see it, in two windows of a recording: one in
which all was well, and one of the trouble that is to be caught. Says the range
and the noise of each and whether the two can be told apart, and proposes a trip
point between them with hysteresis and on-delay; the margin is how many noise
widths lie between the trip point and the nearer window.

With --like NAME instead of windows, it finds the values at which a switch that
is recorded beside the signal makes and breaks.

A time is a time of day in the recording, a full RFC 3339 time, or an offset such
as "+75 s".`,
		Example: "  rectura teach examples/hatchery inflow --recording night --normal 22:10..02:10 --trouble 02:20..02:50\n" +
			"  rectura teach examples/hatchery inflow --recording night --normal 22:10..02:10 --trouble 02:20..02:50 --write pump_tripped --call beacon",
		ValidArgsFunction: completeJob(func(folder string, args []string) []string {
			if len(args) > 0 {
				return nil
			}
			return declaredNames(folder, isAnalog)
		}),
		RunE: func(c *cobra.Command, args []string) error { return runTeach(c, args[0], args[1], f) },
	}
	flags := c.Flags()
	flags.StringVar(&f.recording, "recording", "", "the `recording` to learn from")
	flags.StringVar(&f.normal, "normal", "", "the `window` in which all was well, T..T")
	flags.StringVar(&f.trouble, "trouble", "", "the `window` of the trouble, T..T")
	flags.StringVar(&f.like, "like", "", "find the points of the switch in this `column` instead")
	flags.StringVar(&f.write, "write", "", "write the proposal into the job as the rule `NAME` and its setpoint")
	flags.StringVar(&f.by, "call", "", "with --write: the `output` that the rule calls")
	_ = c.MarkFlagRequired("recording") // fails only for a flag that does not exist
	addFormat(c, &f.format)
	addReading(c, &f.reading)
	return c
}

// The stable JSON of `teach`.
type lessonJSON struct {
	Input     string     `json:"input"`
	Normal    windowJSON `json:"normal"`
	Trouble   windowJSON `json:"trouble"`
	Separable bool       `json:"separable"`
	Trip      *float64   `json:"trip"`
	Reset     *float64   `json:"reset"`
	Hyst      *float64   `json:"hysteresis"`
	Direction string     `json:"direction"`
	OnDelay   seconds    `json:"on_delay_seconds"`
	Margin    float64    `json:"margin"`
	Unit      string     `json:"unit"`
	Makes     int        `json:"makes,omitempty"`
	Breaks    int        `json:"breaks,omitempty"`
	Advice    string     `json:"advice,omitempty"`
}

type windowJSON struct {
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Noise float64 `json:"noise"`
}

func runTeach(c *cobra.Command, folder, input string, f teachFlags) error {
	p, err := loadJob(c, folder)
	if err != nil {
		return err
	}
	path, _, err := recordingPath(folder, f.recording)
	if err != nil {
		return err
	}
	o, err := f.reading.options(p.Job.Timezone)
	if err != nil {
		return err
	}
	r, err := readRecording(c, path, o)
	if err != nil {
		return err
	}
	var l *bench.Lesson
	switch {
	case f.like != "" && (f.normal != "" || f.trouble != ""):
		return fmt.Errorf("--like stands in the place of --normal and --trouble; give one or the other")
	case f.like != "":
		l, err = bench.TeachLike(p, r, input, f.like, c.Context().Err)
	case f.normal == "" || f.trouble == "":
		return fmt.Errorf("give both windows, --normal T..T and --trouble T..T, or a switch, --like NAME")
	default:
		var normal, trouble [2]int64
		if normal, err = parseWindow(r, "--normal", f.normal); err != nil {
			return err
		}
		if trouble, err = parseWindow(r, "--trouble", f.trouble); err != nil {
			return err
		}
		l, err = bench.Teach(p, r, input, normal, trouble, c.Context().Err)
	}
	if err != nil {
		return err
	}
	if f.format == "json" {
		err = writeJSON(c.OutOrStdout(), lessonView(l))
	} else {
		err = printLesson(c.OutOrStdout(), l, f.format)
	}
	switch {
	case err != nil:
		return err
	case !l.Separable:
		return errNo
	case f.write != "":
		return writeLesson(c, folder, l, f)
	}
	return nil
}

func writeLesson(c *cobra.Command, folder string, l *bench.Lesson, f teachFlags) error {
	sources, err := readSheets(folder)
	if err != nil {
		return err
	}
	name, text, err := l.WriteRule(sources, f.write, f.by)
	if err != nil {
		return err
	}
	if err := replaceFile(filepath.Join(folder, name), []byte(text)); err != nil {
		return err
	}
	fmt.Fprintf(c.ErrOrStderr(), "%s now has the setpoint %s_point and the rule %s\n", filepath.Join(folder, name), f.write, f.write)
	return nil
}

// parseWindow reads T..T.
func parseWindow(r *recording.Recording, flag, s string) (w [2]int64, err error) {
	from, to, ok := strings.Cut(s, "..")
	if !ok {
		return w, fmt.Errorf("%s %s: a window is written T..T, such as 22:10..02:10", flag, s)
	}
	if w[0], w[1], err = r.Window(strings.TrimSpace(from), strings.TrimSpace(to)); err != nil {
		return w, fmt.Errorf("%s: %w", flag, err)
	}
	return w, nil
}

func lessonView(l *bench.Lesson) lessonJSON {
	v := lessonJSON{
		Input:     l.Input,
		Normal:    windowJSON{l.Normal.Low, l.Normal.High, l.Normal.Noise},
		Trouble:   windowJSON{l.Trouble.Low, l.Trouble.High, l.Trouble.Noise},
		Separable: l.Separable,
		Direction: direction(l),
		OnDelay:   seconds(l.OnDelay),
		Margin:    l.Margin,
		Unit:      l.Unit.Name(),
		Makes:     l.Makes,
		Breaks:    l.Breaks,
		Advice:    l.Advice,
	}
	if l.Separable {
		h := l.Hysteresis()
		v.Trip, v.Reset, v.Hyst = &l.Trip, &l.Reset, &h
	}
	return v
}

func direction(l *bench.Lesson) string {
	if l.Falling {
		return "falling"
	}
	return "rising"
}

func printLesson(w io.Writer, l *bench.Lesson, format string) error {
	first, rows := "WINDOW", [2]string{"normal", "trouble"}
	if l.Makes > 0 {
		first, rows = "SWITCH", [2]string{"off", "on"}
	}
	t := list{heads: []string{first, "LOW", "HIGH", "NOISE", "READINGS"}, numbers: []int{2, 3, 4, 5}}
	for _, row := range []struct {
		name string
		w    bench.Window
	}{{rows[0], l.Normal}, {rows[1], l.Trouble}} {
		t.add(row.name, unit.Short(row.w.Low), unit.Short(row.w.High), unit.Significant(row.w.Noise, 2), fmt.Sprint(row.w.Samples))
	}
	if format == "csv" {
		return t.csv(w)
	}
	fmt.Fprintf(w, "%s, in %s\n", l.Input, l.Unit.Name())
	if err := t.table(w); err != nil {
		return err
	}
	fmt.Fprintln(w)
	switch {
	case l.Separable:
	case l.Makes > 0:
		fmt.Fprintf(w, "The switch has nothing to do with %s: %s.\n", l.Input, l.Advice)
		return nil
	default:
		fmt.Fprintf(w, "The two windows cannot be told apart: %s.\n", l.Advice)
		return nil
	}
	q := func(v float64) string { return strings.TrimSpace(unit.Short(v) + " " + l.Unit.Name()) }
	fmt.Fprintf(w, "trips at    %s, %s\nresets at   %s (hysteresis %s)\n", q(l.Trip), direction(l), q(l.Reset), q(l.Hysteresis()))
	if l.OnDelay > 0 {
		fmt.Fprintf(w, "on-delay    %s\n", unit.FormatDuration(l.OnDelay))
	}
	if l.Margin > 0 {
		fmt.Fprintf(w, "margin      %s noise widths from the trip point to the nearer window\n", unit.Significant(l.Margin, 2))
	}
	if l.Makes > 0 {
		fmt.Fprintf(w, "found from  %s on, %s off\n", count(l.Makes, "turning", "turnings"), count(l.Breaks, "turning", "turnings"))
	}
	if l.Advice != "" {
		fmt.Fprintf(w, "\nNote: %s.\n", l.Advice)
	}
	return nil
}
