package cli

import (
	"fmt"
	"net/http"
	"os"
	"os/user"
	"strings"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/unit"
)

// An act is a command of a person about something in a job that is run.
type act struct {
	do          client.CommandRequestDo
	use         string // behind the word
	short, long string
	example     string
	lasts       string // what its --for says; empty for none
	why         string // what its --why says; empty for none
}

// acts are all of them.
var acts = []act{
	{
		client.CommandRequestDoSet, "SETPOINT [VALUE…]", "Give a setpoint another value",
		"Gives a setpoint another value, within the limits that its sheet allows. It outlasts\nrestarts. --written gives it back the value of the sheet.",
		"rectura set oxygen_low 5.8 mg/L --why \"warm nights\"\n  rectura set oxygen_low --written", "", "why",
	},
	{
		client.CommandRequestDoHand, "OUTPUT VALUE…", "Take an output in hand: on, off or a value",
		"Takes an output in hand, for 4 h at the most unless it is off. Its own interlock and\nits minimum times hold all the same. While the job listens, one output at a time can\nbe taken in hand, for 10 min: so its wiring is proven before its rules are.",
		"rectura hand blower on --for 10min\n  rectura hand dosing 40 %", "for how long, `such` as 10min", "why",
	},
	{
		client.CommandRequestDoOff, "OUTPUT", "Keep an output off until it is given back",
		"Keeps an output off: neither rules nor a fail state start it. With --lock, only the\nname that is given there gives it back.",
		"rectura off blower --lock anna --why \"belt is off\"", "", "why",
	},
	{
		client.CommandRequestDoAuto,
		"OUTPUT",
		"Give an output back to its rules",
		"Gives an output back to what calls it.",
		"rectura auto blower",
		"",
		"why, where it passes over somebody's lock",
	},
	{
		client.CommandRequestDoPin, "INPUT VALUE…", "Let an input be a value, whatever it reads",
		"Lets an input be a value for a time, 1 h at the most. A reason is needed where an\ninterlock or an alarm looks at it.",
		"rectura pin oxygen 7 mg/L --for 20min --why \"probe is being cleaned\"", "for how long, `such` as 20min", "why",
	},
	{
		client.CommandRequestDoUnpin,
		"INPUT",
		"Let an input be what it reads again",
		"Lets an input be what it reads again.",
		"rectura unpin oxygen",
		"",
		"why",
	},
	{
		client.CommandRequestDoReset,
		"RULE",
		"Reset a latch, or the hours until a service",
		"Resets a rule or an alarm that is latched. Of an output with `service after`, it says\nthat somebody has seen to it, so that its hours count anew.",
		"rectura reset oxygen_alarm\n  rectura reset blower.service --why \"new belt\"",
		"",
		"why",
	},
	{
		client.CommandRequestDoAcknowledge,
		"ALARM…",
		"Say that somebody knows of an alarm",
		"Acknowledges alarms. What they call for is not ended by that.",
		"rectura acknowledge oxygen_alarm",
		"",
		"why",
	},
	{
		client.CommandRequestDoShelve, "ALARM", "Silence an alarm for a time", "Silences an alarm for a time, 8 h at the most. It is still evaluated and journalled.",
		"rectura shelve oxygen.bad --for 2h --why \"probe is being cleaned\"", "for how long, `such` as 2h", "why",
	},
	{
		client.CommandRequestDoUnshelve,
		"ALARM",
		"End the shelving of an alarm",
		"Ends the shelving of an alarm. If it is active, it is announced anew.",
		"rectura unshelve oxygen.bad",
		"",
		"why",
	},
	{
		client.CommandRequestDoRewrite, "OUTPUT", "Write an output again that the plant has otherwise",
		"Writes an output again that was read back otherwise than it was written: by somebody at\nits device, say. Until then the job leaves it as it is.",
		"rectura rewrite blower --why \"the hand switch is back at auto\"", "", "why",
	},
	{
		client.CommandRequestDoOutOfService, "ALARM", "Take an alarm out of service", "Takes an alarm out of service, until somebody puts it back.",
		"rectura out-of-service oxygen.bad --why \"a new probe is on order\"", "", "why",
	},
	{
		client.CommandRequestDoInService,
		"ALARM",
		"Put an alarm back in service",
		"Puts an alarm back in service.",
		"rectura in-service oxygen.bad",
		"",
		"why",
	},
}

