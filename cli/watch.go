package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"rectura/client"
	"rectura/core/unit"
)

func newWatch() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:   "watch NAME…",
		Short: "Points, rules and alarms of a job that is run, as they move",
		Long: `Shows points, rules and alarms as they are now, and keeps them up to date: in place
on a terminal; elsewhere a line for each change. It ends with Ctrl-C. TO TURN is how
far an input is away from where a rule turns next; DELAY is how long a delay that runs
still has to run.`,
		Example: "  rectura watch oxygen blower standby_blower\n  rectura watch oxygen --format json",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, names []string) error {
			if format != "table" && format != "json" {
				return fmt.Errorf("--format %s: it is one of table, json", format)
			}
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			w := &watch{names: names, out: c.OutOrStdout(), json: format == "json"}
			if f, is := file(w.out); is && isTerminal(w.out) && format == "table" {
				w.screen = f
			}
			return w.follow(c.Context(), api, job)
		},
	}
	r.addFlags(c.Flags())
	c.Flags().StringVar(&format, "format", "table", "how to show changes: table, or json for a line of JSON each")
	return c
}

// A watch shows part of a job as its stream tells it.
type watch struct {
	names  []string
	out    io.Writer
	screen *os.File // a terminal, on which the table stands in place; nil for none
	json   bool

	points map[string]client.PointNow
	rules  map[string]client.RuleNow
	alarms map[string]client.AlarmNow
	status client.JobStatus
	time   time.Time // of the job
	heard  time.Time // when that was
	last   string    // the id of the last event
	height int       // lines of the table on the screen
	rows   map[string]string
}

// mostSilence is the longest time between two lines of a stream; the service sends one every 5 s.
const mostSilence = 12 * time.Second

// endless returns the client, with as much time for an answer as that takes.
func endless(api *client.ClientWithResponses) client.ClientInterface {
	c, is := api.ClientInterface.(*client.Client)
	if !is {
		return api.ClientInterface
	}
	h, is := c.Client.(*http.Client)
	if !is {
		return c
	}
	patient, own := *h, *c
	patient.Timeout, own.Client = 0, &patient
	return &own
}

// reconnects is the pause before a stream that has ended is asked for again.
const reconnects = time.Second

// follow reads the stream until ctx ends. Where the service is away, it says so, and comes back with it.
func (w *watch) follow(ctx context.Context, api *client.ClientWithResponses, job string) error {
	for {
		err := w.read(ctx, api, job)
		if ctx.Err() != nil {
			return nil
		}
		if !errors.Is(err, errAway) || w.last == "" {
			return err
		}
		if err := w.show("the service does not answer"); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(reconnects):
		}
	}
}

// errAway is the error of a stream that ended, and that is asked for again.
var errAway = errors.New("the service does not answer")

