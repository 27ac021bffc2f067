package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"rectura/core/logic"
	"rectura/service/store"
)

// A Verification is what a capture, played again, gives beside what the journal says.
type Verification struct {
	Same    int // entries that are the same
	Differ  []Differing
	LeftOut []string // stretches that cannot be played, with the reasons
}

// A Differing is where a capture gives something else than the journal says. One of the two may be missing.
type Differing struct{ Journal, Capture *store.Entry }

// entriesAtOnce is the number of journal entries in one read.
const entriesAtOnce = 10_000

// A verifying holds the segments of a capture beside the journal, one after the other.
type verifying struct {
	record   *store.Record
	program  func(revision int64) (*logic.Program, error)
	from, to int64
	zone     *time.Location
	Verification

	// The journal, as far as it was read.
	entries []store.Entry
	after   int64 // the number of the last entry that was read
	since   int64 // the time of the first entry of the stretch, or before it, until that is found; else 0
	whole   bool  // nothing comes after entries

	runs bool  // the last segment was played
	ends int64 // where it ended
}

// Verify plays what was captured from one time to another, and holds it beside the journal. Only what the job decides is compared: what
// commands, devices and the service have said stands in the journal alone. Times are printed in the zone.
func Verify(ctx context.Context, r *store.Record, program func(revision int64) (*logic.Program, error), from, to int64, zone *time.Location) (
	Verification, error) {
	x := verifying{record: r, program: program, from: from, to: to, zone: zone}
	segments, err := r.Segments(from, to)
	if err != nil {
		return x.Verification, err
	}
	for _, s := range segments {
		if err := ctx.Err(); err != nil {
			return x.Verification, err
		}
		if err := x.segment(ctx, s); err != nil {
			return x.Verification, err
		}
	}
	return x.Verification, x.finish()
}

// segment plays one segment, or says why it cannot.
func (x *verifying) segment(ctx context.Context, s store.Segment) error {
	entries, why, err := x.replay(ctx, s)
	if err != nil {
		return err
	}
	if why != "" {
		x.LeftOut = append(x.LeftOut, fmt.Sprintf("%s to %s: %s", x.clock(s.Begins), x.clock(s.Ends), why))
		return x.finish()
	}
	if !x.runs || x.ends != s.Begins { // else what lies at the border is of either
		if err := x.finish(); err != nil {
			return err
		}
		if x.ends != 0 && x.ends < s.Begins {
			x.LeftOut = append(x.LeftOut, fmt.Sprintf("%s to %s: nothing was captured", x.clock(x.ends), x.clock(s.Begins)))
		}
		x.entries, x.whole, x.since = nil, false, s.Begins+1
	}
	x.runs, x.ends = true, s.Ends
	for i := range entries {
		if err := x.compare(&entries[i]); err != nil {
			return err
		}
	}
	return nil
}

func (x *verifying) clock(t int64) string { return time.Unix(0, t).In(x.zone).Format(time.DateTime) }

// replay returns what the journal must say of a segment, or why that cannot be known.
func (x *verifying) replay(ctx context.Context, s store.Segment) (entries []store.Entry, why string, err error) {
	if s.Earlier {
		return nil, "it was captured by an earlier form of this program", nil
	}
	p, err := x.program(s.Revision)
	if err != nil {
		return nil, fmt.Sprintf("revision %d cannot be compiled any more: %v", s.Revision, err), ctx.Err()
	}
	c, err := x.record.Captured(s.ID)
	if errors.Is(err, store.ErrDamaged) {
		return nil, err.Error(), nil
	}
	if err != nil {
		return nil, "", err
	}
	entries, err = Replay(ctx, p, c, x.to)
	if err != nil {
		return nil, fmt.Sprintf("it cannot be played: %v", err), ctx.Err()
	}
	return entries, "", nil
}

// compare holds what was played beside the next entry of the journal.
func (x *verifying) compare(c *store.Entry) error {
	for {
		j, err := x.next()
		switch {
		case err != nil:
			return err
		case j == nil || j.Time > c.Time:
			x.differ(nil, c)
			return nil
		case j.Time < c.Time || j.Kind == store.DamagedKind:
			x.differ(j, nil)
			x.entries = x.entries[1:]
			continue
		}
		x.entries = x.entries[1:]
		played := *c
		played.Job, played.Number = j.Job, j.Number
		if *j != played {
			x.differ(j, c)
		} else if x.inside(j) {
			x.Same++
		}
		return nil
	}
}

func (x *verifying) inside(e *store.Entry) bool { return e.Time >= x.from && e.Time < x.to }

func (x *verifying) differ(j, c *store.Entry) {
	if j != nil && x.inside(j) || c != nil && x.inside(c) {
		x.Differ = append(x.Differ, Differing{j, c})
	}
}

// finish takes what the journal says up to the end of the last segment, and was not played.
func (x *verifying) finish() error {
	for x.runs {
		j, err := x.next()
		if err != nil {
			return err
		}
		if j == nil || j.Time > x.ends {
			break
		}
		x.differ(j, nil)
		x.entries = x.entries[1:]
	}
	x.runs = false
	return nil
}

// next returns the next decision in the journal; nil if there is none.
func (x *verifying) next() (*store.Entry, error) {
	for {
		for len(x.entries) > 0 {
			if j := &x.entries[0]; decided(j.Kind) || j.Kind == store.DamagedKind {
				return j, nil
			}
			x.entries = x.entries[1:]
		}
		if x.whole {
			return nil, nil
		}
		if x.since != 0 {
			begins, err := x.record.Journal(store.JournalFilter{After: x.after, From: x.since, Oldest: 1})
			if err != nil {
				return nil, err
			}
			if len(begins) > 0 {
				x.after = begins[0].Number - 1
			}
			x.since = 0
		}
		some, err := x.record.Journal(store.JournalFilter{After: x.after, Oldest: entriesAtOnce}) // whose times may go back
		if err != nil {
			return nil, err
		}
		x.entries, x.whole = some, len(some) < entriesAtOnce
		if n := len(some); n > 0 {
			x.after = some[n-1].Number
		}
	}
}
