package live

import (
	"context"
	"math"
	"slices"
	"strings"
	"sync"

	"rectura/core/logic"
	"rectura/core/run"
	"rectura/core/unit"
	"rectura/service/device"
	"rectura/service/records"
)

// A Status is how a job is run.
type Status struct {
	Job, Mode                       string
	Revision                        int64
	Since                           int64
	Fault                           string
	Waiting                         bool    // for devices to answer, before its first instant
	Settling                        bool    // outputs are not written yet
	NotKept                         int64   // since when what happens cannot be kept; 0 where it can
	NotKeptWhy                      string  // and why
	P50, P99                        float64 // how late instants are handled, in milliseconds
	Late                            int64   // how many were handled later than they may be
	Passed                          int64   // readings that were passed over, since there were too many
	LateReadings                    int64   // readings that came late, since their line was busy
	Hiccups                         int64   // stops of the process that postponed delays
	Readings, Instants, Commits     int64   // since the service began to run the job
	Unkept                          int     // entries of the journal that are not kept yet
	Damage                          string  // the damage of the job's records, until a person acknowledges it
	Starts                          int64
	Clock                           int64 // service time
	Synchronised, SynchronisedKnown bool  // whether the machine's clock is kept right by another
	Devices                         []DeviceStatus
	Alarms                          map[string]int // that are active or unacknowledged, by priority
	Bypasses                        int
}

// A DeviceStatus is how a device stands.
type DeviceStatus struct {
	Name, State, Why string
	Since            int64
	Traffic          device.Traffic
	Heartbeat        bool // a watchdog in it looks at the job's heartbeat
}

// Status is how the job is run now.
func (e *Engine) Status(ctx context.Context) (Status, error) { return ask(ctx, e, e.status) }

func (e *Engine) status() Status {
	v := Status{
		Job: e.armed.Name, Mode: e.armed.Mode, Revision: e.armed.Revision, Since: e.armed.Since, Fault: e.armed.Fault,
		Waiting: !e.began, Settling: e.began && !e.run.S.Settled(),
		NotKept: e.keeping.notKept, NotKeptWhy: e.keeping.why,
		P50: e.lates.quantile(0.5), P99: e.lates.quantile(0.99), Late: e.lates.count, Passed: e.mail.passedOver(), Starts: e.armed.Starts,
		LateReadings: e.counts.latePoints, Hiccups: e.counts.hiccups, Readings: e.counts.readings,
		Instants: e.counts.instants, Commits: e.counts.commits, Unkept: len(e.keeping.entries), Damage: e.armed.Damage,
		Clock: e.time.t, Alarms: map[string]int{}, Bypasses: len(e.people.in),
	}
	v.Synchronised, v.SynchronisedKnown = e.clock.Synchronised()
	for _, d := range e.devices {
		if d.present() {
			v.Devices = append(v.Devices, DeviceStatus{Name: d.Name, State: d.state, Why: d.why, Since: d.since, Heartbeat: d.Heartbeat > 0,
				Traffic: d.driver.Traffic()[d.Name]})
		}
	}
	slices.SortFunc(v.Devices, func(a, b DeviceStatus) int { return strings.Compare(a.Name, b.Name) })
	for i := range e.p.Alarms {
		if a := e.run.S.Alarm(i); a.Announced() {
			v.Alarms[e.p.Job.Alarms[i].Priority.Word]++
		}
	}
	return v
}

// A PointNow is an input, a derived value or an output as it is now.
type PointNow struct {
	Name, Title, Kind string
	Value             float64 // NaN where it has none
	Unit              string
	State             string // of what is on or off
	Quality           string // good, bad or not read
	Reason            string
	Age               float64 // seconds since its device was last heard; NaN for what has none
	Pinned            bool
	Mode              string // of an output: auto, hand or off
	Written           bool   // it is written as it stands, and its device has taken it
	NotWritten        string // why it is not
	Would             string // while the job listens: what the rules would have it be
	Found             string // as it was last read back; empty where that is not known

	// Of an output: for how many seconds it has been on in all, how often it went on, and for how many seconds more it may be on
	// until its service; NaN where nobody sees to it.
	OnFor, Due float64

	// Of an input: the rule that turns next by it, where, and how far away that is; Away is NaN where none does.
	Turns         string
	TurnsAt, Away float64
	Starts        int64
}

