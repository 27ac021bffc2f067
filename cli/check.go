package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"github.com/spf13/cobra"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/sheet"
)

// A findingJSON is a finding in the stable JSON of `check`.
type findingJSON struct {
	File     string `json:"file"`
	Line     int    `json:"line"`
	Column   int    `json:"column"`
	Severity string `json:"severity"`
	Code     string `json:"code"`
	Text     string `json:"text"`
}

func newCheck() *cobra.Command {
	var format string
	var noTrials bool
	c := &cobra.Command{
		Use:   "check JOB",
		Short: "Say what is wrong or doubtful in a job, where, and what to do",
		Long: `Says what is wrong or doubtful in a job, where, and what to do. It plays the job's
trials, too, to find what none of them brings about; whether they pass is for trial to
say. With --no-trials it leaves them out, which takes no longer than reading the sheets.`,
		Example:           "  rectura check examples/hatchery\n  rectura check examples/hatchery --no-trials",
		ValidArgsFunction: completeJob(nil),
		RunE:              func(c *cobra.Command, args []string) error { return runCheck(c, args[0], format, noTrials) },
	}
	c.Flags().BoolVar(&noTrials, "no-trials", false, "do not play the job's trials")
	addFormat(c, &format)
	return c
}

func runCheck(c *cobra.Command, folder, format string, noTrials bool) error {
	sources, err := readSheets(folder)
	if err != nil {
		return err
	}
	job, p, found := logic.Check(sources)
	missing := missingRecordings(folder, job)
	found = append(found, missing...)
	wereTried := false
	if p != nil && len(missing) == 0 && !noTrials {
		played, err := playTrials(c, folder, p, job.Trials)
		if err != nil {
			t := job.Trials[len(played)] // the one that stopped it
			found = append(
				found,
				sheet.Finding{
					Place:    t.Play.At,
					Severity: sheet.Error,
					Code:     "unplayable-trial",
					Text:     fmt.Sprintf("this trial cannot be played: %v", err),
				},
			)
		} else {
			found, wereTried = append(found, bench.Untried(job, played)...), true
		}
	}
	sheet.Sort(found)
	switch format {
	case "json":
		all := []findingJSON{}
		for _, f := range found {
			all = append(all, findingJSON{f.File, f.Line, f.Column, string(f.Severity), f.Code, f.Text})
		}
		err = writeJSON(c.OutOrStdout(), all)
	case "csv":
		l := list{heads: []string{"file", "line", "column", "severity", "code", "text"}}
		for _, f := range found {
			l.add(f.File, strconv.Itoa(f.Line), strconv.Itoa(f.Column), string(f.Severity), f.Code, f.Text)
		}
		err = l.csv(c.OutOrStdout())
	default:
		printFindings(c.ErrOrStderr(), folder, sources, found)
		errors := 0
		for _, f := range found {
			if f.Severity == sheet.Error {
				errors++
			}
		}
		trials := ""
		if n := len(job.Trials); n > 0 && noTrials {
			trials = "; " + count(n, "trial", "trials") + " not played"
		} else if n > 0 && wereTried {
			trials = "; " + count(n, "trial", "trials") + " played"
		}
		fmt.Fprintf(
			c.OutOrStdout(),
			"%s: %s, %s, %s; %s, %s%s\n",
			job.Title,
			count(len(job.Inputs), "input", "inputs"),
			count(len(job.Outputs), "output", "outputs"),
			count(len(job.Rules), "rule", "rules"),
			count(errors, "error", "errors"),
			count(len(found)-errors, "warning", "warnings"),
			trials,
		)
	}
	if err == nil && sheet.HasErrors(found) {
		return errNo
	}
	return err
}

// missingRecordings reports the trials whose recording is not in the job's
// folder.
func missingRecordings(folder string, job *sheet.Job) []sheet.Finding {
	var found []sheet.Finding
	for _, t := range job.Trials {
		if t.Play == nil {
			continue
		}
		path := filepath.FromSlash(t.Play.Text)
		if _, err := os.Stat(filepath.Join(folder, path)); err != nil || !filepath.IsLocal(path) {
			found = append(found, sheet.Finding{
				Place:    t.Play.At,
				Severity: sheet.Error,
				Code:     "no-recording",
				Text: fmt.Sprintf(
					"the recording %s of the trial %s is not in the job's folder; put it there, or correct its path",
					t.Play.Text,
					t.Name,
				),
			})
		}
	}
	return found
}
