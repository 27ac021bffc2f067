// Package iolist takes points from the lists in which technicians keep them,
// spreadsheets or CSV, to a sheet, and back.
//
// A list has a row of headings and a row a point:
//
//	point        the name; made legal and unique where it is not
//	description  the label
//	tag          the plant's own name
//	terminal     where it is wired in the panel
//	wire         where it stands in a device: rack holding 4 real
//	kind         analog (AI), discrete (DI), discrete inverted, output (DO) or
//	             analog output (AO)
//	card         the converter of an analog input: 0..4095 counts to 0..20 mA
//	signal       what the sensor gives, or the actuator takes: 4..20 mA, 0..10 V, pt100
//	low, high    the values at the ends of the signal, or of an analog output
//	unit         of these
//	healthy      the range outside which the signal is bad: 3.6..21 mA
//	chain        the stages as a sheet writes them, parted by ; in the place of
//	             card, signal, low and high; of an analog output those to its
//	             terminals, unless signal says them all
//	note         anything else
package iolist

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"rectura/core/sheet"
	"rectura/core/unit"
)

// Headings are the columns of a list, in the order in which one is written.
var Headings = []string{
	"point",
	"description",
	"tag",
	"terminal",
	"wire",
	"kind",
	"card",
	"signal",
	"low",
	"high",
	"unit",
	"healthy",
	"chain",
	"note",
}

// A Row is one row of a list, by heading, with its number in the file.
type Row struct {
	Number int
	Cells  map[string]string
}

func (r *Row) get(heading string) string { return strings.TrimSpace(r.Cells[heading]) }

// A Result is what has become of every row of a list.
type Result struct {
	Text    string // the sheet
	Points  []string
	Blank   int
	Present []string // already in the job, and left as they are there
	Renamed []string // "DO R1 → do_r1"
	Bad     []string // why a row is no point, each with its place
	Devices []string // that points are wired to, and that the job does not have
}

// Sheet makes a sheet of a list. Points that the job has already are left out
// of it. file names the list in messages.
func Sheet(file string, rows []Row, job *sheet.Job) *Result {
	r := &Result{}
	taken := map[string]bool{}
	var texts []string
	for _, row := range rows {
		if row.blank() {
			r.Blank++
			continue
		}
		name, renamed := legalName(&row, taken)
		if job != nil && job.Lookup(name) != nil && !renamed {
			r.Present = append(r.Present, name)
			continue
		}
		for job != nil && job.Lookup(name) != nil {
			name = next(name)
		}
		text, err := row.declaration(name)
		if err == nil {
			err = readable(text, row.device())
		}
		if err != nil {
			r.Bad = append(r.Bad, fmt.Sprintf("%s:%d: %v", file, row.Number, err))
			continue
		}
		taken[name] = true
		if given := cmp.Or(row.get("point"), row.get("tag"), row.get("description")); given != name {
			r.Renamed = append(r.Renamed, strings.TrimSpace(given+" → "+name))
		}
		r.Points = append(r.Points, name)
		texts = append(texts, text)
		r.missDevice(row.device(), job)
	}
	parsed, _ := sheet.ParseFile("list.rct", []byte(strings.Join(texts, "\n")))
	r.Text = parsed.String()
	return r
}

// missDevice notes a device that a point is wired to, if the job does not have it.
func (r *Result) missDevice(name string, job *sheet.Job) {
	if name == "" || job != nil && job.Lookup(name) != nil || slices.Contains(r.Devices, name) {
		return
	}
	r.Devices = append(r.Devices, name)
}

// device is the device that a row is wired to.
func (r *Row) device() string {
	name, _, _ := strings.Cut(r.get("wire"), " ")
	return name
}

func (r *Row) blank() bool {
	for _, c := range r.Cells {
		if strings.TrimSpace(c) != "" {
			return false
		}
	}
	return true
}

// legalName makes a name of what a row calls its point: its point, or else its
// tag, or else its description.
func legalName(r *Row, taken map[string]bool) (name string, renamed bool) {
	given := r.get("point")
	for _, other := range []string{"tag", "description"} {
		if given == "" {
			given = r.get(other)
		}
	}
	name = Legal(given)
	for taken[name] {
		name = next(name)
	}
	return name, name != given
}

// Legal makes a name out of any text: small letters, digits and _, beginning
// with a letter.
func Legal(s string) string {
	var b strings.Builder
	for _, c := range strings.ToLower(s) {
		switch {
		case 'a' <= c && c <= 'z', '0' <= c && c <= '9' && b.Len() > 0:
			b.WriteRune(c)
		case '0' <= c && c <= '9':
			b.WriteString("p" + string(c))
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "_"):
			b.WriteByte('_')
		}
	}
	name := strings.Trim(b.String(), "_")
	if len(name) > 60 {
		name = strings.TrimRight(name[:60], "_")
	}
	switch {
	case name == "":
		return "point"
	case sheet.Reserved(name):
		return name + "_point"
	}
	return name
}

