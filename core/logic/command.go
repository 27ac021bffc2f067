package logic

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"rectura/core/signal"
	"rectura/core/unit"
)

// A Do is what a person commands.
type Do uint8

// The commands.
const (
	SetSetting  Do = iota // give a setpoint or constant Value, in its own unit
	ResetRule             // reset a latch, also that of an alarm
	TakeInHand            // decide an output: On or off, or an analog one's Value, in its unit
	StandOff              // keep an output off
	GiveBack              // leave an output to its callers again
	PinInput              // let an input be Value, in engineering units, or 0 or 1 for a contact
	UnpinInput            // let it be what it reads again
	Acknowledge           // an alarm
	Shelve                // silence an alarm for a time
	Unshelve              // end that
	TakeOut               // take an alarm out of service
	PutBack               // and put it back
	Look                  // only make a time an instant

	Dos // how many there are
)

// The words of the commands, and what each is about.
var commands = [...]struct {
	word string
	of   []Kind
	what string
}{
	SetSetting:  {"set", []Kind{SettingKind}, "setpoint or constant"},
	ResetRule:   {"reset", []Kind{RuleKind, AlarmKind}, "rule or alarm"},
	TakeInHand:  {"hand", []Kind{OutputKind}, "output"},
	StandOff:    {"off", []Kind{OutputKind}, "output"},
	GiveBack:    {"auto", []Kind{OutputKind}, "output"},
	PinInput:    {"pin", []Kind{InputKind}, "input"},
	UnpinInput:  {"unpin", []Kind{InputKind}, "input"},
	Acknowledge: {"acknowledge", []Kind{AlarmKind}, "alarm"},
	Shelve:      {"shelve", []Kind{AlarmKind}, "alarm"},
	Unshelve:    {"unshelve", []Kind{AlarmKind}, "alarm"},
	TakeOut:     {"out-of-service", []Kind{AlarmKind}, "alarm"},
	PutBack:     {"in-service", []Kind{AlarmKind}, "alarm"},
	Look:        {"", nil, ""},
}

func (d Do) String() string { return commands[d].word }

// A Command is something that a person wants of a part of a Program.
type Command struct {
	Do    Do
	Of    Ref
	Value float64
	On    bool
	For   int64  // of a hand, a pin and a shelving: nanoseconds after which it ends by itself; 0 for never
	Lock  string // of an off: who alone gives it back; of what gives it back: who does
}

// An Effect is what a command has made of what a person decides, in words. How the
// plant takes it shows the next instant.
type Effect struct {
	Before, After string
}

// Command reads a command from the words of a person: what to do, with what, and
// the value that this needs. The error is one sentence.
func (p *Program) Command(do, name, value string) (Command, error) {
	c := Command{Do: Look}
	for d := range commands {
		if commands[d].word == do && do != "" {
			c.Do = Do(d)
		}
	}
	if c.Do == Look {
		return c, fmt.Errorf("%q is no command", do)
	}
	of, found := p.Find(name)
	if !found || !c.Do.about(of.Kind) {
		if found {
			return c, fmt.Errorf("%s is %s; %s is for %s", name, of.Kind.withArticle(), do, article(commands[c.Do].what))
		}
		return c, fmt.Errorf(
			"no %s is named %s%s",
			commands[c.Do].what,
			name,
			p.Job.DidYouMean(name, "input", "rule", "alarm", "output", "setpoint"),
		)
	}
	c.Of = of
	if c.Do == SetSetting {
		q, err := ParseValue(value)
		if err != nil {
			return c, fmt.Errorf("%s: %w", name, err)
		}
		c.Value, err = p.SettingOf(int(of.Index), q)
		return c, err
	}
	if err := p.readValue(&c, strings.TrimSpace(value)); err != nil {
		return c, fmt.Errorf("%s: %w", name, err)
	}
	return c, p.check(c)
}

func (d Do) about(k Kind) bool {
	for _, of := range commands[d].of {
		if of == k {
			return true
		}
	}
	return false
}

