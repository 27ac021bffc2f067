package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
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
	lostHand      = "hand that was lost"
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
	Do      string // set, reset, hand, off, auto, pin, unpin, acknowledge, shelve, unshelve, rewrite, out-of-service, in-service
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

// Do carries out a command, and answers once that is kept. A command that cannot be carried out is an ErrRefused.
func (e *Engine) Do(ctx context.Context, q Request) (Answer, error) {
	type done struct {
		Answer
		err  error
		kept chan bool
	}
	d, err := tell(ctx, e, func() done {
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

// do carries out a command, at an instant of its own.
func (e *Engine) do(q Request) (a Answer, err error) {
	if !e.began {
		return a, refuse("the job waits for its devices to answer; try again in a moment")
	}
	if e.broken {
		return a, refuse("the job is in fault: %s; arm it again", e.armed.Fault)
	}
	if err := q.tidy(); err != nil {
		return a, err
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
	if q.Do == "rewrite" {
		return e.rewrite(&q)
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
	e.answered = answered{}
	e.people.commanded = q.Name
	e.enter(e.next(), capture.Event{Kind: capture.Command, Do: &c})
	e.people.commanded = ""
	if e.answered.err != nil {
		return a, refuse("%v", e.answered.err)
	}
	for _, r := range e.run.S.Refused() {
		if r.Of == c.Of {
			return a, refuse("%s", r.Text)
		}
	}
	a.Before, a.After = e.answered.effect.Before, e.answered.effect.After
	why := q.Why
	if passedOver != "" {
		why = fmt.Sprintf("past the lock of %s: %s", passedOver, why)
	}
	e.keeping.entry(
		store.Entry{Time: e.last, Kind: "command", Name: q.Name, From: a.Before, To: a.After, Because: why, Who: q.Who, Via: q.Do},
	)
	e.people.put(e, c, &q, a.After)
	e.acknowledged(&q, passedOver)
	e.stands(&a, c)
	if o := e.outputOf[q.Name]; o != nil && c.Of.Kind == logic.OutputKind {
		o.leaving = false // a person decides it from now on
	}
	return a, nil
}

// stands has an answer say how what a command is about stands afterwards. An output of a job that listens stands as the plant has
// it, unless a person has it in hand.
func (e *Engine) stands(a *Answer, c logic.Command) {
	stand := e.run.S.Standing(c.Of)
	if c.Of.Kind == logic.OutputKind && e.run.S.Listening() && e.run.S.Mode(int(c.Of.Index)) == logic.Auto {
		stand.To = e.run.S.Plant(int(c.Of.Index))
		a.State, a.Because = e.p.StandText(c.Of, stand.To), "the job listens: it stands as the plant has it"
	} else if c.Of.Kind != logic.SettingKind {
		_, a.State = e.p.States(stand)
		a.Because = e.p.Sentence(stand, e.clockOf)
	}
	if end := e.run.S.Ends(c.Of); c.For > 0 && end != run.Never {
		a.Until = end
	}
}

// tidy trims what a person has written, and refuses what is too long or says nothing.
func (q *Request) tidy() error {
	blank := q.Lock != "" && strings.TrimSpace(q.Lock) == ""
	q.Why, q.Who, q.Lock = strings.TrimSpace(q.Why), strings.TrimSpace(q.Who), strings.TrimSpace(q.Lock)
	switch {
	case blank:
		return refuse("a lock has a name, and this one is blank")
	case len(q.Why) > mostWhy || len(q.Who) > mostWho || len(q.Lock) > mostWho:
		return refuse("a reason has %d letters at most, and a name %d", mostWhy, mostWho)
	case q.For != 0 && q.For < time.Second:
		return refuse("%s for %s is over before anybody sees it; give a second or more", q.Do, unit.FormatDuration(int64(q.For)))
	}
	return nil
}

// rewrite has an output written once more that is found otherwise.
func (e *Engine) rewrite(q *Request) (a Answer, err error) {
	o := e.outputOf[q.Name]
	switch {
	case e.p.Index(logic.OutputKind, q.Name) < 0:
		return a, refuse("no output is named %s%s", q.Name, e.p.Job.DidYouMean(q.Name, "output"))
	case o == nil:
		return a, refuse("%s is not wired, so that nothing can be written", q.Name)
	case q.Value != "":
		return a, refuse("%s: rewrite takes no value, and %q is one", q.Name, q.Value)
	case o.dev.state != connected:
		return a, refuse("%s cannot be written: %s", q.Name, o.dev.why)
	case o.differs == "" || !o.ordered:
		return a, refuse("%s is as it was written; there is nothing to write again", q.Name)
	}
	a.Before, a.After = o.differs, "written once more"
	e.keeping.entry(store.Entry{Time: e.next(), Kind: "command", Name: q.Name, From: e.standText(o, o.has), To: e.standText(o, o.value), Because: q.Why,
		Who: q.Who, Via: q.Do})
	o.again, o.repeats = false, 0
	e.order(o, o.value)
	e.stands(&a, logic.Command{Of: logic.Ref{Kind: logic.OutputKind, Index: int32(o.index)}})
	return a, nil
}

// acknowledged has the service's own alarms follow what people do: the alarm of a lock that was passed over, and that of damaged
// records, stay until a person acknowledges them.
func (e *Engine) acknowledged(q *Request, passedOver string) {
	if i, is := e.byInput[sheet.LocksHold]; is && passedOver != "" {
		who := cmp.Or(q.Who, "somebody")
		text := fmt.Sprintf("%s gave %s back past the lock of %s: %s", who, q.Name, passedOver, q.Why)
		e.enter(e.next(), failing(i, text))
	}
	if q.Do != "acknowledge" {
		return
	}
	for alarm, input := range map[string]string{sheet.LockPassed: sheet.LocksHold, sheet.RecordsDamaged: sheet.RecordsHold} {
		if i, is := e.byInput[input]; is && q.Name == alarm {
			e.enter(e.next(), reading(i, 1))
		}
	}
	if q.Name == sheet.RecordsDamaged {
		e.plans.unlocked = false
		if e.armed.Damage = ""; e.armed.Again == store.AgainAcknowledged {
			e.armed.Again = store.AgainByItself
		}
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
	if !o.hasKnown && o.unread == "" {
		return refuse("%s was not read yet; try again in a moment", q.Name)
	}
	if other := e.people.hand(e); other >= 0 && other != int(c.Of.Index) {
		return refuse(
			"the job listens and writes one output at a time; give %s back first: auto %s",
			e.p.Outputs[other].Name,
			e.p.Outputs[other].Name,
		)
	}
	if err := within(mostProof); err != nil {
		return err
	}
	return e.lease.Take(func(point string) bool { return point == o.name || e.writes(point) })
}

// guards reports whether an interlock or an alarm looks at an input, through derived values too.
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
	in        map[string]store.Bypass
	told      map[string]bool // whose end was told
	commanded string          // the subject of the command that is being entered
}

func (x *people) begin(kept []store.Bypass) {
	x.in, x.told = map[string]store.Bypass{}, map[string]bool{}
	for _, b := range kept {
		x.in[b.Name] = b
	}
}

// put notes what a command has put in place, or taken away.
func (x *people) put(e *Engine, c logic.Command, q *Request, after string) {
	b := store.Bypass{Job: e.armed.Number, Name: q.Name, Value: after, Who: q.Who, Why: q.Why, Since: e.last, Lock: c.Lock}
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
	case logic.GiveBack, logic.UnpinInput, logic.Unshelve, logic.PutBack:
		delete(x.in, q.Name)
		return
	default:
		return
	}
	x.in[q.Name] = b
	delete(x.told, q.Name)
}

// comeBack returns the bypasses of outputs that a person keeps off, and that a revision has which the one before did not have.
func (x *people) comeBack(before, next *logic.Program) (all []store.Bypass) {
	for _, b := range x.list() {
		if lasts(&b) && next.Index(logic.OutputKind, b.Name) >= 0 && before.Index(logic.OutputKind, b.Name) < 0 {
			all = append(all, b)
		}
	}
	return all
}

// lasts reports whether a bypass is kept by the name of its output, whether a revision has that or not.
func lasts(b *store.Bypass) bool { return b.Kind == "off" || b.Kind == "lock" }

// prune drops from the register what is not in place any more, after every instant.
func (x *people) prune(e *Engine) {
	for name, b := range x.in {
		r, found := e.p.Find(name)
		if !found || name == x.commanded { // kept by name, or about to be replaced
			continue
		}
		if x.stillIn(e, r, &b) {
			x.in[name] = b
			continue
		}
		delete(x.in, name)
		if b.Kind == handledByHand || b.Kind == lostHand || b.Kind == "pin" || b.Kind == "shelving" {
			e.note("bypass", name, b.Kind, "ended", "", "")
		}
	}
}

// stillIn reports whether an entry of the register is still in place. A hand that could not go on is off until its own end.
func (x *people) stillIn(e *Engine, r logic.Ref, b *store.Bypass) bool {
	switch {
	case b.Kind == "pin":
		return r.Kind == logic.InputKind && e.run.S.Pinned(int(r.Index))
	case r.Kind == logic.AlarmKind:
		a := e.run.S.Alarm(int(r.Index))
		_, shelved := a.Shelved()
		return b.Kind == "shelving" && shelved || b.Kind == outOfService && a.OutOfService()
	case r.Kind != logic.OutputKind:
		return false
	}
	i := int(r.Index)
	if b.Kind == handledByHand && e.run.S.Unhanded(i) {
		alarm := logic.Ref{Kind: logic.AlarmKind, Index: int32(e.p.Index(logic.AlarmKind, e.p.Job.Outputs[i].HandAlarm()))}
		e.note("bypass", b.Name, handledByHand, "off", e.p.Sentence(e.run.S.Standing(alarm), e.clockOf), "")
		b.Kind, b.Value = lostHand, "off until the hand's own end"
	}
	return e.run.S.Mode(i) != logic.Auto
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

func (x *people) shift(by int64) {
	for name, b := range x.in {
		b.Since += by
		x.in[name] = b
	}
}

// ofOutput reports whether an entry is about an output.
func (x *people) ofOutput(b *store.Bypass) bool {
	return b.Kind == "off" || b.Kind == "lock" || b.Kind == handledByHand || b.Kind == lostHand
}

// list returns the register in the order of the names.
func (x *people) list() []store.Bypass {
	all := slices.Collect(maps.Values(x.in))
	slices.SortFunc(all, func(a, b store.Bypass) int { return strings.Compare(a.Name, b.Name) })
	return all
}