// Points are all points of the job as they are now.
func (e *Engine) Points(ctx context.Context) ([]PointNow, error) {
	return ask(ctx, e, func() []PointNow { return e.points(nil) })
}

// points returns all points; trips has the next trip points of inputs.
func (e *Engine) points(trips map[int32]trip) (all []PointNow) {
	for i, in := range e.p.Job.Inputs {
		r := logic.Ref{Kind: logic.InputKind, Index: int32(i)}
		v := PointNow{
			Name:    in.Name,
			Title:   in.Title(),
			Kind:    "input",
			Value:   math.NaN(),
			Age:     math.NaN(),
			Pinned:  e.run.S.Pinned(i),
			Quality: "good",
			Away:    math.NaN(),
		}
		if t, is := trips[int32(i)]; is {
			v.Turns, v.TurnsAt, v.Away = t.rule, t.at, t.away
		}
		stand := e.run.S.Standing(r)
		value, good := e.run.S.Value(i)
		term := stand.Reason.Terms[0]
		switch {
		case stand.To.State == logic.Bad:
			v.Quality, v.Reason = "bad", e.p.Sentence(stand, e.clockOf)
			if strings.HasPrefix(v.Reason, "not read") {
				v.Quality = "not read"
			}
		case in.Discrete:
			v.State = in.StateWord(term.On)
		case good:
			v.Value = value
		}
		v.Unit = in.Engineering().Name()
		if in.Source != nil {
			if d := e.devices[in.Source.Device.Name]; d != nil && d.paceOf[in.Name] != nil && d.paceOf[in.Name].last != 0 {
				v.Age = float64(e.steady-d.paceOf[in.Name].last) / 1e9
			}
		}
		all = append(all, v)
	}
	for i, d := range e.p.Derived {
		v := PointNow{
			Name:    d.Name,
			Title:   e.p.Job.Derived[i].Title(),
			Kind:    "derived",
			Value:   math.NaN(),
			Age:     math.NaN(),
			Unit:    d.Unit.Name(),
			Quality: "bad",
		}
		if value, good := e.run.S.DerivedValue(i); good {
			v.Value, v.Quality = value, "good"
		}
		all = append(all, v)
	}
	for i := range e.p.Outputs {
		all = append(all, e.output(i))
	}
	return all
}

func (e *Engine) output(i int) PointNow {
	o, r := &e.p.Outputs[i], logic.Ref{Kind: logic.OutputKind, Index: int32(i)}
	v := PointNow{
		Name:    o.Name,
		Title:   e.p.Job.Outputs[i].Title(),
		Kind:    "output",
		Value:   math.NaN(),
		Age:     math.NaN(),
		Unit:    o.Unit.Name(),
		Quality: "good",
	}
	ran := e.figures.now(i, e.time.t)
	v.OnFor, v.Starts, v.Due = float64(ran.OnNs)/1e9, ran.Starts, e.figures.left(i, ran)
	to, _ := e.run.S.Drive(i)
	if o.Analog() {
		v.Value = to.Level
	} else {
		v.State = to.State.String()
	}
	stand := e.run.S.Standing(r)
	v.Reason = e.p.Sentence(stand, e.clockOf)
	v.Mode = map[logic.Mode]string{logic.Auto: "auto", logic.HandOn: "hand", logic.HandOff: "hand", logic.HandAt: "hand", logic.Stood: "off"}[e.run.S.Mode(i)]
	x := e.outputOf[o.Name]
	if e.run.S.Listening() {
		v.Would = e.p.StandText(r, stand.To)
	}
	switch {
	case x == nil:
		v.NotWritten = "it is not wired"
		return v
	case x.hasKnown:
		v.Found = e.standText(x, x.has)
	}
	v.Written = x.ordered && x.confirmed && x.differs == ""
	v.NotWritten = e.notWritten(x, v.Written)
	return v
}

// notWritten says why the plant may have an output otherwise than it is decided; nothing where it has it so.
func (e *Engine) notWritten(x *out, written bool) string {
	switch {
	case written:
		return ""
	case x.dev.state != connected:
		return x.dev.why
	case x.differs != "":
		return x.differs
	case x.refused != "":
		return x.refused
	case e.armed.Fault != "":
		return "the job is in fault"
	case e.run.S.Listening():
		return "the job listens"
	case !x.ordered:
		return "the job settles"
	}
	return "it is being written"
}

