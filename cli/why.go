package cli

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// The JSON of `why`.
type (
	explanationJSON struct {
		Name    string       `json:"name"`
		Kind    string       `json:"kind"`
		Time    timeJSON     `json:"time"`
		State   string       `json:"state"`
		Since   timeJSON     `json:"since"`
		Because string       `json:"because"`
		Reasons []int        `json:"reasons"` // numbers of grounds
		Grounds []groundJSON `json:"grounds"`
		Misses  []missJSON   `json:"misses"`
		Next    *nextJSON    `json:"next"`
	}
	groundJSON struct {
		Text     string       `json:"text"`
		Delay    string       `json:"delay"`
		By       string       `json:"by"`
		Stages   []stageValue `json:"stages"`
		Filtered string       `json:"filtered,omitempty"`
		Under    []int        `json:"under"` // numbers of grounds
	}
	missJSON struct {
		Rule    string   `json:"rule"`
		From    timeJSON `json:"from"`
		To      timeJSON `json:"to"`
		Lasted  seconds  `json:"lasted_seconds"`
		Delay   seconds  `json:"delay_seconds"`
		Because string   `json:"until"`
	}
	nextJSON struct {
		Time    timeJSON `json:"time"`
		To      string   `json:"to"`
		Because string   `json:"because"`
	}
)

// whyNow asks the service why something is as it is now, or as it was at a time.
func (r *remote) whyNow(c *cobra.Command, name, at, format string) error {
	api, job, err := r.ask(c.Context())
	if err != nil {
		return err
	}
	q := client.GetReasonParams{Name: name}
	if q.At, _, err = (&span{from: at}).read(c.Context(), api, job); err != nil {
		return fmt.Errorf("--at: %w", err)
	}
	a, err := api.GetReasonWithResponse(c.Context(), job, &q)
	if err := answered(a, err, http.StatusOK); err != nil {
		return err
	}
	x := a.JSON200
	if format == "json" {
		return writeJSON(c.OutOrStdout(), x)
	}
	w := c.OutOrStdout()
	if q.At != nil {
		fmt.Fprintf(w, "%s was %s at %s: %s\n", x.Name, x.State, clockText(*q.At, time.Now()), x.Because)
	} else {
		fmt.Fprintf(w, "%s is %s: %s\n", x.Name, x.State, x.Because)
	}
	if b := x.Bypass; b != nil && b.Since != nil {
		fmt.Fprintf(w, "  %s by %s since %s%s%s\n", b.Value, cmp.Or(b.Who, "somebody"), clockText(*b.Since, time.Now()),
			prefixed(", until ", clockOr(b.Until, time.Now(), "")), prefixed(": ", b.Why))
	}
	if x.NotWritten != nil {
		fmt.Fprintf(w, "  not written: %s\n", *x.NotWritten)
	}
	printGrounds(w, groundsOf(x.Grounds), x.Under, "  ", map[int]bool{})
	return nil
}

func groundsOf(views []client.Ground) []logic.Ground {
	all := make([]logic.Ground, len(views))
	for i, g := range views {
		all[i] = logic.Ground{Text: g.Text, Under: g.Under, By: deref(g.By), Delay: deref(g.Delay), Filtered: deref(g.Filtered)}
		if g.Stages == nil {
			continue
		}
		for _, q := range *g.Stages {
			if q.Value != nil {
				all[i].Stages = append(all[i].Stages, unit.Quantity{Value: *q.Value, Unit: unit.Named(q.Unit)})
			}
		}
	}
	return all
}

// prefixed is a text behind a prefix, where there is one.
func prefixed(prefix, text string) string {
	if text == "" {
		return ""
	}
	return prefix + text
}

func newWhy() *cobra.Command {
	var at, format string
	var replay replayFlags
	var r remote
	c := &cobra.Command{
		Use:   "why [JOB] [RECORDING] NAME",
		Short: "Why something is as it is at a time, or why it is not otherwise",
		Long: `With a name alone, asks the service why something in a job that is run is as it is now;
with --at, as it was then, for which it plays what it captured.

With a job's folder and a recording, plays a recording and says how an input, a rule or an output stands at a time, and why:
from an output down to the readings, how far each comparison is from its point, how
long each delay has run. It lists the nearest times before and after at which a delay
did not run out, and the next change.`,
		Example: "  rectura why blower\n  rectura why blower --at 02:14:05\n  rectura why examples/hatchery night blower --at 02:33:00\n" +
			"  rectura why examples/hatchery broken-loop feeder --at 09:55",
		ValidArgsFunction: completeJob(func(folder string, args []string) []string {
			if len(args) == 0 {
				return recordingNames(folder)
			}
			return declaredNames(folder, isState)
		}),
		RunE: func(c *cobra.Command, args []string) error {
			if format == "csv" {
				return fmt.Errorf("--format csv: an explanation is no table; choose table or json")
			}
			switch {
			case len(args) == 1:
				return r.whyNow(c, args[0], at, format)
			case len(args) == 2:
				return fmt.Errorf("NAME is missing: a recording of a job and a name, or a name alone: %s", c.UseLine())
			case r.server != "" || r.job != "":
				return fmt.Errorf("--server and --job are for what is run now; take them out, or the folder and the recording")
			}
			p, err := loadJob(c, args[0])
			if err != nil {
				return err
			}
			options, err := replay.options()
			if err != nil {
				return err
			}
			some, err := bench.Variations(p, replay.set, 1)
			if err != nil {
				return fmt.Errorf("--set: %w", err)
			}
			options.Set = some[0].Set()
			path, shown, err := recordingPath(args[0], args[1])
			if err != nil {
				return err
			}
			reading, err := replay.reading.options(p.Job.Timezone)
			if err != nil {
				return err
			}
			r, err := readRecording(c, path, reading)
			if err != nil {
				return err
			}
			when := r.End
			if at != "" {
				if when, err = r.ParseIn(at); err != nil {
					return fmt.Errorf("--at: %w", err)
				}
			}
			a, err := bench.Why(p, r, options, args[2], when)
			if err != nil {
				return fmt.Errorf("asking %s: %w", shown, err)
			}
			if format == "json" {
				return writeJSON(c.OutOrStdout(), explanationView(a))
			}
			return printExplanation(c.OutOrStdout(), a)
		},
	}
	r.addFlags(c.Flags())
	c.Flags().StringVar(&at, "at", "", "the `time` (default the recording's end, or now)")
	c.Flags().StringArrayVar(&replay.set, "set", nil, setHelp)
	c.Flags().StringVar(&replay.scan, "scan", "", "evaluate only every `D`, as a controller with that loop time would")
	addFormat(c, &format)
	addReading(c, &replay.reading)
	return c
}

