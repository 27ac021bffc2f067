package cli

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

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
	var format string
	c := &cobra.Command{
		Use:   "registers JOB",
		Short: "List where every point is wired, and the requests that read them",
		Long: `Lists every wire of a job by its device: the protocol's address, which counts from 0, and the
reference that manuals write, which counts from 1; in what form a value stands there, how
often it is read or read back, and what an output goes to where the rules cannot decide: that is
to be set in the device as well, for when the service does not reach it.

Of the bytes of a value A is the highest: ABCD has the high word first, CDAB the low one.`,
		Example:           "  rectura registers examples/hatchery\n  rectura registers examples/hatchery --format csv",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeJob(nil),
		RunE:              func(c *cobra.Command, args []string) error { return runRegisters(c, args[0], format) },
	}
	addFormat(c, &format)
	return c
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

func registersView(d *modbus.Device) registersJSON {
	v := registersJSON{Device: d.Name, Address: d.Address, Unit: d.Unit, Wires: []wireJSON{}, Requests: []requestsJSON{}}
	if wait := d.Watchdog(); wait > 0 {
		v.WatchdogSeconds = new(seconds)
		*v.WatchdogSeconds = seconds(wait)
	}
	for _, w := range d.Wires {
		x := wireJSON{Point: w.Point, Kind: wireKind(&w), Table: w.Table, Address: w.Address, Reference: w.Reference(), Type: w.Type, Order: w.Order(),
			EverySeconds: seconds(w.Every), Fail: w.Fail}
		if w.Registers() {
			x.Registers = w.Size
		}
		if w.Bit >= 0 {
			x.Bit = &w.Bit
		}
		if w.Refresh > 0 {
			x.RefreshSeconds = new(seconds)
			*x.RefreshSeconds = seconds(w.Refresh)
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
	wires := list{heads: []string{"POINT", "", "TABLE", "ADDRESS", "REFERENCE", "TYPE", "ORDER", "EVERY", "FAIL"}, numbers: []int{4, 5, 8}}
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
		fmt.Fprintf(w, "Its watchdog waits %s at the least, and as much more as the machine takes to start the service again.\n", pace(wait))
	}
	return nil
}

func pace(d time.Duration) string { return unit.FormatDuration(d.Nanoseconds()) }
