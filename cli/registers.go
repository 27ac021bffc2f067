package cli

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/unit"
	"rectura/service/device/modbus"
)

// The stable JSON of `registers`.
type (
	registersJSON struct {
		Device          string         `json:"device"`
		Address         string         `json:"address"`
		Unit            int            `json:"unit"`
		WatchdogSeconds *seconds       `json:"watchdog_seconds"` // null without a heartbeat
		Wires           []wireJSON     `json:"wires"`
		Requests        []requestsJSON `json:"requests"`
	}
	wireJSON struct {
		Point          string   `json:"point"`
		Kind           string   `json:"kind"` // read, driven or heartbeat
		Table          string   `json:"table"`
		Address        int      `json:"address"`
		Reference      string   `json:"reference"`
		Registers      int      `json:"registers"` // of a single bit 0
		Type           string   `json:"type"`
		Bit            *int     `json:"bit"`
		Order          string   `json:"order"`
		EverySeconds   seconds  `json:"every_seconds"`
		RefreshSeconds *seconds `json:"refresh_seconds"`
		Fail           string   `json:"fail"`
	}
	requestsJSON struct {
		Function     int      `json:"function"`
		Table        string   `json:"table"`
		First        int      `json:"first"`
		Count        int      `json:"count"`
		EverySeconds seconds  `json:"every_seconds"`
		Points       []string `json:"points"`
	}
)

func newRegisters() *cobra.Command {
	var format, probe string
	var r remote
	c := &cobra.Command{
		Use:   "registers [JOB]",
		Short: "List where every point is wired, and the requests that read them",
		Long: `Lists every wire of a job by its device: the protocol's address, which counts from 0, and the
reference that manuals write, which counts from 1; in what form a value stands there, how
often it is read or read back, and what an output goes to where the rules cannot decide: that is
to be set in the device as well, for when the service does not reach it.

Of the bytes of a value A is the highest: ABCD has the high word first, CDAB the low one.

--probe has the service read, once, what stands where a point of the newest revision is wired,
and shows it under every type and order. Nothing is written.`,
		Example: "  rectura registers examples/hatchery\n  rectura registers examples/hatchery --format csv\n" +
			"  rectura registers --probe oxygen",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeJob(nil),
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case probe != "" && len(args) > 0:
				return errors.New("--probe reads a device through the service, and takes no folder; --job says which job is meant")
			case probe != "":
				return runProbe(c, &r, probe, format)
			case len(args) == 0:
				return errors.New(
					"registers lists the wires of a job's folder: rectura registers JOB; or reads what stands at one: --probe NAME",
				)
			}
			return runRegisters(c, args[0], format)
		},
	}
	addFormat(c, &format)
	c.Flags().StringVar(&probe, "probe", "", "read what stands where the point of this `name` is wired")
	r.addFlags(c.Flags())
	return c
}

// runProbe shows what stands in a device where a point is wired.
func runProbe(c *cobra.Command, r *remote, point, format string) error {
	api, job, err := r.ask(c.Context())
	if err != nil {
		return err
	}
	a, err := api.ProbePointWithResponse(c.Context(), job, client.ProbeRequest{Point: point})
	if err := answered(a, err, http.StatusOK); err != nil {
		return err
	}
	p := a.JSON200
	l := list{heads: []string{"TYPE", "ORDER", "WORDS", "VALUE", ""}, numbers: []int{4}}
	for _, f := range p.Forms {
		var words []string
		for _, w := range p.Words[:min(len(f.Order)/2, len(p.Words))] {
			words = append(words, fmt.Sprintf("%04x", w))
		}
		value, wired := "no number", ""
		if f.Value != nil {
			value = wordsText(f.Type, *f.Value)
		}
		if f.Wired {
			wired = "as wired"
		}
		l.add(f.Type, f.Order, strings.Join(words, " "), value, wired)
	}
	switch format {
	case "json":
		return writeJSON(c.OutOrStdout(), p)
	case "csv":
		l.heads = []string{"type", "order", "words", "value", "wired"}
		return l.csv(c.OutOrStdout())
	}
	where := fmt.Sprintf("%s: %s %s %d, %s", p.Point, p.Device, p.Table, p.Address, p.Reference)
	if p.On != nil {
		state := "off"
		if *p.On {
			state = "on"
		}
		if p.Bit != nil {
			where += fmt.Sprintf(", bit %d", *p.Bit)
		}
		where += ": " + state
	}
	fmt.Fprintln(c.OutOrStdout(), where)
	if l.rows == 0 {
		return nil
	}
	return l.table(c.OutOrStdout())
}

