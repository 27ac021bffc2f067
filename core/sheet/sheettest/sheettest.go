// Package sheettest makes random jobs for property tests: right ones, of every
// construct of the language, with comments in every place.
package sheettest

import (
	"fmt"
	"strings"

	"pgregory.net/rapid"
)

// Inputs and outputs that every random job has. The analog ones are in mg/L,
// the discrete ones are contacts.
var (
	Analog   = []string{"sig0", "sig1", "sig2"}
	Discrete = []string{"con0", "con1"}
	Outputs  = []string{"out0", "out1", "out2"}
)

// A maker draws the parts of a job.
type maker struct {
	t     *rapid.T
	b     strings.Builder
	rules int // that can be named

	alarmed bool // the alarm can be named, and is complete: in one, no `deadband` may stand
}

// Job draws the text of a job that has no errors.
func Job(t *rapid.T) string {
	m := &maker{t: t}
	m.comment("")
	fmt.Fprintf(&m.b, "job %s\n", m.quoted())
	m.clause("timezone Europe/Dublin")
	m.maybe("settle %s", m.duration())
	m.head("device rack")
	m.rewriteHead(" modbus tcp \"127.0.0.1:1502\" unit 1")
	m.maybe("poll %s", m.duration())
	m.seldom("timeout %s", m.anyDuration())
	for i, name := range Analog {
		m.head("input %s", name)
		m.maybe("source rack %s %d", rapid.SampledFrom([]string{"holding", "input"}).Draw(t, "table"), i)
		switch m.pick("stages", 3) {
		case 0:
			m.clause("unit mg/L")
		case 1:
			m.clause("scale 4..20 mA to 0..10 mg/L")
			m.maybe("healthy 3.6..21 mA")
		default:
			m.clause("scale 0..4095 counts to 0..20 mA")
			m.clause("scale 4..20 mA to 10..0 mg/L")
			m.maybe("healthy 3.6..21 mA")
		}
		m.seldom("stale after %s", m.anyDuration())
		m.seldom("frozen after %s within %s mg/L", m.anyDuration(), m.number(0, 90))
		m.seldom("unsteady beyond %s mg/L within %s", m.number(100, 600), m.duration())
		m.seldom("bad after %s", m.anyDuration())
		m.seldom("good after %s", m.duration())
		if i == 0 {
			m.seldom("alarm when bad for %s priority low", m.anyDuration())
		}
		m.seldom("skip first %d samples", 1+m.pick("skipped", 3))
		if m.chance("lag", 25) {
			m.clause("smooth lag %s", m.anyDuration())
		} else {
			m.maybe("smooth %s %d samples", rapid.SampledFrom([]string{"average", "median"}).Draw(t, "filter"), 2+m.pick("samples", 5))
		}
		m.seldom("clamp %s..%s mg/L", m.number(0, 200), m.number(300, 900))
		m.seldom("round %s %s mg/L", rapid.SampledFrom([]string{"nearest", "down"}).Draw(t, "round"), m.number(5, 100))
		m.maybe("ignore changes under %s mg/L", m.number(1, 90))
		m.maybe("tag %s", m.quoted())
		m.maybe("note %s", m.quoted())
	}
	for _, name := range Discrete {
		m.head("input %s", name)
		m.rewriteHead(" discrete")
		m.maybe("inverted")
		m.seldom("debounce %s", m.anyDuration())
		m.seldom("words \"shut\", %s", m.word())
		m.seldom("terminal %s", m.quoted())
	}
	m.head("derived mean")
	m.rewriteHead(
		" = " + rapid.SampledFrom([]string{"average(sig0, sig1)", "(sig0 + sig1) / 2", "max(sig0, sig1 - 0.5 mg/L, sig2)", "abs(sig0 - sig1) * 1.5"}).
			Draw(t, "derived"),
	)
	m.head("setpoint low")
	m.rewriteHead(fmt.Sprintf(" %s mg/L", m.number(200, 800)))
	m.clause("allow 1..9 mg/L")
	m.head("setpoint pause")
	m.rewriteHead(" " + m.duration())
	m.head("constant band")
	m.rewriteHead(fmt.Sprintf(" %s mg/L", m.number(10, 150)))
	for i, name := range Outputs {
		m.head("output %s", name)
		m.seldom("drives rack coil %d", i)
		m.seldom("flash %s", m.anyDuration())
		m.seldom("inverted")
		m.clause("called by %s", rapid.SampledFrom([]string{"any", "all"}).Draw(t, "called by"))
		if name != "out2" { // which conditions look at
			m.guard(0)
		}
		m.minimum("on")
		m.minimum("off")
		m.maybe("fail %s", rapid.SampledFrom([]string{"on", "off", "hold"}).Draw(t, "fail"))
	}
	m.analogOutput()
	m.bands()
	m.alarm()
	m.head("message message0")
	m.clause("%s", rapid.SampledFrom([]string{"every " + m.anyDuration(), "at start", "when " + m.whole(1)}).Draw(t, "when"))
	m.clause("send sig0, con0, mean, out0, valve to duty")
	for i := range 1 + m.pick("rules", 4) {
		m.rule(i)
	}
	m.follow()
	m.loop()
	if m.chance("trial", 50) {
		m.trial()
	}
	m.comment("")
	return m.b.String()
}

