package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// clockText is a time as short as it can be told: without its day where that is today.
func clockText(t, now time.Time) string {
	if t.Format(time.DateOnly) == now.In(t.Location()).Format(time.DateOnly) {
		return t.Format("15:04:05")
	}
	return t.Format(time.DateTime)
}

func clockOr(t *time.Time, now time.Time, none string) string {
	if t == nil {
		return none
	}
	return clockText(*t, now)
}

// now asks for everything of a job that is run.
func (r *remote) now(ctx context.Context) (*client.Now, error) {
	api, job, err := r.ask(ctx)
	if err != nil {
		return nil, err
	}
	a, err := api.GetNowWithResponse(ctx, job)
	if err := answered(a, err, http.StatusOK); err != nil {
		return nil, err
	}
	return a.JSON200, nil
}

func newStatus() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:   "status",
		Short: "How each job is run: its mode, its devices, what is wrong",
		Long: `Says how each job is run. A job is idle (its devices are not touched), listening
(they are read and the rules run, and no output is written), or armed. The exit code
is 1 if an armed job is in fault, has lost a device, or cannot keep what it does.`,
		Example: "  rectura status\n  rectura status --format json",
		RunE: func(c *cobra.Command, _ []string) error {
			api, err := newClient(r.server)
			if err != nil {
				return err
			}
			a, err := api.GetStatusWithResponse(c.Context())
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			all := *a.JSON200
			if r.job != "" {
				all = slices.DeleteFunc(all, func(s client.JobStatus) bool { return s.Job != r.job })
			}
			if err := printStatus(c, format, all); err != nil {
				return err
			}
			if format == "table" { // of jobs that are idle, nothing is known without the bench
				if err := printProcesses(c, api); err != nil {
					return err
				}
			}
			if slices.ContainsFunc(all, troubled) {
				return errNo
			}
			return nil
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	return c
}

// troubled tells whether somebody has to see to a job.
func troubled(s client.JobStatus) bool {
	return s.Fault != "" || s.Damage != "" || s.Mode == client.JobStatusModeArmed && (s.NotKeptSince != nil ||
		slices.ContainsFunc(s.Devices, func(d client.DeviceNow) bool { return d.State == client.Lost }))
}

func printStatus(c *cobra.Command, format string, all []client.JobStatus) error {
	l := list{heads: []string{"JOB", "MODE", "REVISION", "SINCE", "DEVICES", "ALARMS", "BYPASSES", "LATE"}, numbers: []int{3, 7}}
	now := time.Now()
	for _, s := range all {
		revision := "-"
		if s.Revision != nil {
			revision = strconv.FormatInt(*s.Revision, 10)
		}
		mode := string(s.Mode)
		switch {
		case s.Fault != "":
			mode += ", in fault"
		case s.Waiting:
			mode += ", waiting"
		case s.Settling:
			mode += ", settling"
		}
		late := "-"
		if s.Mode != client.JobStatusModeIdle {
			late = fmt.Sprintf("%.1f ms", s.LatenessMs.P99)
		}
		l.add(
			s.Job,
			mode,
			revision,
			clockOr(s.Since, now, "-"),
			devicesText(s.Devices),
			alarmsText(s.Alarms),
			strconv.Itoa(s.Bypasses),
			late,
		)
	}
	if err := l.write(c, format, all); err != nil || format != "table" {
		return err
	}
	w := c.OutOrStdout()
	for _, s := range all {
		tellStatus(w, &s, now)
	}
	if slices.ContainsFunc(all, func(s client.JobStatus) bool { return s.ClockSynchronised != nil && !*s.ClockSynchronised }) {
		fmt.Fprintln(w, "\nNothing keeps the machine's clock right: times may be off. Synchronise it, by NTP say.")
	}
	return nil
}

// printProcesses prints the state of the two processes of the service.
func printProcesses(c *cobra.Command, api *client.ClientWithResponses) error {
	a, err := api.GetProcessesWithResponse(c.Context())
	if err := answered(a, err, http.StatusOK); err != nil {
		return err
	}
	fmt.Fprintln(c.OutOrStdout())
	now := time.Now()
	for _, p := range *a.JSON200 {
		fmt.Fprintln(c.OutOrStdout(), processText(&p, now))
	}
	return nil
}

