package live_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
	"rectura/service/live"
	"rectura/service/records"
	"rectura/service/store"
)

// blame fails the test, with what an evening has done wrong.
func (x *eventful) blame(at time.Duration, format string, args ...any) {
	x.t.Errorf("at %.3f s: %s", at.Seconds(), fmt.Sprintf(format, args...))
}

// tell prints all of an evening, for whoever looks into one.
func (x *eventful) tell() {
	type told struct {
		at   time.Duration
		text string
	}
	var all []told
	for _, h := range x.history {
		text := fmt.Sprintf("-- %s %s %g", h.what, h.name, h.v)
		if h.ends != 0 && h.ends != 1<<62 && h.ends != h.at {
			text += fmt.Sprintf(", until %.3f", h.ends.Seconds())
		}
		all = append(all, told{h.at, text})
	}
	for _, w := range x.traces {
		all = append(all, told{w.at, fmt.Sprintf("   %s: %g → %g", w.place, w.before, w.value)})
	}
	for _, l := range x.lines {
		all = append(all, told{l.at, fmt.Sprintf("      %d %s %s %s→%s: %s", l.Number, l.Kind, l.Name, l.From, l.To, l.Because)})
	}
	slices.SortStableFunc(all, func(a, b told) int { return int(max(-1, min(1, a.at-b.at))) })
	for i, s := range x.specs {
		x.t.Logf("revision %d\n%s", i+1, s.text())
	}
	for _, a := range all {
		x.t.Logf("%9.3f %s", a.at.Seconds(), a.text)
	}
}

// judge holds what was written, and what the journal says, against what may be.
func (x *eventful) judge() {
	x.nothingForNothing()
	x.minimumOffs()
	x.delaysAreWatched()
	x.rowsOfWrites()
	x.atRest()
	x.replays()
	if *eveningN != 0 {
		x.tell()
	}
}

// during reports whether something of a kind was going on in a stretch of time.
func (x *eventful) during(what, name string, from, to time.Duration) bool {
	return slices.ContainsFunc(x.history, func(h happening) bool {
		return h.what == what && (name == "" || h.name == name) && h.at <= to && max(h.ends, h.at) >= from
	})
}

// specAt is the job that was in force.
func (x *eventful) specAt(at time.Duration) *spec {
	n := 1
	for _, h := range x.history {
		if h.what == "takes" && h.at <= at {
			n = int(h.v)
		}
	}
	return &x.specs[n-1]
}

func (o *outSpec) place() string {
	return fmt.Sprintf("%s coil %d", []string{first, second}[o.rack], o.coil)
}

// drives reports whether a job drives a place by an output: one that was never on has no minimum off.
func (s *spec) drives(name, place string) bool {
	return slices.ContainsFunc(s.outs, func(o outSpec) bool { return o.name == name && o.place() == place })
}

func addressOf(place string) string { return strings.Fields(place)[0] }

func isCoil(place string) bool { return strings.Contains(place, " coil ") }

// driven are the outputs that were wired to a place, now or before.
func (x *eventful) driven(place string, at time.Duration) (names []string) {
	for _, s := range x.specs {
		for i := range s.outs {
			if s.outs[i].place() == place {
				names = append(names, s.outs[i].name)
			}
		}
	}
	return names
}

// The job writes no value that the rack has already. Exceptions are lost answers, and writes of another master.
func (x *eventful) nothingForNothing() {
	for _, w := range x.traces {
		if w.value != w.before || !isCoil(w.place) {
			continue
		}
		address := addressOf(w.place)
		if x.during("mishaps", address, w.at-3*time.Second, w.at) || x.during("foreign", w.place, w.at-3*time.Second, w.at) ||
			x.during("boots", address, w.at-3*time.Second, w.at) {
			continue
		}
		x.blame(w.at, "%s is written %g, which it has already", w.place, w.value)
	}
}

// late is by how much a write may come after its decision without being told: minimum times then run from the decision.
const late = 110 * time.Millisecond

// Nothing is started within its minimum off of when it really stopped.
func (x *eventful) minimumOffs() {
	type stop struct{ at, on time.Duration }
	stops := map[string]stop{}
	on := map[string]time.Duration{}
	coil := map[string]float64{}
	turn := func(place string, at time.Duration, v float64) {
		if v != 0 && coil[place] == 0 {
			on[place] = at
		} else if v == 0 && coil[place] != 0 {
			stops[place] = stop{at, at - on[place]}
		}
		coil[place] = v
	}
	others := slices.Clone(x.history)
	before := func(at time.Duration) {
		for len(others) > 0 && others[0].at <= at {
			switch h := others[0]; h.what {
			case "foreign":
				turn(h.name, h.at, h.v)
			case "boots":
				for place := range coil {
					if addressOf(place) == h.name {
						turn(place, h.at, 0)
					}
				}
			}
			others = others[1:]
		}
	}
	for _, w := range x.traces {
		if before(w.at); !isCoil(w.place) {
			continue
		}
		if last, stopped := stops[w.place]; w.value != 0 && coil[w.place] == 0 && stopped && last.on > 2*time.Second {
			for _, o := range x.specAt(w.at).outs {
				least := time.Duration(o.minOff) * time.Second
				if o.place() == w.place && x.specAt(last.at).drives(o.name, w.place) && w.at-last.at < least-late && !x.fails(o.name, w.at) {
					x.blame(w.at, "%s starts %.3f s after it stopped, and has a minimum off of %d s", o.name, (w.at - last.at).Seconds(), o.minOff)
				}
			}
		}
		turn(w.place, w.at, w.value)
	}
}

