package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/plot"
	"rectura/core/recording"
	"rectura/core/recording/format"
	"rectura/core/unit"
)

// The stable JSON of `replay`.
type (
	replayJSON struct {
		Job         string          `json:"job"`
		Recording   string          `json:"recording"`
		Start       timeJSON        `json:"start"`
		End         timeJSON        `json:"end"`
		Seconds     seconds         `json:"seconds"`
		Samples     int             `json:"samples"`
		Transitions transitionsJSON `json:"transitions"`
		Summary     []any           `json:"summary"` // of summaryJSON and rangeJSON
		Warnings    []string        `json:"warnings"`
	}
	// transitionsJSON lists transitionJSON.
	transitionsJSON struct {
		*list
		of *recording.Recording
	}

	transitionJSON struct {
		T       seconds  `json:"t"`
		Time    timeJSON `json:"time"`
		Name    string   `json:"name"`
		Kind    string   `json:"kind"`
		From    any      `json:"from"` // a word; of an analog output a number, in its unit
		To      any      `json:"to"`
		Because string   `json:"because"`
	}
	summaryJSON struct {
		Name             string  `json:"name"`
		Kind             string  `json:"kind"`
		Starts           int     `json:"starts"`
		OnSeconds        seconds `json:"on_seconds"`
		UndecidedSeconds seconds `json:"undecided_seconds"`
		Final            string  `json:"final"`
	}
	rangeJSON struct { // of an analog output
		Name             string  `json:"name"`
		Kind             string  `json:"kind"`
		Min              float64 `json:"min"`
		Max              float64 `json:"max"`
		Mean             float64 `json:"mean"`
		Final            float64 `json:"final"`
		Unit             string  `json:"unit"`
		UndecidedSeconds seconds `json:"undecided_seconds"`
	}
)

// A timeJSON is an RFC 3339 time, or the file's own number of elapsed seconds.
type timeJSON struct {
	clock recording.Clock
	t     int64
}

func (t timeJSON) MarshalJSON() ([]byte, error) {
	if t.clock.Elapsed {
		return seconds(t.t).MarshalJSON()
	}
	return json.Marshal(t.clock.Full(t.t))
}

type replayFlags struct {
	set            []string
	scan, from, to string
	plot, format   string
	save           string
	every          bool
	reading        readingFlags
}

func newReplay() *cobra.Command {
	var f replayFlags
	c := &cobra.Command{
		Use:   "replay JOB RECORDING",
		Short: "Play a recording through a job: what would have changed, when, and because of what",
		Long: `Plays a recording through the rules of a job and lists every change with its
reason, and how often and how long everything was on.

RECORDING is a file, or the name of one in the job's recordings/. A time is a time
of day in the recording, a full RFC 3339 time, or an offset from its start such as
"+75 s". With --from and --to, that part is played as if it were all there is;
t still counts from the recording's start.

--set plays with another value than the written one: of a setpoint or a constant, or of
a number that stands in a rule, an alarm or bands themselves, RULE.for, RULE.hysteresis
or RULE.deadband. With several values, --set oxygen_low=5,5.5,6mg/L, there is a row for
each, with starts and time on.`,
		Example: "  rectura replay examples/hatchery night\n" +
			"  rectura replay examples/hatchery night --set oxygen_low=5.5mg/L --plot night.svg\n" +
			"  rectura replay examples/hatchery hopper --set hopper_band=3kg --scan 500ms --from 14:40 --to 15:00",
		ValidArgsFunction: completeJob(func(folder string, args []string) []string {
			if len(args) > 0 {
				return nil
			}
			return recordingNames(folder)
		}),
		RunE: func(c *cobra.Command, args []string) error { return runReplay(c, args[0], args[1], f) },
	}
	c.Flags().StringArrayVar(&f.set, "set", nil, setHelp)
	c.Flags().StringVar(&f.scan, "scan", "", "evaluate only every `D`, as a controller with that loop time would")
	c.Flags().StringVar(&f.from, "from", "", "play from this `time` on")
	c.Flags().StringVar(&f.to, "to", "", "play up to this `time`")
	c.Flags().StringVar(&f.plot, "plot", "", "draw a strip chart into `FILE`.svg or .png")
	c.Flags().
		StringVar(&f.save, "save", "", "write the recording with the outputs as further columns into `FILE`.csv, .jsonl or .parquet")
	c.Flags().BoolVar(&f.every, "every-change", false, "list every change of analog outputs, too")
	addFormat(c, &f.format)
	addReading(c, &f.reading)
	return c
}

