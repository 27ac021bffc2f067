package logic

import (
	"strings"

	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
)

// What people have done, as the naive evaluator remembers it.
type naivePeople struct {
	set    map[string]float64
	resets map[string]bool
	hands  map[string]*naiveHand
	asked  map[string]*naiveHand // what a hand that was given at this instant took the place of
	pins   map[string]*naivePin
}

// naiveHand is an output that a person decides: stood, off, on, or a valve at a
// level.
type naiveHand struct {
	how   string
	level float64
	ends  int64
}

type naivePin struct {
	value float64
	ends  int64
}

func newNaivePeople() naivePeople {
	return naivePeople{map[string]float64{}, map[string]bool{}, map[string]*naiveHand{}, map[string]*naiveHand{}, map[string]*naivePin{}}
}

// do carries a command out, at the time of the instant that follows.
func (n *naive) do(c Command, p *Program, t int64) {
	name := ""
	if c.Do != Look {
		name = p.Name(c.Of)
	}
	ends := int64(never)
	if c.For > 0 {
		ends = t + c.For
	}
	switch c.Do {
	case SetSetting:
		n.set[name] = c.Value
	case ResetRule:
		n.resets[name] = true
	case TakeInHand:
		h := &naiveHand{"off", c.Value, ends}
		if p.Outputs[c.Of.Index].Analog() {
			h.how = "at"
		} else if c.On {
			h.how = "on"
		}
		if _, asked := n.asked[name]; !asked {
			n.asked[name] = n.hands[name]
		}
		if h.how == "off" {
			delete(n.asked, name)
		}
		n.hands[name] = h
	case StandOff:
		n.hands[name] = &naiveHand{"stood", 0, ends}
		delete(n.asked, name)
	case GiveBack:
		delete(n.asked, name)
		delete(n.hands, name)
	case PinInput:
		n.pins[name] = &naivePin{c.Value, ends}
	case UnpinInput:
		if pin := n.pins[name]; pin != nil && t < pin.ends {
			n.now = t
			n.unpin(name)
		}
		delete(n.pins, name)
	}
	if output, is := strings.CutSuffix(name, ".hand"); is && c.Do == Acknowledge {
		n.contacts[output+".inhand"] = &signal.Contact{On: true}
	}
	a := &n.alarm0
	if name != "alarm0" {
		return
	}
	switch c.Do {
	case Acknowledge:
		a.unacknowledged, a.unheard, a.muted = false, false, false
	case Shelve:
		a.shelved, a.until = true, ends
		a.muted = a.muted || !a.active && a.unacknowledged
	case Unshelve:
		a.unshelve()
	case TakeOut, PutBack:
		a.out = c.Do == TakeOut
		a.muted = a.muted || a.out && !a.active && a.unacknowledged
		a.unheard = a.unheard && a.silenced()
	}
}

// unpin has the alarm of a bad input raised at once, if it is bad.
func (n *naive) unpin(input string) {
	if a, is := n.job.Lookup(input + ".bad").(*sheet.Alarm); is {
		n.since[a.Rule], n.over[a.Rule] = n.now, true
	}
}

func (a *naiveAlarm) silenced() bool { return a.silent || a.shelved || a.out }

// unshelve announces anew what is active.
func (a *naiveAlarm) unshelve() {
	if a.shelved && a.active && !a.unacknowledged {
		a.unacknowledged = true
	}
	a.shelved = false
	a.unheard = a.unheard && a.silenced()
}

// hand is how an output is in hand; empty for auto.
func (n *naive) hand(output string) *naiveHand {
	if h := n.hands[output]; h != nil && n.now < h.ends {
		return h
	}
	return &naiveHand{}
}

// pin is the value that an input is pinned to.
func (n *naive) pin(input string) (float64, bool) {
	if p := n.pins[input]; p != nil && n.now < p.ends {
		return p.value, true
	}
	return 0, false
}

// length is how long a duration is now.
func (n *naive) length(d *sheet.Duration) int64 {
	v, set := n.set[d.Name]
	if d.Name == "" || !set {
		return n.job.DurationValue(d)
	}
	q := n.job.Lookup(d.Name).(*sheet.Setpoint).Value.Quantity()
	if q.Value == v {
		return n.job.DurationValue(d)
	}
	ns, err := unit.DurationOf(unit.Quantity{Value: v, Unit: q.Unit})
	if err != nil {
		panic(err)
	}
	return ns
}

// setting is the quantity of a setpoint now.
func (n *naive) setting(d *sheet.Setpoint) unit.Quantity {
	q := d.Value.Quantity()
	if v, set := n.set[d.Name]; set {
		q.Value = v
	}
	return q
}
