package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/run"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/store"
)

// How long what people put in place lasts at the most; a shelving always says for how long.
const (
	mostHand      = 4 * time.Hour
	mostPin       = time.Hour
	mostShelving  = 8 * time.Hour
	mostProof     = 10 * time.Minute // of a hand of a job that listens
	mostWhy       = 500              // letters of a reason
	mostWho       = 100              // and of a name
	outOfService  = "out of service"
	handledByHand = "hand"
)

// ErrRefused is the error of a command that cannot be done as things are.
var ErrRefused = errors.New("refused")

// A refusal says in one sentence why a command is not done.
type refusal string

func (r refusal) Error() string { return string(r) }

// Is makes every refusal an ErrRefused.
func (r refusal) Is(target error) bool { return target == ErrRefused }

func refuse(format string, args ...any) error { return refusal(fmt.Sprintf(format, args...)) }

// A Request is a command of a person.
type Request struct {
	Do      string // set, reset, hand, off, auto, pin, unpin, acknowledge, shelve, unshelve, out-of-service, in-service
	Name    string
	Value   string
	Written bool          // set the setpoint back to what is written
	For     time.Duration // 0 for as long as it may
	Lock    string        // of an off: the name that alone gives it back
	Who     string
	Why     string
}

// An Answer is what came of it.
type Answer struct {
	Before, After string
	State         string // how what it is about stands afterwards
	Because       string
	Until         int64 // when it ends by itself; 0 for never
	Kept          bool
}

// answered is what the stepper says of the command that is being entered.
type answered struct {
	effect logic.Effect
	err    error
}

func (a *answered) take(_ *capture.Event, effect logic.Effect, err error) {
	a.effect, a.err = effect, err
}

// Do does what a person wants, and answers once it is kept. What cannot be done is an ErrRefused.
func (e *Engine) Do(ctx context.Context, q Request) (Answer, error) {
	type done struct {
		Answer
		err  error
		kept chan bool
	}
	d, err := ask(ctx, e, func() done {
		a, err := e.do(q)
		if err != nil {
			return done{err: err}
		}
		return done{a, nil, e.keeping.wait()}
	})
	if err == nil {
		err = d.err
	}
	if err != nil {
		return Answer{}, err
	}
	d.Kept, err = e.whether(ctx, d.kept)
	return d.Answer, err
}

// keptOnly are the commands that are not done where nothing can be kept: what they put in place would be lost.
var keptOnly = []string{"set", "auto", "pin", "shelve", "out-of-service"}

