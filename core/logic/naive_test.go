package logic

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
	"rectura/core/signal"
	"rectura/core/unit"
)

// A naive evaluator does what the description of how a job runs says, in the
// plainest way: it works on the sheet itself, evaluates everything at every
// instant, and keeps what a condition remembers in maps. It has no timers: it is
// evaluated at every time at which anything could fall due. Only what becomes of
// a reading before a rule sees it is shared with the Stepper.
type naive struct {
	job      *sheet.Job
	zone     *time.Location
	analog   map[string]*signal.Analog
	contacts map[string]*signal.Contact
	now      int64
	start    int64
	moved    bool // something began, or ended, from which on a delay may run

	tripped map[sheet.Condition]bool        // of comparisons and ranges
	since   map[any]int64                   // since when what a delay is about has been true
	over    map[any]bool                    // it has run out
	last    map[sheet.Condition]any         // the last good state, value or side
	crossed map[sheet.Condition]int64       // when a value crossed, while it has not stayed for long enough
	past    map[sheet.Condition][]pastValue // all values that a slope has seen
	limits  map[*sheet.Band]*sheet.Compare

	bands   *naiveBands
	patient bool                     // the alarm of a bad input is asked
	alarm0  naiveAlarm               // the only one that calls
	fired   bool                     // something momentary is true
	ending  bool                     // and now it is over
	moments map[sheet.Condition]bool // the momentary conditions that were asked
	naivePeople
	rules   map[string]*naiveRule
	outputs map[string]*naiveOutput
	valve   *naiveValve // the only analog output
	loop    *naiveLoop  // the only one
	wake    int64       // when the loop is worked out next

	unhanded bool  // a hand could not go on in this pass
	out2     State // the output that conditions look at, and the valve, before this pass
	level    float64
}

type naiveRule struct {
	shown            State
	on               bool
	turned           int64
	everOn           bool
	pulsing, waiting bool
	resetWasFalse    bool
}

// naiveBands are the only ones of a random job.
type naiveBands struct {
	inForce, waiting int
	since            int64
	undecided        bool
}

// naiveAlarm is what has become of an alarm when the last instant ended.
type naiveAlarm struct {
	active, unacknowledged bool
	silent                 bool // it is inhibited
	shelved, out           bool // out of service
	until                  int64
	unheard                bool // it came while it was
	muted                  bool // it had returned while it was
}

type naiveOutput struct {
	state   State
	had     State // the plant
	turned  int64
	everOn  bool
	stirred []State // what it was decided to be while it settled
}

func newNaive(job *sheet.Job) *naive {
	n := &naive{
		naivePeople: newNaivePeople(),
		job:         job,
		analog:      map[string]*signal.Analog{},
		contacts:    map[string]*signal.Contact{},
		start:       never,
		tripped:     map[sheet.Condition]bool{},
		since:       map[any]int64{},
		over:        map[any]bool{},
		last:        map[sheet.Condition]any{},
		crossed:     map[sheet.Condition]int64{},
		past:        map[sheet.Condition][]pastValue{},
		moments:     map[sheet.Condition]bool{},
		limits:      map[*sheet.Band]*sheet.Compare{},
		rules:       map[string]*naiveRule{},
		outputs:     map[string]*naiveOutput{},
		valve:       &naiveValve{},
		loop:        &naiveLoop{},
		wake:        never,
	}
	var err error
	if n.zone, err = time.LoadLocation(job.Timezone); err != nil {
		panic(err)
	}
	for _, in := range job.Inputs {
		if in.Discrete {
			debounce := int64(0)
			if in.Debounce != nil {
				debounce = job.DurationValue(in.Debounce.Duration)
			}
			c := signal.NewContact(in.Inverted != nil, debounce)
			n.contacts[in.Name] = &c
		} else {
			a := signal.NewAnalog(signal.NewChain(in, job.DurationValue))
			n.analog[in.Name] = &a
		}
	}
	for _, in := range job.Watched {
		n.contacts[in.Name] = &signal.Contact{On: true}
	}
	n.bands = &naiveBands{inForce: -1, waiting: -1}
	for _, r := range job.Rules {
		n.rules[r.Name] = &naiveRule{}
	}
	for _, a := range job.Alarms {
		n.rules[a.Name] = &naiveRule{}
	}
	for _, o := range job.Outputs {
		n.outputs[o.Name] = &naiveOutput{}
	}
	return n
}