// analogOutput draws the only one.
func (m *maker) analogOutput() {
	m.head("output valve")
	m.rewriteHead(" analog 0..100 %")
	m.clause("called by %s", rapid.SampledFrom([]string{"highest", "lowest"}).Draw(m.t, "called by"))
	if m.chance("scaled", 30) {
		m.clause("scale 0..100 %% to 4..20 mA")
		m.maybe("scale 4..20 mA to 4095..0 counts")
	}
	m.guard(0)
	m.maybe("fail %s", rapid.SampledFrom([]string{"0 %", "12.5 %", "off", "hold"}).Draw(m.t, "fail"))
	m.head("constant opening")
	m.rewriteHead(" " + m.number(0, 9900) + " %")
}

// follow draws an output in proportion.
func (m *maker) follow() {
	m.head("follow follow0")
	m.clause(
		"call valve from %s %s",
		rapid.SampledFrom([]string{"sig1", "mean"}).Draw(m.t, "of"),
		rapid.SampledFrom([]string{"2..8 mg/L to 0..100 %", "1000..6000 ug/L to 90..15 %"}).Draw(m.t, "ranges"),
	)
	m.maybe("while %s", m.part(1))
}

// loop draws an output that holds a value.
func (m *maker) loop() {
	m.head("loop loop0")
	m.clause("keep sig0 at %s", rapid.SampledFrom([]string{"low", "low + band", "5 mg/L", "sig2"}).Draw(m.t, "target"))
	m.clause("acting %s", rapid.SampledFrom([]string{"reverse", "direct"}).Draw(m.t, "acting"))
	m.clause("proportional band %s mg/L", m.number(50, 900))
	if m.chance("integral", 70) {
		m.clause("integral %s", m.anyDuration())
	} else {
		m.clause("bias %s %%", m.number(0, 9900))
	}
	m.maybe("derivative %s", rapid.SampledFrom([]string{"0 s", "2500 ms", "pause"}).Draw(m.t, "derivative"))
	m.clause("every %s", m.anyDuration())
	m.maybe("while %s", m.part(1))
	m.clause("call valve")
}

// bands draws bands of one signal.
func (m *maker) bands() {
	m.head("bands bands0")
	m.rewriteHead(" of " + rapid.SampledFrom([]string{"sig0", "sig1", "mean"}).Draw(m.t, "of"))
	words, limits := []string{"below", "at or below"}, []string{"1.5 mg/L", "1900 ug/L", "low + band"}
	if m.chance("from above", 50) {
		words, limits = []string{"above", "at or above"}, []string{"low", "1900 ug/L", "1.5 mg/L"}
	}
	for i, limit := range limits[m.pick("bands", 3):] {
		call := rapid.SampledFrom([]string{"", " call out0", " call out1, out2", " call valve at 70 %"}).Draw(m.t, "call")
		name := ""
		if i == 0 {
			name = "worst: "
		}
		m.clause("%s%s %s%s", name, rapid.SampledFrom(words).Draw(m.t, "word"), limit, call)
	}
	m.clause("fine: else%s", rapid.SampledFrom([]string{"", " call out0"}).Draw(m.t, "call"))
	m.seldom("hysteresis %s", rapid.SampledFrom([]string{"band", "0.2 mg/L"}).Draw(m.t, "hysteresis"))
	m.seldom("for %s", m.anyDuration())
	m.seldom("cumulative")
}

