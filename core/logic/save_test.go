package logic

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/encoding/protowire"
	"pgregory.net/rapid"

	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
)

// An event is what comes at one time: what becomes of the plant, readings, and what people do.
type event struct {
	moment
	plant    []func(s *Stepper, t int64)
	commands []Command
}

// plantEvents adds what becomes of a plant: restarts, pauses, a device that is lost and answers again, and what is read back.
func plantEvents(t *rapid.T, p *Program, all []event) []event {
	rack := p.Index(InputKind, "rack")
	for k := range all {
		var found []func(s *Stepper, t int64)
		for range rapid.SampledFrom([]int{0, 0, 1, 2, 3}).Draw(t, "found") {
			o := rapid.IntRange(0, len(p.Outputs)-1).Draw(t, "output")
			stand := Stand{State: rapid.SampledFrom([]State{Off, On}).Draw(t, "state")}
			if p.Outputs[o].Analog() {
				stand = p.Outputs[o].FromWire(p.Outputs[o].ToWire(Stand{Level: float64(rapid.IntRange(0, 4).Draw(t, "quarters")) * 25}))
			}
			found = append(found, func(s *Stepper, _ int64) { s.Found(o, stand) })
		}
		switch what := rapid.IntRange(0, 12).Draw(t, "what"); {
		case what == 0:
			found = slices.Insert(found, 0, func(s *Stepper, _ int64) { s.Restart() })
		case what == 1:
			found = slices.Insert(found, 0, func(s *Stepper, t int64) { s.Pause(max(0, min(700e6, t-s.now))) })
		case what <= 4 && rack >= 0:
			found = []func(s *Stepper, t int64){func(s *Stepper, _ int64) { s.LoseDevice(rack) }}
		case what <= 7 && rack >= 0:
			found = slices.Insert(found, 0, func(s *Stepper, t int64) { s.Resettle(t, rack) })
		case what > 8:
			found = nil
		}
		all[k].plant = found
	}
	return all
}

func events(t *rapid.T, p *Program, all []moment) []event {
	var events []event
	for _, m := range all {
		e := event{moment: m}
		for range rapid.SampledFrom([]int{0, 0, 0, 1, 2}).Draw(t, "commands") {
			e.commands = append(e.commands, command(t, p))
		}
		events = append(events, e)
	}
	return events
}

// command draws one that the job can be given.
func command(t *rapid.T, p *Program) Command {
	c := Command{
		Do: rapid.SampledFrom([]Do{SetSetting, ResetRule, TakeInHand, StandOff, GiveBack, PinInput, UnpinInput, Acknowledge, Shelve, Unshelve, TakeOut, PutBack, Look}).
			Draw(t, "do"),
	}
	var of []Ref
	for _, k := range commands[c.Do].of {
		of = append(of, p.All(k)...)
	}
	if len(of) == 0 {
		return Command{Do: Look}
	}
	c.Of = rapid.SampledFrom(of).Draw(t, "of")
	c.For = rapid.SampledFrom([]int64{0, 1e9, 2.5e9, 30e9}).Draw(t, "for")
	i := c.Of.Index
	switch c.Do {
	case SetSetting:
		c.Value = p.Settings[i].Value.Value * float64(rapid.IntRange(1, 6).Draw(t, "times")) / 3
	case TakeInHand:
		c.On = rapid.Bool().Draw(t, "on")
		if o := &p.Outputs[i]; o.Analog() {
			c.Value = o.Low + (o.High-o.Low)*float64(rapid.IntRange(0, 4).Draw(t, "quarters"))/4
		}
	case PinInput:
		if c.Value = float64(rapid.IntRange(0, 1).Draw(t, "closed")); p.Inputs[i].Chain != nil {
			c.Value = float64(rapid.IntRange(0, 20).Draw(t, "value")) / 2
		}
	case Shelve:
		c.For = max(c.For, 1e9)
	}
	if p.check(c) != nil {
		return Command{Do: Look}
	}
	return c
}

// A keeper has the rows of a memory, by name, as a store would.
type keeper map[string]Row

func (k keeper) keep(rows []Row) {
	for _, r := range rows {
		k[r.Name] = r
	}
}

func (k keeper) rows() []Row {
	var all []Row
	for _, name := range slices.Sorted(maps.Keys(k)) {
		all = append(all, k[name])
	}
	return all
}