var milligrams = unit.MustLookup("mg/L")

// value computes a value in mg/L, which all signals of random jobs are in.
func (n *naive) value(e sheet.Expr) (float64, bool) {
	switch e := e.(type) {
	case *sheet.Literal:
		if e.Unit == (unit.Unit{}) || e.Unit == percent {
			return e.Value, true
		}
		return e.Unit.Convert(e.Value, milligrams), true
	case *sheet.Paren:
		return n.value(e.X)
	case *sheet.Negate:
		v, ok := n.value(e.X)
		return -v, ok
	case *sheet.Binary:
		a, okA := n.value(e.L)
		b, okB := n.value(e.R)
		switch e.Op {
		case '+':
			return a + b, okA && okB
		case '-':
			return a - b, okA && okB
		case '*':
			return a * b, okA && okB
		}
		return a / b, okA && okB && b != 0
	case *sheet.Name:
		switch d := n.job.Lookup(e.Name).(type) {
		case *sheet.Setpoint:
			q := n.setting(d)
			if q.Unit == percent {
				return q.Value, true
			}
			return q.In(milligrams), true
		case *sheet.Derived:
			return n.value(d.Value)
		case *sheet.Output:
			return n.level, true
		}
		if v, pinned := n.pin(e.Name); pinned {
			return v, true
		}
		a := n.analog[e.Name]
		return a.Value, a.Fault == signal.None
	case *sheet.Func:
		return n.function(e)
	}
	panic(fmt.Sprintf("%T", e))
}

func (n *naive) function(e *sheet.Func) (float64, bool) {
	var good []float64
	for _, a := range e.Args {
		if v, ok := n.value(a); ok {
			good = append(good, v)
		}
	}
	if len(good) == 0 || len(good) < len(e.Args) && e.Name != "average" && e.Name != "median" {
		return 0, false
	}
	sort.Float64s(good)
	switch e.Name {
	case "min":
		return good[0], true
	case "max":
		return good[len(good)-1], true
	case "abs":
		return math.Abs(good[0]), true
	case "median":
		return (good[(len(good)-1)/2] + good[len(good)/2]) / 2, true
	}
	sum := 0.0
	for _, a := range e.Args { // in the order of the sheet
		if v, ok := n.value(a); ok {
			sum += v
		}
	}
	return sum / float64(len(good)), true
}

func (n *naive) state(name string) truth {
	if v, pinned := n.pin(name); pinned {
		return truthOf(v != 0)
	}
	if c := n.contacts[name]; c != nil {
		if c.Fault != signal.None {
			return isUnknown
		}
		return truthOf(c.On)
	}
	if r := n.rules[name]; r != nil {
		return map[State]truth{Off: isFalse, On: isTrue, Undecided: isUnknown}[r.shown]
	}
	return truthOf(n.out2 == On)
}

func (n *naive) unread(name string) bool {
	if _, pinned := n.pin(name); pinned {
		return false
	}
	if c := n.contacts[name]; c != nil {
		return c.Fault == signal.NotRead
	}
	a := n.analog[name]
	return a != nil && a.Fault == signal.NotRead
}

func (n *naive) quality(name string) bool {
	if _, pinned := n.pin(name); pinned {
		return true
	}
	if c := n.contacts[name]; c != nil {
		return c.Fault == signal.None
	}
	_, good := n.value(&sheet.Name{Name: name})
	return good
}

// lasts evaluates `x for d` about something that is remembered under a key.
func (n *naive) lasts(key any, x truth, d int64, strict bool) truth {
	since, running := n.since[key]
	over := n.over[key]
	defer func() {
		_, runs := n.since[key]
		n.moved = n.moved || runs != running || n.over[key] != over
	}()
	switch {
	case x == isFalse:
		delete(n.since, key)
		delete(n.over, key)
		return isFalse
	case x == isUnknown:
		if strict || !n.over[key] {
			delete(n.since, key)
			delete(n.over, key)
		}
		return isUnknown
	case !running:
		n.since[key] = n.now
		return isFalse
	}
	if n.now-since >= d {
		n.over[key] = true
	}
	return truthOf(n.over[key])
}