// A RuleNow is what decides: a rule, bands, a follow, a loop.
type RuleNow struct {
	Name, Title, Kind, State, Because string
	Until                             int64 // service time at which a delay that runs will have run out; 0 for none
}

// rules returns all that decides, as it stands now, and the trip points that inputs would reach next.
func (e *Engine) rules() (all []RuleNow, trips map[int32]trip) {
	trips = map[int32]trip{}
	for _, kind := range []logic.Kind{logic.BandsKind, logic.RuleKind, logic.FollowKind, logic.LoopKind} {
		for _, r := range e.p.All(kind) {
			s := e.run.S.Standing(r)
			_, state := e.p.States(s)
			name := e.p.Name(r)
			e.nearest(trips, name, s.Reason.Terms)
			all = append(all, RuleNow{name, e.p.Job.Lookup(name).Base().Title(), kind.String(), state, e.p.Sentence(s, e.clockOf),
				runsOut(s.Reason.Terms)})
		}
	}
	return all, trips
}

// runsOut returns when the delay of some reasons that ends first will have run out; 0 where none runs.
func runsOut(terms []logic.Term) (at int64) {
	for i := range terms {
		if x := &terms[i]; x.Waiting && (at == 0 || x.Since+x.For < at) {
			at = x.Since + x.For
		}
	}
	return at
}

// An AlarmNow is an alarm as it stands now.
type AlarmNow struct {
	Name, Title, Priority, State, Because, Advice string
	Since                                         int64 // when its condition last turned; 0 for never
	Shelved                                       int64 // until when; 0 for not
	Suppressed, OutOfService                      bool
	Announced                                     bool
}

// Alarms are those that somebody has to know of, the most urgent first; or all.
func (e *Engine) Alarms(ctx context.Context, whole bool) ([]AlarmNow, error) {
	return ask(ctx, e, func() []AlarmNow { return e.alarms(whole) })
}

func (e *Engine) alarms(whole bool) (all []AlarmNow) {
	for i := range e.p.Alarms {
		d, a := e.p.Job.Alarms[i], e.run.S.Alarm(i)
		s := e.run.S.Standing(logic.Ref{Kind: logic.AlarmKind, Index: int32(i)})
		v := AlarmNow{
			Name:         d.Name,
			Title:        d.Title(),
			Priority:     d.Priority.Word,
			State:        a.State().String(),
			Because:      e.p.Sentence(s, e.clockOf),
			Since:        e.alarmSince[d.Name],
			Suppressed:   a.Suppressed(),
			OutOfService: a.OutOfService(),
			Announced:    a.Announced(),
		}
		if d.Advice != nil {
			v.Advice = d.Advice.Text
		}
		if until, shelved := a.Shelved(); shelved {
			v.Shelved = until
		}
		if whole || (a.Active() || a.Unacknowledged()) && !v.Suppressed || v.Shelved != 0 || v.OutOfService {
			all = append(all, v)
		}
	}
	rank := map[string]int{"critical": 0, "high": 1, "medium": 2, "low": 3}
	slices.SortStableFunc(all, func(a, b AlarmNow) int { return rank[a.Priority] - rank[b.Priority] })
	return all
}

// A BypassNow is what a person has put in place, until when.
type BypassNow struct {
	Name, Kind, Value, Who, Why string
	Since, Until                int64 // Until is 0 for never
}

// Bypasses are all that is in place of what the job would decide by itself: what people did, and what is inhibited.
func (e *Engine) Bypasses(ctx context.Context) ([]BypassNow, error) { return ask(ctx, e, e.bypasses) }

func (e *Engine) bypasses() (all []BypassNow) {
	for _, b := range e.people.list() {
		v := BypassNow{b.Name, b.Kind, b.Value, b.Who, b.Why, b.Since, 0}
		if r, found := e.p.Find(b.Name); found {
			if end := e.run.S.Ends(r); end != run.Never {
				v.Until = end
			}
		}
		all = append(all, v)
	}
	for i := range e.p.Alarms {
		if a := e.run.S.Alarm(i); a.Suppressed() {
			all = append(all, BypassNow{Name: e.p.Alarms[i].Name, Kind: "inhibit", Value: "inhibited", Who: "the sheet"})
		}
	}
	return all
}

