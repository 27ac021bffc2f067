package cli

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
)

// The stable JSON of `trial`.
type (
	outcomeJSON struct {
		Trial        string        `json:"trial"`
		Passed       bool          `json:"passed"`
		Expectations []verdictJSON `json:"expectations"`
	}
	verdictJSON struct {
		Text   string `json:"text"`
		Passed bool   `json:"passed"`
		Found  string `json:"found"`
	}
)

func newTrial() *cobra.Command {
	var format string
	c := &cobra.Command{
		Use:   "trial JOB [TRIAL…]",
		Short: "Play the job's trials and check what they expect",
		Long: `Plays each trial's recording through the job, with its setpoints and what it lets a
person do, and tells for each expectation whether it was borne out and what was found.
Without a name, all trials are played. The exit code is 1 if one failed.`,
		Example: "  rectura trial examples/hatchery\n  rectura trial examples/hatchery pump_trip --format json",
		ValidArgsFunction: completeJob(func(folder string, _ []string) []string {
			return declaredNames(folder, func(d sheet.Declaration) bool { _, is := d.(*sheet.Trial); return is })
		}),
		RunE: func(c *cobra.Command, args []string) error { return runTrial(c, args[0], args[1:], format) },
	}
	addFormat(c, &format)
	return c
}

func runTrial(c *cobra.Command, folder string, names []string, format string) error {
	p, err := loadJob(c, folder)
	if err != nil {
		return err
	}
	trials := p.Job.Trials
	if len(names) > 0 {
		trials = nil
		for _, n := range names {
			t := p.Job.Trial(n)
			if t == nil {
				return fmt.Errorf("%s has no trial named %s%s", folder, n, p.Job.DidYouMean(n, "trial"))
			}
			trials = append(trials, t)
		}
	}
	if len(trials) == 0 {
		return fmt.Errorf("%s has no trials; a trial is a declaration of its sheets", folder)
	}
	all, err := playTrials(c, folder, p, trials)
	if err != nil {
		return err
	}
	passed := true
	for _, o := range all {
		o.Result.Notes = append(o.Result.Notes, o.Notes...)
		tellOf(c, o.Trial.Name, o.Result)
		passed = passed && o.Passed()
	}
	if err := printOutcomes(c, all, format); err != nil {
		return err
	}
	if !passed {
		return errNo
	}
	return nil
}

// playTrials plays trials of a job with the recordings in its folder. With an
// error it gives those that were played before.
func playTrials(c *cobra.Command, folder string, p *logic.Program, trials []*sheet.Trial) ([]*bench.Outcome, error) {
	read := map[string]*recording.Recording{} // by file, for trials without mappings
	var all []*bench.Outcome
	for _, t := range trials {
		r, err := trialRecording(c, folder, p, t, read)
		if err != nil {
			return all, fmt.Errorf("trial %s: %w", t.Name, err)
		}
		o, err := bench.RunTrial(p.Job, t, r, c.Context().Err)
		if err != nil {
			return all, err
		}
		all = append(all, o)
	}
	return all, nil
}

func trialRecording(
	c *cobra.Command,
	folder string,
	p *logic.Program,
	t *sheet.Trial,
	read map[string]*recording.Recording,
) (*recording.Recording, error) {
	path := filepath.FromSlash(t.Play.Text)
	if !filepath.IsLocal(path) {
		return nil, fmt.Errorf("%s is outside the job's folder", t.Play.Text)
	}
	if r := read[path]; r != nil && len(t.Maps) == 0 {
		return r, nil
	}
	o, err := readingFlags{}.options(p.Job.Timezone)
	if err != nil {
		return nil, err
	}
	o.Map = bench.TrialMappings(t)
	r, err := readRecording(c, filepath.Join(folder, path), o)
	if err == nil && len(t.Maps) == 0 {
		read[path] = r
	}
	return r, err
}

func printOutcomes(c *cobra.Command, all []*bench.Outcome, format string) error {
	if format == "json" {
		views := []outcomeJSON{}
		for _, o := range all {
			v := outcomeJSON{o.Trial.Name, o.Passed(), []verdictJSON{}}
			for _, e := range o.Expectations {
				v.Expectations = append(v.Expectations, verdictJSON(e))
			}
			views = append(views, v)
		}
		return writeJSON(c.OutOrStdout(), views)
	}
	l := list{heads: []string{"TRIAL", "", "EXPECTED", "FOUND"}}
	failed := 0
	for _, o := range all {
		if !o.Passed() {
			failed++
		}
		for i, e := range o.Expectations {
			name, result := "", "passed"
			if i == 0 || format == "csv" {
				name = o.Trial.Name
			}
			if !e.Passed {
				result = "FAILED"
			}
			l.add(name, result, e.Text, e.Found)
		}
	}
	if format == "csv" {
		l.heads = []string{"trial", "result", "expected", "found"}
		return l.csv(c.OutOrStdout())
	}
	if err := l.table(c.OutOrStdout()); err != nil {
		return err
	}
	fmt.Fprintf(c.OutOrStdout(), "\n%s, %d failed\n", count(len(all), "trial", "trials"), failed)
	return nil
}