func (k Kind) withArticle() string {
	switch k {
	case BandsKind:
		return "bands"
	case DerivedKind:
		return "a derived value"
	}
	return article(k.String())
}

func article(noun string) string {
	if strings.ContainsAny(noun[:1], "aeiou") {
		return "an " + noun
	}
	return "a " + noun
}

// readValue reads the value of another command as it is written for what it is about.
func (p *Program) readValue(c *Command, text string) error {
	i := int(c.Of.Index)
	switch c.Do {
	case PinInput:
		v, at, err := p.ParseReading(i, text)
		if err != nil {
			return err
		}
		if chain := p.Inputs[i].Chain; chain != nil {
			c.Value = chain.Carry(v, at, len(chain.Units)-1)
		} else if c.Value = v; p.Inputs[i].Inverted { // a reading is of the circuit
			c.Value = 1 - v
		}
	case TakeInHand:
		if o := &p.Outputs[i]; o.Analog() {
			q, err := ParseValue(text)
			if err != nil {
				return err
			}
			if q.Unit == (unit.Unit{}) {
				q.Unit = o.Unit
			}
			if !q.Unit.Comparable(o.Unit) {
				return fmt.Errorf("it is in %s and cannot be at %s, which is %s", o.Unit.Describe(), q, q.Unit.Describe())
			}
			c.Value = q.In(o.Unit)
			return nil
		}
		if text != "on" && text != "off" {
			return fmt.Errorf("%q is no state of an output; write on or off", text)
		}
		c.On = text == "on"
	default:
		if text != "" {
			return fmt.Errorf("%s takes no value, and %q is one", c.Do, text)
		}
	}
	return nil
}

// ParseSetting reads `NAME=VALUE`: a setpoint or constant and its other value,
// such as oxygen_low=5.5 mg/L or blower_delay=1 min 30 s.
func ParseSetting(s string) (name string, q unit.Quantity, err error) {
	name, value, ok := strings.Cut(s, "=")
	if name = strings.TrimSpace(name); !ok || name == "" {
		return "", q, fmt.Errorf("%q is not NAME=VALUE, such as oxygen_low=5.5mg/L", s)
	}
	if q, err = ParseValue(value); err != nil {
		return "", q, fmt.Errorf("%s: %w", name, err)
	}
	return name, q, nil
}

// ParseValue reads a quantity, or a compound duration, which it gives in seconds. A
// number alone has no unit.
func ParseValue(text string) (unit.Quantity, error) {
	q, err := unit.ParseQuantity(text)
	if err == nil {
		return q, nil
	}
	if ns, timeErr := unit.ParseDuration(text); timeErr == nil {
		return unit.Quantity{Value: float64(ns) / 1e9, Unit: unit.MustLookup("s")}, nil
	}
	return q, err
}

// ParseReading reads a reading of an input, and the place of its chain at which it
// stands, as its unit says; a number alone stands at the first. That of a contact is
// on or off, one of its words, 1 or 0; bad is one that is bad.
func (p *Program) ParseReading(input int, text string) (value float64, at int, err error) {
	if text == "bad" {
		return math.NaN(), 0, nil
	}
	in := &p.Inputs[input]
	if in.Chain != nil {
		return in.Chain.ParseReading(in.Name, text)
	}
	d := p.input(input)
	on := false
	switch text {
	case "on", "1", d.StateWord(true):
		on = true
	case "off", "0", d.StateWord(false):
	default:
		return 0, 0, fmt.Errorf("%q is no state of a contact; write on, off or bad", text)
	}
	if on != in.Inverted { // the circuit is closed
		return 1, 0, nil
	}
	return 0, 0, nil
}

