package cli

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
)

func newShow() *cobra.Command {
	var format string
	c := &cobra.Command{
		Use:     "show JOB [NAME…]",
		Short:   "Show points with their chains, setpoints, and rules as sentences with trip and reset points",
		Example: "  rectura show examples/hatchery\n  rectura show examples/hatchery standby_blower oxygen",
		ValidArgsFunction: completeJob(func(folder string, _ []string) []string {
			return declaredNames(folder, func(sheet.Declaration) bool { return true })
		}),
		RunE: func(c *cobra.Command, args []string) error { return runShow(c, args[0], args[1:], format) },
	}
	addFormat(c, &format)
	return c
}

// A shown is one declaration as `show` lists it for programs.
type shown struct {
	Name     string       `json:"name"`
	Kind     string       `json:"kind"`
	Title    string       `json:"title"`
	Tag      string       `json:"tag,omitempty"`
	Text     string       `json:"text"` // a chain, a value, who calls, a sentence
	Points   []shownPoint `json:"points,omitempty"`
	Delays   []string     `json:"delays,omitempty"`
	declared sheet.Declaration
}

type shownPoint struct {
	Effect    string       `json:"effect"`
	Input     string       `json:"input"`
	Direction string       `json:"direction,omitempty"` // of what a loop keeps there is none
	Op        string       `json:"op,omitempty"`
	Stages    []stageValue `json:"stages"`
}

func runShow(c *cobra.Command, folder string, names []string, format string) error {
	p, err := loadJob(c, folder)
	if err != nil {
		return err
	}
	for _, n := range names {
		if p.Job.Lookup(n) == nil {
			return fmt.Errorf("nothing in %s is named %s", folder, n)
		}
	}
	var all []shown
	for _, f := range p.Job.Files {
		for _, d := range f.Declarations {
			if h := d.Base(); h.Name != "" && (len(names) == 0 || slices.Contains(names, h.Name)) {
				all = append(all, describe(p, d))
			}
		}
	}
	switch format {
	case "json":
		return writeJSON(c.OutOrStdout(), all)
	case "csv":
		l := list{heads: []string{"name", "kind", "title", "tag", "text", "points", "delays"}}
		for _, s := range all {
			var points []string
			for _, pt := range s.Points {
				points = append(points, pt.text())
			}
			l.add(s.Name, s.Kind, s.Title, s.Tag, s.Text, strings.Join(points, "; "), strings.Join(s.Delays, "; "))
		}
		return l.csv(c.OutOrStdout())
	}
	return printShown(c.OutOrStdout(), p.Job.Title, all)
}

func describe(p *logic.Program, d sheet.Declaration) shown {
	h := d.Base()
	s := shown{Name: h.Name, Kind: d.Keyword(), Title: h.Title(), declared: d}
	if h.Tag != nil {
		s.Tag = h.Tag.Text
	}
	switch d := d.(type) {
	case *sheet.Input:
		s.Text = chainText(d)
	case *sheet.Derived:
		s.Text = "= " + d.Value.String()
	case *sheet.Setpoint:
		s.Text = d.Value.String()
		if d.Allow != nil {
			s.Text += ", allowed " + d.Allow.Range.String()
		}
	case *sheet.Output:
		s.Text = outputText(p, d)
	case *sheet.Recipient:
		s.Text = d.Kind + " " + d.Address
	case *sheet.Trial:
		s.Text = "plays " + d.Play.Text + ", " + count(len(d.Expect), "expectation", "expectations")
	default:
		if card, ok := p.Card(h.Name); ok {
			s.Text, s.Delays = card.Sentence, card.Delays
			s.Points = shownPoints(card.Points)
		}
	}
	return s
}

func shownPoints(points []logic.RulePoint) []shownPoint {
	var all []shownPoint
	for _, pt := range points {
		all = append(all, shownPoint{pt.Role.String(), pt.Name, pt.Direction(), string(pt.Op), stageValues(pt.Stages)})
	}
	return all
}

// chainText is an input's chain in a line: 0..4095 counts → 0..20 mA → …
func chainText(in *sheet.Input) string {
	if in.Discrete {
		s := "contact, on when the circuit is closed"
		if in.Inverted != nil {
			s = "contact, on when the circuit is open"
		}
		if in.Debounce != nil {
			s += "; debounce " + in.Debounce.Duration.String()
		}
		if in.Source != nil {
			s += "; from " + in.Source.String()
		}
		if in.Words != nil {
			s += "; on is called " + in.Words.On + ", off " + in.Words.Off
		}
		return s
	}
	var parts []string
	for _, st := range in.Stages {
		parts = append(parts, strings.TrimPrefix(strings.Replace(st.String(), " to ", " → ", 1), "scale "))
	}
	s := strings.Join(parts, ", then ")
	if len(parts) == 0 {
		s = "in " + in.Engineering().Name() + " already"
	}
	if in.Source != nil {
		s += "; from " + in.Source.String()
	}
	for _, clause := range in.Clauses() {
		s += "; " + clause
	}
	return s
}