// setHelp says what --set reaches.
const setHelp = "another value of a setpoint or constant, or of a number in a clause, `NAME=VALUE`: oxygen_low=5.5mg/L, low_inflow.for=1min, .hysteresis, .deadband; may be repeated"

func runReplay(c *cobra.Command, folder, name string, f replayFlags) error {
	options, err := f.options()
	if err != nil {
		return err
	}
	if ext := filepath.Ext(f.plot); f.plot != "" && ext != ".svg" && ext != ".png" {
		return fmt.Errorf("--plot %s: the file's name ends in .svg or .png", f.plot)
	}
	if _, ok := format.Extensions[strings.ToLower(filepath.Ext(f.save))]; f.save != "" && !ok {
		return fmt.Errorf("--save %s: the file's name ends in .csv, .jsonl or .parquet", f.save)
	}
	p, err := loadJob(c, folder)
	if err != nil {
		return err
	}
	path, shown, err := recordingPath(folder, name)
	if err != nil {
		return err
	}
	o, err := f.reading.options(p.Job.Timezone)
	if err != nil {
		return err
	}
	whole, err := readRecording(c, path, o)
	if err != nil {
		return err
	}
	from, to, err := whole.Window(f.from, f.to)
	if err != nil {
		return err
	}
	r, err := whole.Cut(from, to)
	if err != nil {
		return err
	}
	some, err := bench.Variations(p, f.set, mostVariations)
	if err != nil {
		return fmt.Errorf("--set: %w", err)
	}
	if len(some) > 1 {
		return replayVariations(c, p, r, shown, some, f)
	}
	options.Set = some[0].Set()
	changes := listOfChanges(r, f.format)
	options.Each = changes.take
	result, err := bench.Replay(p, r, options)
	if err = errors.Join(err, changes.err); err != nil {
		return fmt.Errorf("playing %s: %w", shown, err)
	}
	result.Notes = append(result.Notes, r.Notes...)
	if f.plot != "" {
		if err := drawPlot(f.plot, result, shown); err != nil {
			return err
		}
	}
	if f.save != "" {
		if err := writeRecording(f.save, format.Extensions[strings.ToLower(filepath.Ext(f.save))], result.WithOutputs()); err != nil {
			return err
		}
	}
	tellOf(c, shown, result)
	switch f.format {
	case "json":
		return streamJSON(c.OutOrStdout(), replayView(result, &changes.list, shown))
	case "csv":
		return changes.csv(c.OutOrStdout())
	}
	return printReplay(c.OutOrStdout(), result, &changes.list, shown)
}

// A changesList is what a replay lists of its transitions, made while it plays: their reasons take far
// more memory than their text.
type changesList struct {
	list
	row func(p *logic.Program, t *logic.Transition) ([]string, error)
	err error // the first
}

func (l *changesList) take(p *logic.Program, t *logic.Transition) {
	if l.err != nil {
		return
	}
	var cells []string
	if cells, l.err = l.row(p, t); l.err == nil {
		l.add(cells...)
	}
}

// listOfChanges is an empty list in a format, of a recording that is played.
func listOfChanges(r *recording.Recording, format string) *changesList {
	l := &changesList{}
	switch format {
	case "json":
		l.heads = []string{"time", "name", "kind", "from", "to", "because"}
		l.row = func(p *logic.Program, t *logic.Transition) ([]string, error) {
			x := transitionView(p, r, t)
			from, err := json.Marshal(x.From)
			if err != nil {
				return nil, err
			}
			to, err := json.Marshal(x.To)
			return []string{strconv.FormatInt(t.Time, 10), x.Name, x.Kind, string(from), string(to), x.Because}, err
		}
	case "csv":
		l.heads = []string{"t", "time", "name", "kind", "from", "to", "because"}
		l.row = func(p *logic.Program, t *logic.Transition) ([]string, error) {
			x := transitionView(p, r, t)
			return []string{
				unit.FormatDecimal(
					int64(x.T),
					1e9,
				),
				r.Clock.Full(t.Time),
				x.Name,
				x.Kind,
				fmt.Sprint(x.From),
				fmt.Sprint(x.To),
				x.Because,
			}, nil
		}
	default:
		l.heads, l.numbers = []string{"TIME", "WHAT", "", "CHANGE", "BECAUSE"}, []int{1}
		l.row = func(p *logic.Program, t *logic.Transition) ([]string, error) {
			from, to := p.States(*t)
			return []string{
				r.Clock.FormatMillis(t.Time), p.Name(t.Ref), t.Kind.String(), from + " → " + to, p.Sentence(*t, r.Clock.Format),
			}, nil
		}
	}
	return l
}

