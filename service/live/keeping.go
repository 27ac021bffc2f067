package live

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/run"
	"rectura/service/background"
	"rectura/service/store"
)

// How what is to be kept waits.
const (
	mostEntries  = 100_000     // of the journal; then the oldest become one, with their count
	mostCaptured = 64 << 20    // bytes of the capture; then it begins anew
	atEase       = 10 * second // where nothing but readings is pending
	trying       = 5 * second  // after something could not be kept
	segment      = 3600 * second
	checkpoint   = 30 * second // how often the memory is kept: the capture has what entered since
)

// keeping is what an engine has done and what is not kept yet. One cut is on its way at a time; what comes meanwhile waits
// for the next.
type keeping struct {
	entries []store.Entry
	lost    int64                // how many the first of them stands for, which were given up; 0 for none
	encoder capture.Encoder      // events since the last stretch
	events  [][]byte             // stretches
	held    int                  // bytes of them
	closed  [][]byte             // stretches of a revision that was taken over, which end its segment
	unsaved map[string]logic.Row // of a cut that failed
	first   []logic.Row          // the memory with which the first segment begins
	split   bool                 // the next cut begins a segment
	gap     bool                 // so much could not be kept that it was given up: nothing is captured until then
	began   int64                // when the present one did, in service time
	checked int64                // when the last checkpoint was made, steady
	check   bool                 // the next cut is to be a checkpoint
	stale   bool                 // a cut was made since the last checkpoint
	sheets  bool                 // those of the job are to be kept
	rested  int64                // until when nothing is deleted by its age, since the clock was set by much, steady

	urgent  bool
	pending bool
	since   int64 // when something was first pending, steady
	waiting []chan bool
	flying  *cut
	result  chan error
	notKept int64 // since when nothing can be kept, in service time; 0 where it can
	why     string
	retry   int64 // steady
}

// A cut is on its way to the keeper.
type cut struct {
	store.Cut
	first   bool
	lost    int64 // as of keeping
	waiting []chan bool
}

// segment has the capture begin with a memory.
func (k *keeping) segment(s *logic.Stepper) {
	k.first, k.sheets, k.urgent = s.Save(false), true, true
	k.result = make(chan error, 1)
}

// stretch ends the present stretch of the capture.
func (k *keeping) stretch() {
	if data := k.encoder.Flush(); len(data) > 0 {
		k.events = append(k.events, data)
		k.held += len(data)
	}
}

// takeStretches returns all stretches that were not kept yet.
func (k *keeping) takeStretches() [][]byte {
	k.stretch()
	all := k.events
	k.events, k.held = nil, 0
	return all
}

// takeOver ends the capture of one revision, and begins that of the next with its memory: what entered is told by the numbers
// of a program.
func (k *keeping) takeOver(next *logic.Stepper) {
	k.closed = append(k.closed, k.takeStretches()...)
	k.encoder, k.gap = capture.Encoder{}, false
	k.first, k.unsaved = next.Save(false), nil
	k.sheets, k.urgent, k.split = true, true, false
}

// entry adds one to the journal.
func (k *keeping) entry(e store.Entry) {
	k.entries = append(k.entries, e)
	k.urgent = true
	k.giveUp()
}

// giveUp makes the oldest entries one, which says how many they were, where there are too many.
func (k *keeping) giveUp() {
	if len(k.entries) <= mostEntries {
		return
	}
	n := len(k.entries) - mostEntries + mostEntries/10
	if k.lost += int64(n); k.lost > int64(n) {
		k.lost-- // the one that stood for those before
	}
	since := k.entries[0].Time
	k.entries = slices.Delete(k.entries, 0, n-1)
	k.entries[0] = givenUp(since, k.lost)
}

func givenUp(since, n int64) store.Entry {
	return store.Entry{Time: since, Kind: "service", Via: "engine", Because: fmt.Sprintf("%d entries could not be kept and are given up", n)}
}

// again takes back entries that were not kept.
func (k *keeping) again(c *cut) {
	switch {
	case c.lost > 0 && k.lost > 0:
		c.Journal[0], k.entries = givenUp(c.Journal[0].Time, c.lost+k.lost), k.entries[1:]
		k.lost += c.lost
	case k.lost > 0: // those that were kept next were given up, and all before them
		c.Journal, k.lost = nil, k.lost+int64(len(c.Journal))
		k.entries[0] = givenUp(k.entries[0].Time, k.lost)
	default:
		k.lost = c.lost
	}
	k.entries = append(c.Journal, k.entries...)
	k.giveUp()
}