func (n *naive) holds(x sheet.Condition) truth {
	switch x := x.(type) {
	case *sheet.Group:
		return n.holds(x.X)
	case *sheet.Not:
		return n.holds(x.X).not()
	case *sheet.And, *sheet.Or:
		xs, decisive := []sheet.Condition(nil), isFalse
		if and, ok := x.(*sheet.And); ok {
			xs = and.Xs
		} else {
			xs, decisive = x.(*sheet.Or).Xs, isTrue
		}
		v := decisive.not()
		for _, t := range n.all(xs) {
			if t == decisive {
				v = decisive
			} else if t == isUnknown && v != decisive {
				v = isUnknown
			}
		}
		return v
	case *sheet.Quorum:
		yes, maybe := 0, 0
		for _, t := range n.all(x.Xs) {
			switch t {
			case isTrue:
				yes++
			case isUnknown:
				maybe++
			}
		}
		if yes >= x.N {
			return isTrue
		} else if yes+maybe < x.N {
			return isFalse
		}
		return isUnknown
	case *sheet.For:
		if c := x.Crossing(); c != nil {
			return n.momentary(x, n.stays(c, n.length(x.Duration), false))
		}
		return n.lasts(x, n.holds(x.X), n.length(x.Duration), false)
	case *sheet.Test:
		v := isUnknown
		switch {
		case x.OfAlarm():
			a := n.now0()
			v = truthOf(a.unacknowledged && x.Is == "unacknowledged" || a.shelved && x.Is == "shelved")
		case x.OfBand():
			v = truthIf(n.bands.inForce == n.job.Bands[0].Find(x.Is), !n.bands.undecided && n.bands.inForce >= 0)
		case x.OfQuality():
			good := n.quality(x.Name.Name) || n.patient && !n.settled() && n.unread(x.Name.Name)
			v = truthOf(good == (x.Is == "good"))
		case x.Is == "off":
			v = n.state(x.Name.Name).not()
		default:
			v = n.state(x.Name.Name)
		}
		if x.Not {
			return v.not()
		}
		return v
	case *sheet.Turn:
		return n.momentary(x, n.turned(x, false))
	case *sheet.Cross:
		return n.momentary(x, truthIf(n.goesOver(x, false)))
	case *sheet.Daytime:
		wall := time.Unix(0, n.now).In(n.zone)
		at := int64(wall.Hour())*3600e9 + int64(wall.Minute())*60e9 + int64(wall.Second())*1e9 + int64(wall.Nanosecond())
		if x.From.Nanoseconds < x.To.Nanoseconds {
			return truthOf(at >= x.From.Nanoseconds && at < x.To.Nanoseconds)
		}
		return truthOf(at >= x.From.Nanoseconds || at < x.To.Nanoseconds)
	case *sheet.Compare:
		return n.compared(x)
	case *sheet.Between:
		return n.inRange(x)
	case *sheet.Near:
		a, okA := n.value(x.L)
		b, okB := n.value(x.R)
		w, okW := n.value(x.Within)
		return truthIf(math.Abs(a-b) <= w, okA && okB && okW)
	case *sheet.Slope:
		return n.slopes(x)
	}
	panic(fmt.Sprintf("%T", x))
}

func truthIf(v, known bool) truth {
	if !known {
		return isUnknown
	}
	return truthOf(v)
}

func (n *naive) all(xs []sheet.Condition) []truth {
	var all []truth
	for _, x := range xs {
		all = append(all, n.holds(x))
	}
	return all
}

// momentary notes that something momentary is true, unless that is over already.
func (n *naive) momentary(x sheet.Condition, v truth) truth {
	n.moments[x] = true
	if v == isTrue && n.ending {
		return isFalse
	}
	n.fired = n.fired || v == isTrue
	return v
}

// remember moves on what momentary conditions remember.
func (n *naive) remember() {
	for x := range n.moments {
		switch x := x.(type) {
		case *sheet.Turn:
			n.turned(x, true)
		case *sheet.Cross:
			n.goesOver(x, true)
		case *sheet.For:
			n.stays(x.Crossing(), n.length(x.Duration), true)
		}
	}
}