func outputText(p *logic.Program, o *sheet.Output) string {
	var callers []string
	for _, r := range p.Callers(p.Index(logic.OutputKind, o.Name)) {
		callers = append(callers, p.Calling[r].Name)
	}
	s := ""
	if o.Range != nil {
		s = o.Range.String()
		for _, st := range o.Stages {
			_, to, _ := strings.Cut(st.String(), " to ")
			s += " → " + to
		}
		s += "; "
	}
	return s + calledText(o, callers) + outputClauses(o)
}

func calledText(o *sheet.Output, callers []string) string {
	s := "called by nothing"
	if len(callers) > 0 {
		s = "called by " + strings.Join(callers, ", ")
	}
	if len(callers) > 1 {
		s = "called by " + o.CalledBy.Word + " of " + strings.Join(callers, ", ")
	}
	return s
}

func outputClauses(o *sheet.Output) (s string) {
	for _, clause := range o.Clauses() {
		s += "; " + clause
	}
	if o.Proven != nil {
		s += "; " + o.Proven.String()
	}
	if o.Drives != nil {
		s += "; drives " + o.Drives.String()
	}
	if o.Flash != nil {
		s += "; flashes, once in " + o.Flash.Duration.String()
	}
	if o.Inverted != nil {
		s += "; inverted on the wire"
	}
	if o.Fail != nil && o.Fail.Value != nil {
		return s + "; fails to " + o.Fail.Value.String()
	}
	if o.Fail != nil {
		return s + "; fails " + map[string]string{"on": "on", "off": "off", "hold": "as it is"}[o.Fail.Word]
	}
	return s + "; fails off"
}

func (p shownPoint) text() string {
	last := p.Stages[len(p.Stages)-1]
	s := fmt.Sprintf("%s at %s %s, %s %s", p.Effect, precise(float64(last.Value)), last.Unit, p.Input, p.Direction)
	if p.Direction == "" {
		s = fmt.Sprintf("%s %s at %s %s", p.Effect, p.Input, precise(float64(last.Value)), last.Unit)
	}
	var before []string
	for _, st := range p.Stages[:len(p.Stages)-1] {
		before = append([]string{strings.TrimSpace(precise(float64(st.Value)) + " " + st.Unit)}, before...)
	}
	if len(before) > 0 {
		s += " (" + strings.Join(before, ", ") + ")"
	}
	return s
}

// precise prints a figure with as many digits as a check sheet wants.
func precise(v float64) string {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return "-" // a stage without an answer
	}
	return unit.Significant(v, 7)
}

func printShown(w io.Writer, title string, all []shown) error {
	fmt.Fprintln(w, title)
	for _, group := range []struct {
		head, kind string
		tagged     bool
	}{{"Inputs", "input", true}, {"Derived values", "derived", false}, {"Setpoints", "setpoint", false}, {"Constants", "constant", false}, {"Outputs", "output", true}} {
		if err := printGroup(w, all, group.head, group.kind, group.tagged); err != nil {
			return err
		}
	}
	printSentences(w, all, "Bands", "bands")
	printSentences(w, all, "Rules", "rule")
	printSentences(w, all, "Outputs that follow a value", "follow")
	printSentences(w, all, "Loops", "loop")
	printSentences(w, all, "Alarms", "alarm")
	printSentences(w, all, "Messages", "message")
	if err := printGroup(w, all, "Recipients", "recipient", false); err != nil {
		return err
	}
	return printGroup(w, all, "Trials", "trial", false)
}

// printGroup lists the declarations of one kind, if there are any.
func printGroup(w io.Writer, all []shown, head, kind string, tagged bool) error {
	l := list{heads: []string{"NAME", "TITLE", "TAG", ""}}
	if !tagged {
		l.heads = []string{"NAME", "TITLE", ""}
	}
	for _, s := range all {
		switch {
		case s.Kind != kind:
		case !tagged:
			l.add(s.Name, s.Title, s.Text)
		default:
			l.add(s.Name, s.Title, s.Tag, s.Text)
		}
	}
	if l.rows > 0 {
		fmt.Fprintf(w, "\n%s\n", head)
		return l.table(w)
	}
	return nil
}

// printSentences lists what reads aloud.
func printSentences(w io.Writer, all []shown, head, kind string) {
	first := true
	for _, s := range all {
		if s.Kind != kind {
			continue
		}
		if first {
			fmt.Fprintf(w, "\n%s\n", head)
			first = false
		}
		fmt.Fprintln(w, strings.TrimSpace(s.Name+"  "+s.declared.Base().Label))
		printCard(w, s.Text, s.Points, s.Delays)
	}
}

// printCard prints what is shown of everything that decides: its sentence, its
// points, its delays.
func printCard(w io.Writer, sentence string, points []shownPoint, delays []string) {
	for _, l := range wrapText(sentence, 92) {
		fmt.Fprintln(w, "    "+l)
	}
	for _, pt := range points {
		fmt.Fprintln(w, "      "+pt.text())
	}
	if len(delays) > 0 {
		fmt.Fprintln(w, "      "+strings.Join(delays, ", "))
	}
}

// wrapText breaks a sentence into lines of at most width letters.
func wrapText(s string, width int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(s) {
		if line != "" && len(line)+1+len(word) > width {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}
