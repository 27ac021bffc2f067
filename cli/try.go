package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/bench"
	"rectura/core/sheet"
)

// mostTried is the largest number of combinations that are tried.
const mostTried = 1000

// The stable JSON of `try`.
type (
	triedJSON struct {
		With   map[string]string `json:"with"`
		States []standJSON       `json:"states"`
	}
	standJSON struct {
		Name    string `json:"name"`
		Kind    string `json:"kind"`
		State   string `json:"state"`
		Because string `json:"because"`
	}
)

func newTry() *cobra.Command {
	var format string
	c := &cobra.Command{
		Use:   "try JOB NAME=VALUE…",
		Short: "What every rule and output would answer to some values, and why",
		Long: `Says how every rule and output stands once the inputs have long had the given
values: delays, minimum times and filters are taken as waited out. An analog value may
stand at any stage, as its unit says; a number alone is in engineering units. A contact
is on, off or bad, or its own word. A setpoint may be tried at another value. What is
not given has not been read. Several values of one name make a table.`,
		Example: "  rectura try examples/hatchery oxygen=5.8 mains=on inflow=40L/s\n" +
			"  rectura try examples/hatchery oxygen=5.9,6.0,6.1",
		ValidArgsFunction: completeJob(func(folder string, _ []string) []string {
			return suffixed(declaredNames(folder, isGiven), "=")
		}),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadJob(c, args[0])
			if err != nil {
				return err
			}
			rows, err := bench.Combinations(p, joinUnits(args[1:]), mostTried)
			if err != nil {
				return err
			}
			all := make([]bench.Tried, len(rows))
			for i, with := range rows {
				if all[i], err = bench.Try(p, with); err != nil {
					return err
				}
			}
			return printTried(c, all, format)
		},
	}
	addFormat(c, &format)
	return c
}

// isGiven tells what can be given a value: inputs, setpoints and constants.
func isGiven(d sheet.Declaration) bool {
	switch d.(type) {
	case *sheet.Input, *sheet.Setpoint:
		return true
	}
	return false
}

// suffixed puts something behind each name of a completion.
func suffixed(names []string, end string) []string {
	for i, n := range names {
		name, title, _ := strings.Cut(n, "\t")
		names[i] = name + end + "\t" + title
	}
	return names
}

func printTried(c *cobra.Command, all []bench.Tried, format string) error {
	if format == "json" {
		views := []triedJSON{}
		for _, t := range all {
			v := triedJSON{map[string]string{}, []standJSON{}}
			for _, g := range t.With {
				v.With[g.Name] = g.Text
			}
			for _, s := range t.States {
				v.States = append(v.States, standJSON{s.Name, s.Kind.String(), s.State, s.Because})
			}
			views = append(views, v)
		}
		return writeJSON(c.OutOrStdout(), views)
	}
	l := list{heads: []string{"NAME", "", "STATE", "BECAUSE"}}
	for _, s := range all[0].States {
		l.add(s.Name, s.Kind.String(), s.State, s.Because)
	}
	var same []string
	if len(all) > 1 {
		l, same = triedTable(all)
	}
	if format == "csv" {
		flat := triedList(all)
		return flat.csv(c.OutOrStdout())
	}
	if err := l.table(c.OutOrStdout()); err != nil {
		return err
	}
	if len(same) > 0 {
		text := "The same in all: " + strings.Join(same, ", ") + "."
		fmt.Fprintf(c.OutOrStdout(), "\n%s\n", strings.Join(wrapText(text, 96), "\n"))
	}
	return nil
}

// triedList has a row for each state of each combination.
func triedList(all []bench.Tried) list {
	l := list{heads: []string{"with", "name", "kind", "state", "because"}}
	for _, t := range all {
		var with []string
		for _, g := range t.With {
			with = append(with, g.Name+"="+g.Text)
		}
		for _, s := range t.States {
			l.add(strings.Join(with, " "), s.Name, s.Kind.String(), s.State, s.Because)
		}
	}
	return l
}

// triedTable has a row for each combination: what differs between them, then
// the states that do. The others are the same in all of them.
func triedTable(all []bench.Tried) (l list, same []string) {
	var differs []int
	for i, g := range all[0].With {
		for _, t := range all {
			if t.With[i].Text != g.Text {
				differs = append(differs, i)
				l.heads = append(l.heads, g.Name)
				break
			}
		}
	}
	var changes []int
	for i, s := range all[0].States {
		if slices.ContainsFunc(all, func(t bench.Tried) bool { return t.States[i].State != s.State }) {
			changes = append(changes, i)
			l.heads = append(l.heads, s.Name)
		} else {
			same = append(same, s.Name+" "+s.State)
		}
	}
	for _, t := range all {
		var row []string
		for _, i := range differs {
			row = append(row, t.With[i].Text)
		}
		for _, i := range changes {
			row = append(row, t.States[i].State)
		}
		l.add(row...)
	}
	return l, same
}