// newAct makes the command of one.
func newAct(a act) *cobra.Command {
	var r remote
	var lasts, why, lock string
	var written bool
	c := &cobra.Command{
		Use:     string(a.do) + " " + a.use,
		Short:   a.short,
		Long:    a.long,
		Example: "  " + a.example,
		RunE: func(c *cobra.Command, args []string) error {
			q := client.CommandRequest{Do: a.do, Name: args[0], Who: who()}
			if value := strings.Join(args[1:], " "); value != "" {
				q.Value = &value
			}
			if a.do == client.CommandRequestDoSet && (q.Value == nil) == !written {
				return fmt.Errorf("say the value of %s, or --written for that of the sheet", args[0])
			}
			if written {
				q.Written = &written
			}
			if lasts != "" {
				ns, err := unit.ParseDuration(lasts)
				if err != nil {
					return fmt.Errorf("--for: %w", err)
				}
				if ns < 1e9 {
					return fmt.Errorf("--for %s: it is 1 s at least", lasts)
				}
				s := float64(ns) / 1e9
				q.ForSeconds = &s
			}
			if why != "" {
				q.Why = &why
			}
			if lock != "" {
				q.Lock = &lock
			}
			if a.do == client.CommandRequestDoAcknowledge {
				return acknowledge(c, &r, q, args)
			}
			return r.act(c, q)
		},
	}
	r.addFlags(c.Flags())
	if a.lasts != "" {
		c.Flags().StringVar(&lasts, "for", "", a.lasts)
	}
	c.Flags().StringVar(&why, "why", "", a.why+", for the journal")
	switch a.do {
	case client.CommandRequestDoSet:
		c.Flags().BoolVar(&written, "written", false, "give it back the value of the sheet")
	case client.CommandRequestDoOff:
		c.Flags().StringVar(&lock, "lock", "", "the `name` that alone gives it back")
	case client.CommandRequestDoAuto:
		c.Flags().StringVar(&lock, "lock", "", "the `name` that it is kept off with")
	}
	return c
}

// who is the operating system's user; tests say who.
var who = func() *string {
	name := os.Getenv("USER")
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	return &name
}

// acknowledge acknowledges several alarms.
func acknowledge(c *cobra.Command, r *remote, q client.CommandRequest, names []string) error {
	q.Value = nil
	for _, name := range names {
		q.Name = name
		if err := r.act(c, q); err != nil {
			return err
		}
	}
	return nil
}

// act has a command done, and says what came of it.
func (r *remote) act(c *cobra.Command, q client.CommandRequest) error {
	api, job, err := r.ask(c.Context())
	if err != nil {
		return err
	}
	a, err := api.CommandWithResponse(c.Context(), job, q)
	if err := answered(a, err, http.StatusOK); err != nil {
		return err
	}
	x, w := a.JSON200, c.OutOrStdout()
	if x.Before == x.After {
		fmt.Fprintf(w, "%s: %s, as before.", q.Name, x.After)
	} else {
		fmt.Fprintf(w, "%s: %s, and was %s.", q.Name, x.After, x.Before)
	}
	if x.Until != nil {
		fmt.Fprintf(w, " Until %s.", x.Until.Format("15:04:05"))
	}
	fmt.Fprintln(w)
	if x.State != "" {
		fmt.Fprintf(w, "It is %s: %s.\n", x.State, x.Because)
	}
	if !x.Kept {
		fmt.Fprintln(w, notKept)
	}
	return nil
}

// notKept is said of what was done while the disk is full, say.
const notKept = "This could not be kept: it is done, and would be lost at a restart of the service."