// isState tells what stands one way or the other.
func isState(d sheet.Declaration) bool {
	switch d.(type) {
	case *sheet.Input, *sheet.Rule, *sheet.Alarm, *sheet.Bands, *sheet.Message, *sheet.Output:
		return true
	}
	return false
}

func explanationView(a *bench.Explanation) explanationJSON {
	clock := a.Recording.Clock
	v := explanationJSON{
		a.Name,
		a.Kind.String(),
		timeJSON{clock, a.At},
		a.StateText(),
		timeJSON{clock, a.Since},
		a.Because,
		numbers(a.Reasons),
		groundViews(a.Grounds),
		[]missJSON{},
		nil,
	}
	for _, m := range a.Misses {
		v.Misses = append(
			v.Misses,
			missJSON{
				a.Program.Rules[m.Rule].Name,
				timeJSON{clock, m.From},
				timeJSON{clock, m.To},
				seconds(m.To - m.From),
				seconds(m.Of),
				m.Until,
			},
		)
	}
	if a.Next != nil {
		v.Next = &nextJSON{timeJSON{clock, a.Next.Time}, a.NextState(), a.NextText}
	}
	return v
}

// numbers are never null in JSON.
func numbers(all []int) []int { return append([]int{}, all...) }

func groundViews(all []logic.Ground) []groundJSON {
	views := []groundJSON{}
	for _, g := range all {
		views = append(views, groundJSON{g.Text, g.Delay, g.By, stageValues(g.Stages), g.Filtered, numbers(g.Under)})
	}
	return views
}

func printExplanation(w io.Writer, a *bench.Explanation) error {
	clock := a.Recording.Clock.Format
	fmt.Fprintf(w, "%s, %s: %s at %s, since %s\n  %s\n", a.Name, a.Kind, a.StateText(), clock(a.At), clock(a.Since), a.Because)
	printGrounds(w, a.Grounds, a.Reasons, "  ", map[int]bool{})
	if near := a.Misses; len(near) > 0 {
		fmt.Fprintf(w, "\nDelays that did not run out, nearest to that time\n")
		l := list{heads: []string{"  RULE", "FROM", "TO", "LASTED", "OF", "UNTIL"}, numbers: []int{4, 5}}
		for _, m := range near {
			l.add(
				"  "+a.Program.Rules[m.Rule].Name,
				clock(m.From),
				clock(m.To),
				unit.FormatDuration(m.To-m.From),
				unit.FormatDuration(m.Of),
				m.Until,
			)
		}
		if err := l.table(w); err != nil {
			return err
		}
	}
	if a.Next != nil {
		fmt.Fprintf(w, "\nNext: %s at %s, %s\n", a.NextState(), clock(a.Next.Time), a.NextText)
	} else {
		fmt.Fprintf(w, "\nIt does not change again in this recording.\n")
	}
	printWritten(w, a)
	return nil
}

// printWritten reminds of what is written: of what was asked for, or of what
// calls it.
func printWritten(w io.Writer, a *bench.Explanation) {
	p := a.Program
	names := []string{a.Name}
	if i := p.Index(logic.OutputKind, a.Name); i >= 0 {
		names = nil
		for _, c := range p.Callers(i) {
			names = append(names, p.Calling[c].Name)
		}
	}
	for _, name := range slices.Compact(names) {
		if card, ok := p.Card(name); ok {
			fmt.Fprintf(w, "\n%s, as written\n", name)
			printCard(w, card.Sentence, shownPoints(card.Points), card.Delays)
		}
	}
}

// deepest is how far grounds are indented; what lies deeper stands below them.
const deepest = 60

// printGrounds prints grounds by their numbers, and what they stand on below them;
// what several stand on is told once.
func printGrounds(w io.Writer, all []logic.Ground, some []int, indent string, told map[int]bool) {
	for _, i := range some {
		g := all[i]
		text := g.Text
		if told[i] {
			fmt.Fprintf(w, "%s- %s, as told above\n", indent, text)
			continue
		}
		told[i] = true
		if g.By != "" {
			text += ", by " + g.By
		}
		if g.Delay != "" {
			text += ", " + g.Delay
		}
		fmt.Fprintf(w, "%s- %s\n", indent, text)
		if len(g.Stages) > 1 {
			var stages []string
			for _, s := range g.Stages {
				stages = append(stages, strings.TrimSpace(unit.Short(s.Value)+" "+s.Unit.Name()))
			}
			if g.Filtered != "" {
				stages = append(stages, "filtered "+g.Filtered)
			}
			fmt.Fprintf(w, "%s    %s\n", indent, strings.Join(stages, " → "))
		}
		below := indent
		if len(below) < deepest {
			below += "  "
		}
		printGrounds(w, all, g.Under, below, told)
	}
}