func (n *naive) turned(x *sheet.Turn, over bool) truth {
	var now any
	if x.How == "changes" && n.contacts[x.Name.Name] == nil && n.rules[x.Name.Name] == nil && n.outputs[x.Name.Name] == nil {
		v, good := n.value(x.Name)
		if !good {
			return isUnknown
		}
		now = v
	} else {
		s := n.state(x.Name.Name)
		if s == isUnknown {
			return isUnknown
		}
		now = s
	}
	before, known := n.last[x]
	if !known && n.contacts[x.Name.Name] == nil {
		if _, value := now.(float64); !value {
			before, known = isFalse, true
		}
	}
	if over {
		n.last[x] = now
	}
	return truthOf(known && before != now && (x.How == "changes" || (x.How == "turns on") == (now == isTrue)))
}

// goesOver tells whether a value is on the other side now.
func (n *naive) goesOver(x *sheet.Cross, over bool) (crossed, known bool) {
	a, okA := n.value(x.X)
	b, okB := n.value(x.V)
	if !okA || !okB {
		return false, false
	}
	if a == b {
		return false, true
	}
	before, any := n.last[x]
	if over {
		n.last[x] = a > b
	}
	return any && before != (a > b), true
}

// stays evaluates a crossing that must last. The side that counts is the last one on which the value has stayed for so long.
func (n *naive) stays(x *sheet.Cross, d int64, over bool) truth {
	at, waiting := n.crossed[x]
	a, okA := n.value(x.X)
	b, okB := n.value(x.V)
	if !okA || !okB {
		if over && waiting {
			n.crossed[x] = never // anew once it is good again
		}
		return isUnknown
	}
	side, known := n.last[x]
	switch {
	case !known && a == b:
		return isFalse
	case !known:
		if over {
			n.last[x] = a > b
		}
		return isFalse
	case a == b && !waiting || a != b && (a > b) == side:
		if over {
			delete(n.crossed, x)
		}
		return isFalse
	case !waiting || at == never:
		at, n.moved = n.now, true
	}
	if n.now-at < d {
		if over {
			n.crossed[x] = at
		}
		return isFalse
	}
	if over {
		n.last[x] = !side.(bool)
		delete(n.crossed, x)
		n.moved = true
	}
	return isTrue
}

func (n *naive) compared(x *sheet.Compare) truth {
	l, okL := n.value(x.L)
	s, okS := n.value(x.R)
	d, h, okD, okH := 0.0, 0.0, true, true
	op := x.Op
	if !n.job.HasInput(x.L) && n.job.HasInput(x.R) { // read it the other way round
		l, s, op = s, l, op.Mirror()
	}
	if x.Deadband != nil {
		d, okD = n.value(x.Deadband)
	}
	if x.Hysteresis != nil {
		h, okH = n.value(x.Hysteresis)
	}
	if !okL || !okS || !okD || !okH {
		return isUnknown
	}
	trip := map[bool]float64{true: s - d, false: s + d}[op.Falling()]
	reset := s
	if x.Hysteresis != nil {
		reset = map[bool]float64{true: trip + h, false: trip - h}[op.Falling()]
	}
	limit := trip
	if n.tripped[x] {
		limit = reset
	}
	n.tripped[x] = map[sheet.Op]bool{sheet.Below: l < limit, sheet.AtMost: l <= limit, sheet.Above: l > limit, sheet.AtLeast: l >= limit}[op]
	return truthOf(n.tripped[x])
}

func (n *naive) inRange(x *sheet.Between) truth {
	v, okV := n.value(x.X)
	low, okL := n.value(x.Low)
	high, okH := n.value(x.High)
	h, ok := 0.0, true
	if x.Hysteresis != nil {
		h, ok = n.value(x.Hysteresis)
	}
	if !okV || !okL || !okH || !ok {
		return isUnknown
	}
	switch {
	case !n.tripped[x]:
	case x.Outside:
		low, high = low+h, high-h
	default:
		low, high = low-h, high+h
	}
	n.tripped[x] = (v >= low && v <= high) != x.Outside
	return truthOf(n.tripped[x])
}

func (n *naive) slopes(x *sheet.Slope) truth {
	v, good := n.value(x.X)
	if !good {
		n.past[x] = nil
		return isUnknown
	}
	if k := len(n.past[x]); k == 0 || n.past[x][k-1].value != v {
		n.moved = true
		n.past[x] = append(n.past[x], pastValue{n.now, v})
	}
	d := n.length(x.Over)
	held, known := 0.0, false
	for k, p := range slices.Backward(n.past[x]) {
		if p.at <= n.now-d {
			held, known = p.value, true
			n.past[x] = n.past[x][k:] // what is older is forgotten, also for a longer time that is set later
			break
		}
	}
	rise := v - held
	if x.Falling {
		rise = -rise
	}
	per := x.Rate.Per.Convert(1, unit.MustLookup("s")) * 1e9
	return truthIf(rise/(float64(d)/per) > x.Rate.Quantity.In(milligrams), known)
}

