package cli

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"rectura/client"
)

// journalKinds are those that the API knows.
const journalKinds = "input, bands, rule, alarm, follow, loop, message, output, command, bypass, write, device, service, clock, damaged"

func newJournal() *cobra.Command {
	var r remote
	var format string
	var within span
	var q client.GetJournalParams
	var kind, name, who string
	var newest int
	c := &cobra.Command{
		Use:   "journal",
		Short: "What happened: transitions, commands, losses and returns, the oldest first",
		Long: `Lists the journal of a job: every transition with its sentence as it was said then,
every command with who gave it and why, what became of devices, of the clock and of
the service. Entries are numbered without a gap. Times are those of the job's clock;
--from and --to take a time of today, or a date and a time.`,
		Example: "  rectura journal --newest 20\n  rectura journal --name blower --from 02:00 --format csv",
		RunE: func(c *cobra.Command, _ []string) error {
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			if q.From, q.To, err = within.read(c.Context(), api, job); err != nil {
				return err
			}
			if kind != "" {
				k := client.JournalKind(kind)
				if !k.Valid() {
					return fmt.Errorf("--kind %s: it is one of %s", kind, journalKinds)
				}
				q.Kind = &k
			}
			for _, x := range []struct {
				text string
				to   **string
			}{{name, &q.Name}, {who, &q.Who}} {
				if x.text != "" {
					*x.to = &x.text
				}
			}
			if newest > 0 {
				q.Newest = &newest
			}
			a, err := api.GetJournalWithResponse(c.Context(), job, &q)
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			l := list{heads: []string{"NUMBER", "TIME", "KIND", "NAME", "FROM", "TO", "WHO", "VIA", "BECAUSE"}, numbers: []int{1}}
			for _, e := range *a.JSON200 {
				l.add(
					strconv.FormatInt(e.Number, 10),
					e.Time.Format("2006-01-02 15:04:05.000"),
					e.Kind,
					e.Name,
					e.From,
					e.To,
					e.Who,
					e.Via,
					e.Because,
				)
			}
			return l.write(c, format, *a.JSON200)
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	within.addFlags(c.Flags(), "entries")
	c.Flags().StringVar(&kind, "kind", "", "of this `kind` alone: "+journalKinds)
	c.Flags().StringVar(&name, "name", "", "about this `name` alone")
	c.Flags().StringVar(&who, "who", "", "of what this `person` did alone")
	c.Flags().IntVar(&newest, "newest", 0, "so `many`, the newest of them")
	return c
}

// A span is from and to which time something is asked for, as it is written: times of the job's clock.
type span struct{ from, to string }

func (s *span) addFlags(flags *pflag.FlagSet, what string) {
	flags.StringVar(&s.from, "from", "", what+" from this `time` on, by the job's clock")
	flags.StringVar(&s.to, "to", "", "and before this `time`")
}

// read gives the times; nil where none is written. A time of day is of today.
func (s *span) read(ctx context.Context, api *client.ClientWithResponses, job string) (from, to *time.Time, err error) {
	if s.from == "" && s.to == "" {
		return nil, nil, nil
	}
	zone := time.UTC
	newest := 1
	a, err := api.GetJournalWithResponse(ctx, job, &client.GetJournalParams{Newest: &newest})
	if err := answered(a, err, http.StatusOK); err != nil {
		return nil, nil, err
	}
	for _, e := range *a.JSON200 {
		zone = e.Time.Location() // that of the job
	}
	if from, err = moment("--from", s.from, zone); err == nil {
		to, err = moment("--to", s.to, zone)
	}
	return from, to, err
}

// moment reads a time: of today, or with its date; nil for none.
func moment(flag, text string, zone *time.Location) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
		return &t, nil
	}
	today := time.Now().In(zone).Format(time.DateOnly) + " "
	for _, form := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		for _, whole := range []string{text, today + text} {
			if t, err := time.ParseInLocation(form, whole, zone); err == nil {
				return &t, nil
			}
		}
	}
	return nil, fmt.Errorf("%s %q: write a time of today, such as 02:14, or a date and a time: 2026-03-02 02:14:05", flag, text)
}