func processText(p *client.Process, now time.Time) string {
	since, mib := clockText(p.Since.Local(), now), p.MemoryBytes>>20
	text := ""
	switch {
	case p.Name == client.ProcessNameControl:
		return fmt.Sprintf("Control, which runs the jobs: since %s, %d MiB of memory.", since, mib)
	case p.State == client.Runs:
		text = fmt.Sprintf("The bench, which has everything else: since %s, %d MiB of memory, of %d at the most.", since, mib, p.MostBytes>>20)
	case p.State == client.Silent:
		return fmt.Sprintf("The bench does not answer since %s. Until it does, only what runs can be seen and commanded.", since)
	case p.State == client.Starting && p.Because == "":
		return fmt.Sprintf("The bench is being started since %s. Until it runs, only what runs can be seen and commanded.", since)
	default:
		return fmt.Sprintf("The bench ended at %s: %s. It is started again; until it runs, only what runs can be seen and commanded.", since, p.Because)
	}
	if p.Ends > 0 {
		text += fmt.Sprintf(" It had ended: %s.", p.Because)
	}
	return text
}

// tellStatus says of a job what a person should see to, and how far back its records reach.
func tellStatus(w io.Writer, s *client.JobStatus, now time.Time) {
	if s.Fault != "" && s.Mode == client.JobStatusModeIdle {
		fmt.Fprintf(w, "\n%s is not run: %s.\n", s.Job, s.Fault)
	} else if s.Fault != "" {
		fmt.Fprintf(w, "\n%s is in fault, and its outputs are at what they fail to: %s. Arm it again once that is mended.\n", s.Job, s.Fault)
	}
	if s.Damage != "" {
		fmt.Fprintf(w, "\nThe records of %s are damaged: %s. Look at its setpoints and locks, and acknowledge %s.\n", s.Job, s.Damage,
			sheet.RecordsDamaged)
	}
	if s.NotKeptSince != nil {
		fmt.Fprintf(w, "\nNothing that %s does is kept since %s: %s.\n", s.Job, clockText(*s.NotKeptSince, now), s.NotKeptBecause)
	}
	for _, d := range s.Devices {
		if d.State == client.Lost {
			fmt.Fprintf(w, "\n%s: %s.\n", s.Job, d.Because)
		}
	}
	if s.PassedOver > 0 {
		fmt.Fprintf(
			w,
			"\n%s was sent more readings than it could take: %d were passed over, the newest of each point was taken.\n",
			s.Job,
			s.PassedOver,
		)
	}
	if s.LateReadings >= manyLate {
		fmt.Fprintf(w, "\n%s of %s came late, since their line was busy: read less often, or fewer points.\n",
			count(int(s.LateReadings), "reading", "readings"), s.Job)
	}
	if r := s.Records; r != nil && r.JournalFrom != nil {
		fmt.Fprintf(w, "\nOf %s, the journal reaches back to %s%s, and the capture to %s%s.\n", s.Job, clockText(*r.JournalFrom, now),
			daysText(r.JournalDays), clockOr(r.CaptureFrom, now, "nothing"), daysText(r.CaptureDays))
	}
}

// manyLate is from how many late readings on the lines of a job are called busy: a few come with any start.
const manyLate = 100

// daysText says for how many days records are kept.
func daysText(days *float64) string {
	if days == nil {
		return ""
	}
	return fmt.Sprintf(" (%.3g days are kept)", *days)
}

func devicesText(all []client.DeviceNow) string {
	if len(all) == 0 {
		return "-"
	}
	texts := make([]string, len(all))
	for i, d := range all {
		texts[i] = d.Name + " " + string(d.State)
	}
	return strings.Join(texts, ", ")
}

func alarmsText(by map[string]int) string {
	var texts []string
	for _, p := range []string{"critical", "high", "medium", "low"} {
		if by[p] > 0 {
			texts = append(texts, strconv.Itoa(by[p])+" "+p)
		}
	}
	if len(texts) == 0 {
		return "-"
	}
	return strings.Join(texts, ", ")
}

func newPoints() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:     "points [NAME…]",
		Short:   "The inputs and outputs of a job that is run, as they are now",
		Example: "  rectura points\n  rectura points oxygen blower --format json",
		RunE: func(c *cobra.Command, args []string) error {
			now, err := r.now(c.Context())
			if err != nil {
				return err
			}
			points := now.Points
			for _, name := range args {
				if !slices.ContainsFunc(points, func(p client.PointNow) bool { return p.Name == name }) {
					return fmt.Errorf("the job has no input and no output named %s", name)
				}
			}
			if len(args) > 0 {
				points = slices.DeleteFunc(points, func(p client.PointNow) bool { return !slices.Contains(args, p.Name) })
			}
			l := list{heads: []string{"NAME", "", "VALUE", "UNIT", "", "AGE", "RAN", "BECAUSE"}, numbers: []int{3, 6}}
			for _, p := range points {
				l.add(pointCells(&p)...)
			}
			return l.write(c, format, points)
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	return c
}