// capture adds what has entered.
func (k *keeping) capture(events []capture.Event) {
	if k.pending = true; k.gap {
		return
	}
	if k.encoder.Add(events); k.encoder.Full() {
		k.stretch()
	}
	if k.held > mostCaptured {
		k.events, k.held, k.encoder = nil, 0, capture.Encoder{}
		k.gap, k.split = true, true
	}
}

// resave has all rows of a memory kept with the next cut: they were saved for something else.
func (k *keeping) resave(rows []logic.Row) {
	if k.unsaved == nil {
		k.unsaved = map[string]logic.Row{}
	}
	for _, r := range rows {
		k.unsaved[r.Name] = r
	}
}

// keep hands a cut to the keeper, if it is time for one and none is on its way.
func (e *Engine) keep() {
	k := &e.keeping
	if (k.urgent || k.pending || len(k.waiting) > 0) && k.since == 0 {
		k.since = e.steady
	}
	if k.flying != nil || k.since == 0 {
		return
	}
	if k.notKept != 0 && e.steady < k.retry { // so long, nobody waits to be told the same
		for _, w := range k.waiting {
			w <- false
		}
		k.waiting = nil
		return
	}
	if k.notKept == 0 && !k.urgent && len(k.waiting) == 0 && e.steady-k.since < atEase && k.first == nil {
		return
	}
	k.flying = e.cut()
	c := k.flying
	background.Go(e.log, "keeping what the job does", func() error {
		k.result <- e.commit(c)
		return nil
	})
}

// keepingLimit bounds a commit: a hanging disk must not block later ones for ever.
const keepingLimit = time.Minute

// commit hands a cut to the keeper, and reports how that went. Entries that were not kept have no number.
func (e *Engine) commit(c *cut) error {
	ctx, done := context.WithTimeout(context.Background(), keepingLimit)
	defer done()
	err := background.Do(e.log, "keeping what the job does", func() error {
		_, err := e.keeper.Commit(ctx, &c.Cut)
		return err
	})
	if err != nil {
		for i := range c.Journal {
			c.Journal[i].Number = 0
		}
	}
	return err
}

// cut is all that has changed since the last one, at one time.
func (e *Engine) cut() *cut {
	k := &e.keeping
	c := &cut{waiting: k.waiting}
	c.Armed = e.armed
	c.Sheets = k.sheets
	c.Journal, c.lost = k.entries, k.lost
	c.Bypasses = e.people.list()
	if k.first != nil {
		// What has entered meanwhile follows with the next cut.
		c.first, c.Whole, c.Checkpoint, c.Memory, c.Events = true, true, true, k.first, k.closed
		k.closed = nil
		k.first, k.began = nil, e.armed.Last
		k.entries, k.lost, k.waiting, k.since = nil, 0, nil, 0
		k.sheets, k.urgent = false, k.pending || len(c.waiting) > 0
		k.waiting, c.waiting = c.waiting, nil
		return c
	}
	if e.began && !e.broken {
		e.enter(e.next(), capture.Event{Kind: capture.Pass})
	}
	e.armed.Last = e.last
	c.Armed.Last = e.last
	c.Events = k.takeStretches()
	c.Whole = e.began && !e.broken && (k.split || e.last-k.began > segment)
	c.Checkpoint = c.Whole || k.check || k.gap || e.broken || !e.began || e.steady-k.checked >= checkpoint
	if c.Whole || e.figures.moved || e.steady-e.figures.kept >= figuresEvery {
		e.figures.kept = e.steady
		c.Figures = e.figures.changed(e.armed.Number, e.last)
	}
	k.stale = k.stale || !c.Checkpoint
	if c.Checkpoint {
		c.Memory = e.checkpoint(c.Whole)
	}
	c.Journal, c.lost = k.entries, k.lost
	k.entries, k.lost, k.waiting = nil, 0, nil
	k.split = k.gap // it begins once there is a memory to begin with
	k.sheets, k.urgent, k.pending, k.since = false, false, false, 0
	return c
}