// do does a command, at an instant of its own.
func (e *Engine) do(q Request) (a Answer, err error) {
	if !e.began {
		return a, refuse("the job waits for its devices to answer; try again in a moment")
	}
	if e.broken {
		return a, refuse("the job is in fault: %s; arm it again", e.armed.Fault)
	}
	q.Why, q.Who = strings.TrimSpace(q.Why), strings.TrimSpace(q.Who)
	if len(q.Why) > mostWhy || len(q.Who) > mostWho || len(q.Lock) > mostWho {
		return a, refuse("a reason has %d letters at the most, and a name %d", mostWhy, mostWho)
	}
	if q.Do == "set" && q.Written {
		i := e.p.Index(logic.SettingKind, q.Name)
		if i < 0 {
			_, err := e.p.Command(q.Do, q.Name, "1")
			return a, refuse("%v", err)
		}
		q.Value = e.p.Settings[i].Value.String()
	}
	if a, is, err := e.service(&q); is {
		return a, err
	}
	c, err := e.p.Command(q.Do, q.Name, q.Value)
	if err != nil && (q.Do != "shelve" || c.Of.Kind != logic.AlarmKind) { // whose end is given besides
		return a, refuse("%v", err)
	}
	c.Lock, c.For = q.Lock, int64(q.For)
	passedOver, err := e.allow(&c, &q)
	if err != nil {
		return a, err
	}
	if nk := e.keeping.notKept; nk != 0 && (slices.Contains(keptOnly, q.Do) || c.Do == logic.TakeInHand && (c.On || e.analog(c.Of))) {
		return a, refuse(
			"nothing can be kept since %s, so that %s would be lost at a restart: %s; make room, or switch it off or back instead",
			e.clockOf(nk),
			q.Do,
			e.keeping.why,
		)
	}
	e.answer = answered{}
	e.enter(e.next(), capture.Event{Kind: capture.Command, Do: c})
	if e.answer.err != nil {
		return a, refuse("%v", e.answer.err)
	}
	a.Before, a.After = e.answer.effect.Before, e.answer.effect.After
	why := q.Why
	if passedOver != "" {
		why = fmt.Sprintf("past the lock of %s: %s", passedOver, why)
	}
	e.keeping.entry(
		store.Entry{Time: e.last, Kind: "command", Name: q.Name, From: a.Before, To: a.After, Because: why, Who: q.Who, Via: q.Do},
	)
	e.people.put(e, c, &q, a.After)
	e.watchLocks(&q, passedOver)
	stand := e.run.S.Standing(c.Of)
	if c.Of.Kind != logic.SettingKind {
		_, a.State = e.p.States(stand)
		a.Because = e.p.Sentence(stand, e.clockOf)
	}
	if end := e.run.S.Ends(c.Of); c.For > 0 && end < end+1 {
		a.Until = end
	}
	e.drive()
	return a, nil
}

// watchLocks raises an alarm when somebody has given an output back past a lock. It stays until somebody knows.
func (e *Engine) watchLocks(q *Request, passedOver string) {
	i, is := e.byInput[sheet.LocksHold]
	switch {
	case !is:
	case passedOver != "":
		who := cmp.Or(q.Who, "somebody")
		text := fmt.Sprintf("%s gave %s back past the lock of %s: %s", who, q.Name, passedOver, q.Why)
		e.enter(e.next(), capture.Event{Kind: capture.Failing, Of: i, Text: text})
	case q.Do == "acknowledge" && q.Name == sheet.LockPassed:
		e.enter(e.next(), capture.Event{Kind: capture.Reading, Of: i, Value: 1})
	}
}

func (e *Engine) analog(r logic.Ref) bool {
	return r.Kind == logic.OutputKind && e.p.Outputs[r.Index].Analog()
}

// allow tells whether a person may do this as things are, and for how long, and whose lock that passes over.
func (e *Engine) allow(c *logic.Command, q *Request) (passedOver string, err error) {
	within := func(most time.Duration) error {
		if q.For < 0 || q.For > most {
			return refuse(
				"%s lasts for %s at the most, and %s was asked for",
				q.Do,
				unit.FormatDuration(int64(most)),
				unit.FormatDuration(int64(q.For)),
			)
		}
		if q.For == 0 {
			c.For = int64(most)
		}
		return nil
	}
	switch c.Do {
	case logic.TakeInHand:
		return "", e.allowHand(c, q, within)
	case logic.StandOff:
		if e.run.S.Listening() {
			return "", refuse("the job listens and writes one output at a time: take it in hand instead, hand %s off", q.Name)
		}
		if q.For != 0 {
			return "", refuse("off has no end; `hand %s off` for a time, or auto when it is over", q.Name)
		}
	case logic.GiveBack:
		lock := e.run.S.Lock(int(c.Of.Index))
		switch {
		case lock == "" || lock == q.Who || lock == q.Lock:
			c.Lock = lock
		case q.Why == "":
			return "", refuse("%s is kept off with the lock of %s, who gives it back; somebody else needs a reason", q.Name, lock)
		default:
			c.Lock = lock
			return lock, nil
		}
	case logic.SetSetting:
		if e.p.Job.Setpoints[c.Of.Index].Constant {
			return "", refuse("%s is a constant; it is changed in the sheet, by another revision", q.Name)
		}
		if q.For != 0 {
			return "", refuse("set has no end; set it back when it is time: set %s --written", q.Name)
		}
	case logic.PinInput:
		if e.p.Watched(c.Of) {
			return "", refuse("%s says what becomes of the plant, and cannot be pinned", q.Name)
		}
		if q.Why == "" && e.guards(q.Name) {
			return "", refuse("an interlock or an alarm looks at %s; say why it is pinned", q.Name)
		}
		return "", within(mostPin)
	case logic.Shelve:
		if q.Why == "" {
			return "", refuse("say why %s is shelved", q.Name)
		}
		if q.For <= 0 {
			return "", refuse("say for how long %s is shelved, %s at the most", q.Name, unit.FormatDuration(int64(mostShelving)))
		}
		return "", within(mostShelving)
	case logic.TakeOut:
		if q.Why == "" {
			return "", refuse("say why %s is taken out of service", q.Name)
		}
	default:
		if q.For != 0 {
			return "", refuse("%s has no end that could be given", q.Do)
		}
	}
	return "", nil
}

