package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rectura/client"
)

// revisionArgument is the number of a revision that stands among the arguments; nil for the newest.
func revisionArgument(args []string) (*int64, error) {
	if len(args) == 0 {
		return nil, nil
	}
	n, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || n < 1 {
		return nil, fmt.Errorf("%s is no number of a revision; rectura revisions lists them", args[0])
	}
	return &n, nil
}

// askRevision is ask, with the number of a revision that stands among the arguments.
func (r *remote) askRevision(ctx context.Context, args []string) (*client.ClientWithResponses, string, *int64, error) {
	number, err := revisionArgument(args)
	if err != nil {
		return nil, "", nil, err
	}
	api, job, err := r.ask(ctx)
	return api, job, number, err
}

func newListen() *cobra.Command {
	var r remote
	var why string
	c := &cobra.Command{
		Use:   "listen [REVISION]",
		Short: "Read a job's devices and run its rules, and write nothing",
		Long: `Lets a job listen: its devices are read and its rules run, and no output is written but
for one at a time that a person takes in hand. So the wiring is proven before the
rules are. The newest revision is taken unless another is named.`,
		Example: "  rectura listen\n  rectura listen 3 --job hatchery",
		RunE: func(c *cobra.Command, args []string) error {
			api, job, number, err := r.askRevision(c.Context(), args)
			if err != nil {
				return err
			}
			q := client.ListenRequest{Revision: number, Who: who()}
			if why != "" {
				q.Why = &why
			}
			a, err := api.ListenWithResponse(c.Context(), job, q)
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s listens with revision %d. Nothing is written.\n", job, *a.JSON200.Revision)
			if dropped := a.JSON200.Dropped; dropped != nil {
				for _, x := range *dropped {
					fmt.Fprintf(c.OutOrStdout(), "Not as it was set: %s.\n", x)
				}
			}
			return nil
		},
	}
	r.addFlags(c.Flags())
	c.Flags().StringVar(&why, "why", "", "why, for the journal")
	return c
}

func newArm() *cobra.Command {
	var r remote
	var despite string
	var yes, now bool
	c := &cobra.Command{
		Use:   "arm [REVISION]",
		Short: "Let a job drive its outputs",
		Long: `Arms a job: shows first what would change, and which outputs would move and why, and
asks. A job that is idle listens first, until it has settled and no delay runs that may
still decide an output; 5 min at the most, --now does not wait. A revision whose trials
have failed, or were not played, is armed only with a reason: --despite.`,
		Example: "  rectura arm\n  rectura arm 4 --despite \"the trial of the old pump\" --yes",
		RunE: func(c *cobra.Command, args []string) error {
			api, job, number, err := r.askRevision(c.Context(), args)
			if err != nil {
				return err
			}
			plan, err := planned(c, api, job, number, now)
			if err == nil {
				plan, err = tried(c, api, job, plan)
			}
			if err != nil {
				return err
			}
			in := bufio.NewReader(c.InOrStdin())
			for {
				printPlan(c.OutOrStdout(), job, plan)
				if !yes && !agreed(c, in) {
					return asBefore(c, api, job)
				}
				q := client.ArmRequest{Plan: plan.Number, Revision: plan.Revision, Who: who()}
				if despite != "" {
					q.Despite = &despite
				}
				a, err := api.ArmWithResponse(c.Context(), job, q)
				if err := answered(a, err, http.StatusOK); err != nil {
					return err
				}
				if a.JSON200.Armed {
					fmt.Fprintf(c.OutOrStdout(), "%s is armed with revision %d.\n", job, plan.Revision)
					return nil
				}
				plan = a.JSON200.Plan
				fmt.Fprintln(c.OutOrStdout(), "Meanwhile that has changed.")
			}
		},
	}
	r.addFlags(c.Flags())
	c.Flags().StringVar(&despite, "despite", "", "why trials that failed or were not played do not `matter`")
	c.Flags().BoolVar(&yes, "yes", false, "agree to what would move without being asked")
	c.Flags().BoolVar(&now, "now", false, "do not wait for delays that may still decide an output")
	return c
}