// A life is how a run is interrupted. At the instants that cut names, and after each if
// that is wanted, what was touched is kept; and at those the stepper is thrown away and
// goes on from what was kept, spoiled; but not where spoil is nil. After every so many
// events the clock is set by so much.
type life struct {
	each  bool
	cut   func(instant int) bool
	spoil func(*Row)
	every int
	set   int64
}

// live plays events, with times as they would be had the clock not been set.
func (l life) live(p *Program, all []event) []string {
	each, cut, spoil := l.each, l.cut, l.spoil
	s := NewStepper(p)
	kept := keeper{}
	kept.keep(s.Save(false))
	var out []string
	instants, set := 0, int64(0)
	clock := func(t int64) string { return fmt.Sprint(t - set) }
	step := func(at int64) {
		for _, tr := range s.MustStep(at) {
			out = append(
				out,
				fmt.Sprintf(
					"%s #%d %s %s→%s: %s %v %t",
					clock(at),
					tr.Number,
					p.Name(tr.Ref),
					p.StandText(tr.Ref, tr.From),
					p.StandText(tr.Ref, tr.To),
					p.Sentence(tr, clock),
					tr.Reason.From,
					tr.Reason.Turned,
				),
			)
			for _, term := range tr.Reason.Terms {
				out = append(out, fmt.Sprint("  ", p.TermText(term), term.From))
			}
		}
		for _, c := range s.ContactChanges() {
			out = append(out, fmt.Sprintf("%s %s %t", clock(at), p.Inputs[c.Input].Name, c.On))
		}
		for _, c := range s.AlarmChanges() {
			out = append(out, fmt.Sprintf("%s alarm %s: %s→%s", clock(at), p.Alarms[c.Alarm].Name, c.From.String(), c.To.String()))
		}
		if instants++; instants > mostInstants {
			due := s.timers.First()
			panic(
				fmt.Sprintf(
					"the time does not go on at %d: timer %d of %d conditions and %d inputs is due at %d",
					s.now,
					due,
					len(p.conds),
					len(p.Inputs),
					s.timers.At(due),
				),
			)
		}
		now := cut(instants)
		if each || now {
			kept.keep(s.Save(true))
		}
		if now {
			defer func() { out = append(out, standings(p, s, clock)...) }()
		}
		if !now || spoil == nil {
			return
		}
		rows := kept.rows()
		for i := range rows {
			spoil(&rows[i])
		}
		var err error
		if s, _, err = Resume(p, rows); err != nil {
			panic(err)
		}
		if each {
			kept.keep(s.Save(false))
		}
	}
	for k, e := range all {
		for s.Next() < e.at+set {
			step(s.Next())
		}
		for _, f := range e.plant {
			f(s, e.at+set)
		}
		for i := range p.Inputs {
			if v, ok := e.readings[i]; ok {
				s.Read(e.at+set, i, v, 0)
			}
		}
		for _, c := range e.commands {
			if _, err := s.Command(c); err != nil {
				out = append(out, err.Error())
			}
		}
		step(e.at + set)
		if l.set != 0 && k%l.every == 0 {
			s.Shift(l.set)
			set += l.set
		}
	}
	return append(out, standings(p, s, clock)...)
}

// standings are the answers to why everything stands as it does.
func standings(p *Program, s *Stepper, clock Clock) (out []string) {
	for _, kind := range []Kind{InputKind, BandsKind, RuleKind, AlarmKind, FollowKind, LoopKind, OutputKind} {
		for _, r := range p.All(kind) {
			out = append(out, p.Name(r)+": "+p.Sentence(s.Standing(r), clock))
		}
	}
	if o, since, circle := s.Circle(); circle {
		out = append(out, p.Outputs[o].Name+" does not come to rest since "+clock(since))
	}
	return out
}

// mostInstants is more than any of these runs has.
const mostInstants = 100_000

func whole(*Row) {}

// A run that is saved, thrown away and resumed again and again gives what an
// uninterrupted one gives, to the nanosecond and the word.
func TestSaveAndResume(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text, p := randomProgram(t)
		all := plantEvents(t, p, events(t, p, moments(t, p)))
		every := rapid.IntRange(1, 7).Draw(t, "every")
		cut := func(i int) bool { return i%every == 0 }
		plain := life{cut: cut}.live(p, all)
		require.Equal(t, plain, life{each: every%2 == 0, cut: cut, spoil: whole}.live(p, all), "%s\n%v", text, all)
	})
}