// alarm draws an alarm, and somebody who is told.
func (m *maker) alarm() {
	m.head("recipient duty")
	m.rewriteHead(" email \"duty@fennick.example\"")
	m.head("alarm alarm0")
	m.clause("on when %s", m.whole(1))
	switch m.pick("off", 4) {
	case 0:
		m.clause("off when %s", m.whole(1))
	case 1:
		m.clause("off after %s", m.anyDuration())
	case 2:
		m.clause("latch")
		m.clause("reset when %s", m.whole(0))
	}
	m.clause("priority %s", rapid.SampledFrom([]string{"critical", "high", "medium", "low"}).Draw(m.t, "priority"))
	m.seldom("inhibit when %s", m.whole(0))
	m.maybe("advice %s", m.quoted())
	m.maybe("call out0")
	m.maybe("call out1, out2, valve at 100 %% until acknowledged")
	m.maybe("notify duty")
	m.alarmed = true
}

// trial draws a trial, of a recording that need not be there.
func (m *maker) trial() {
	m.head("trial trial0")
	m.clause("play \"recordings/a.csv\"")
	m.seldom("map %s to sig0", m.word())
	m.seldom("with low %s mg/L", m.number(200, 800))
	m.seldom("scan %s", m.anyDuration())
	when := func() string {
		return rapid.SampledFrom([]string{"02:14:00", "23:59:59.999", "+1 min 30 s", "2026-03-02T02:14:00Z", "2026-03-02T02:14:00.5+01:00"}).
			Draw(m.t, "time")
	}
	for range m.pick("commands", 3) {
		m.clause(
			"at %s %s",
			when(),
			rapid.SampledFrom([]string{"set low 6 mg/L", "set pause 1 min 5 s", "hand out0 on", "hand out1 off", "off out0", "auto out0", "hand valve 40 %", "acknowledge alarm0", "pin sig0 5 mg/L", "pin con0 on", "unpin sig0"}).
				Draw(m.t, "command"),
		)
	}
	for range 1 + m.pick("expectations", 4) {
		m.clause("expect %s", rapid.SampledFrom([]string{
			"out0 turns on within " + m.anyDuration() + " of " + when(), "con0 turns off within " + m.anyDuration() + " around " + when(), "rule0 on within 5 s of " + when(),
			"out0 off from " + when() + " to " + when(), "out1 on always", "out1 off at " + when(), "out0 starts at most 4", "rule0 starts at least 1", "out0 on at least " + m.anyDuration(),
			"con1 off at most 10 min", "valve between 0 % and 40 % at " + when(), "sig0 between 4 mg/L and 9 mg/L at " + when(), "mean between -1 mg/L and 900 ug/L always", "low between 4 mg/L and 9 mg/L from " + when() + " to " + when(),
			"never (out0 and " + m.part(1) + ")",
		}).Draw(m.t, "expectation"))
	}
}

// rule draws a rule, which may name those before it.
func (m *maker) rule(i int) {
	m.rules = i
	m.head("rule rule%d", i)
	how := m.pick("off", 5)
	on := m.whole(2)
	if how < 4 && m.chance("moment", 30) { // such a rule needs an end
		on = m.moment() + rapid.SampledFrom([]string{"", " and " + m.part(1), " or " + m.part(1)}).Draw(m.t, "beside")
	}
	m.clause("on when %s", on)
	switch how {
	case 0:
		m.clause("off when %s", m.whole(1))
		m.minimum("on")
	case 1:
		m.clause("off after %s", m.anyDuration())
		m.minimum("on")
	case 2:
		m.clause("pulse %s", m.anyDuration())
	case 3:
		m.clause("latch")
		if m.chance("reset", 70) {
			m.clause("reset when %s", m.whole(1))
		}
		m.minimum("off")
	default:
		m.minimum("on")
		m.minimum("off")
	}
	m.guard(1)
	m.clause(
		"call %s",
		rapid.SampledFrom([]string{"out0", "out1", "out0, out1", "out1, out2", "valve at opening", "out2, valve at 40 %"}).Draw(m.t, "call"),
	)
}

// guard draws what permits and interlocks.
func (m *maker) guard(depth int) {
	if m.chance("permissive", 20) {
		m.clause("permissive when %s", m.whole(depth))
	}
	if m.chance("interlock", 20) {
		m.clause("interlock %s %s", rapid.SampledFrom([]string{"when", "unless"}).Draw(m.t, "interlock"), m.whole(depth))
	}
}

func (m *maker) minimum(of string) {
	if m.chance("minimum", 20) {
		m.clause("minimum %s %s", of, m.anyDuration())
	}
}