// allowHand tells whether an output may be taken in hand.
func (e *Engine) allowHand(c *logic.Command, q *Request, within func(time.Duration) error) error {
	o := e.outputOf[q.Name]
	on := c.On || e.analog(c.Of)
	if o != nil && o.dev.state != connected && on {
		return refuse("%s cannot be written: %s; only off is taken", q.Name, o.dev.why)
	}
	if !e.run.S.Listening() {
		if !on { // which may stay
			if q.For > mostHand {
				return within(mostHand)
			}
			return nil
		}
		return within(mostHand)
	}
	if o == nil {
		return refuse("%s is not wired, so that nothing would be written", q.Name)
	}
	if other := e.people.hand(e); other >= 0 && other != int(c.Of.Index) {
		return refuse(
			"the job listens and writes one output at a time; give %s back first: auto %s",
			e.p.Outputs[other].Name,
			e.p.Outputs[other].Name,
		)
	}
	return within(mostProof)
}

// guards tells whether an interlock or an alarm looks at an input, through derived values too.
func (e *Engine) guards(input string) bool {
	found := false
	var look func(n *sheet.Name)
	seen := map[string]bool{}
	look = func(n *sheet.Name) {
		if n.Name == input {
			found = true
		}
		if d, is := e.p.Job.Lookup(n.Name).(*sheet.Derived); is && !seen[n.Name] {
			seen[n.Name] = true
			sheet.Names(d.Value, look)
		}
	}
	condition := func(c *sheet.ConditionClause) {
		if c != nil {
			sheet.ConditionNames(c.Condition, look)
		}
	}
	for _, r := range e.p.Job.Order {
		if r.Interlock != nil {
			condition(&r.Interlock.ConditionClause)
		}
		if r.Alarm != nil {
			condition(r.OnWhen)
			condition(r.OffWhen)
		}
	}
	for _, o := range e.p.Job.Outputs {
		if o.Interlock != nil {
			condition(&o.Interlock.ConditionClause)
		}
	}
	return found
}

// people is what persons have put in place.
type people struct {
	in   map[string]store.Bypass
	told map[string]bool // whose end was told
}

func (x *people) begin(kept []store.Bypass) {
	x.in, x.told = map[string]store.Bypass{}, map[string]bool{}
	for _, b := range kept {
		x.in[b.Name] = b
	}
}

// put notes what a command has put in place, or taken away.
func (x *people) put(e *Engine, c logic.Command, q *Request, after string) {
	b := store.Bypass{Job: e.armed.Job, Name: q.Name, Value: after, Who: q.Who, Why: q.Why, Since: e.last}
	switch c.Do {
	case logic.TakeInHand:
		b.Kind = handledByHand
	case logic.StandOff:
		if b.Kind = "off"; c.Lock != "" {
			b.Kind = "lock"
		}
	case logic.PinInput:
		b.Kind = "pin"
	case logic.Shelve:
		b.Kind, b.Value = "shelving", "shelved"
	case logic.TakeOut:
		b.Kind, b.Value = outOfService, outOfService
	default:
		delete(x.in, q.Name)
		x.prune(e, nil)
		return
	}
	x.in[q.Name] = b
	delete(x.told, q.Name)
}