func (n *naive) within(turned int64, minimum *sheet.DurationClause) bool {
	return minimum != nil && n.now-turned < n.length(minimum.Duration)
}

func (n *naive) clause(c *sheet.ConditionClause, none truth) truth {
	if c == nil {
		return none
	}
	return n.holds(c.Condition)
}

func (n *naive) locked(g *sheet.Guard) truth {
	if g.Interlock == nil {
		return isFalse
	}
	v := n.holds(g.Interlock.Condition)
	if g.Interlock.Unless {
		v = v.not()
	}
	return v
}

func (n *naive) rule(r *sheet.Rule) {
	m := n.rules[r.Name]
	n.patient = r.Alarm != nil && r.Alarm.OfInput != nil
	defer func() { n.patient = false }()
	inner, delay := r.OnCondition()
	trip := n.holds(inner)
	on := trip
	if delay != nil {
		on = n.lasts(r, trip, n.length(delay), false)
	}
	off := n.clause(r.OffWhen, isFalse)
	letGo := trip.not()
	if r.OffAfter != nil {
		letGo = n.lasts(r.OffAfter, trip.not(), n.length(r.OffAfter.Duration), true)
	}
	reset, permitted, lock := n.clause(r.Reset, isFalse), n.clause(r.Permissive, isTrue), n.locked(&r.Guard)

	if trip != isFalse {
		m.resetWasFalse = false
	} else if reset == isFalse && r.Reset != nil {
		m.resetWasFalse = true
	}
	if trip == isFalse {
		m.waiting = false
	}
	turn := func(on bool) {
		if m.on != on {
			m.on, m.turned, m.everOn, n.moved = on, n.now, m.everOn || on, true
		}
	}
	undecided := false
	switch {
	case lock == isTrue || lock == isUnknown && n.settled():
		turn(false)
		if m.pulsing && lock == isUnknown {
			m.waiting = trip != isFalse
		}
		m.pulsing = false
	case m.pulsing:
		if n.now-m.turned >= n.length(r.Pulse.Duration) {
			turn(false)
			m.pulsing, m.waiting = false, trip != isFalse
		}
	case m.waiting:
	case r.Latch != nil && m.on:
		if trip == isFalse && (m.resetWasFalse && reset == isTrue || n.resets[r.Name]) {
			turn(false)
		}
	case m.on:
		look := letGo
		if r.OffWhen != nil {
			look = off
		}
		undecided = look == isUnknown
		if look == isTrue && !n.within(m.turned, r.MinimumOn) {
			turn(false)
		}
	default:
		look := isFalse // on and not off
		switch {
		case on == isFalse || off == isTrue:
		case on == isUnknown || off == isUnknown:
			look = isUnknown
		default:
			look = isTrue
		}
		if lock == isFalse && permitted == isTrue && !(m.everOn && n.within(m.turned, r.MinimumOff)) {
			undecided = look == isUnknown
			if look == isTrue {
				turn(true)
				m.pulsing = r.Pulse != nil
			}
		}
	}
	m.shown = map[bool]State{true: On, false: Off}[m.on]
	if undecided && r.Alarm == nil { // an alarm keeps its state
		m.shown = Undecided
	}
}

func (n *naive) decideBands(d *sheet.Bands) {
	m := n.bands
	found, undecided := len(d.Bands)-1, false
	for i, b := range d.Bands {
		if b.Op == "" {
			continue
		}
		x := n.limits[b]
		if x == nil {
			x = &sheet.Compare{Op: b.Op, L: d.Of, R: b.Limit}
			if d.Hysteresis != nil {
				x.Hysteresis = d.Hysteresis.Value
			}
			n.limits[b] = x
		}
		switch n.compared(x) {
		case isUnknown:
			undecided = true
		case isTrue:
			found = min(found, i)
		}
	}
	m.undecided = undecided
	switch {
	case undecided || found == m.inForce:
		m.waiting = -1
	case d.For == nil || m.inForce < 0:
		m.inForce, m.waiting = found, -1
	case m.waiting != found:
		m.waiting, m.since, n.moved = found, n.now, true
	case n.now-m.since >= n.length(d.For.Duration):
		m.inForce, m.waiting = found, -1
	}
}