// A clock that is set changes nothing but the times: no delay is longer or shorter. It
// is set by a week, which leaves the time of day.
func TestShift(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text, p := randomProgram(t)
		all := plantEvents(t, p, events(t, p, moments(t, p)))
		every := rapid.IntRange(1, 7).Draw(t, "every")
		never := func(int) bool { return false }
		week := rapid.SampledFrom([]int64{7 * 24 * 3600e9, -7 * 24 * 3600e9}).Draw(t, "week")
		require.Equal(t, life{cut: never}.live(p, all), life{cut: never, every: every, set: week}.live(p, all), "%s\n%v", text, all)
	})
}

func randomProgram(t *rapid.T) (text string, p *Program) {
	text = sheettest.Job(t)
	return text, compiled(t, text)
}

func compiled(t require.TestingT, text string) *Program {
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	p, err := Compile(job)
	require.NoError(t, err)
	return p
}

// seldom are jobs of what random ones seldom come to: outputs that do not come to
// rest, readings that are watched in several steps, and a loop that begins while
// another has its output.
var seldom = []string{
	"job \"x\"\ninput k discrete\ninput c discrete\noutput o\n  fail hold\noutput q\n  fail on\n  interlock when c\nrule r\n  on when k and not o\n  call o\nrule s\n  on when not k\n  call q\n",
	"job \"x\"\ninput x\n  unit mg/L\n  frozen after 5 s within 3 mg/L\noutput o\n  fail off\nrule r\n  on when x > 5 mg/L\n  call o\n",
	"job \"x\"\ninput x\n  unit mg/L\n  unsteady beyond 4 mg/L within 4 s\n  smooth median 3 samples\noutput o\n  fail off\nbands b of x\n  low: below 3 mg/L\n  mid: below 6 mg/L call o\n  high: else\n  for 1 s\n",
	"job \"x\"\ninput x\n  unit mg/L\ninput k discrete\ninput c discrete\noutput v analog 0..100 %\n  called by highest\n  fail off\nloop l\n  keep x at 5 mg/L\n  acting reverse\n  proportional band 4 mg/L\n  integral 2 s\n  every 1 s\n  while k\n  call v\nrule r\n  on when c\n  call v at 90 %\n",
}

// A scenario is a random job and what happens to it.
type scenario struct {
	text  string
	p     *Program
	all   []event
	every int
	plain []string
}

var scenarios = rapid.Custom(func(t *rapid.T) *scenario {
	x := &scenario{}
	if k := rapid.IntRange(0, 4*len(seldom)).Draw(t, "seldom"); k < len(seldom) {
		x.text, x.p = seldom[k], compiled(t, seldom[k])
	} else {
		x.text, x.p = randomProgram(t)
	}
	x.all = plantEvents(t, x.p, events(t, x.p, momentsApart(t, x.p, 25, []int64{0, 1, 5e8, 1e9, 2e9, 2.5e9, 4e9})))
	x.every = rapid.IntRange(1, 3).Draw(t, "every")
	return x
})

// cut plays a scenario with a memory that is spoiled each time it is saved.
func (x *scenario) cut(spoil func(*Row)) (out []string) {
	defer func() {
		if err := recover(); err != nil { // Resume has refused it, which counts as well
			out = []string{fmt.Sprint(err)}
		}
	}()
	return life{cut: func(i int) bool { return i%x.every == 0 }, spoil: spoil}.live(x.p, x.all)
}