// mayBeLost says of each hand that has not run out why it ends, should it end at a restart.
func (x *people) mayBeLost(e *Engine, t int64) map[string]string {
	why := map[string]string{}
	for name, b := range x.in {
		if r, found := e.p.Find(name); found && b.Kind == handledByHand && e.run.S.Ends(r) > t {
			why[name] = "the plant had lost it while nobody was there"
		}
	}
	return why
}

// prune forgets what is not in place any more; of what is named, it says why.
func (x *people) prune(e *Engine, because map[string]string) {
	for name, b := range x.in {
		r, found := e.p.Find(name)
		in, why := false, because[name]
		switch {
		case !found:
		case b.Kind == "pin":
			in = r.Kind == logic.InputKind && e.run.S.Pinned(int(r.Index))
		case b.Kind == "shelving" && r.Kind == logic.AlarmKind:
			a := e.run.S.Alarm(int(r.Index))
			_, in = a.Shelved()
		case b.Kind == outOfService && r.Kind == logic.AlarmKind:
			a := e.run.S.Alarm(int(r.Index))
			in = a.OutOfService()
		case r.Kind == logic.OutputKind:
			m := e.run.S.Mode(int(r.Index))
			in = m != logic.Auto
			if b.Kind == handledByHand && m == logic.Stood { // which nobody has commanded
				e.note("bypass", name, handledByHand, "off", cmp.Or(why, "its own interlock turned it off; it needs a fresh command"), "")
				b.Kind, b.Value = "off", "off"
				x.in[name] = b
				e.lostHand(name, why)
			}
		}
		if in {
			continue
		}
		delete(x.in, name)
		if b.Kind == handledByHand || b.Kind == "pin" || b.Kind == "shelving" {
			e.note("bypass", name, b.Kind, "ended", why, "")
			e.lostHand(name, why)
		}
	}
}

// lostHand raises an alarm for a hand that has ended because the plant had lost what it gave. It is over with the next
// poll, and stays until somebody knows.
func (e *Engine) lostHand(output, why string) {
	if o := e.outputOf[output]; o != nil && why != "" {
		o.differs = "its hand has ended: " + why
		e.fault(o.readBack, o.differs)
	}
}

// soon is how long before the end of a hand, a pin or a shelving that is told.
const soon = 300 * second

// remind tells of what ends soon, once.
func (x *people) remind(e *Engine) {
	for name, b := range x.in {
		r, found := e.p.Find(name)
		if !found || x.told[name] {
			continue
		}
		if end := e.run.S.Ends(r); end != run.Never && end-e.time.t <= soon && end-b.Since > soon {
			x.told[name] = true
			e.note("bypass", name, b.Kind, "ends soon", "it ends at "+e.clockOf(end), "")
		}
	}
}

// hand is the number of the output that a person has in hand; -1 for none.
func (x *people) hand(e *Engine) int {
	for name, b := range x.in {
		if b.Kind == handledByHand {
			return e.p.Index(logic.OutputKind, name)
		}
	}
	return -1
}

func (x *people) inHand(e *Engine) bool { return x.hand(e) >= 0 }

func (x *people) shift(by int64) {
	for name, b := range x.in {
		b.Since += by
		x.in[name] = b
	}
}

// list is all of it, in the order of the names.
func (x *people) list(job string) []store.Bypass {
	all := make([]store.Bypass, 0, len(x.in))
	for _, b := range x.in {
		b.Job = job
		all = append(all, b)
	}
	slices.SortFunc(all, func(a, b store.Bypass) int { return strings.Compare(a.Name, b.Name) })
	return all
}
