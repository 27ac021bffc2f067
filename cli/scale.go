package cli

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/logic"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A stageValue is a value at one place of a chain.
type stageValue struct {
	Value number `json:"value"`
	Unit  string `json:"unit"`
}

// A number is one that JSON shows as null where a stage has no answer.
type number float64

func (n number) MarshalJSON() ([]byte, error) {
	if v := float64(n); math.IsNaN(v) || math.IsInf(v, 0) {
		return []byte("null"), nil
	}
	return json.Marshal(float64(n))
}

func stageValues(stages []unit.Quantity) []stageValue {
	all := make([]stageValue, len(stages))
	for i, q := range stages {
		all[i] = stageValue{number(q.Value), q.Unit.Name()}
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
	var grid gridFlags
	c := &cobra.Command{
		Use:   "scale JOB INPUT [VALUE…]",
		Short: "Take a reading through an input's chain, every stage, either way",
		Long: `Takes a reading through an input's chain and shows it at every stage. The reading
may stand at any stage: its unit says at which. A number without a unit stands at
the first. With --from, --to and --step it lists a whole table; --format csv makes a
check sheet of it.`,
		Example: "  rectura scale examples/hatchery oxygen 12mA\n  rectura scale examples/hatchery oxygen 2048counts '10 mg/L' -- '-1 mA'\n" +
			"  rectura scale examples/hatchery temperature --from 0degC --to 20degC --step 5degC --format csv",
		ValidArgsFunction: completeJob(func(folder string, args []string) []string {
			if len(args) > 0 {
				return nil
			}
			return declaredNames(folder, isAnalog)
		}),
		RunE: func(c *cobra.Command, args []string) error {
			values, err := grid.values(args[2:])
			if err != nil {
				return err
			}
			return runScale(c, args[0], args[1], values, format)
		},
	}
	c.Flags().StringVar(&grid.from, "from", "", "the first `value` of a table")
	c.Flags().StringVar(&grid.to, "to", "", "its last `value`")
	c.Flags().StringVar(&grid.step, "step", "", "how far apart its `values` are")
	addFormat(c, &format)
	return c
}

// gridFlags ask for a table of values.
type gridFlags struct{ from, to, step string }

// mostValues is the longest table.
const mostValues = 10_000

// values are those given one by one, or those of the table.
func (g gridFlags) values(given []string) ([]string, error) {
	switch {
	case g == gridFlags{} && len(given) == 0:
		return nil, fmt.Errorf("give a value, such as 12mA, or --from, --to and --step")
	case g == gridFlags{}:
		return given, nil
	case len(given) > 0:
		return nil, fmt.Errorf("--from, --to and --step stand in the place of values; give one or the other")
	}
	var q [3]unit.Quantity
	for i, f := range []struct{ name, text string }{{"--from", g.from}, {"--to", g.to}, {"--step", g.step}} {
		if f.text == "" {
			return nil, fmt.Errorf("%s is missing; a table has --from, --to and --step", f.name)
		}
		var err error
		if q[i], err = unit.ParseQuantity(f.text); err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		if !q[i].Unit.Comparable(q[0].Unit) {
			return nil, fmt.Errorf("%s is in %s and --from in %s; a table has one unit", f.name, q[i].Unit.Describe(), q[0].Unit.Describe())
		}
	}
	steps, err := unit.Steps(q[0], q[1], q[2], mostValues)
	if err != nil {
		return nil, err
	}
	all := make([]string, len(steps))
	for i, s := range steps {
		all[i] = s.String()
	}
	return all, nil
}

func runScale(c *cobra.Command, folder, input string, values []string, format string) error {
	p, err := loadJob(c, folder)
	if err != nil {
		return err
	}
	i := p.Index(logic.InputKind, input)
	if i < 0 {
		return fmt.Errorf("%s has no input named %s%s", folder, input, p.Job.DidYouMean(input, "input"))
	}
	chain := p.Inputs[i].Chain
	if chain == nil {
		return fmt.Errorf("%s is a discrete input and has no chain", input)
	}
	all := []scaled{}
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
	for k, name := range chain.PlaceNames() {
		l.heads = append(l.heads, name)
		l.numbers = append(l.numbers, k+1)
	}
	l.heads = append(l.heads, "quality", "reason")
	for _, s := range all {
		var row []string
		for k, st := range s.Stages {
			cell := precise(float64(st.Value))
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
	return l.table(c.OutOrStdout())
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
	v, at, err := in.Chain.ParseReading(in.Name, value)
	if err != nil {
		return scaled{}, err
	}
	s := scaled{Input: in.Name, Stages: stageValues(in.Chain.Stages(v, at)), Quality: "good", at: at}
	if f := in.Chain.Judge(v, at); f != signal.None {
		s.Quality, s.Reason = "bad", in.Chain.Explain(f, v, at)
	}
	return s, nil
}