func pointCells(p *client.PointNow) []string {
	value, age, how, because := deref(p.State), "", "", deref(p.Reason)
	if p.Value != nil {
		value = unit.Short(*p.Value)
	}
	if p.AgeSeconds != nil {
		age = fmt.Sprintf("%.1f s", *p.AgeSeconds)
	}
	if p.Kind == client.PointNowKindOutput {
		how = string(*p.Mode)
		because = deref(p.Because)
		if why := deref(p.NotWritten); why != "" {
			how += ", not written"
			because += " (not written: " + why + ")"
		}
		if would := deref(p.Would); would != "" {
			how += ", would be " + would
		}
		return []string{p.Name, string(p.Kind), value, deref(p.Unit), how, age, ranText(p), because}
	}
	if p.Quality != nil && *p.Quality != client.PointNowQualityGood {
		how = string(*p.Quality)
	}
	if p.Pinned != nil && *p.Pinned {
		how = "pinned"
	}
	return []string{p.Name, string(p.Kind), value, deref(p.Unit), how, age, "", because}
}

// ranText is for how long an output has been on in all, how often it went on, and when somebody is to see to it.
func ranText(p *client.PointNow) string {
	if p.OnSeconds == nil || p.Starts == nil {
		return ""
	}
	if *p.OnSeconds == 0 && *p.Starts == 0 && p.DueSeconds == nil {
		return "never"
	}
	text := fmt.Sprintf("%.1f h, %d starts", *p.OnSeconds/3600, *p.Starts)
	if *p.Starts == 1 {
		text = strings.TrimSuffix(text, "s")
	}
	switch due := p.DueSeconds; {
	case due == nil:
	case *due == 0:
		text += ", service is due"
	default:
		text += fmt.Sprintf(", service in %.1f h", *due/3600)
	}
	return text
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func newRules() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:     "rules",
		Short:   "What decides in a job that is run, as it stands now, and its setpoints",
		Example: "  rectura rules\n  rectura rules --format json",
		RunE: func(c *cobra.Command, _ []string) error {
			now, err := r.now(c.Context())
			if err != nil {
				return err
			}
			l := list{heads: []string{"NAME", "", "STATE", "BECAUSE"}}
			for _, x := range now.Rules {
				l.add(x.Name, x.Kind, x.State, x.Because)
			}
			if err := l.write(c, format, now.Rules); err != nil || format != "table" || len(now.Setpoints) == 0 {
				return err
			}
			s := list{heads: []string{"SETPOINT", "VALUE", "UNIT", ""}, numbers: []int{2}}
			for _, x := range now.Setpoints {
				written := ""
				if x.Value != x.Written {
					written = "written " + unit.Short(x.Written)
				}
				s.add(x.Name, unit.Short(x.Value), x.Unit, written)
			}
			fmt.Fprintln(c.OutOrStdout())
			return s.table(c.OutOrStdout())
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	return c
}

func newAlarms() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:     "alarms",
		Short:   "The alarms that somebody has to know of, the most urgent first",
		Example: "  rectura alarms\n  rectura alarms --format json",
		RunE: func(c *cobra.Command, _ []string) error {
			now, err := r.now(c.Context())
			if err != nil {
				return err
			}
			l := list{heads: []string{"ALARM", "PRIORITY", "STATE", "SINCE", "", "BECAUSE", "ADVICE"}}
			for _, a := range now.Alarms {
				how := ""
				switch {
				case a.OutOfService:
					how = "out of service"
				case a.ShelvedUntil != nil:
					how = "shelved until " + clockText(*a.ShelvedUntil, now.Time)
				}
				l.add(a.Name, a.Priority, a.State, clockOr(a.Since, now.Time, "-"), how, a.Because, a.Advice)
			}
			if format == "table" && l.rows == 0 {
				fmt.Fprintln(c.OutOrStdout(), "No alarm.")
				return nil
			}
			return l.write(c, format, now.Alarms)
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	return c
}

func newBypasses() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:     "bypasses",
		Short:   "What is in place of what the job would decide: pins, hands, locks, silenced alarms",
		Example: "  rectura bypasses\n  rectura bypasses --format csv",
		RunE: func(c *cobra.Command, _ []string) error {
			now, err := r.now(c.Context())
			if err != nil {
				return err
			}
			l := list{heads: []string{"NAME", "KIND", "VALUE", "WHO", "SINCE", "UNTIL", "WHY"}}
			for _, b := range now.Bypasses {
				l.add(b.Name, b.Kind, b.Value, b.Who, clockOr(b.Since, now.Time, "-"), clockOr(b.Until, now.Time, "-"), b.Why)
			}
			if format == "table" && l.rows == 0 {
				fmt.Fprintln(c.OutOrStdout(), "Nothing is bypassed.")
				return nil
			}
			return l.write(c, format, now.Bypasses)
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	return c
}