func (m *maker) pick(what string, n int) int { return rapid.IntRange(0, n-1).Draw(m.t, what) }

func (m *maker) chance(what string, percent int) bool { return m.pick(what, 100) < percent }

// comment sometimes writes a comment line, at an indent that means nothing.
func (m *maker) comment(indent string) {
	for range m.pick("comments", 8) - 5 {
		fmt.Fprintf(&m.b, "%s# %s\n", indent, rapid.StringMatching(`[ -~é°]{0,20}`).Draw(m.t, "comment"))
		if m.chance("blank", 30) {
			m.b.WriteByte('\n')
		}
	}
}

func (m *maker) head(format string, args ...any) {
	m.b.WriteString(strings.Repeat("\n", m.pick("blank lines", 3)))
	m.comment("")
	fmt.Fprintf(&m.b, format, args...)
	if m.chance("label", 50) {
		m.b.WriteString(" " + m.quoted())
	}
	m.b.WriteByte('\n')
}

// rewriteHead puts more at the end of the line just written.
func (m *maker) rewriteHead(more string) {
	text := strings.TrimSuffix(m.b.String(), "\n")
	m.b.Reset()
	m.b.WriteString(text + more + "\n")
}

func (m *maker) clause(format string, args ...any) {
	indent := strings.Repeat(" ", 1+m.pick("indent", 4))
	m.comment(indent)
	text := fmt.Sprintf(format, args...)
	if m.chance("break", 30) { // a clause goes on after `and`, `or` and `(`
		text = strings.Replace(text, " and ", " and  # goes on\n     ", 1)
	}
	m.b.WriteString(indent + text)
	if m.chance("beside", 15) {
		m.b.WriteString("   # beside")
	}
	m.b.WriteByte('\n')
}

func (m *maker) maybe(format string, args ...any) {
	if m.chance("maybe", 50) {
		m.clause(format, args...)
	}
}

func (m *maker) seldom(format string, args ...any) {
	if m.chance("seldom", 15) {
		m.clause(format, args...)
	}
}

// word is a quoted text that is not empty.
func (m *maker) word() string {
	return `"` + rapid.StringMatching(`[a-z é]{1,9}`).Draw(m.t, "word") + `"`
}