// next counts a name on: pump, pump_2, pump_3.
func next(name string) string {
	base, n := name, 1
	if i := strings.LastIndexByte(name, '_'); i > 0 {
		if _, err := fmt.Sscanf(name[i+1:], "%d", &n); err == nil && fmt.Sprint(n) == name[i+1:] {
			base = name[:i]
		} else {
			n = 1
		}
	}
	return fmt.Sprintf("%s_%d", base, n+1)
}

// kinds are the words that a list may have for the kinds of points.
var kinds = map[string]string{
	"analog":            "analog",
	"analog input":      "analog",
	"ai":                "analog",
	"discrete":          "discrete",
	"discrete input":    "discrete",
	"digital":           "discrete",
	"digital input":     "discrete",
	"contact":           "discrete",
	"di":                "discrete",
	"output":            "output",
	"discrete output":   "output",
	"digital output":    "output",
	"do":                "output",
	"relay":             "output",
	"discrete inverted": "inverted",
	"analog output":     "analog output",
	"ao":                "analog output",
}

// kindWords are the kinds as a message lists them, each with what panels write.
const kindWords = "analog (AI), discrete (DI), discrete inverted, output (DO), analog output (AO)"

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ", "\r", "", "\t", " ").Replace(s) + `"`
}

// declaration writes a row as a sheet does.
func (r *Row) declaration(name string) (string, error) {
	kind, ok := kinds[strings.ToLower(r.get("kind"))]
	switch {
	case r.get("kind") == "" && r.get("unit")+r.get("signal")+r.get("chain") != "":
		kind = "analog"
	case !ok:
		if _, has := r.Cells["kind"]; !has {
			return "", fmt.Errorf("no column was mapped to the kind, which is %s", kindWords)
		}
		return "", fmt.Errorf("the kind %q is none of %s", r.get("kind"), kindWords)
	}
	for _, h := range []string{"wire", "card", "signal", "low", "high", "unit", "healthy", "chain"} {
		if strings.ContainsAny(r.get(h), "\r\n") { // or a cell could declare what it likes
			return "", fmt.Errorf("the column %s holds a line break; write it on one line", h)
		}
	}
	var b strings.Builder
	word := "input"
	if kind == "output" || kind == "analog output" {
		word = "output"
	}
	fmt.Fprintf(&b, "%s %s", word, name)
	if d := r.get("description"); d != "" {
		b.WriteString(" " + quote(d))
	}
	inverted := kind == "inverted"
	if inverted {
		kind = "discrete"
	}
	switch kind {
	case "discrete":
		b.WriteString(" discrete")
	case "analog output":
		low, high := r.get("low"), r.get("high")
		if low == "" || high == "" || r.get("unit") == "" {
			return "", fmt.Errorf("the columns low, high and unit are the range of an analog output; fill them in")
		}
		b.WriteString(" analog " + r.ends() + " " + unit.Named(r.get("unit")).String())
	}
	b.WriteByte('\n')
	for _, text := range []string{"tag", "terminal", "note"} {
		if v := r.get(text); v != "" {
			fmt.Fprintf(&b, "  %s %s\n", text, quote(v))
		}
	}
	if w := r.get("wire"); w != "" {
		fmt.Fprintf(&b, "  %s %s\n", map[string]string{"input": "source", "output": "drives"}[word], w)
	}
	if inverted {
		b.WriteString("  inverted\n")
	}
	var stages []string
	var err error
	switch kind {
	case "analog":
		stages, err = r.stages()
	case "analog output":
		stages = clauses(r.get("chain"))
		if signal := r.get("signal"); signal != "" && len(stages) == 0 {
			stages = []string{"scale " + r.ends() + " " + unit.Named(r.get("unit")).String() + " to " + signal}
		}
	}
	if err != nil {
		return "", err
	}
	for _, s := range stages {
		fmt.Fprintf(&b, "  %s\n", s)
	}
	if h := r.get("healthy"); h != "" && kind == "analog" {
		fmt.Fprintf(&b, "  healthy %s\n", h)
	}
	return b.String(), nil
}

// stages are the clauses of an analog row's chain.
func (r *Row) stages() ([]string, error) {
	if chain := r.get("chain"); chain != "" {
		return clauses(chain), nil
	}
	u := unit.Named(r.get("unit")).String()
	if u == "" {
		return nil, fmt.Errorf("the column unit is empty; an analog point has one")
	}
	var all []string
	if card := r.get("card"); card != "" {
		all = append(all, "scale "+card)
	}
	signal, low, high := r.get("signal"), r.get("low"), r.get("high")
	switch {
	case signal == "" && len(all) == 0:
		return []string{"unit " + u}, nil
	case signal == "":
		return nil, fmt.Errorf("the column signal is empty; say what the sensor gives, such as 4..20 mA")
	case !strings.Contains(signal, ".."):
		return append(all, "curve "+signal+" to "+u), nil
	case low == "" || high == "":
		return nil, fmt.Errorf("the columns low and high are the values at the ends of %s; fill in both", signal)
	}
	return append(all, "scale "+signal+" to "+r.ends()+" "+u), nil
}

// ends are the columns low and high as a range.
func (r *Row) ends() string {
	return strings.ReplaceAll(r.get("low")+".."+r.get("high"), ",", ".")
}

// clauses are the stages of a cell.
func clauses(chain string) []string {
	var all []string
	for _, c := range strings.Split(chain, ";") {
		if c = strings.TrimSpace(c); c != "" {
			all = append(all, c)
		}
	}
	return all
}

// readable tells what is wrong with a declaration, with the words of `check`, if its device is there.
func readable(text, device string) error {
	whole := "job \"list\"\n\n" + text
	if device != "" {
		whole += "\ndevice " + device + " modbus tcp \"127.0.0.1:502\" unit 1\n"
	}
	_, found := sheet.Parse([]sheet.Source{{Name: "list.rct", Text: []byte(whole)}})
	for _, f := range found {
		if f.Severity == sheet.Error {
			lines := strings.Split(text, "\n")
			at := f.Line - 3
			if at >= 0 && at < len(lines) {
				return fmt.Errorf("%q: %s", strings.TrimSpace(lines[at]), f.Text)
			}
			return fmt.Errorf("%s", f.Text)
		}
	}
	return nil
}

// Rows lists the points of a job.
func Rows(job *sheet.Job) [][]string {
	rows := [][]string{slices.Clone(Headings)}
	add := func(h *sheet.Head, stands *sheet.WireClause, kind string, more map[string]string) {
		cells := map[string]string{"point": h.Name, "description": h.Label, "kind": kind}
		if stands != nil {
			cells["wire"] = stands.String()
		}
		if h.Tag != nil {
			cells["tag"] = h.Tag.Text
		}
		if h.Terminal != nil {
			cells["terminal"] = h.Terminal.Text
		}
		var notes []string
		for _, n := range h.Notes {
			notes = append(notes, n.Text)
		}
		cells["note"] = strings.Join(notes, " ")
		for k, v := range more {
			cells[k] = v
		}
		row := make([]string, len(Headings))
		for i, heading := range Headings {
			row[i] = cells[heading]
		}
		rows = append(rows, row)
	}
	for _, in := range job.Inputs {
		switch {
		case in.Discrete && in.Inverted != nil:
			add(&in.Head, in.Source, "discrete inverted", nil)
			continue
		case in.Discrete:
			add(&in.Head, in.Source, "discrete", nil)
			continue
		}
		add(&in.Head, in.Source, "analog", chainCells(in))
	}
	for _, o := range job.Outputs {
		if o.Range == nil {
			add(&o.Head, o.Drives, "output", nil)
			continue
		}
		cells := map[string]string{"low": o.Range.From.Number(), "high": o.Range.To.Number(), "unit": o.Unit().Name()}
		if signal, plain := terminalsOf(o); plain {
			cells["signal"] = signal
		} else {
			var stages []string
			for _, s := range o.Stages {
				stages = append(stages, s.String())
			}
			cells["chain"] = strings.Join(stages, "; ")
		}
		add(&o.Head, o.Drives, "analog output", cells)
	}
	return rows
}

// terminalsOf is what an analog output's actuator takes; plain tells that its one stage
// goes there from the whole of its range.
func terminalsOf(o *sheet.Output) (signal string, plain bool) {
	if len(o.Stages) != 1 {
		return "", false
	}
	s, is := o.Stages[0].(*sheet.Scale)
	if !is || s.From.String() != o.Range.String() {
		return "", false
	}
	return s.To.String(), true
}

// chainCells puts a chain into card, signal, low, high and unit where it is a
// usual one, and into chain where it is not.
func chainCells(in *sheet.Input) map[string]string {
	cells := map[string]string{"unit": in.Engineering().Name()}
	if in.Healthy != nil {
		cells["healthy"] = in.Healthy.Range.String()
	}
	stages := in.Stages
	if len(stages) == 2 {
		if card, ok := stages[0].(*sheet.Scale); ok {
			cells["card"] = card.From.String() + " to " + card.To.String()
			stages = stages[1:]
		}
	}
	if len(stages) == 1 {
		if s, ok := stages[0].(*sheet.Scale); ok {
			cells["signal"], cells["low"], cells["high"] = s.From.String(), s.To.From.Number(), s.To.To.Number()
			return cells
		}
	}
	if len(in.Stages) > 0 {
		var all []string
		for _, s := range in.Stages {
			all = append(all, s.String())
		}
		delete(cells, "card")
		cells["chain"] = strings.Join(all, "; ")
	}
	return cells
}