// fails reports whether an output goes to its fail state, which no minimum time holds back.
func (x *eventful) fails(name string, at time.Duration) bool {
	return slices.ContainsFunc(x.lines, func(l line) bool {
		return l.Name == name && strings.Contains(l.Because, "fails to on") && l.at > at-2*time.Second && l.at < at+2*time.Second
	})
}

// No delay runs out over time in which nobody looked.
func (x *eventful) delaysAreWatched() {
	was := map[string]string{}
	for _, l := range x.lines {
		if l.Kind != "rule" {
			continue
		}
		before := was[l.Name]
		if l.To == "on" || l.To == "off" {
			was[l.Name] = l.To
		}
		i := slices.IndexFunc(x.specAt(l.at).rules, func(r ruleSpec) bool { return r.name == l.Name })
		if l.To != "on" || before == "on" || i < 0 {
			continue
		}
		r := &x.specAt(l.at).rules[i]
		delay := time.Duration(r.on) * time.Second
		from := x.trueSince(r, l.at)
		if delay == 0 || x.during("takes", "", from-time.Second, l.at+time.Second) || x.during("pin", r.input, l.at-delay-25*time.Second, l.at) {
			continue
		}
		watched := l.at - from
		for _, h := range x.history {
			if h.what == "pause" && h.at >= from && h.ends <= l.at {
				watched -= h.ends - h.at
			}
		}
		if watched < delay-100*time.Millisecond {
			x.blame(l.at, "%s is on %q, though its delay of %s was watched for %s only", l.Name, l.Because, delay, watched)
		}
	}
}

// trueSince returns the latest time at which a rule's condition can have begun, by the plant's values and the times without a watch.
func (x *eventful) trueSince(r *ruleSpec, at time.Duration) time.Duration {
	rack := map[string]string{"level": first, "flow": second}[r.input]
	from, last, wrong := time.Duration(0), 0.0, time.Duration(-1)
	for _, h := range x.history {
		switch {
		case h.at >= at:
		case h.what == "away", h.what == "pause" && h.ends-h.at > 5*time.Second:
			from = max(from, min(h.ends, at))
		case h.what == "gone" && h.name == rack && h.ends < at && h.ends-h.at > 8*time.Second:
			from = max(from, h.ends)
		case h.what == "signal" && h.name == r.input:
			if r.is(h.v, true) && wrong >= 0 && h.at-wrong > 2*time.Second && !x.during("gone", rack, wrong, h.at) &&
				!x.during("mishaps", rack, wrong, h.at) && !x.during("pause", "", wrong, h.at) {
				from = max(from, h.at)
			}
			if last = h.v; !r.is(last, true) && wrong < 0 {
				wrong = h.at
			} else if r.is(last, true) {
				wrong = -1
			}
		}
	}
	return from
}

// Each write that changes something has its row in the journal.
func (x *eventful) rowsOfWrites() {
	for _, w := range x.traces {
		if w.value == w.before || !isCoil(w.place) || x.during("away", "", w.at-100*time.Millisecond, w.at+2500*time.Millisecond) ||
			x.during("full", "", w.at-time.Second, w.at+time.Second) ||
			x.during("clock", "", w.at-time.Second, w.at+time.Second) || x.during("pause", "", w.at-1500*time.Millisecond, w.at) {
			continue
		}
		names := x.driven(w.place, w.at)
		to := map[bool]string{true: "on", false: "off"}[w.value != 0]
		if !slices.ContainsFunc(x.lines, func(l line) bool {
			return slices.Contains(names, l.Name) && (l.Kind == "output" || l.Kind == "write") && l.To == to &&
				l.at > w.at-1500*time.Millisecond && l.at < w.at+1500*time.Millisecond
		}) {
			x.blame(w.at, "%s is written %g (%v), which the journal does not say", w.place, w.value, names)
		}
	}
}

// mustBeOff checks that interlocked and locked outputs are off once their devices have answered for long enough.
func (x *eventful) mustBeOff() {
	v, err := x.engine.Status(context.Background())
	require.NoError(x.t, err)
	now, margin := x.now(), 3*time.Second
	if v.Waiting || v.Mode != live.Armed || x.during("pause", "", now-margin, now) || x.during("away", "", now-margin, now) ||
		x.during("takes", "", now-margin, now) || x.during("mishaps", "", now-margin, now) {
		return
	}
	for _, d := range v.Devices {
		if d.State != "connected" || v.Clock-d.Since < int64(margin) {
			return
		}
	}
	for _, o := range x.specAt(now).outs {
		place := o.place()
		if x.shadow[place] == 0 || x.during("foreign", place, now-margin, now) {
			continue
		}
		trip := x.lastSignal("trip")
		if o.interlock && trip.v != 0 && now-trip.at > margin {
			x.blame(now, "%s is on, though its interlock is true since %.3f", o.name, trip.at.Seconds())
		}
		if since, kept := x.keptOff(o.name); kept && now-since > margin+time.Duration(o.minOn)*time.Second {
			x.blame(now, "%s is on, though a person keeps it off since %.3f", o.name, since.Seconds())
		}
	}
}