func transitionView(p *logic.Program, r *recording.Recording, t *logic.Transition) transitionJSON {
	x := transitionJSON{
		T:       seconds(t.Time - r.Origin),
		Time:    timeJSON{r.Clock, t.Time},
		Name:    p.Name(t.Ref),
		Kind:    t.Kind.String(),
		Because: p.Sentence(*t, r.Clock.Format),
	}
	if t.LevelOnly() {
		x.From, x.To = t.From.Level, t.To.Level
	} else {
		x.From, x.To = p.States(*t)
	}
	return x
}

// MarshalJSONTo writes the transitions one after the other.
func (l transitionsJSON) MarshalJSONTo(e *jsontext.Encoder) error {
	if err := e.WriteToken(jsontext.BeginArray); err != nil {
		return err
	}
	err := l.each(func(cells []string) error {
		t, err := strconv.ParseInt(cells[0], 10, 64)
		if err != nil {
			return err
		}
		return jsonv2.MarshalEncode(e, transitionJSON{
			T:       seconds(t - l.of.Origin),
			Time:    timeJSON{l.of.Clock, t},
			Name:    cells[1],
			Kind:    cells[2],
			From:    jsontext.Value(cells[3]),
			To:      jsontext.Value(cells[4]),
			Because: cells[5],
		})
	})
	if err != nil {
		return err
	}
	return e.WriteToken(jsontext.EndArray)
}

// tellOf says on standard error what is to be known of a replay.
func tellOf(c *cobra.Command, of string, r *bench.Result) {
	for _, w := range r.Warnings {
		fmt.Fprintf(c.ErrOrStderr(), "%s: warning: %s\n", of, w)
	}
	for _, n := range r.Notes {
		fmt.Fprintf(c.ErrOrStderr(), "%s: note: %s\n", of, n)
	}
}

func (f *replayFlags) options() (o bench.Options, err error) {
	o.EveryChange = f.every
	if f.scan != "" {
		if o.Scan, err = unit.ParseDuration(f.scan); err != nil {
			return o, fmt.Errorf("--scan: %w", err)
		}
	}
	return o, nil
}

// partText is what part of which recording a replay is about.
func partText(r *bench.Result, shown string) string {
	rec := r.Recording
	s := shown + ", "
	if date := rec.Clock.Date(rec.Start); date != "" {
		s += date + ", "
	}
	s += rec.Clock.Format(rec.Start) + " to " + rec.Clock.Format(rec.End)
	if zone := rec.Clock.ZoneText(); zone != "" {
		s += " " + zone
	}
	if length := rec.End - rec.Start; length > 0 {
		s += ", " + unit.FormatDuration(length)
	}
	if r.Scan > 0 {
		s += ", scanned every " + unit.FormatDuration(r.Scan)
	}
	return s
}