func runRegisters(c *cobra.Command, folder, format string) error {
	p, err := loadJob(c, folder)
	if err != nil {
		return err
	}
	all := modbus.Devices(p)
	switch format {
	case "json":
		views := []registersJSON{}
		for _, d := range all {
			views = append(views, registersView(d))
		}
		return writeJSON(c.OutOrStdout(), views)
	case "csv":
		l := list{heads: []string{"device", "point", "kind", "table", "address", "reference", "type", "order", "every_seconds", "fail"}}
		for _, d := range all {
			for _, w := range d.Wires {
				l.add(d.Name, w.Point, wireKind(&w), wireTable(&w), strconv.Itoa(w.Address), w.Reference(), w.Type, w.Order(),
					unit.FormatDecimal(w.Every.Nanoseconds(), 1e9), w.Fail)
			}
		}
		return l.csv(c.OutOrStdout())
	}
	w := c.OutOrStdout()
	fmt.Fprintln(w, p.Job.Title)
	if len(all) == 0 {
		fmt.Fprintln(w, "No device is declared: this job runs on the bench. A device, and a `source` or `drives` of each point, wire it.")
	}
	for _, d := range all {
		if err := printRegisters(w, d); err != nil {
			return err
		}
	}
	return nil
}

// wordsText is a value as short as its type holds it.
func wordsText(typ string, v float64) string {
	switch typ {
	case "real":
		return strconv.FormatFloat(v, 'g', -1, 32)
	case "lreal":
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}

func registersView(d *modbus.Device) registersJSON {
	v := registersJSON{Device: d.Name, Address: d.Address, Unit: d.Unit, Wires: []wireJSON{}, Requests: []requestsJSON{}}
	if wait := d.Watchdog(); wait > 0 {
		v.WatchdogSeconds = new(seconds(wait))
	}
	for _, w := range d.Wires {
		x := wireJSON{
			Point:        w.Point,
			Kind:         wireKind(&w),
			Table:        w.Table,
			Address:      w.Address,
			Reference:    w.Reference(),
			Type:         w.Type,
			Order:        w.Order(),
			EverySeconds: seconds(w.Every),
			Fail:         w.Fail,
		}
		if w.Registers() {
			x.Registers = w.Size
		}
		if w.Bit >= 0 {
			x.Bit = &w.Bit
		}
		if w.Refresh > 0 {
			x.RefreshSeconds = new(seconds(w.Refresh))
		}
		v.Wires = append(v.Wires, x)
	}
	for _, r := range d.Requests() {
		v.Requests = append(v.Requests, requestsJSON{r.Function(), r.Table, r.First, r.Count, seconds(r.Every), r.Points})
	}
	return v
}

func wireKind(w *modbus.Wire) string {
	switch {
	case w.Heartbeat:
		return "heartbeat"
	case w.Driven:
		return "driven"
	}
	return "read"
}

// wireTable is the table of a wire, and of a bit of a register which it is.
func wireTable(w *modbus.Wire) string {
	if w.Bit < 0 {
		return w.Table
	}
	return w.Table + " bit " + strconv.Itoa(w.Bit)
}

func printRegisters(w io.Writer, d *modbus.Device) error {
	how := "modbus tcp " + strconv.Quote(d.Address)
	if d.Serial {
		how = fmt.Sprintf("modbus rtu %q %d %s", d.Address, d.Baud, d.Frame)
	}
	fmt.Fprintf(w, "\n%s, %s unit %d\n", d.Name, how, d.Unit)
	if len(d.Wires) == 0 {
		fmt.Fprintln(w, "Nothing is wired to it.")
		return nil
	}
	wires := list{
		heads:   []string{"POINT", "", "TABLE", "ADDRESS", "REFERENCE", "TYPE", "ORDER", "EVERY", "FAIL"},
		numbers: []int{4, 5, 8},
	}
	for _, x := range d.Wires {
		wires.add(x.Point, wireKind(&x), wireTable(&x), strconv.Itoa(x.Address), x.Reference(), x.Type, x.Order(), pace(x.Every), x.Fail)
	}
	if err := wires.table(w); err != nil {
		return err
	}
	requests := list{heads: []string{"READ", "EVERY", "FUNCTION", "ADDRESSES", "", "POINTS"}, numbers: []int{2, 3}}
	for _, r := range d.Requests() {
		addresses, size := strconv.Itoa(r.First), count(r.Count, "bit", "bits")
		if r.Count > 1 {
			addresses = fmt.Sprintf("%d to %d", r.First, r.Last())
		}
		if r.Table == "holding" || r.Table == "input" {
			size = count(r.Count, "register", "registers")
		}
		requests.add(r.Table, pace(r.Every), fmt.Sprintf("%02d", r.Function()), addresses, size, strings.Join(r.Points, ", "))
	}
	fmt.Fprintln(w)
	if err := requests.table(w); err != nil {
		return err
	}
	if slices.ContainsFunc(d.Wires, func(x modbus.Wire) bool { return x.Driven && !x.Heartbeat }) {
		fmt.Fprintf(w, "\nSet each output's fail in %s, too: that is what it goes to when %s is not reached.\n", d.Name, d.Name)
	}
	if wait := d.Watchdog(); wait > 0 {
		fmt.Fprintf(
			w,
			"Its watchdog waits %s at the least, and as much more as the machine takes to start the service again.\n",
			pace(wait),
		)
	}
	return nil
}

func pace(d time.Duration) string { return unit.FormatDuration(d.Nanoseconds()) }