// read reads one stream to its end. An error that is not errAway is final.
func (w *watch) read(ctx context.Context, api *client.ClientWithResponses, job string) error {
	p := &client.GetLiveParams{}
	if w.last != "" {
		p.LastEventID = &w.last
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	silence := time.AfterFunc(mostSilence, cancel)
	defer silence.Stop()
	a, err := endless(api).GetLive(ctx, job, p)
	if err != nil {
		return fmt.Errorf("following the job: %w: %w", errAway, err)
	}
	defer func() { _ = a.Body.Close() }() // it was read to its end, or given up
	if a.StatusCode != http.StatusOK {
		parsed, err := client.ParseGetLiveResponse(a)
		return answered(parsed, err, http.StatusOK)
	}
	lines := bufio.NewScanner(a.Body)
	lines.Buffer(nil, 64<<20)
	var kind string
	for lines.Scan() {
		silence.Reset(mostSilence)
		field, value, _ := bytes.Cut(lines.Bytes(), []byte(": "))
		switch string(field) {
		case "event":
			kind = string(value)
		case "id":
			w.last = string(value)
		case "data":
			if err := w.take(kind, value); err != nil {
				return err
			}
		default:
			if err := w.show(""); err != nil { // ages go on
				return err
			}
		}
	}
	return fmt.Errorf("following the job: %w: %w", errAway, cmp.Or(lines.Err(), io.EOF))
}

// take takes an event.
func (w *watch) take(kind string, data []byte) error {
	var c client.LiveChange
	if err := json.Unmarshal(data, &c); err != nil {
		return fmt.Errorf("reading what has changed: %w", err)
	}
	first := w.points == nil
	if kind == "state" || first {
		w.points, w.rules = map[string]client.PointNow{}, map[string]client.RuleNow{}
	}
	w.time, w.heard = c.Time, time.Now()
	if c.Status != nil {
		w.status = *c.Status
	}
	for _, p := range all(c.Points) {
		w.points[p.Name] = p
	}
	for _, r := range all(c.Rules) {
		w.rules[r.Name] = r
	}
	if c.Alarms != nil {
		w.alarms = map[string]client.AlarmNow{}
		for _, a := range *c.Alarms {
			w.alarms[a.Name] = a
		}
	}
	if first {
		for _, name := range w.names {
			_, point := w.points[name]
			_, rule := w.rules[name]
			_, alarm := w.alarms[name]
			if !point && !rule && !alarm && !strings.Contains(name, ".") { // an alarm that is normal is not listed
				return fmt.Errorf("the job has no point and no rule named %s, and no alarm of that name is active", name)
			}
		}
	}
	return w.show("")
}

// all returns a list of a change; none where nothing of it has changed.
func all[T any](list *[]T) []T {
	if list == nil {
		return nil
	}
	return *list
}

// show brings the table up to date, or writes the rows that differ.
func (w *watch) show(trouble string) error {
	l := list{heads: []string{"NAME", "", "VALUE", "UNIT", "", "AGE", "TO TURN", "DELAY", "BECAUSE"}, numbers: []int{3, 6, 7, 8}}
	if w.rows == nil {
		w.rows = map[string]string{}
	}
	for _, name := range w.names {
		cells, what := w.row(name)
		l.add(cells...)
		if w.screen != nil {
			continue
		}
		if err := w.changed(name, cells, what); err != nil {
			return err
		}
	}
	if w.screen == nil {
		return nil
	}
	var table bytes.Buffer
	if err := l.table(plainWriter{Writer: &table}); err != nil {
		return err
	}
	fmt.Fprintf(&table, "\n%s, %s", w.time.Format("15:04:05"), w.status.Mode)
	switch {
	case trouble != "":
		fmt.Fprintf(&table, "; %s since %s", trouble, w.heard.Format("15:04:05"))
	case w.status.Fault != "":
		table.WriteString(", in fault: " + w.status.Fault)
	case w.status.Settling:
		table.WriteString(", settling")
	}
	table.WriteString("\n")
	width, _, err := term.GetSize(int(w.screen.Fd()))
	if err != nil {
		return fmt.Errorf("asking how wide the terminal is: %w", err)
	}
	var screen bytes.Buffer
	if w.height > 0 {
		fmt.Fprintf(&screen, "\x1b[%dA\x1b[J", w.height) // up, and clear to the end (ECMA-48, 8.3.22 and 8.3.39)
	}
	w.height = bytes.Count(table.Bytes(), []byte{'\n'})
	for line := range strings.Lines(table.String()) { // a line that is wrapped would be two
		screen.WriteString(text.Trim(strings.TrimSuffix(line, "\n"), width) + "\n")
	}
	_, err = w.screen.Write(screen.Bytes())
	return err
}

// changed writes a row, if it says something else than before.
func (w *watch) changed(name string, cells []string, what any) error {
	same := slices.Clone(cells)
	if len(same) > 7 {
		same[5], same[7] = "", "" // ages and delays go on by themselves
	}
	row := strings.Join(same, "\t")
	if w.rows[name] == row {
		return nil
	}
	w.rows[name] = row
	if w.json {
		data, err := json.Marshal(map[string]any{"time": w.time, name: what})
		if err != nil {
			return fmt.Errorf("writing JSON: %w", err)
		}
		_, err = fmt.Fprintf(plainWriter{w.out, true}, "%s\n", data)
		return err
	}
	cells = slices.DeleteFunc(cells, func(c string) bool { return c == "" })
	_, err := fmt.Fprintf(w.out, "%s  %s\n", w.time.Format("15:04:05.000"), strings.Join(cells, "  "))
	return err
}

// row returns the cells of one name, and what the job says of it.
func (w *watch) row(name string) (cells []string, what any) {
	if p, is := w.points[name]; is {
		c := pointCells(&p)
		turn := ""
		if p.Away != nil {
			turn = unit.Short(*p.Away) + " " + deref(p.Unit)
		}
		age := c[5]
		if p.AgeSeconds != nil && *p.AgeSeconds < 2 {
			age = ""
		}
		return []string{name, c[1], c[2], c[3], c[4], age, turn, "", c[7]}, p
	}
	if r, is := w.rules[name]; is {
		delay := ""
		if r.DelayUntil != nil {
			if left := r.DelayUntil.Sub(w.time.Add(time.Since(w.heard))); left > 0 {
				delay = fmt.Sprintf("%.0f s", left.Seconds())
			}
		}
		return []string{name, r.Kind, r.State, "", "", "", "", delay, r.Because}, r
	}
	if a, is := w.alarms[name]; is {
		return []string{name, "alarm", a.State, "", a.Priority, "", "", "", a.Because}, a
	}
	return []string{name, "alarm", "normal", "", "", "", "", "", ""}, map[string]string{"state": "normal"}
}
