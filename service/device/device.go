// Package device is the seam between the engine of a job and the drivers of its devices. An engine knows no protocol, and a
// driver knows no rule: it reads at the pace that it was made for, writes what it is ordered to, and reports both.
package device

import "context"

// A Driver has one connection, the devices behind it, and a goroutine of its own. Run is called once at a time; all other
// methods may be called concurrently with it.
type Driver interface {
	// Run reads the devices and writes what was ordered, until ctx ends. It calls report, which never blocks, from one
	// goroutine. Passes returns a number that grows whenever the engine has made a pass: a driver that finds it unchanged for
	// long enough, by ticks of its own, writes what it was last ordered to hold.
	Run(ctx context.Context, report func(Report), passes func() int64)

	// Order hands over what is to be written. It never blocks.
	Order(Order)

	// Serve replaces what the driver serves, without ending its connection. Orders that are not carried out yet stay in force for
	// points that stand where they stood. A new driver serves nothing. It returns the number of the call, from 1, which reports carry from then on. It reports
	// false, and changes nothing, if a part is of a driver with another Line.
	Serve(parts ...Part) (serving int, can bool)

	// Devices returns the devices that the driver serves.
	Devices() []Device

	// Line identifies the connection: drivers with the same Line can serve what each other was made for.
	Line() string

	// Traffic returns the requests that were made of the devices that the driver serves, by their names.
	Traffic() map[string]Traffic

	// Transports returns where the line leads, in a normal form: two lines lead to one place if they share one. It resolves
	// names and follows links, and may wait for that until ctx ends.
	Transports(ctx context.Context) []string
}

// Traffic counts the requests of one device since its driver was made.
type Traffic struct {
	Requests   int64
	TimeOuts   int64   // requests without an answer
	Exceptions int64   // requests that the device has refused
	P99        float64 // seconds within which 99 of 100 of the last requests were answered; 0 for none
	LastError  string
}

// A Part is a share of what a driver was made for. Names of its devices and points get the prefix.
type Part struct {
	Of     Driver
	Prefix string
	Points func(point string) bool // nil for all of its points, and its heartbeats
}

// A Device is one behind a connection, and how it is asked.
type Device struct {
	Name      string
	ID        string // identifies it on its line, whatever its name in the sheet
	Points    []Point
	Patience  int64 // nanoseconds that two time-outs of every device on its line take
	Heartbeat int64 // nanoseconds between two beats; 0 for none
	Claims    []Claim
}

// A Point is an input that a driver reads, or an output that it writes and reads back.
type Point struct {
	Name    string
	Driven  bool
	Every   int64  // nanoseconds between two readings
	Refresh int64  // nanoseconds after which an output is written again though it has not changed; 0 for never
	Place   string // where it stands, in words: "rack coil 0"
	Key     string // identifies the place and how its value is held there, beyond the names in a sheet

	// Same reports whether two values are one where the point stands, which holds no more than its words can.
	Same func(a, b float64) bool
}

// A Claim is something that a job writes in a device. Two jobs must not hold claims that overlap.
type Claim struct {
	Point string // the output; empty for a heartbeat
	Where string // in words
	Unit  int    // -1 for any unit behind the transport
	Table string
	First int
	Last  int
}

// Overlaps reports whether two claims of devices at one transport are of one place.
func (c *Claim) Overlaps(other *Claim) bool {
	return (c.Unit == other.Unit || c.Unit < 0 || other.Unit < 0) && c.Table == other.Table && c.First <= other.Last && other.First <= c.Last
}

// A Report is what a driver has found out about one device. Reports of a device are in the order of what they tell.
type Report struct {
	Device     string
	Serving    int    // the number of the call of Serve that it is by
	Connection int    // how often the device has begun to answer, from 1
	Began      bool   // it has just begun to answer, and Readings has everything that is wired to it
	Lost       string // why it does not answer; empty where it does
	Readings   []Reading
	Written    []Written
	Late       []string // points that were due and could not be asked, since the line was busy
	Held       bool     // the engine made no pass, and Written are the held writes
}

// A Reading is what a device has at a point.
type Reading struct {
	Point string
	Value float64 // of a single bit 0 or 1
	Fault string  // why there is no value, in words
}

// Written is what became of a write.
type Written struct {
	Point string
	Value float64
	Fault string // why it was not taken, or that nobody answered; empty where it was taken
}

// An Order is what an engine wants of the devices behind a connection. Of the writes to one point only the newest is done.
type Order struct {
	Anew   []string // these devices are to be read as if they had just begun to answer
	Writes []Write
	Beats  []string // the devices whose heartbeat is to be toggled, after the writes
	Held   *[]Write // the writes for an engine that falls silent; nil leaves them as the last order set them
}

// A Write of an output.
type Write struct {
	Device     string
	Connection int // with which the engine decided; a driver drops what is of another. 0 for any
	Point      string
	Value      float64
	Off        bool // it turns off, and goes before what turns on

	// The value in the device, if it is known and no other write is pending. A driver that has not sent this write yet drops it when the
	// output gets that value again.
	Had   float64
	Known bool
}