// bandShown is the band in force, or that none is known.
func (n *naive) bandShown() string {
	if n.bands.undecided || n.bands.inForce < 0 {
		return "undecided"
	}
	return n.job.Bands[0].Bands[n.bands.inForce].Title()
}

func (n *naive) output(o *sheet.Output) {
	m := n.outputs[o.Name]
	states := map[State]int{}
	callers, lockedCaller := 0, false
	for _, r := range n.job.Rules {
		if called(r.Calls(), o) != nil {
			states[n.rules[r.Name].shown]++
			callers++
			lockedCaller = lockedCaller || n.forces(n.locked(&r.Guard))
		}
	}
	for i, b := range n.job.Bands[0].Bands {
		if called(b.Calls, o) != nil {
			callers++
			states[n.bandCalls(i)]++
		}
	}
	for _, c := range n.alarm().Calls {
		if called(c.Calls, o) != nil {
			callers++
			states[n.alarmCalls(c)]++
		}
	}
	called := Off
	all := o.CalledBy != nil && o.CalledBy.Word == "all"
	switch {
	case callers == 0:
	case all && states[Off] > 0:
	case !all && states[On] > 0:
		called = On
	case states[Undecided] > 0:
		called = Undecided
	case all:
		called = On
	}
	lock, permitted := n.locked(&o.Guard), n.clause(o.Permissive, isTrue)
	to := called
	hand := n.hand(o.Name).how
	if hand == "on" {
		called, to = On, On
	} else if hand != "" {
		called, to, lockedCaller = Off, Off, false
	}
	if hand == "on" {
		lockedCaller = false
	}
	if n.settled() && len(m.stirred) > 0 {
		m.had, m.turned, m.everOn, n.moved = m.state, n.now, m.everOn || slices.Contains(m.stirred, On), true
		m.stirred = nil
	}
	switch {
	case n.forces(lock):
		to = Off
		n.takeFromHand(o.Name)
	case called == Undecided:
		to = m.state
		if n.settled() && (o.Fail == nil || o.Fail.Word != "hold") {
			to = map[bool]State{true: On, false: Off}[o.Fail != nil && o.Fail.Word == "on"]
		}
	case called == On && m.had == Off && (lock != isFalse || m.everOn && n.within(m.turned, o.MinimumOff) || permitted != isTrue):
		to = Off
	case called == Off && m.had == On && n.within(m.turned, o.MinimumOn) && !lockedCaller:
		to = On
	}
	hand = n.hand(o.Name).how
	switch reaches := n.settled() || to == Off && (n.forces(lock) || hand == "off" || hand == "stood"); {
	case reaches && to != m.had:
		m.had, m.turned, m.everOn, n.moved = to, n.now, m.everOn || to == On, true
	case !reaches && to != m.state:
		m.stirred = append(m.stirred, to)
	}
	m.state = to
}

// takeFromHand takes an output out of hand that its own interlock turns off. A hand of this very instant is refused.
func (n *naive) takeFromHand(output string) {
	hand := n.hand(output)
	if before, asked := n.asked[output]; asked && (hand.how == "on" || hand.how == "at") {
		if n.hands[output] = before; before == nil {
			delete(n.hands, output)
		}
	}
	if hand = n.hand(output); hand.how == "on" || hand.how == "at" {
		n.hands[output] = &naiveHand{"stood", 0, hand.ends}
		if c := n.contacts[output+".inhand"]; c != nil {
			c.Fault, n.unhanded = signal.Reported, true
		}
	}
}

// called finds how an output is called; nil if it is not.
func called(calls []*sheet.Call, o *sheet.Output) *sheet.Call {
	for _, c := range calls {
		if c.Output.Name == o.Name {
			return c
		}
	}
	return nil
}

func (n *naive) bandCalls(i int) State {
	calls := n.bands.inForce == i || n.job.Bands[0].Cumulative != nil && n.bands.inForce < i
	switch {
	case n.bands.undecided || n.bands.inForce < 0:
		return Undecided
	case calls:
		return On
	}
	return Off
}

