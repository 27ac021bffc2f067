package live

import (
	"context"
	"fmt"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/service/store"
)

// A Parting is how outputs are left when a job is disarmed.
type Parting string

// The partings.
const (
	ToFail Parting = "fail"
	ToOff  Parting = "off"
	ToHold Parting = "hold"
)

// Disarm lets an armed job listen only, with its outputs left as to says. It answers once they are read back so, and names those that
// are not.
func (e *Engine) Disarm(ctx context.Context, to Parting, who, why string) (left []string, kept bool, err error) {
	type done struct {
		err  error
		kept chan bool
	}
	d, err := tell(ctx, e, func() done {
		if err := e.disarm(to, who, why); err != nil {
			return done{err: err}
		}
		return done{nil, e.keeping.wait()}
	})
	if err == nil {
		err = d.err
	}
	if err != nil {
		return nil, false, err
	}
	if kept, err = e.whether(ctx, d.kept); err != nil {
		return nil, kept, err
	}
	left, err = e.parted(ctx)
	return left, kept, err
}

// Partings returns the outputs that disarming would move; none for a listening job.
func (e *Engine) Partings(ctx context.Context, to Parting) ([]Move, error) {
	return ask(ctx, e, func() (all []Move) {
		if e.armed.Mode != Armed {
			return nil
		}
		for _, o := range e.outputs {
			v, holds := e.partAt(o, to)
			if p := &e.p.Outputs[o.index]; !holds && (!o.hasKnown || !o.point.Same(o.has, p.ToWire(v))) {
				m := Move{Output: o.name, From: "unknown", To: e.standText(o, p.ToWire(v)), Because: "disarmed", Unknown: !o.hasKnown}
				if o.hasKnown {
					m.From = e.standText(o, o.has)
				}
				all = append(all, m)
			}
		}
		return all
	})
}

// partAt returns where an output is left. What must be off is left off, whatever a person says.
func (e *Engine) partAt(o *out, to Parting) (v logic.Stand, holds bool) {
	off := logic.Stand{State: logic.Off, Level: e.p.Outputs[o.index].Low}
	switch {
	case to == ToOff, e.run.S.MustBeOff(o.index):
		return off, false
	case to == ToHold:
		return v, true
	}
	return e.run.S.FailStand(o.index)
}

func (e *Engine) disarm(to Parting, who, why string) error {
	if e.armed.Mode != Armed {
		return refuse("the job is not armed")
	}
	if to != ToFail && to != ToOff && to != ToHold {
		return refuse("outputs go to fail, off or hold, and %q is none of them", string(to))
	}
	for i := range e.p.Outputs {
		m := e.run.S.Mode(i)
		if m == logic.HandOn || m == logic.HandAt || m == logic.HandOff || m == logic.Stood && e.run.S.Unhanded(i) {
			c := logic.Command{Do: logic.GiveBack, Of: logic.Ref{Kind: logic.OutputKind, Index: int32(i)}}
			e.enter(e.next(), capture.Event{Kind: capture.Command, Do: &c})
		}
	}
	e.part(to)
	from := fmt.Sprintf("armed, revision %d", e.armed.Revision)
	e.armed.Mode, e.armed.Since, e.armed.Fault, e.armed.Again = Listening, e.next(), "", store.NotAgain
	e.broken = false
	e.endSurvey()
	e.plans = plans{began: e.steady}
	for i := range e.inputs {
		e.inputs[i].moved, e.inputs[i].first = false, e.inputs[i].value
	}
	e.enter(e.next(), capture.Event{Kind: capture.Listen, On: true})
	for _, o := range e.outputs {
		if o.hasKnown {
			e.enter(e.next(), e.finding(o, o.has))
		}
		e.agree(o)
	}
	e.keeping.check = true
	e.keeping.entry(store.Entry{Time: e.last, Kind: "command", From: from, To: "listening, outputs to " + string(to), Because: why, Who: who,
		Via: "disarm"})
	return nil
}

// part has every output left as a person says, until it is read back so.
func (e *Engine) part(to Parting) {
	for _, o := range e.outputs {
		v, holds := e.partAt(o, to)
		if o.leaving, o.parted = !holds, false; o.leaving {
			o.value, o.ordered = e.p.Outputs[o.index].ToWire(v), false
			if o.hasKnown && o.point.Same(o.has, o.value) {
				o.parted, o.leaving = true, e.leaving
				continue
			}
			e.noteWrite(o, o.value, "the job is disarmed, or the service ends")
		}
	}
}

// Leave drives outputs to their fail states, since the service ends, and names those that are not read back so. The job stays armed, for
// when the service is there again.
func (e *Engine) Leave(ctx context.Context) (left []string, err error) {
	armed, err := tell(ctx, e, func() bool {
		if e.armed.Mode != Armed || !e.began {
			return false
		}
		e.leaving = true
		e.part(ToFail)
		return true
	})
	if err != nil || !armed {
		return nil, err
	}
	return e.parted(ctx)
}

// parted waits until outputs are read back as they were left, and names those that are not.
func (e *Engine) parted(ctx context.Context) (left []string, err error) {
	for range 100 {
		if left, err = ask(ctx, e, e.parting); err != nil || len(left) == 0 {
			return left, err
		}
		t := e.clock.Timer(100 * time.Millisecond)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return left, ctx.Err()
		}
	}
	return left, nil
}

// parting returns the outputs that are not read back as they were left.
func (e *Engine) parting() (left []string) {
	for _, o := range e.outputs {
		if o.leaving && !o.parted {
			left = append(left, o.name)
		}
	}
	return left
}