func drawPlot(file string, r *bench.Result, shown string) (err error) {
	chart, err := plot.FromReplay(r, r.Program.Job.Title, partText(r, shown))
	if err != nil {
		return fmt.Errorf("drawing %s: %w", file, err)
	}
	f, err := os.Create(file)
	if err != nil {
		return fmt.Errorf("drawing: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	if filepath.Ext(file) == ".png" {
		err = chart.PNG(f)
	} else {
		err = chart.SVG(f)
	}
	if err != nil {
		return fmt.Errorf("drawing %s: %w", file, err)
	}
	return nil
}

func replayView(r *bench.Result, changes *list, shown string) replayJSON {
	rec := r.Recording
	v := replayJSON{
		Job:         r.Program.Job.Title,
		Recording:   shown,
		Start:       timeJSON{rec.Clock, rec.Start},
		End:         timeJSON{rec.Clock, rec.End},
		Seconds:     seconds(rec.End - rec.Start),
		Samples:     rec.Samples(),
		Transitions: transitionsJSON{changes, rec},
		Summary:     []any{},
		Warnings:    append(append([]string{}, r.Warnings...), r.Notes...),
	}
	for _, s := range r.Summary {
		if s.Range != nil {
			v.Summary = append(
				v.Summary,
				rangeJSON{
					s.Name,
					s.Kind.String(),
					s.Range.Min,
					s.Range.Max,
					s.Range.Mean,
					s.Range.Final,
					r.Program.Outputs[s.Index].Unit.Name(),
					seconds(s.Undecided),
				},
			)
			continue
		}
		v.Summary = append(
			v.Summary,
			summaryJSON{s.Name, s.Kind.String(), s.Starts, seconds(s.On), seconds(s.Undecided), r.Program.StandText(s.Ref, s.Final)},
		)
	}
	return v
}

func printReplay(w io.Writer, r *bench.Result, changes *list, shown string) error {
	fmt.Fprintf(w, "%s\n%s, %d readings\n\n", r.Program.Job.Title, partText(r, shown), r.Recording.Samples())
	analog := slices.ContainsFunc(r.Summary, func(s bench.Summary) bool { return s.Range != nil && s.Range.Min < s.Range.Max })
	switch {
	case changes.rows > 0:
		if err := changes.table(w); err != nil {
			return err
		}
	case analog:
		fmt.Fprintln(w, "Only the values of analog outputs changed; --every-change lists them.")
	default:
		if err := printCompared(w, r); err != nil {
			return err
		}
	}
	fmt.Fprintln(w)
	totals := list{heads: []string{"NAME", "", "STARTS", "ON", "UNDECIDED", "AT THE END"}, numbers: []int{3, 4, 5}}
	values := list{heads: []string{"NAME", "", "LOWEST", "HIGHEST", "MEAN", "UNDECIDED", "AT THE END"}, numbers: []int{3, 4, 5, 6, 7}}
	for _, s := range r.Summary {
		if s.Range != nil {
			text := func(v float64) string { return r.Program.Outputs[s.Index].Text(v) }
			values.add(
				s.Name,
				s.Kind.String(),
				text(s.Range.Min),
				text(s.Range.Max),
				text(s.Range.Mean),
				lasting(s.Undecided),
				text(s.Range.Final),
			)
			continue
		}
		totals.add(
			s.Name,
			s.Kind.String(),
			strconv.Itoa(s.Starts),
			lasting(s.On),
			lasting(s.Undecided),
			r.Program.StandText(s.Ref, s.Final),
		)
	}
	if totals.rows > 0 {
		if err := totals.table(w); err != nil {
			return err
		}
	}
	if totals.rows > 0 && values.rows > 0 {
		fmt.Fprintln(w)
	}
	if values.rows > 0 {
		if err := values.table(w); err != nil {
			return err
		}
	}
	return nil
}

// printCompared says what was compared where nothing changed.
func printCompared(w io.Writer, r *bench.Result) error {
	all, err := r.Compared()
	if err != nil {
		return fmt.Errorf("looking for what was compared: %w", err)
	}
	fmt.Fprint(w, "Nothing changed. ")
	if len(all) == 0 {
		fmt.Fprintln(w, "Nothing was compared, either: no rule reads an input.")
		return nil
	}
	fmt.Fprint(w, "Compared was:\n\n")
	l := list{heads: []string{"SIGNAL", "LOWEST", "HIGHEST", "COMPARED WITH"}, numbers: []int{2, 3}}
	for _, c := range all {
		text := func(v float64) string {
			switch {
			case math.IsNaN(v) && c.Bad:
				return "bad"
			case math.IsNaN(v):
				return "not read"
			case c.Contact:
				return map[bool]string{true: "on", false: "off"}[v != 0]
			}
			return strings.TrimSpace(unit.Short(v) + " " + c.Unit.Name())
		}
		var points []string
		for _, p := range c.Points {
			q := p.Value()
			points = append(
				points,
				strings.Join(
					strings.Fields(p.Rule+" "+p.Role.String()+" "+p.Direction()+" at "+unit.Short(q.Value)+" "+q.Unit.Name()),
					" ",
				),
			)
		}
		l.add(c.Name, text(c.Low), text(c.High), strings.Join(points, "; "))
	}
	return l.table(w)
}

// lasting is a time added up, rounded to what people want to know.
func lasting(ns int64) string {
	switch {
	case ns == 0:
		return "-"
	case ns >= 60e9:
		ns = (ns + 5e8) / 1e9 * 1e9
	}
	return unit.FormatDuration(ns)
}
