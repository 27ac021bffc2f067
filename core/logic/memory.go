package logic

import (
	"math"

	"rectura/core/alarm"
	"rectura/core/due"
	"rectura/core/memo"
	"rectura/core/signal"
)

// A Memory is all of a run that lasts from one instant to the next. What else a
// Stepper holds can be thrown away between any two instants, and is worked out
// anew.
type Memory struct {
	began     bool
	now       int64 // the last instant
	next      int64 // the number of the next transition
	circle    bool  // outputs and what looks at them do not come to rest
	circleAt  int64 // since when
	restless  int32 // one of these outputs
	listening bool  // outputs are as they are found
	started   int64 // when an output was last turned on; always for never

	settings []float64
	inputs   []inputMemory
	truths   []truth
	conds    []condMemory
	pasts    []past // of each slope
	bands    []bandMemory
	rules    []ruleMemory
	alarms   []alarm.Alarm
	follows  []float64 // the value of each
	loops    []loopMemory
	outputs  []outputMemory
	timers   due.Queue
}

// An inputMemory is that of an input: its chain's or its contact's, and what a
// person has made of it.
type inputMemory struct {
	signal  signal.Memory // of an analog one
	contact signal.Contact
	quality State // at the end of the last instant
	read    bool  // there has been a reading that is good or bad
	pinned  bool
	pin     float64 // in engineering units, or 0 or 1
	pinEnds int64   // when the pin ends, or never
	settles int64   // until when it alone settles; always for never
	says    string  // what its device says instead of a reading
	told    bool    // of a contact: it was good once
	on      bool    // and how it was then
}

// A condMemory is that of a condition besides its truth. What it means depends on
// what the condition does.
type condMemory struct {
	changed int64   // when it took its present truth
	since   int64   // of a `for`: since when its condition has been true; of a comparison: when it last let go
	last    float64 // of a change of a value: its last good one
	tripped bool    // of a comparison
	waiting bool    // of a `for`: its condition is true
	lapsed  bool    // of a `for`: its time has run out
}

// newMemory gives that of a run that stands before its first instant.
func newMemory(p *Program) Memory {
	m := Memory{
		settings: make([]float64, len(p.Settings)),
		inputs:   make([]inputMemory, len(p.Inputs)),
		truths:   make([]truth, len(p.conds)),
		conds:    make([]condMemory, len(p.conds)),
		pasts:    make([]past, len(p.slopes)),
		bands:    make([]bandMemory, len(p.Bands)),
		rules:    make([]ruleMemory, len(p.Rules)),
		alarms:   make([]alarm.Alarm, len(p.Alarms)),
		follows:  make([]float64, len(p.Follows)),
		loops:    make([]loopMemory, len(p.Loops)),
		outputs:  make([]outputMemory, len(p.Outputs)),
		started:  memo.Always,
		timers:   due.New(len(p.conds) + 1 + len(p.Inputs) + len(p.Outputs)),
	}
	for i, c := range p.Settings {
		m.settings[i] = c.Value.Value
	}
	for i := range m.inputs {
		m.inputs[i] = inputMemory{quality: Bad, pinEnds: never, settles: math.MinInt64}
		if p.Watched(Ref{InputKind, int32(i)}) {
			m.inputs[i].quality, m.inputs[i].read = Good, true
		}
	}
	for i := range m.conds {
		m.conds[i].since = math.MinInt64
	}
	for i := range m.bands {
		m.bands[i] = bandMemory{inForce: -1, waiting: -1, turned: math.MinInt64, number: -1}
	}
	for i := range m.loops {
		m.loops[i].sum = p.Outputs[p.Loops[i].Output].Low
	}
	for i := range m.rules {
		m.rules[i].number, m.rules[i].settles = -1, math.MinInt64
	}
	for i := range m.outputs {
		m.outputs[i] = newOutputMemory(&p.Outputs[i])
	}
	return m
}

func newOutputMemory(o *Output) outputMemory {
	return outputMemory{level: o.Low, plant: Stand{Level: o.Low}, ends: never, settles: math.MinInt64, number: -1, by: -1}
}