// SettingOf checks another value for a setpoint or constant, and gives it in its
// own unit, in which a number alone is. A setpoint must stay inside its limits; a
// duration is above 0.
func (p *Program) SettingOf(setting int, q unit.Quantity) (float64, error) {
	s := p.Job.Setpoints[setting]
	t := s.Type()
	if q.Unit == (unit.Unit{}) {
		q.Unit = t.Unit
	}
	if !q.Unit.Comparable(t.Unit) {
		return 0, fmt.Errorf("%s is in %s and cannot be set to %s, which is %s", s.Name, t.Unit.Describe(), q, q.Unit.Describe())
	}
	convert := q.Unit.Convert
	if t.Difference {
		convert = q.Unit.ConvertDifference
	}
	v := convert(q.Value, t.Unit)
	return v, p.checkSetting(setting, v, q)
}

func (p *Program) checkSetting(setting int, v float64, q unit.Quantity) error {
	s := p.Job.Setpoints[setting]
	t := s.Type()
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return fmt.Errorf("%s cannot be set to %s; it must be a number", s.Name, q)
	}
	if t.Unit.Dimension() == unit.Time && v <= 0 {
		return fmt.Errorf("%s cannot be set to %s; a duration is above 0", s.Name, q)
	}
	if word := p.Job.DistanceOf(s.Name); word != "" && v <= 0 {
		return fmt.Errorf("%s cannot be set to %s; as a %s it is above 0", s.Name, q, word)
	}
	if s.Allow == nil {
		return nil
	}
	limits := s.Allow.Range
	within := limits.To.Unit.Convert
	if t.Difference {
		within = limits.To.Unit.ConvertDifference
	}
	if low, high := within(limits.From.Value, t.Unit), within(limits.To.Value, t.Unit); v < low || v > high {
		return fmt.Errorf("%s cannot be set to %s; it is allowed from %s", s.Name, q, limits)
	}
	return nil
}

// size is how many parts of a kind there are.
func (p *Program) size(k Kind) int {
	return [...]int{InputKind: len(p.Inputs), DerivedKind: len(p.Derived), SettingKind: len(p.Settings), BandsKind: len(p.Bands), RuleKind: len(p.Rules) - len(p.Alarms),
		AlarmKind: len(p.Alarms), FollowKind: len(p.Follows), LoopKind: len(p.Loops), MessageKind: len(p.Messages), OutputKind: len(p.Outputs)}[k]
}

// check tells why a command cannot be carried out, whatever stands in it.
func (p *Program) check(c Command) error {
	switch {
	case c.Do >= Dos:
		return fmt.Errorf("there is no command of the number %d", c.Do)
	case c.Do == Look:
		return nil
	case !c.Do.about(c.Of.Kind):
		return fmt.Errorf("%s is for %s, and this is %s", c.Do, article(commands[c.Do].what), Kind(min(c.Of.Kind, Kinds-1)).withArticle())
	case c.Of.Index < 0 || int(c.Of.Index) >= p.size(c.Of.Kind):
		return fmt.Errorf("the job has no %s of the number %d", c.Of.Kind, c.Of.Index)
	case c.For < 0:
		return fmt.Errorf("%s cannot last for %s; how long something lasts is above 0", p.Name(c.Of), unit.FormatDuration(c.For))
	}
	name, i := p.Name(c.Of), int(c.Of.Index)
	switch c.Do {
	case SetSetting:
		return p.checkSetting(i, c.Value, unit.Quantity{Value: c.Value, Unit: p.Settings[i].Value.Unit})
	case TakeInHand:
		if o := &p.Outputs[i]; o.Analog() && !(c.Value >= o.Low && c.Value <= o.High) {
			return fmt.Errorf("%s cannot be at %s; it goes from %s to %s", name, o.Text(c.Value), o.Text(o.Low), o.Text(o.High))
		}
	case PinInput:
		if math.IsInf(c.Value, 0) || math.IsNaN(c.Value) {
			return fmt.Errorf("%s is pinned to a good value, and %s is none", name, unit.Short(c.Value))
		}
		if chain := p.Inputs[i].Chain; chain != nil {
			if low, high, ok := chain.Reach(); ok && !(c.Value >= low && c.Value <= high) {
				u := chain.Engineering().Name()
				return fmt.Errorf("%s cannot be pinned at %s %s; its chain gives %s to %s %s", name, unit.Short(c.Value), u, unit.Short(low),
					unit.Short(high), u)
			}
		}
	case ResetRule:
		if !p.Rules[p.RuleOf(c.Of)].latch {
			return fmt.Errorf("%s has no latch, so there is nothing to reset", name)
		}
	case Shelve:
		if c.For == 0 {
			return fmt.Errorf("%s cannot be shelved without an end; say for how long", name)
		}
	}
	return nil
}