// No field can be left out of a memory: without any one of them, some run does not
// go on as it would have.
func TestEveryFieldCounts(t *testing.T) {
	if raced {
		t.Skip("it plays some thousand runs, and is run without the race detector besides")
	}
	const most = 600
	var tried []*scenario
	next := func() *scenario {
		x := scenarios.Example(len(tried))
		x.plain = x.cut(nil)
		tried = append(tried, x)
		return x
	}
	// A loop begins while another has its output, which lets go at that very time.
	begins := &scenario{p: compiled(t, seldom[3]), every: 1, all: []event{
		{
			moment: moment{0, map[int]float64{0: 3, 1: 0, 2: 0}},
		}, {moment: moment{1e9, map[int]float64{1: 1, 2: 1}}}, {moment: moment{1e9, map[int]float64{2: 0}}},
	}}
	begins.plain = begins.cut(nil)
	tried = append(tried, begins)
	// A latch whose reset has been false since its condition let go is reset.
	text := "job \"x\"\ninput k discrete\ninput c discrete\noutput o\n  fail off\nrule r\n  on when k\n  latch\n  reset when c\n  call o\n"
	resets := &scenario{p: compiled(t, text), every: 1, all: []event{
		{
			moment: moment{0, map[int]float64{0: 1, 1: 0}},
		}, {moment: moment{1e9, map[int]float64{0: 0}}}, {moment: moment{2e9, map[int]float64{1: 1}}},
	}}
	resets.plain = resets.cut(nil)
	tried = append(tried, resets)
	// An output is to start just after another has, once both have settled.
	text = "job \"x\"\n  settle 1 s\n  starts apart 2 s\ninput k discrete\ninput c discrete\noutput o\n  fail off\noutput q\n  fail off\n" +
		"rule r\n  on when k\n  call o\nrule s\n  on when c\n  call q\n"
	starts := &scenario{p: compiled(t, text), every: 1, all: []event{
		{moment: moment{0, map[int]float64{0: 0, 1: 0}}}, {moment: moment{2e9, map[int]float64{0: 1}}}, {moment: moment{3e9, map[int]float64{1: 1}}},
	}}
	starts.plain = starts.cut(nil)
	tried = append(tried, starts)
	none := next() // taking none away must change nothing
	require.Equal(t, none.plain, none.cut(func(r *Row) { r.Data = without(r.Data, r.Kind, "none") }))
	seen := map[string]bool{}
	for range 60 {
		next().cut(func(r *Row) { fieldsOf(r.Data, r.Kind, seen) })
	}
	require.Greater(t, len(seen), 90)
	delete(seen, "bands.7") // a title, by which the band is found in another revision
	for _, path := range slices.Sorted(maps.Keys(seen)) {
		counts := false
		for i := 0; i < most && !counts; i++ {
			if i == len(tried) {
				next()
			}
			x := tried[i]
			counts = !slices.Equal(x.plain, x.cut(func(r *Row) { r.Data = without(r.Data, r.Kind, path) }))
		}
		assert.True(t, counts, "%s can be left out", path)
	}
}

// alike is the path with what all kinds of rows have alike taken together.
func alike(path string) string {
	if i := strings.Index(path, ".20"); i > 0 && (len(path) == i+3 || path[i+3] == '.') {
		return "*" + path[i:]
	}
	return strings.Replace(path, "alarm.1", "rule", 1)
}

// fieldsOf notes the paths of all fields: the kind of the row, and numbers.
func fieldsOf(data []byte, at string, seen map[string]bool) {
	walkFields(data, at, func(path string, _, inner []byte) {
		seen[alike(path)] = true
		if inner != nil {
			fieldsOf(inner, path, seen)
		}
	})
}

// without is the fields without those of a path.
func without(data []byte, at, path string) []byte {
	var out []byte
	walkFields(data, at, func(here string, whole, inner []byte) {
		switch {
		case alike(here) == path:
		case inner != nil:
			number, _, _ := protowire.ConsumeTag(whole)
			out = protowire.AppendBytes(protowire.AppendTag(out, number, protowire.BytesType), without(inner, here, path))
		default:
			out = append(out, whole...)
		}
	})
	return out
}

// groups are the fields that have fields of their own.
var groups = map[string]bool{
	"input.2":      true,
	"input.3":      true,
	"input.2.13":   true,
	"input.2.14":   true,
	"input.2.13.3": true,
	"input.2.13.4": true,
	"input.2.14.3": true,
	"input.2.14.4": true,
	"alarm.1":      true,
	"alarm.2":      true,
}

func walkFields(data []byte, at string, f func(path string, whole, inner []byte)) {
	for len(data) > 0 {
		number, kind, n := protowire.ConsumeTag(data)
		size := protowire.ConsumeFieldValue(number, kind, data[n:])
		path := fmt.Sprintf("%s.%d", at, number)
		var inner []byte
		if group := groups[path] || number == clauseNumber && !strings.Contains(at, ".") || len(at) > 3 && at[len(at)-3:] == ".20" && number == 3 || len(at) > 5 && at[len(at)-5:] == ".20.3" && number == 9; group {
			inner, _ = protowire.ConsumeBytes(data[n:])
			if inner == nil {
				inner = []byte{}
			}
		}
		f(path, data[:n+size], inner)
		data = data[n+size:]
	}
}
