// Package device is what the engine of a job and the drivers of its devices say to each other. A driver knows nothing of
// rules, and an engine nothing of protocols.
package device

import "context"

// A Driver has one connection and the devices behind it, in a goroutine of its own.
type Driver interface {
	// Run reads the devices and writes what is ordered until the context ends. What it finds it reports; report never
	// blocks.
	Run(ctx context.Context, report func(Report))

	// Order hands on what is to be written. It never blocks, and may be called at any time.
	Order(Order)

	// Same tells whether two values of a point are the same where it is wired, which holds no more than a word can.
	Same(point string, a, b float64) bool

	// Devices are those behind the connection, and how each is asked.
	Devices() []Device
}

// A Device as its driver asks it.
type Device struct {
	Name      string
	Points    []Point
	Timeout   int64 // nanoseconds that an answer may take
	Heartbeat int64 // nanoseconds between two beats; 0 for none
}

// A Point that a driver reads: an input, or an output that is read back.
type Point struct {
	Name   string
	Driven bool
	Every  int64 // nanoseconds between two readings
	Again  int64 // nanoseconds after which an output is written even if it has not changed; 0 for never
}

// A Report is what a driver has found out about a device, all of it at one time.
type Report struct {
	Device     string
	Connection int    // the number of the time that it has begun to answer, from 1
	Began      bool   // it has just begun, and these readings are of everything that is wired
	Lost       string // why it does not answer; empty where it does
	Readings   []Reading
	Written    []Written
}

// A Reading is what a device says of a point.
type Reading struct {
	Point   string
	Value   float64 // of a single bit 0 or 1
	Fault   string  // why there is none, in words
	Differs string  // of an output that stays otherwise than it was written: how
}

// Written is what became of a write.
type Written struct {
	Point string
	Value float64
	Fault string // why it was not taken; empty where it was
}

// An Order is what an engine wants of the devices behind a connection. A newer value of a point takes the place of an
// older one that is not written yet.
type Order struct {
	Anew   bool     // every device is to be read as if it had just begun to answer
	Writes []Write  // in this order
	Beats  []string // the devices whose heartbeat is to be toggled, after the writes
	Held   []Write  // what is to be written should the engine fall silent; empty for nothing. Every order says it anew
}

// A Write of an output.
type Write struct {
	Device     string
	Connection int // with which the engine has decided; the driver leaves out what is of an earlier one
	Point      string
	Value      float64
}