// A Mode is who decides an output.
type Mode uint8

// The modes.
const (
	Auto    Mode = iota // its callers
	HandOn              // a person
	HandOff             // a person
	HandAt              // a person, of an analog output
	Stood               // nobody: it stays off

	modes // how many there are
)

func (m Mode) String() string { return [...]string{"auto", "hand on", "hand off", "hand", "off"}[m] }

// Mode is who decides an output.
func (s *Stepper) Mode(output int) Mode { return s.outputs[output].mode }

// Pinned tells whether an input is pinned to a value.
func (s *Stepper) Pinned(input int) bool { return s.inputs[input].pinned }

// Command hands over a command of the next instant. It answers with what it has
// changed, or with one sentence that says why it has changed nothing.
func (s *Stepper) Command(c Command) (Effect, error) {
	if err := s.p.check(c); err != nil {
		return Effect{}, err
	}
	if c.Do == Look {
		s.dirty = true
		return Effect{}, nil
	}
	i := c.Of.Index
	if o := c.Do; (o == TakeInHand || o == GiveBack || o == StandOff) && s.outputs[i].lock != "" && s.outputs[i].lock != c.Lock {
		return Effect{}, fmt.Errorf("%s is kept off with the lock %s, which alone gives it back", s.p.Name(c.Of), s.outputs[i].lock)
	}
	before := s.wanted(c)
	s.carryOut(c, i)
	s.touched.add(s.p.number(c.Of))
	s.dirty = true
	return Effect{before, s.wanted(c)}, nil
}

func (s *Stepper) carryOut(c Command, i int32) {
	switch c.Do {
	case SetSetting:
		s.Set(int(i), c.Value)
	case ResetRule:
		rule := int32(s.p.RuleOf(c.Of))
		s.resets[rule] = true
		s.newConds.add(s.p.Rules[rule].node)
	case TakeInHand, StandOff, GiveBack:
		m := &s.outputs[i]
		before := *m
		m.mode, m.hand, m.lock, m.ends, m.unhand = Auto, 0, "", never, false
		switch o := &s.p.Outputs[i]; {
		case c.Do == StandOff:
			m.mode, m.lock = Stood, c.Lock
		case c.Do == GiveBack:
		case o.Analog():
			m.mode, m.hand = HandAt, c.Value
		case c.On:
			m.mode = HandOn
		default:
			m.mode = HandOff
		}
		s.askHand(i, &before)
		s.lasts(c)
		s.newOutputs.add(int32(i))
	case PinInput, UnpinInput:
		m := &s.inputs[i]
		if m.pinned && c.Do == UnpinInput {
			s.unpinned.add(i)
		}
		m.pinned, m.pin, m.pinEnds = c.Do == PinInput, c.Value, never
		s.lasts(c)
		s.markInput(i)
	case Acknowledge, Shelve, Unshelve, TakeOut, PutBack:
		a, before := &s.alarms[i], s.alarms[i]
		switch c.Do {
		case Acknowledge:
			a.Acknowledge()
			if k := s.p.Alarms[i].inHand; k >= 0 {
				s.handKnown(k)
			}
		case Shelve:
			a.Shelve(never)
			s.lasts(c)
		case Unshelve:
			a.Unshelve()
			s.lasts(c)
		default:
			a.TakeOut(c.Do == TakeOut)
		}
		if *a != before {
			s.asked = append(s.asked, AlarmChange{Alarm: i, From: before, To: *a})
		}
		s.markAlarm(i)
	}
}

// An ending is the end of a hand, a pin or a shelving, so many nanoseconds from the
// next instant.
type ending struct {
	of Ref
	in int64
}