// planEvery is how often a plan that has to wait is asked for again.
const planEvery = time.Second

// planned waits until arming need not wait any more.
func planned(c *cobra.Command, api *client.ClientWithResponses, job string, number *int64, now bool) (*client.Plan, error) {
	told := ""
	for {
		a, err := api.PlanArmingWithResponse(c.Context(), job, client.ListenRequest{Revision: number, Who: who()})
		if err := answered(a, err, http.StatusOK); err != nil {
			return nil, err
		}
		p := a.JSON200
		if p.Waiting == "" || now && p.Number > 0 {
			return p, nil
		}
		if p.Waiting != told {
			fmt.Fprintf(c.ErrOrStderr(), "%s listens: %s\n", job, p.Waiting)
			told = p.Waiting
		}
		if err := pause(c.Context(), planEvery); err != nil {
			return nil, err
		}
	}
}

// tried has the trials played that were not, and gives the plan as it is then.
func tried(c *cobra.Command, api *client.ClientWithResponses, job string, p *client.Plan) (*client.Plan, error) {
	if len(p.Trials) == 0 {
		return p, nil
	}
	fmt.Fprintf(c.ErrOrStderr(), "%s: its trials are played\n", job)
	played, err := api.PlayTrialsWithResponse(c.Context(), job, client.PlayTrialsJSONRequestBody{Revision: p.Revision})
	if err := answered(played, err, http.StatusOK); err != nil {
		return nil, err
	}
	a, err := api.PlanArmingWithResponse(c.Context(), job, client.ListenRequest{Revision: &p.Revision, Who: who()})
	if err := answered(a, err, http.StatusOK); err != nil {
		return nil, err
	}
	return a.JSON200, nil
}

// statusOf is how a job is run.
func statusOf(ctx context.Context, api *client.ClientWithResponses, job string) (*client.JobStatus, error) {
	a, err := api.GetStatusWithResponse(ctx)
	if err := answered(a, err, http.StatusOK); err != nil {
		return nil, err
	}
	for _, s := range *a.JSON200 {
		if s.Job == job {
			return &s, nil
		}
	}
	return nil, fmt.Errorf("the service keeps no job %s", job)
}

// asBefore says how a job goes on that somebody did not agree to arm.
func asBefore(c *cobra.Command, api *client.ClientWithResponses, job string) error {
	s, err := statusOf(c.Context(), api, job)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.OutOrStdout(), "%s goes on as it is: %s", job, s.Mode)
	if s.Revision != nil {
		fmt.Fprintf(c.OutOrStdout(), " with revision %d", *s.Revision)
	}
	fmt.Fprintln(c.OutOrStdout(), ".")
	return errNo
}

// pause waits, unless the context ends.
func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func printPlan(w io.Writer, job string, p *client.Plan) {
	fmt.Fprintf(w, "Arming %s with revision %d:\n", job, p.Revision)
	list := func(before string, all []string) {
		for _, x := range all {
			fmt.Fprintf(w, "  %s%s\n", before, x)
		}
	}
	list("", p.Changes)
	list("", p.Wires)
	list("trial: ", p.Trials)
	if len(p.Moves) == 0 {
		fmt.Fprintln(w, "  No output moves.")
	}
	for _, m := range p.Moves {
		name := m.Output
		if m.Place != nil {
			name = *m.Place + ", which " + m.Output + " had,"
		}
		if m.Unknown {
			fmt.Fprintf(w, "  %s is unknown, and will be written %s: %s\n", name, m.To, m.Because)
			continue
		}
		fmt.Fprintf(w, "  %s goes from %s to %s: %s\n", name, m.From, m.To, m.Because)
	}
	list("", p.Holds)
	list("kept: ", p.Kept)
	if len(p.Silent)+len(p.Unmoved)+len(p.AtEnds) > 0 {
		fmt.Fprintln(w, "Look at these first:")
	}
	list("", p.Silent)
	if len(p.Unmoved) > 0 {
		fmt.Fprintf(w, "  %s not moved since the job listens: %s\n", map[bool]string{true: "has", false: "have"}[len(p.Unmoved) == 1],
			strings.Join(p.Unmoved, ", "))
	}
	list("", p.AtEnds)
}