func newCapture() *cobra.Command {
	c := &cobra.Command{
		Use:     "capture",
		Short:   "What entered a job while it was run",
		Example: "  rectura capture keep oxygen-dip --from 02:00 --to 03:00",
	}
	c.AddCommand(newKeepCapture())
	return c
}

func newKeepCapture() *cobra.Command {
	var r remote
	var within span
	c := &cobra.Command{
		Use:   "keep NAME",
		Short: "Keep a stretch of what was captured as a recording",
		Long: `Keeps what a job's inputs read from one time to another as a recording in the service,
under a name: to be replayed with other setpoints, and to be made a trial of.`,
		Example: "  rectura capture keep oxygen-dip --from 02:00 --to 03:00",
		RunE: func(c *cobra.Command, args []string) error {
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			from, to, err := within.read(c.Context(), api, job)
			if err != nil {
				return err
			}
			if from == nil || to == nil {
				return fmt.Errorf("say from when to when, such as --from 02:00 --to 03:00")
			}
			a, err := api.KeepCaptureWithResponse(c.Context(), job, client.CaptureRequest{Name: args[0], From: *from, To: *to})
			if err := answered(a, err, http.StatusCreated); err != nil {
				return err
			}
			fmt.Fprintf(
				c.OutOrStdout(),
				"%s: recording %d, %s\n",
				a.JSON201.Name,
				a.JSON201.Id,
				count(int(a.JSON201.Samples), "reading", "readings"),
			)
			return nil
		},
	}
	r.addFlags(c.Flags())
	within.addFlags(c.Flags(), "the stretch")
	for _, name := range []string{"from", "to"} {
		_ = c.MarkFlagRequired(name) // which fails only for one that is not there
	}
	return c
}

func newVerify() *cobra.Command {
	var r remote
	var format string
	var within span
	c := &cobra.Command{
		Use:   "verify",
		Short: "Play again what was captured, and hold it beside the journal",
		Long: `Plays what entered a job while it ran on the bench, from the memory that it had then,
and compares every transition with the journal: to the nanosecond and the word. The
exit code is 1 if one differs.`,
		Example: "  rectura verify\n  rectura verify --from 02:00 --to 03:00",
		RunE: func(c *cobra.Command, _ []string) error {
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			var q client.VerifyParams
			if q.From, q.To, err = within.read(c.Context(), api, job); err != nil {
				return err
			}
			a, err := api.VerifyWithResponse(c.Context(), job, &q)
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			v := a.JSON200
			if format == "json" {
				err = writeJSON(c.OutOrStdout(), v)
			} else {
				err = printVerified(c, v)
			}
			if err == nil && len(v.Differ) > 0 {
				return errNo
			}
			return err
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	within.addFlags(c.Flags(), "what was captured")
	return c
}

func printVerified(c *cobra.Command, v *client.Verification) error {
	w := c.OutOrStdout()
	fmt.Fprintf(
		w,
		"%s the same in the journal and in what was captured, played again.\n",
		count(v.Same, "transition is", "transitions are"),
	)
	for _, x := range v.LeftOut {
		fmt.Fprintf(w, "Left out: %s.\n", x)
	}
	if len(v.Differ) == 0 {
		return nil
	}
	l := list{heads: []string{"", "TIME", "NAME", "FROM", "TO", "BECAUSE"}}
	for _, d := range v.Differ {
		for _, side := range []struct {
			name string
			*client.JournalEntry
		}{{"journal", d.Journal}, {"capture", d.Capture}} {
			if e := side.JournalEntry; e != nil {
				l.add(side.name, e.Time.Format("2006-01-02 15:04:05.000"), e.Name, e.From, e.To, e.Because)
			}
		}
	}
	fmt.Fprintf(w, "%s:\n", count(len(v.Differ), "differs", "differ"))
	return l.table(w)
}