// lasts gives what is commanded its end, in place of one that was given before.
func (s *Stepper) lasts(c Command) {
	s.endings = slices.DeleteFunc(s.endings, func(e ending) bool { return e.of == c.Of })
	if c.For > 0 && c.Do != GiveBack && c.Do != UnpinInput && c.Do != Unshelve {
		s.endings = append(s.endings, ending{c.Of, c.For})
	}
}

// begin lets what was commanded since the last instant count from this one, and
// ends what has lasted for its time.
func (s *Stepper) begin() {
	s.alarmChanges = append(s.alarmChanges[:0], s.asked...)
	s.asked = s.asked[:0]
	for k := range s.alarmChanges {
		s.alarmChanges[k].Time = s.now
	}
	for _, e := range s.endings {
		switch end := after(s.now, e.in); e.of.Kind {
		case OutputKind:
			s.outputs[e.of.Index].ends = end
		case AlarmKind:
			s.alarms[e.of.Index].Shelve(end)
		default:
			s.inputs[e.of.Index].pinEnds = end
			timer := s.inputTimer(e.of.Index)
			s.timers.Set(timer, min(end, s.timers.At(timer)))
		}
	}
	s.endings = s.endings[:0]
	for word := range s.unpinned {
		for i, some := s.unpinned.take(word); some; i, some = s.unpinned.take(word) {
			s.unpin(i)
		}
	}
}

// unpin has the alarm that an input is bad raised at this instant, whatever its delay, if the reading that counts again is bad:
// nobody saw how long it has been so.
func (s *Stepper) unpin(i int32) {
	rule := s.p.Inputs[i].badRule
	if rule < 0 || s.p.Rules[rule].on == s.p.Rules[rule].trip {
		return
	}
	on := s.p.Rules[rule].on
	m := &s.conds[on]
	m.waiting, m.lapsed, m.since = true, true, s.now
	s.newConds.add(on)
}

// wanted is what a person has decided of what a command is about, in words.
func (s *Stepper) wanted(c Command) string {
	i := c.Of.Index
	switch c.Of.Kind {
	case SettingKind:
		return withUnit(unit.Short(s.settings[i]), s.p.Settings[i].Value.Unit)
	case OutputKind:
		m := &s.outputs[i]
		switch {
		case m.mode == HandAt:
			return "in hand at " + s.p.Outputs[i].Text(m.hand)
		case m.lock != "":
			return "off, with the lock " + m.lock
		}
		return m.mode.String()
	case InputKind:
		m := &s.inputs[i]
		switch {
		case !m.pinned:
			return "not pinned"
		case s.p.Inputs[i].Chain != nil:
			return "pinned at " + withUnit(unit.Short(m.pin), s.p.Inputs[i].Chain.Engineering())
		}
		return "pinned: " + s.p.input(int(i)).StateWord(m.pin != 0)
	case AlarmKind:
		if c.Do != ResetRule {
			return s.alarms[i].String()
		}
	}
	if rule := s.p.RuleOf(c.Of); s.resets[int32(rule)] {
		return "to be reset"
	}
	return s.p.StandText(c.Of, Stand{State: s.rules[max(0, s.p.RuleOf(c.Of))].shown})
}

// The value, the state and the fault of an input as rules see them.

func (s *Stepper) inputValue(i int32) (v float64, known bool) {
	if m := &s.inputs[i]; m.pinned {
		return m.pin, true
	}
	a := &s.analog[i]
	return a.Value, a.Fault == signal.None
}

func (s *Stepper) contactOn(i int32) bool {
	if s.inputs[i].pinned {
		return s.inputs[i].pin != 0
	}
	return s.inputs[i].contact.On
}

func (s *Stepper) faultOf(i int32) signal.Fault {
	switch {
	case s.inputs[i].pinned:
		return signal.None
	case s.p.Inputs[i].Chain != nil:
		return s.analog[i].Fault
	}
	return s.inputs[i].contact.Fault
}