func (m *maker) quoted() string {
	s := rapid.StringMatching(`[ -~äé–]{0,12}`).Draw(m.t, "label")
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// number draws hundredths, written with one or two decimals.
func (m *maker) number(low, high int) string {
	n := rapid.IntRange(low, high).Draw(m.t, "number")
	if n%10 == 0 && m.chance("short", 50) {
		return fmt.Sprintf("%d.%d", n/100, n/10%10)
	}
	return fmt.Sprintf("%d.%02d", n/100, n%100)
}

func (m *maker) duration() string {
	return rapid.SampledFrom([]string{"1 s", "2500 ms", "4s", "7.5 s", "1 min", "1 min 30 s", "0.5 min"}).Draw(m.t, "duration")
}

func (m *maker) anyDuration() string {
	if m.chance("named", 20) {
		return "pause"
	}
	return m.duration()
}

// whole draws a condition for a clause, which may end in a delay.
func (m *maker) whole(depth int) string {
	if m.chance("delayed", 40) {
		return m.part(depth) + " for " + m.anyDuration()
	}
	if m.chance("joined", 50) {
		word := rapid.SampledFrom([]string{" and ", " or "}).Draw(m.t, "word")
		return m.part(depth) + word + m.part(depth)
	}
	return m.part(depth)
}

// part draws a condition that needs no parentheses round it.
func (m *maker) part(depth int) string {
	if depth > 0 {
		switch m.pick("part", 6) {
		case 0:
			return "not " + m.part(depth-1)
		case 5:
			return fmt.Sprintf("at least %d of (%s, %s, %s)", 1+m.pick("least", 3), m.whole(depth-1), m.part(depth-1), m.part(0))
		case 1, 2:
			return "(" + m.whole(depth-1) + ")"
		}
	}
	switch {
	case m.chance("contact", 25):
		return rapid.SampledFrom(Discrete).Draw(m.t, "contact") + rapid.SampledFrom([]string{"", "", " is off", " is not bad"}).Draw(m.t, "is")
	case m.chance("quality", 10):
		return rapid.SampledFrom(append(Analog, "mean")).
			Draw(m.t, "signal") +
			" is " + rapid.SampledFrom([]string{"good", "bad", "not bad"}).
			Draw(m.t, "quality")
	case m.alarmed && m.chance("alarm", 8):
		return "alarm0" + rapid.SampledFrom([]string{"", " is off", " is unacknowledged", " is not shelved"}).Draw(m.t, "is")
	case m.chance("band", 8):
		return "bands0 is " + rapid.SampledFrom([]string{"worst", "fine", "not worst"}).Draw(m.t, "band")
	case m.chance("output", 8):
		return "out2" + rapid.SampledFrom([]string{"", " is off"}).Draw(m.t, "is")
	case m.chance("range", 12):
		s := fmt.Sprintf(
			"%s %s %s mg/L and %s",
			rapid.SampledFrom(append(Analog, "mean")).Draw(m.t, "input"),
			rapid.SampledFrom([]string{"between", "outside"}).Draw(m.t, "range"),
			m.number(100, 400),
			rapid.SampledFrom([]string{"low", "low + band", m.number(450, 900) + " mg/L"}).Draw(m.t, "high"),
		)
		if m.chance("hysteresis", 50) {
			s += " hysteresis band"
		}
		return s
	case m.chance("near", 5):
		return "sig0 = " + m.value() + " within " + rapid.SampledFrom([]string{"band", "0.5 mg/L"}).Draw(m.t, "within")
	case m.chance("slope", 8):
		return fmt.Sprintf(
			"%s %s faster than %s mg/L per %s over %s",
			rapid.SampledFrom(append(Analog, "mean")).Draw(m.t, "input"),
			rapid.SampledFrom([]string{"rising", "falling"}).Draw(m.t, "slope"),
			m.number(10, 300),
			rapid.SampledFrom([]string{"s", "min"}).Draw(m.t, "per"),
			m.anyDuration(),
		)
	case m.chance("time", 5):
		return rapid.SampledFrom([]string{"time between 00:58 and 01:02:30", "time between 01:03 and 01:01:15.5"}).Draw(m.t, "time")
	case m.rules > 0 && m.chance("rule", 15):
		return fmt.Sprintf("rule%d%s", m.pick("rule", m.rules), rapid.SampledFrom([]string{"", " is off", " is not on"}).Draw(m.t, "is"))
	}
	return m.compare()
}

// moment draws a condition that is true for an instant only.
func (m *maker) moment() string {
	name := rapid.SampledFrom(append(Analog, "mean")).Draw(m.t, "input")
	switch m.pick("moment", 4) {
	case 0:
		return name + " changes"
	case 1:
		return name + " crosses " + m.value()
	case 2:
		return "(" + name + " crosses " + m.value() + " for " + m.anyDuration() + ")"
	}
	state := rapid.SampledFrom(append(Discrete, "out2")).Draw(m.t, "state")
	if m.rules > 0 && m.chance("rule", 30) {
		state = fmt.Sprintf("rule%d", m.pick("rule", m.rules))
	}
	return state + " " + rapid.SampledFrom([]string{"turns on", "turns off", "changes"}).Draw(m.t, "turn")
}

func (m *maker) compare() string {
	if m.chance("valve", 6) {
		return "valve " + rapid.SampledFrom([]string{"> 40 % hysteresis 5 %", "<= opening", "> 99.5 %"}).Draw(m.t, "level")
	}
	op := rapid.SampledFrom([]string{"<", "<=", ">", ">="}).Draw(m.t, "op")
	left, right := rapid.SampledFrom(append(Analog, "mean")).Draw(m.t, "input"), m.value()
	if m.chance("mirrored", 15) {
		left, right = right, left
	}
	s := left + " " + op + " " + right
	if m.alarmed && m.chance("deadband", 20) {
		s += fmt.Sprintf(" deadband %s mg/L", m.number(5, 100))
	}
	if m.chance("hysteresis", 50) {
		s += " hysteresis " + rapid.SampledFrom([]string{"band", "0.5 mg/L", "250 ug/L"}).Draw(m.t, "hysteresis")
	}
	return s
}

func (m *maker) value() string {
	switch m.pick("value", 6) {
	case 0:
		return "low"
	case 1:
		return "low + band"
	case 2:
		return "(low - 0.2 mg/L) + band"
	case 3:
		return rapid.SampledFrom(Analog).Draw(m.t, "other") + " - band"
	}
	return m.number(100, 900) + " mg/L"
}
