package cli

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// mostVariations is how many replays one command makes.
const mostVariations = 1000

// The stable JSON of replays with several values.
type (
	variedJSON struct {
		With    map[string]string     `json:"with"`
		Outputs map[string]startsJSON `json:"outputs"`
		Alarms  map[string]timesJSON  `json:"alarms"`
	}
	startsJSON struct {
		Starts    int     `json:"starts"`
		OnSeconds seconds `json:"on_seconds"`
	}
	timesJSON struct {
		Count  int     `json:"count"`
		Active seconds `json:"active_seconds"`
	}
)

// A varied is a variation with what became of outputs and alarms.
type varied struct {
	bench.Variation
	summary []bench.Summary
}

// replayVariations plays a recording once with each of several values, and lists how often and
// how long outputs and alarms were on.
func replayVariations(
	c *cobra.Command,
	p *logic.Program,
	r *recording.Recording,
	shown string,
	some []bench.Variation,
	f replayFlags,
) error {
	for flag, given := range map[string]string{"--plot": f.plot, "--save": f.save} {
		if given != "" {
			return fmt.Errorf("%s takes one replay, and --set gives several values; leave all but one out", flag)
		}
	}
	if f.every {
		return fmt.Errorf("--every-change lists one replay, and --set gives several values; leave all but one out")
	}
	var all []varied
	for i, v := range some {
		o, err := f.options()
		if err != nil {
			return err
		}
		o.Set, o.Most, o.Overlook, o.Stop = v.Set(), 1, true, c.Context().Err
		result, err := bench.Replay(p, r, o)
		if err != nil {
			return fmt.Errorf("playing %s with %s: %w", shown, withText(v), err)
		}
		if i == 0 {
			result.Notes = append(result.Notes, r.Notes...)
			tellOf(c, shown, result)
			if f.format == "table" {
				fmt.Fprintf(c.OutOrStdout(), "%s\n%s, %d readings\n\n", p.Job.Title, partText(result, shown), r.Samples())
			}
		}
		x := varied{Variation: v}
		for _, s := range result.Summary {
			if s.Kind == logic.AlarmKind || s.Kind == logic.OutputKind && s.Range == nil {
				x.summary = append(x.summary, s)
			}
		}
		all = append(all, x)
	}
	switch f.format {
	case "json":
		return writeJSON(c.OutOrStdout(), variedViews(all))
	case "csv":
		l := list{}
		for _, w := range all[0].With {
			l.heads = append(l.heads, w.Name)
		}
		l.heads = append(l.heads, "name", "kind", "starts", "on_seconds")
		for _, v := range all {
			for _, s := range v.summary {
				l.add(append(texts(v), s.Name, s.Kind.String(), strconv.Itoa(s.Starts), unit.FormatDecimal(s.On, 1e9))...)
			}
		}
		return l.csv(c.OutOrStdout())
	}
	return printVariations(c.OutOrStdout(), p, all)
}

func texts(v varied) []string {
	var all []string
	for _, w := range v.With {
		all = append(all, w.Text)
	}
	return all
}

func withText(v bench.Variation) string {
	var all []string
	for _, w := range v.With {
		all = append(all, w.Name+" "+w.Text)
	}
	return strings.Join(all, ", ")
}

func variedViews(all []varied) []variedJSON {
	var views []variedJSON
	for _, v := range all {
		x := variedJSON{map[string]string{}, map[string]startsJSON{}, map[string]timesJSON{}}
		for _, w := range v.With {
			x.With[w.Name] = w.Text
		}
		for _, s := range v.summary {
			if s.Kind == logic.AlarmKind {
				x.Alarms[s.Name] = timesJSON{s.Starts, seconds(s.On)}
			} else {
				x.Outputs[s.Name] = startsJSON{s.Starts, seconds(s.On)}
			}
		}
		views = append(views, x)
	}
	return views
}

// printVariations prints a row for each, with a column for every output and alarm that is not the same
// in all of them.
func printVariations(w io.Writer, p *logic.Program, all []varied) error {
	text := func(s bench.Summary) string {
		if s.Starts == 0 && s.On == 0 {
			return "-"
		}
		return strconv.Itoa(s.Starts) + " × " + lasting(s.On)
	}
	var differ, same []int
	for i, s := range all[0].summary {
		if slices.ContainsFunc(all, func(v varied) bool { return v.summary[i].Starts != s.Starts || v.summary[i].On != s.On }) {
			differ = append(differ, i)
		} else if s.Starts > 0 || s.On > 0 {
			same = append(same, i)
		}
	}
	l := list{}
	for _, x := range all[0].With {
		l.heads = append(l.heads, x.Name)
	}
	for _, i := range differ {
		l.heads = append(l.heads, all[0].summary[i].Name)
	}
	for i := range l.heads {
		l.numbers = append(l.numbers, i+1)
	}
	for _, v := range all {
		row := texts(v)
		for _, i := range differ {
			row = append(row, text(v.summary[i]))
		}
		l.add(row...)
	}
	if err := l.table(w); err != nil {
		return err
	}
	fmt.Fprintln(w)
	if len(differ) == 0 {
		fmt.Fprintf(w, "No output and no alarm differs between these %d.", len(all))
		for _, x := range all[0].With {
			if by := p.Job.UsedBy(x.Name); !strings.Contains(x.Name, ".") && len(by) == 0 {
				fmt.Fprintf(w, " Nothing uses %s.", x.Name)
			} else if len(by) > 0 {
				fmt.Fprintf(w, " %s is used by %s.", x.Name, sheet.List(by, "and"))
			}
		}
		fmt.Fprintln(w)
	} else {
		fmt.Fprintln(w, "Starts × time on in all.")
	}
	var alike []string
	for _, i := range same {
		alike = append(alike, all[0].summary[i].Name+" "+text(all[0].summary[i]))
	}
	if len(alike) > 0 {
		fmt.Fprintf(w, "The same in all: %s.\n", strings.Join(alike, ", "))
	}
	return nil
}