// agreed asks a person.
func agreed(c *cobra.Command, in *bufio.Reader) bool {
	fmt.Fprint(c.OutOrStdout(), "Arm it? [y/N] ")
	line, _ := in.ReadString('\n') // the end of the input is no yes
	answer := strings.ToLower(strings.TrimSpace(line))
	return answer == "y" || answer == "yes"
}

func newDisarm() *cobra.Command {
	var r remote
	var outputs, why string
	var yes bool
	c := &cobra.Command{
		Use:   "disarm",
		Short: "Let an armed job listen only, and one that listens be idle",
		Long: `Disarms a job, which then listens: its outputs go to their fail states, or where
--outputs says: off, or hold for where they are. A job that listens becomes idle.`,
		Example: "  rectura disarm --outputs off --why \"the raceway is drained\"",
		RunE: func(c *cobra.Command, _ []string) error {
			if outputs != "fail" && outputs != "off" && outputs != "hold" {
				return fmt.Errorf("--outputs %s: it is one of fail, off, hold", outputs)
			}
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			to := client.Parting(outputs)
			plan, err := api.PlanDisarmingWithResponse(c.Context(), job, &client.PlanDisarmingParams{Outputs: &to})
			if err := answered(plan, err, http.StatusOK); err != nil {
				return err
			}
			for _, m := range *plan.JSON200 {
				fmt.Fprintf(c.OutOrStdout(), "%s goes from %s to %s.\n", m.Output, m.From, m.To)
			}
			if err := sayWatchdogs(c, api, job, outputs); err != nil {
				return err
			}
			if !yes {
				fmt.Fprint(c.OutOrStdout(), "Disarm it? [y/N] ")
				line, _ := bufio.NewReader(c.InOrStdin()).ReadString('\n') // the end of the input is no yes
				if answer := strings.ToLower(strings.TrimSpace(line)); answer != "y" && answer != "yes" {
					fmt.Fprintln(c.OutOrStdout(), "It is as it was.")
					return errNo
				}
			}
			q := client.DisarmRequest{Outputs: &to, Who: who()}
			if why != "" {
				q.Why = &why
			}
			a, err := api.DisarmWithResponse(c.Context(), job, q)
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is %s.\n", job, a.JSON200.Mode)
			if !a.JSON200.Kept {
				fmt.Fprintln(c.OutOrStdout(), notKept)
			}
			if len(a.JSON200.Left) > 0 {
				fmt.Fprintf(c.OutOrStdout(), "Not read back as they were left: %s. Look at them.\n", strings.Join(a.JSON200.Left, ", "))
				return errNo
			}
			return nil
		},
	}
	r.addFlags(c.Flags())
	c.Flags().StringVar(&outputs, "outputs", "fail", "`where` the outputs go: fail, off or hold")
	c.Flags().StringVar(&why, "why", "", "why, for the journal")
	c.Flags().BoolVar(&yes, "yes", false, "do it without being asked")
	return c
}

// sayWatchdogs says of outputs that are to stay as they are that their devices may decide otherwise.
func sayWatchdogs(c *cobra.Command, api *client.ClientWithResponses, job, outputs string) error {
	if outputs != "hold" {
		return nil
	}
	s, err := statusOf(c.Context(), api, job)
	if err != nil || s.Mode != client.JobStatusModeArmed {
		return err
	}
	for _, d := range s.Devices {
		if d.Heartbeat {
			fmt.Fprintf(c.OutOrStdout(), "The heartbeat of %s ends with it, so that its watchdog decides what its outputs become.\n", d.Name)
		}
	}
	return nil
}