// checkpoint returns the rows of the memory that have changed since the last checkpoint, or all of them. The next stretch of the capture
// can be read without those before it.
func (e *Engine) checkpoint(whole bool) []logic.Row {
	k := &e.keeping
	rows := e.run.S.Save(!whole)
	if whole {
		k.unsaved, k.began, k.gap = nil, e.last, false
	}
	k.encoder, k.checked, k.check, k.stale = capture.Encoder{}, e.steady, false, false
	if len(k.unsaved) > 0 {
		for _, r := range rows {
			k.unsaved[r.Name] = r
		}
		rows = slices.Collect(maps.Values(k.unsaved))
	}
	k.unsaved = nil
	return rows
}

// kept takes how the cut on its way has fared.
func (e *Engine) kept(err error) {
	k := &e.keeping
	c := k.flying
	k.flying = nil
	for _, w := range c.waiting {
		w <- err == nil
	}
	if err == nil {
		e.counts.commits++
		if k.notKept != 0 {
			e.note("service", "", "not kept", "kept", "what happens can be kept again, since "+e.clockOf(k.notKept)+" it waited", "")
			k.notKept, k.why = 0, ""
		}
		return
	}
	if k.notKept == 0 {
		k.notKept = e.next()
		e.log.Error("what the job does cannot be kept", "error", err)
	}
	k.why = err.Error()
	k.retry = e.steady + trying
	k.pending, k.sheets = true, k.sheets || c.Sheets
	if k.since == 0 {
		k.since = e.steady
	}
	k.again(c)
	switch {
	case c.first && k.first != nil: // it was taken over meanwhile, twice
		k.closed = append(c.Events, k.closed...)
		return
	case c.first:
		k.first, k.closed = c.Memory, c.Events
		return
	case k.first != nil: // of the revision before: its memory is taken over already
		k.closed = append(c.Events, k.closed...)
		return
	}
	k.events = append(c.Events, k.events...)
	for _, data := range c.Events {
		k.held += len(data)
	}
	k.split, k.check, k.stale = k.split || c.Whole, k.check || c.Checkpoint, k.stale || c.Checkpoint
	if k.unsaved == nil {
		k.unsaved = map[string]logic.Row{}
	}
	for _, r := range c.Memory {
		k.unsaved[r.Name] = r
	}
}

// wait gives what says whether the next cut is kept.
func (k *keeping) wait() chan bool {
	kept := make(chan bool, 1)
	k.waiting = append(k.waiting, kept)
	return kept
}

// whether waits for that.
func (e *Engine) whether(ctx context.Context, kept chan bool) (bool, error) {
	select {
	case is := <-kept:
		return is, nil
	case <-ctx.Done():
		return false, ctx.Err()
	case <-e.done:
	}
	select {
	case is := <-kept: // with what was kept at the end
		return is, nil
	default:
		return false, nil
	}
}

// next is when there is something to keep, steady.
func (k *keeping) next(steady int64) int64 {
	switch {
	case k.flying != nil || k.since == 0:
		return run.Never
	case k.notKept != 0:
		return k.retry
	case k.urgent || len(k.waiting) > 0:
		return steady
	}
	return k.since + atEase
}

// rests tells whether nothing is to be deleted by its age.
func (k *keeping) rests(steady int64) bool { return steady < k.rested }

// ending bounds the last commits of an engine that ends.
const ending = 2 * time.Second

// end keeps what is left, when the engine ends: the cut on its way, the beginning of a segment, and what came since. A disk that hangs
// does not hold it up for longer than ending.
func (e *Engine) end() {
	k := &e.keeping
	limit := e.clock.Timer(ending)
	defer limit.Stop()
	k.check = true
	for range 3 {
		if k.flying == nil {
			if !k.pending && !k.urgent && !k.stale && k.first == nil && len(k.waiting) == 0 || k.notKept != 0 && k.retry > e.steady {
				break
			}
			k.flying = e.cut()
			c := k.flying
			background.Go(e.log, "keeping what the job did", func() error {
				k.result <- e.commit(c)
				return nil
			})
		}
		select {
		case err := <-k.result:
			e.kept(err)
			continue
		case <-limit.C:
			e.log.Error("what the job did last could not be kept in time")
		}
		break
	}
	if k.flying != nil {
		k.waiting = append(k.waiting, k.flying.waiting...)
	}
	for _, w := range k.waiting {
		w <- false
	}
	k.waiting = nil
}

// Flush has everything kept that the job did, and reports whether it was: whoever looks at what is kept wants what is pending, too.
func (e *Engine) Flush(ctx context.Context) (bool, error) {
	kept, err := tell(ctx, e, func() chan bool { return e.keeping.wait() })
	if err != nil {
		return false, err
	}
	return e.whether(ctx, kept)
}