// A WhyNow is why something stands as it does.
type WhyNow struct {
	records.Why
	NotWritten string // of an output: why the plant may have it otherwise
	Bypass     *BypassNow
}

// Why tells why something is as it is now, or what holds it back, down to the readings.
func (e *Engine) Why(ctx context.Context, name string) (WhyNow, error) {
	type told struct {
		WhyNow
		err error
	}
	t, err := ask(ctx, e, func() (t told) {
		if t.Why, t.err = records.WhyOf(e.run.S, name); t.err != nil {
			t.err = refusal(t.err.Error())
			return t
		}
		if i := e.p.Index(logic.OutputKind, name); i >= 0 {
			t.NotWritten = e.output(i).NotWritten
		}
		for _, b := range e.bypasses() {
			if b.Name == name {
				t.Bypass = &b
			}
		}
		return t
	})
	if err == nil {
		err = t.err
	}
	return t.WhyNow, err
}

// A Now is everything of a job at one time.
type Now struct {
	Status
	Points   []PointNow
	Rules    []RuleNow
	Alarms   []AlarmNow
	Settings []SettingNow
	Bypasses []BypassNow
}

// pictureLasts is for how many nanoseconds one picture of a job serves all who ask.
const pictureLasts = second / 2

// A Picture is a Now that several may look at.
type Picture struct {
	Now
	once    sync.Once
	encoded []byte
	err     error
}

// Encoded returns the picture as encode writes it, which is called once.
func (p *Picture) Encoded(encode func(*Now) ([]byte, error)) ([]byte, error) {
	p.once.Do(func() { p.encoded, p.err = encode(&p.Now) })
	return p.encoded, p.err
}

// picture holds the last Picture, and whether a caller is making the next one.
type picture struct {
	mu      sync.Mutex
	last    *Picture
	at      int64 // when it was made, steady
	changes int   // commands that were carried out
	making  chan struct{}
}

// clear has the next who asks see what a command has changed.
func (p *picture) clear() {
	p.mu.Lock()
	p.last = nil
	p.changes++
	p.mu.Unlock()
}

// fresh returns the last picture, if it is new enough; else who is to wait for another, or nil for whoever is to make it.
func (p *picture) fresh(now int64) (last *Picture, changes int, wait chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.last != nil && now-p.at < pictureLasts {
		return p.last, 0, nil
	}
	if p.making != nil {
		return nil, 0, p.making
	}
	p.making = make(chan struct{})
	return nil, p.changes, nil
}

func (p *picture) made(last *Picture, at int64, changes int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if last != nil && changes == p.changes {
		p.last, p.at = last, at
	}
	close(p.making)
	p.making = nil
}

func (e *Engine) everything() Now {
	rules, trips := e.rules()
	return Now{e.status(), e.points(trips), rules, e.alarms(false), e.settings(), e.bypasses()}
}

// Now returns everything of the job, as it was within the last half second. However many ask, the engine is asked once.
func (e *Engine) Now(ctx context.Context) (*Picture, error) {
	for {
		_, now := e.clock.Now()
		last, changes, wait := e.seen.fresh(now)
		if last != nil {
			return last, nil
		}
		if wait == nil {
			v, err := ask(ctx, e, e.everything)
			if err == nil {
				last = &Picture{Now: v}
			}
			e.seen.made(last, now, changes)
			return last, err
		}
		select {
		case <-wait:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// A SettingNow is a setpoint as it is set.
type SettingNow struct {
	Name, Title    string
	Value, Written float64
	Unit           string
}

// Settings are the setpoints of the job as they are set now.
func (e *Engine) Settings(ctx context.Context) ([]SettingNow, error) { return ask(ctx, e, e.settings) }

func (e *Engine) settings() (all []SettingNow) {
	for i, s := range e.p.Settings {
		if d := e.p.Job.Setpoints[i]; !d.Constant {
			all = append(all, SettingNow{s.Name, d.Title(), e.run.S.Setting(i), s.Value.Value, unitOf(s.Value)})
		}
	}
	return all
}

func unitOf(q unit.Quantity) string { return q.Unit.Name() }