func (x *eventful) lastSignal(name string) (last happening) {
	for _, h := range x.history {
		if h.what == "signal" && h.name == name {
			last = h
		}
	}
	return last
}

// keptOff returns since when a person keeps an output off.
func (x *eventful) keptOff(name string) (since time.Duration, kept bool) {
	for _, h := range x.history {
		switch {
		case h.name != name:
		case h.what == "off":
			since, kept = h.at, true
		case h.what == "auto", h.what == "hand":
			kept = false
		}
	}
	return since, kept
}

// compare holds what a take-over wrote against its plan.
func (x *eventful) compare(plan live.Plan, wrote []trace) {
	s, before := x.specs[x.number-1], x.specs[x.number-2]
	want, got := map[string]bool{}, map[string]bool{}
	for _, m := range plan.Moves {
		place := ""
		for i := range s.outs {
			if s.outs[i].name == m.Output {
				place = s.outs[i].place()
			}
		}
		if m.Place != "" {
			for i := range before.outs {
				if before.outs[i].name == m.Output {
					place = before.outs[i].place()
				}
			}
		}
		if place != "" && !m.Unknown {
			want[place+" "+m.To] = true
		}
	}
	for _, w := range wrote {
		if isCoil(w.place) && w.value != w.before {
			got[w.place+" "+map[bool]string{true: "on", false: "off"}[w.value != 0]] = x.ranOut(s, w, wrote[0].at-4*time.Second) || held(s, plan, w)
		}
	}
	x.moves++
	for g, expected := range got {
		if !want[g] && !expected {
			x.blame(x.now(), "%s is written, which the plan does not say: %+v", g, plan.Moves)
		}
	}
	for w := range want {
		if _, is := got[w]; !is && s.apart == 0 {
			x.blame(x.now(), "%s is not written, which the plan says: %+v", w, plan.Moves)
		}
	}
}

// held reports whether a plan says of an output that a minimum time, or another start, still holds it.
func held(s spec, plan live.Plan, w trace) bool {
	return slices.ContainsFunc(s.outs, func(o outSpec) bool {
		return o.place() == w.place && slices.ContainsFunc(plan.Holds, func(h string) bool { return strings.HasPrefix(h, o.name+" stays") })
	})
}

// ranOut reports whether a write comes of a delay, or of a hand, that has run out since a time, to which no plan can look ahead.
func (x *eventful) ranOut(s spec, w trace, since time.Duration) bool {
	for _, o := range s.outs {
		for _, r := range s.rules {
			if o.place() == w.place && r.calls == o.name && slices.ContainsFunc(x.lines, func(l line) bool {
				return l.at >= since && (l.Kind == "rule" && l.Name == r.name && strings.Contains(l.Because, " for ") ||
					l.Kind == "bypass") // of an input, too
			}) {
				return true
			}
		}
	}
	return false
}

// At the end, with the plant at rest, every output is as its rule says.
func (x *eventful) atRest() {
	v, err := x.engine.Status(context.Background())
	require.NoError(x.t, err)
	assert.Equal(x.t, live.Armed, v.Mode)
	assert.Empty(x.t, v.Fault)
	s := &x.specs[x.number-1]
	for i := range s.outs {
		o := &s.outs[i]
		p := x.point(o.name)
		rule := s.rules[slices.IndexFunc(s.rules, func(r ruleSpec) bool { return r.calls == o.name })]
		value := x.lastSignal(rule.input).v
		want := rule.is(value, true)
		if p.Mode != "auto" || rule.latch || !want && !rule.is(value, false) || strings.Contains(p.NotWritten, " reads ") {
			continue
		}
		if on := x.shadow[o.place()] != 0; on != want {
			x.blame(x.now(), "%s is %t, and its rule says %t: %s (%s)", o.name, on, want, p.Reason, p.NotWritten)
		}
	}
}

// replays plays the capture, which gives the journal.
func (x *eventful) replays() {
	if x.during("full", "", 0, x.now()) {
		return
	}
	var v records.Verification
	require.NoError(x.t, x.file.Record(context.Background(), job, func(r *store.Record) (err error) {
		v, err = records.Verify(context.Background(), r, func(revision int64) (*logic.Program, error) {
			sheets, err := x.file.Sheets(context.Background(), job, revision)
			if err != nil {
				return nil, err
			}
			_, p, _ := logic.Check(sheets)
			return p, nil
		}, 0, 1<<62, time.UTC)
		return err
	}))
	for _, d := range v.Differ[:min(len(v.Differ), 3)] {
		x.t.Errorf("the journal says %+v, the capture %+v", d.Journal, d.Capture)
	}
}