func (n *naive) alarm() *sheet.Alarm {
	return n.job.Alarms[slices.IndexFunc(n.job.Alarms, func(a *sheet.Alarm) bool { return a.Name == "alarm0" })]
}

func (n *naive) alarmCalls(c *sheet.AlarmCall) State {
	calls := n.rules["alarm0"].on
	if c.Until {
		a := n.now0()
		calls = a.unacknowledged && !a.silenced() && !a.muted
	}
	return map[bool]State{true: On, false: Off}[calls]
}

// now0 is what this instant makes of the alarm, as far as it has come.
func (n *naive) now0() naiveAlarm {
	a, holds := n.alarm0, n.rules["alarm0"].on
	if a.shelved && n.now >= a.until {
		a.unshelve()
	}
	silent := n.clause(n.alarm().Inhibit, isFalse) == isTrue
	switch silenced := a.silenced() || silent; {
	case holds && !a.active:
		a.unheard = silenced && !a.unacknowledged
		a.unacknowledged, a.muted = true, false
	case !holds && a.active && a.unheard:
		a.unacknowledged, a.unheard = false, false
	case !holds && a.unacknowledged:
		a.muted = a.muted || silenced
	}
	a.active, a.silent = holds, silent
	a.unheard = a.unheard && a.silenced()
	return a
}

// forces tells whether an interlock turns off.
func (n *naive) forces(lock truth) bool {
	return lock == isTrue || lock == isUnknown && n.settled()
}

func (n *naive) settled() bool {
	settle := int64(sheet.DefaultSettle)
	if n.job.Settle != nil {
		settle = n.length(n.job.Settle)
	}
	return n.now-n.start >= settle
}

// instant evaluates everything at a time, and says what ended different.
func (n *naive) instant(t int64) []string {
	n.moved = n.start == never
	n.now, n.start = t, min(n.start, t)
	before := n.states()
	for input, pin := range n.pins {
		if pin.ends == t {
			n.unpin(input)
		}
	}
	n.rest()
	n.alarm0 = n.now0()
	clear(n.resets)
	clear(n.asked)
	if n.fired {
		n.ending = true
		n.rest()
		n.alarm0 = n.now0()
	}
	n.remember()
	n.fired, n.ending = false, false
	var changed []string
	for i, s := range n.states() {
		if s != before[i] {
			changed = append(changed, fmt.Sprintf("%d %s from %s", t, s, before[i][strings.LastIndex(before[i], " ")+1:]))
		}
	}
	return changed
}

// rest evaluates everything until the output that conditions name, and the valve,
// stay what they are.
func (n *naive) rest() {
	for range mostPasses {
		n.out2, n.level, n.unhanded = n.outputs["out2"].state, n.valve.level, false
		n.decideBands(n.job.Bands[0])
		for _, r := range n.job.Order {
			n.rule(r)
		}
		for _, o := range n.job.Outputs {
			if o.Range != nil {
				n.analogOutput(o)
			} else {
				n.output(o)
			}
		}
		if n.outputs["out2"].state == n.out2 && n.valve.level == n.level && !n.unhanded {
			return
		}
	}
}

func (n *naive) states() []string {
	all := []string{"bands0 " + strings.ReplaceAll(n.bandShown(), " ", "_")}
	for _, r := range n.job.Rules {
		all = append(all, r.Name+" "+n.rules[r.Name].shown.String())
	}
	for _, a := range n.job.Alarms {
		all = append(all, a.Name+" "+map[bool]string{true: "active", false: "normal"}[n.rules[a.Name].on])
	}
	for _, o := range n.job.Outputs {
		if o.Range == nil {
			all = append(all, o.Name+" "+n.outputs[o.Name].state.String())
		}
	}
	return append(all, fmt.Sprint("valve ", n.valve.level))
}

// lengths are all durations in random jobs, and the settling time.
var lengths = []int64{1e9, 2.5e9, 4e9, 5e9, 7.5e9, 30e9, 60e9, 90e9}

