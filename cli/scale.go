package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A stageValue is a value at one place of a chain.
type stageValue struct {
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
}

func stageValues(stages []unit.Quantity) []stageValue {
	all := make([]stageValue, len(stages))
	for i, q := range stages {
		all[i] = stageValue{q.Value, q.Unit.Name()}
	}
	return all
}

// A scaled is a reading through its chain, in the stable JSON of `scale`.
type scaled struct {
	Input   string       `json:"input"`
	Stages  []stageValue `json:"stages"`
	Quality string       `json:"quality"`
	Reason  string       `json:"reason"`
	at      int
}

func newScale() *cobra.Command {
	var format string
	c := &cobra.Command{
		Use:   "scale JOB INPUT VALUE…",
		Short: "Take a reading through an input's chain, every stage, either way",
		Long: `Takes a reading through an input's chain and shows it at every stage. The reading
may stand at any stage: its unit says at which. A number without a unit stands at
the first.`,
		Example: "  rectura scale examples/hatchery oxygen 12mA\n  rectura scale examples/hatchery oxygen 2048counts '10 mg/L' -- '-1 mA'",
		Args:    cobra.MinimumNArgs(3),
		ValidArgsFunction: completeJob(func(folder string, args []string) []string {
			if len(args) > 0 {
				return nil
			}
			return declaredNames(folder, func(d sheet.Declaration) bool {
				in, ok := d.(*sheet.Input)
				return ok && !in.Discrete
			})
		}),
		RunE: func(c *cobra.Command, args []string) error { return runScale(c, args[0], args[1], args[2:], format) },
	}
	addFormat(c, &format)
	return c
}

func runScale(c *cobra.Command, folder, input string, values []string, format string) error {
	p, err := loadJob(c, folder)
	if err != nil {
		return err
	}
	i := p.InputIndex(input)
	if i < 0 {
		return fmt.Errorf("%s has no input named %s", folder, input)
	}
	chain := p.Inputs[i].Chain
	if chain == nil {
		return fmt.Errorf("%s is a discrete input and has no chain", input)
	}
	var all []scaled
	for _, v := range joinUnits(values) {
		s, err := scaleOne(&p.Inputs[i], v)
		if err != nil {
			return err
		}
		all = append(all, s)
	}
	if format == "json" {
		return writeJSON(c.OutOrStdout(), all)
	}
	l := list{}
	for k, u := range chain.Units {
		l.heads = append(l.heads, strings.TrimSpace(u.Name()))
		l.numbers = append(l.numbers, k+1)
	}
	l.heads = append(l.heads, "quality", "reason")
	for _, s := range all {
		var row []string
		for k, st := range s.Stages {
			cell := precise(st.Value)
			if format == "table" && k == s.at {
				cell = "[" + cell + "]" // the one that was given
			}
			row = append(row, cell)
		}
		l.add(append(row, s.Quality, s.Reason)...)
	}
	if format == "csv" {
		return l.csv(c.OutOrStdout())
	}
	l.table(c.OutOrStdout())
	return nil
}

// joinUnits puts together what a shell has taken apart: 12 mA.
func joinUnits(args []string) []string {
	var all []string
	for _, a := range args {
		if n := len(all); n > 0 && a != "" && !strings.ContainsAny(a[:1], "-0123456789") && strings.Trim(all[n-1], "-.0123456789") == "" {
			all[n-1] += " " + a
			continue
		}
		all = append(all, a)
	}
	return all
}

func scaleOne(in *logic.Input, value string) (scaled, error) {
	q, err := unit.ParseQuantity(value)
	if err != nil {
		return scaled{}, err
	}
	at := 0
	if q.Unit != (unit.Unit{}) || in.Chain.Units[0] == (unit.Unit{}) {
		var ok bool
		if at, ok = in.Chain.Place(q.Unit); !ok {
			var units []string
			for _, u := range in.Chain.Units {
				units = append(units, u.Name())
			}
			return scaled{}, fmt.Errorf("%s is in %s, and the chain of %s has %s", value, q.Unit.Describe(), in.Name, strings.Join(units, ", "))
		}
		q.Value = q.In(in.Chain.Units[at])
	}
	s := scaled{Input: in.Name, Stages: stageValues(in.Chain.Stages(q.Value, at)), Quality: "good", at: at}
	if f := in.Chain.Judge(q.Value, at); f != signal.None {
		s.Quality, s.Reason = "bad", in.Chain.Explain(f, q.Value, at)
	}
	return s, nil
}
