package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// The stable JSON of `trip`.
type (
	trippedJSON struct {
		Rule  string            `json:"rule"`
		Input string            `json:"input"`
		Trip  *foundJSON        `json:"trip"`
		Reset *foundJSON        `json:"reset"`
		With  map[string]string `json:"with"`
	}
	foundJSON struct {
		Stages    []stageValue `json:"stages"`
		Direction string       `json:"direction"`
	}
	bandsTrippedJSON struct {
		Bands   string            `json:"bands"`
		Input   string            `json:"input"`
		Changes []bandChangeJSON  `json:"changes"`
		With    map[string]string `json:"with"`
	}
	bandChangeJSON struct {
		From string `json:"from"`
		To   string `json:"to"`
		foundJSON
	}
)

func newTrip() *cobra.Command {
	var input, format string
	var with []string
	c := &cobra.Command{
		Use:   "trip JOB RULE",
		Short: "Find the exact readings at which a rule trips and resets, or bands change over, by moving an input",
		Long: `Moves an input slowly from one end to the other and back, a count at a time (or by
1/100,000 of its span where readings are not counts), and tells the first readings at
which the rule trips and resets, at every stage. Delays, minimum times and filters are
waited out at each step, and latches are reset as soon as they can be. The other inputs
stand still where --with puts them; the rest with contacts off and analog ones at mid
span, or, if the rule does not trip so, where it is found to trip. It says where.

RULE may be an alarm, too, or bands; of bands it tells where each comes into force.`,
		Example: "  rectura trip examples/hatchery standby_blower --with mains=on\n" +
			"  rectura trip examples/hatchery emergency_oxygen\n" +
			"  rectura trip examples/hatchery feeding --input temperature --with oxygen=9",
		ValidArgsFunction: completeJob(func(folder string, args []string) []string {
			if len(args) > 0 {
				return nil
			}
			return declaredNames(folder, func(d sheet.Declaration) bool {
				switch d.(type) {
				case *sheet.Rule, *sheet.Alarm, *sheet.Bands:
					return true
				}
				return false
			})
		}),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadJob(c, args[0])
			if err != nil {
				return err
			}
			var given []bench.Given
			for _, w := range with {
				g, err := bench.ParseGiven(p, w)
				if err != nil {
					return fmt.Errorf("--with: %w", err)
				}
				given = append(given, g)
			}
			if p.Index(logic.BandsKind, args[1]) >= 0 {
				t, err := bench.TripBands(p, args[1], input, given, c.Context().Err)
				if err != nil {
					return err
				}
				return writeBandTripped(c.OutOrStdout(), t, format)
			}
			t, err := bench.Trip(p, args[1], input, given, c.Context().Err)
			if err != nil {
				return err
			}
			switch format {
			case "json":
				return writeJSON(c.OutOrStdout(), trippedJSON{t.Rule, t.Input, foundView(t.Trip), foundView(t.Reset), standing(t.Still)})
			case "csv":
				l := list{heads: []string{"point", "direction", "value", "unit"}}
				for _, f := range []struct {
					name  string
					found *bench.Found
				}{{"trip", t.Trip}, {"reset", t.Reset}} {
					if f.found != nil {
						for _, s := range f.found.Stages {
							l.add(f.name, movedWord(f.found), precise(s.Value), s.Unit.Name())
						}
					}
				}
				return l.csv(c.OutOrStdout())
			}
			return printTripped(c.OutOrStdout(), t)
		},
	}
	c.Flags().StringVar(&input, "input", "", "the `input` that is moved, where the rule depends on several")
	c.Flags().StringArrayVar(&with, "with", nil, "where another input, a setpoint or a constant stands, `NAME=VALUE`; may be repeated")
	addFormat(c, &format)
	return c
}

// standing is where the other inputs stood, by name.
func standing(all []bench.Still) map[string]string {
	names := map[string]string{}
	for _, s := range all {
		names[s.Name] = s.Text
	}
	return names
}

func movedWord(f *bench.Found) string {
	if f.Falling {
		return "falling"
	}
	return "rising"
}

func foundView(f *bench.Found) *foundJSON {
	if f == nil {
		return nil
	}
	return &foundJSON{stageValues(f.Stages), movedWord(f)}
}

func printTripped(w io.Writer, t bench.Tripped) error {
	l := list{heads: []string{t.Rule, ""}}
	stages := []bench.Found{}
	for _, f := range []struct {
		name  string
		found *bench.Found
	}{{"trips", t.Trip}, {"resets", t.Reset}} {
		if f.found == nil {
			l.add("never "+f.name, "")
			continue
		}
		row := []string{f.name, t.Input + " " + movedWord(f.found)}
		for _, s := range f.found.Stages {
			row = append(row, precise(s.Value)+" "+s.Unit.Name())
		}
		l.add(row...)
		stages = append(stages, *f.found)
	}
	for len(stages) > 0 && len(l.heads) < 2+len(stages[0].Stages) {
		l.heads = append(l.heads, "")
	}
	if err := l.table(w); err != nil {
		return err
	}
	printMoved(w, t.Input, t.Low, t.High, t.Step, t.Still)
	switch {
	case t.Always:
		fmt.Fprintf(w, "It is on at both ends; give the other inputs another place by --with.\n")
	case t.Trip == nil && len(t.Still) > 0:
		fmt.Fprintf(w, "No place of them was found at which it trips. At the end: %s.\n", t.Because)
	}
	return nil
}

// printMoved says over what an input was moved, and where the others stood.
func printMoved(w io.Writer, input string, low, high, by unit.Quantity, all []bench.Still) {
	step := "by " + precise(by.Value) + " " + by.Unit.Name()
	if by.Unit.Dimension() == unit.Counts {
		step = "a count"
	}
	fmt.Fprintf(
		w,
		"\n%s moved from %s to %s %s and back, %s at a time.\n",
		input,
		precise(low.Value),
		precise(high.Value),
		high.Unit.Name(),
		step,
	)
	if len(all) > 0 {
		words := make([]string, len(all))
		for i, s := range all {
			words[i] = s.String()
		}
		fmt.Fprintf(w, "Meanwhile: %s.\n", strings.Join(words, ", "))
	}
}

func writeBandTripped(w io.Writer, t bench.BandTripped, format string) error {
	switch format {
	case "json":
		v := bandsTrippedJSON{t.Bands, t.Input, []bandChangeJSON{}, standing(t.Still)}
		for _, c := range t.Changes {
			v.Changes = append(v.Changes, bandChangeJSON{c.From, c.To, *foundView(&c.Found)})
		}
		return writeJSON(w, v)
	case "csv":
		l := list{heads: []string{"from", "to", "direction", "value", "unit"}}
		for _, c := range t.Changes {
			for _, s := range c.Stages {
				l.add(c.From, c.To, movedWord(&c.Found), precise(s.Value), s.Unit.Name())
			}
		}
		return l.csv(w)
	}
	if len(t.Changes) == 0 {
		fmt.Fprintf(w, "%s never change over.\n", t.Bands)
	} else {
		l := list{heads: []string{t.Bands, ""}}
		for range t.Changes[0].Stages {
			l.heads = append(l.heads, "")
		}
		for _, c := range t.Changes {
			row := []string{c.From + " → " + c.To, t.Input + " " + movedWord(&c.Found)}
			for _, s := range c.Stages {
				row = append(row, precise(s.Value)+" "+s.Unit.Name())
			}
			l.add(row...)
		}
		if err := l.table(w); err != nil {
			return err
		}
	}
	printMoved(w, t.Input, t.Low, t.High, t.Step, t.Still)
	return nil
}