// play plays moments, and evaluates at every time that lies the length of any
// delay behind one at which something has moved.
func (n *naive) play(p *Program, all []event) []string {
	known := map[int64]bool{}
	var times []int64
	add := func(t int64) {
		if !known[t] {
			known[t] = true
			at, _ := slices.BinarySearch(times, t)
			times = slices.Insert(times, at, t)
		}
	}
	reads := map[int64]event{}
	for _, m := range all {
		add(m.at)
		reads[m.at] = m
		for _, c := range m.commands {
			if c.For > 0 {
				add(m.at + c.For)
			}
		}
	}
	var moves []int64 // when something moved
	end := all[len(all)-1].at
	for day := int64(0); day*86400e9 <= end; day++ {
		for _, clock := range []int64{58 * 60e9, (62*60 + 30) * 1e9, 63 * 60e9, 61*60e9 + 15.5e9} {
			if t := day*86400e9 + clock - 3600e9; t > all[0].at { // Dublin was an hour ahead of UTC all through 1970
				add(t)
			}
		}
	}
	due := make([]int64, len(p.Inputs)) // when an input wants to be looked at
	for i := range due {
		due[i] = never
	}
	var out []string
	for len(times) > 0 && times[0] <= end {
		t := times[0]
		times = times[1:]
		for i, in := range p.Inputs {
			if v, read := reads[t].readings[i]; read {
				if a := n.analog[in.Name]; a != nil {
					a.Read(t, v, 0)
				} else {
					n.contacts[in.Name].Read(t, v)
				}
			}
		}
		for _, c := range reads[t].commands {
			n.do(c, p, t)
			if c.Do == SetSetting && p.Name(c.Of) == "pause" {
				n.retime(p, due)
				for _, moved := range moves {
					add(max(t, moved+n.length(&sheet.Duration{Name: "pause"})))
				}
			}
		}
		for i, in := range p.Inputs {
			if a := n.analog[in.Name]; a != nil {
				if due[i] <= t {
					a.Tick(t)
				}
				due[i] = a.Due(t)
				add(due[i])
				continue
			}
			c := n.contacts[in.Name]
			if due[i] <= t {
				c.Tick(t)
			}
			due[i] = c.Due()
			add(due[i])
		}
		changed := n.instant(t)
		slices.Sort(changed)
		out = append(out, changed...)
		if n.wake != never {
			add(n.wake)
		}
		if n.moved {
			moves = append(moves, t)
			for _, d := range append(lengths, n.length(&sheet.Duration{Name: "pause"})) {
				add(t + d)
			}
		}
	}
	return out
}

// retime has the inputs use the present lengths, and look at themselves.
func (n *naive) retime(p *Program, due []int64) {
	for i, in := range n.job.Inputs {
		if !p.Inputs[i].retimed {
			continue
		}
		if a := n.analog[in.Name]; a != nil {
			a.Retime(n.length)
		} else {
			n.contacts[in.Name].Debounce = n.length(in.Debounce.Duration)
		}
		due[i] = math.MinInt64
	}
}

// Random jobs come out of the Stepper as they do of the naive evaluator.
func TestNaively(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := sheettest.Job(t)
		job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
		require.False(t, sheet.HasErrors(found), "%v", found)
		p, err := Compile(job)
		require.NoError(t, err)
		all := events(t, p, moments(t, p))
		s := NewStepper(p)
		var want []string
		step := func(at int64) {
			var lines []string
			for _, tr := range s.MustStep(at) {
				if tr.Kind != InputKind && tr.Kind != MessageKind {
					state := func(s Stand) string {
						if tr.LevelOnly() { // of the valve
							return fmt.Sprint(s.Level)
						}
						return strings.ReplaceAll(p.StandText(tr.Ref, s), " ", "_")
					}
					lines = append(lines, fmt.Sprintf("%d %s %s from %s", at, p.Name(tr.Ref), state(tr.To), state(tr.From)))
				}
			}
			slices.Sort(lines)
			want = append(want, lines...)
		}
		for _, m := range all {
			for s.Next() < m.at {
				step(s.Next())
			}
			for i := range p.Inputs {
				if v, ok := m.readings[i]; ok {
					s.Read(m.at, i, v, 0)
				}
			}
			for _, c := range m.commands {
				_, err := s.Command(c)
				require.NoError(t, err)
			}
			step(m.at)
		}
		if _, _, circle := s.Circle(); circle {
			t.Skip("outputs that do not come to rest are tried elsewhere")
		}
		require.Equal(t, newNaive(job).play(p, all), want, "%v\n%s", all, text)
	})
}
