package sheet_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
)

func parse(text string) (*sheet.Job, []sheet.Finding) {
	return sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
}

// ground is a right job that the wrong texts are put behind.
const ground = `job "Test"

input oxygen
  scale 0..4095 counts to 0..20 mA
  scale 4..20 mA to 0..20 mg/L
  healthy 3.6..21 mA

input air
  unit degC

input water
  unit degF

input mains discrete

setpoint low 6 mg/L
  allow 4..9 mg/L

setpoint pause 45 s
  allow 5..300 s

constant band 2 degF difference

output blower
  fail on

rule base
  on when (oxygen < low for pause) or not mains or air > 10 degC hysteresis band or water > 0 degF hysteresis 1 degF
  call blower

`

const groundLines = 30

// play begins a right trial.
const play = "trial t\n  play \"a.csv\"\n  expect blower off always\n"

// rack is a right device.
const rack = "device rack modbus tcp \"127.0.0.1:502\" unit 1\n"

// ring is rules that name each the next, and the last the first.
func ring(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "rule r%d\n  on when r%d\n  call out\n", i, (i+1)%n)
	}
	return b.String()
}

// Each wrong text gives exactly one finding, at its place.
func TestFindings(t *testing.T) {
	_, found := parse(ground)
	require.Empty(t, found)
	for _, c := range []struct{ text, want string }{
		// what cannot be read
		{"inptu x\n", "1:1: error: inptu is no declaration; did you mean input? [syntax]"},
		{"42\n", "1:1: error: 42 is no declaration; a declaration begins with job, device, input, derived, setpoint, constant, output, rule, bands, follow, loop, alarm, recipient, message or trial [syntax]"},
		{"input x discrete\n\tinverted\n  note \"x\"\nrule r\n  on when x\n  call blower\noutput o\n  fail on\n", "2:1: error: a tab; indent and separate with blanks [tab]"},
		{"constant c 5 mA ; 3\n", "1:17: error: the character \";\" has no meaning here; take it out [syntax]"},
		{"constant c \"x 5 mA\n", "1:12: error: the quote that opens here is not closed on its line; add a \" [syntax]"},
		{"constant c \"a\\n\" 5 mA\n", "1:14: error: a backslash in quotes stands only before \" or \\; write \\\\ for a backslash [syntax]"},
		{"input Oxygen2 discrete\n", "1:7: error: the name Oxygen2 has capital letters; write oxygen2 [syntax]"},
		{"input " + strings.Repeat("x", 65) + " discrete\n", "1:7: error: the name is 65 letters long; 64 are allowed [syntax]"},
		{"input between discrete\n", "1:7: error: between is a word of conditions and cannot be a name; choose another [reserved-name]"},
		{"input 5 discrete\n", "1:7: error: 5 where the name must stand; a name is made of small letters, digits and _, and begins with a letter [syntax]"},
		{"input x discrete\n  heathy 3..4 mA\n", "2:3: error: heathy is no clause of an input; it takes tag, terminal, note, source, poll, inverted, debounce, words and alarm when bad [syntax]"},
		{"input x\n  unit mA\n  helthy 3..4 mA\n", "3:3: error: helthy is no clause of an input; did you mean healthy? [syntax]"},
		{"input x\n  unit mA\n  unit mA\n", "3:3: error: \"unit\" is already written in line 32; keep one of the two [repeated-clause]"},
		{"input x\n  unit milliamps\n", "2:8: error: milliamps is no known unit; put a unit of your own in quotes [syntax]"},
		{"input x\n  scale 4..20 to 0..5 mgl\n", "2:23: error: mgl is no known unit; did you mean mg/L? Put a unit of your own in quotes [syntax]"},
		{"input x\n  scale 4..4 mA to 0..5 mg/L\n", "2:9: error: the range 4..4 mA has no width; a line needs two different points [chain]"},
		{"input x\n  scale 4 mA to 0..5 mg/L\n", "2:11: error: mA where .. must stand; a range is written 4..20 mA [syntax]"},
		{"input x\n  unit mA\n  healthy 21..3.6 mA\n", "3:11: error: the range of \"healthy\" goes from the lower to the higher end; write 3.6..21 [syntax]"},
		{"input x\n  unit mA\n  smooth average 1 samples\n", "3:18: error: 1 where a whole number of samples from 2 to 10000 must stand [syntax]"},
		{"input x\n  unit mA\n  smooth slow 5 s\n", "3:10: error: slow where the kind of filter must stand: average, median, lag [syntax]"},
		// stages, health and filters
		{"input x\n  curve pt50 to degC\n", "2:9: error: pt50 is no sensor whose curve is known; did you mean pt100? [syntax]"},
		{"input x\n  curve pt100 to mA\n", "2:18: error: this curve gives a temperature, not mA (current); write degC, degF or K [chain]"},
		{"input x\n  curve thermocouple z to degC cold junction 0 degC\n", "2:22: error: z where the type of thermocouple must stand: b, e, j, k, n, r, s, t [syntax]"},
		{"input x\n  curve thermocouple k to degC\n", "2:31: error: the end of the line where the cold junction must stand: cold junction 25 degC, or cold junction NAME [syntax]"},
		{"input x\n  curve thermocouple k to degC cold junction oxygen\n", "2:46: error: oxygen has no temperature; a cold junction is a temperature or the name of an input that has one [wrong-kind]"},
		{"input x\n  curve thermocouple k to degC cold junction x\n", "2:46: error: x is a thermocouple with a measured cold junction itself; take a sensor that needs none [circle]"},
		{"input x\n  curve table ohm to lx: 500 = 1000, 400 = 180\n", "2:38: error: 400 comes after 500; the left sides of a table rise from point to point [chain]"},
		{"input x\n  curve table ohm to lx: 500 = 1000\n", "2:26: error: a table of one point; straight lines need at least two [chain]"},
		{"input x\n  curve ntc 10 kohm at 25 degC beta -3 to degC\n", "2:37: error: a beta of -3; it is a number above 0, in K [chain]"},
		{"input x\n  curve nickel 5 mA at 25 degC to degC\n", "2:16: error: 5 mA is no resistance above 0, which the sensor has at a temperature: 10 kohm at 25 degC [chain]"},
		{"input x\n  divider 0 kohm to supply 5 V\n", "2:11: error: 0 kohm is no resistance above 0; the fixed resistor of a divider has one, such as 10 kohm [chain]"},
		{"input x\n  divider 10 kohm to 5 V\n", "2:22: error: 5 where the end at which the fixed resistor sits must stand: supply, ground [syntax]"},
		{"input x\n  divider 10 kohm to ground 0 V\n", "2:29: error: 0 V is no voltage above 0; a divider is fed by one, such as 5 V [chain]"},
		{"input x\n  root 4..4 mA to 0..80 L/s\n", "2:8: error: the range 4..4 mA has no width; a line needs two different points [chain]"},
		{"input x\n  unit mg/L\n  correct 1 mg/L to 2 mg/L, 1 mg/L to 3 mg/L\n", "3:29: error: 1 mg/L to 3 mg/L contradicts 1 mg/L to 2 mg/L: a higher reading must be a higher value; take one of the two out [chain]"},
		{"input x\n  unit mg/L\n  correct 1 mg/L to 2 mA\n", "3:11: error: a calibration is from and to one quantity, and 2 mA is mA (current) beside mg/L (concentration) [unit-mismatch]"},
		{"input x\n  unit mg/L\n  correct 1 mA to 2 mA\n", "3:3: error: this stage begins in mA (current), but the one before it ends in mg/L (concentration); stages must join [chain]"},
		{"input x\n  unit mA\n  frozen after 5 s within -1 mA\n", "3:27: error: -1 mA is below 0 [syntax]"},
		{"input x\n  unit mA\n  unsteady beyond 1 V within 5 s\n", "3:19: error: `unsteady` in V (voltage), but x has no such quantity in its chain: mA (current) [unit-mismatch]"},
		{"input x\n  unit mA\n  stale after low\n", "3:15: error: low cannot be a duration: 6 mg/L is no time; a duration has a unit such as s or min [unit-mismatch]"},
		{"input x\n  unit mA\n  skip first 0 samples\n", "3:14: error: 0 where a whole number of samples from 1 to 10000 must stand [syntax]"},
		{"input x\n  unit mA\n  clamp 0..5 V\n", "3:9: error: a clamp in V (voltage), but x is in mA (current) [unit-mismatch]"},
		{"input x\n  unit mA\n  round up 5 mA\n", "3:9: error: up where the way to round must stand: nearest, down [syntax]"},
		{"input x\n  unit mA\n  round down 5 V\n", "3:14: error: rounding in V (voltage), but x is in mA (current) [unit-mismatch]"},
		{"input x discrete\n  words \"a\"\n", "2:12: error: the end of the line where \",\" must stand, between the word for on and the one for off [syntax]"},
		{"derived x\n", "1:10: error: the end of the line where \"=\" must stand, before the value that is derived [syntax]"},
		{"derived x = y + oxygen\nderived y = x - oxygen\n", "1:9: error: x is made of itself: x → y → x; break the circle [circle]"},
		{"derived x = low + 1 mg/L\n", "1:13: error: x depends on no input; declare it as a constant [wrong-kind]"},
		{"derived x = oxygen + air\n", "1:22: error: oxygen is in mg/L (concentration) and air is in degC (temperature); they cannot be added [unit-mismatch]"},
		{"derived x = oxygen * low\n", "1:22: error: oxygen is in mg/L (concentration) and low is in mg/L (concentration); one of two values that are multiplied is a bare number [unit-mismatch]"},
		{"derived x = 2 / oxygen\n", "1:17: error: 2 is a bare number and oxygen is in mg/L (concentration); a value is divided by a bare number or by one of its own dimension [unit-mismatch]"},
		{"derived x = air * 2\n", "1:13: error: air is a temperature, and only a temperature difference can be multiplied or divided [unit-mismatch]"},
		{"derived x = max(oxygen)\n", "1:13: error: max is of two values or more, and there is one [syntax]"},
		{"derived x = max(oxygen, air)\n", "1:25: error: oxygen is in mg/L (concentration) and air is in degC (temperature); max needs values of one dimension [unit-mismatch]"},
		{"derived x = abs(air)\n", "1:17: error: air is a temperature, and the size of a temperature means nothing; take the size of a difference [unit-mismatch]"},
		{"input x\n  unit mA\n  ignore changes under 0 mA\n", "3:24: error: 0 mA is not above 0 [syntax]"},
		{"setpoint s = 5 mA\n", "1:12: error: = where a number must stand; take the = out [syntax]"},
		{"constant c -\n", "1:13: error: the end of the line where a number must stand [syntax]"},
		{"constant c 1 min 2 h\n", "1:18: error: 2 h cannot follow 1 min; the parts of a duration go from the largest unit down [syntax]"},
		{"output o\n  fail maybe\n", "2:8: error: maybe where the fail state must stand: on, off, hold [syntax]"},
		{"  call blower\n", ""}, // belongs to the rule above; see below
		{"rule r\n  on when mains\n  call blower blower\n", "3:15: error: blower is more than belongs here; take it out or begin a new line [syntax]"},
		{"rule r\n  on when mains for 0 s\n  call blower\n", "2:21: error: \"0 s\" is not above 0 [syntax]"},
		{"rule r\n  on when mains for 5 mA\n  call blower\n", "2:21: error: 5 mA is no time; a duration has a unit such as s or min [syntax]"},
		// conditions
		{"rule r\n  on when mains and oxygen < low for 5 s\n  call blower\n", "2:34: error: `for` after `and` reads two ways: (mains and oxygen < low) for 5 s, or mains and (oxygen < low for 5 s); write the parentheses that are meant [syntax]"},
		{"rule r\n  on when mains and mains or oxygen < low\n  call blower\n", "2:27: error: `and` beside `or` reads two ways: (mains and mains) or oxygen < low, or mains and (mains or oxygen < low); write the parentheses that are meant [syntax]"},
		{"rule r\n  on when mains for 5 s and mains\n  call blower\n", "2:25: error: `and` after `for` needs parentheses: (mains for 5 s) and … [syntax]"},
		{"rule r\n  on when (oxygen < low\n  call blower\n", "3:3: error: call where the parenthesis of column 11 must be closed by ) [syntax]"},
		{"rule r\n  on when oxygen + 1 mg/L\n  call blower\n", "2:11: error: oxygen + 1 mg/L is a value, not a condition; compare it with another by < <= > or >= [syntax]"},
		{"rule r\n  on when (mains) + 1 mg/L > low\n  call blower\n", "2:12: error: mains is a discrete input and has no value to compare or add [wrong-kind]"},
		{"rule r\n  on when (not mains) < low\n  call blower\n", "2:11: error: (not mains) is a condition, which is true or false; a value must stand here [syntax]"},
		{"rule r\n  on when oxygen < (oxygen < low)\n  call blower\n", "2:20: error: (oxygen < low) is a condition, which is true or false; a value must stand here [syntax]"},
		{"rule r\n  on when 1 mg/L < oxygen < low\n  call blower\n", "2:27: error: a second comparison in one; join two with `and` [syntax]"},
		{"rule r\n  on when oxygen < low hysteresis 1 mg/L deadband 1 mg/L\n  call blower\n", "2:42: error: `deadband` stands before `hysteresis`; change them over [syntax]"},
		{"rule r\n  on when < low\n  call blower\n", "2:11: error: < where a value or a condition must stand [syntax]"},
		{"rule r\n  on when oxygen < mA\n  call blower\n", "2:20: error: the unit mA without a number before it [syntax]"},
		{"alarm x\n  on when mains\n  priority low\n  advice \"a\"\n  call blower\n  call blower until acknowledged\n", "6:8: error: blower is called twice by the same alarm; take one out [repeated-name]"},
		{"bands x of oxygen\n  low: below 5 mg/L call blower, blower\n  else\n", "2:34: error: blower is called twice by the same band; take one out [repeated-name]"},
		{"output z\n  tag \"" + strings.Repeat("w", 2001) + "\"\n", "2:7: error: a text of 2001 characters; none is longer than 2000 [limit]"},
		{"input z\n" + strings.Repeat("  scale 4..20 mA to 4..20 mA\n", 21) + "output y\n", "22:3: error: z has more than 20 stages; join some of them [limit]"},
		{"rule r\n  on when " + strings.Repeat("(", 1_000) + "mains" + strings.Repeat(")", 1_000) + "\n  call blower\n", "2:111: error: this is nested deeper than 100; split the condition into several rules [limit]"},
		// names and kinds
		{"rule r\n  on when oxigen < low hysteresis 1 mg/L\n  call blower\n", "2:11: error: nothing is named oxigen; did you mean oxygen? [unknown-name]"},
		{"input low discrete\n", "1:7: error: the name low is already that of the setpoint at a.rct:16:10; choose another [repeated-name]"},
		{"job \"Second\"\n", "1:1: error: a second `job`; the first is a.rct:1:1; keep one of the two [repeated-job]"},
		{"rule r\n  on when oxygen\n  call blower\n", "2:11: error: oxygen is an analog input, not a condition; compare it with a value by < <= > or >= [wrong-kind]"},
		{"rule r\n  on when low\n  call out\noutput out\n  fail off\n", "2:11: error: low is a setpoint, not a condition; compare it with a value by < <= > or >= [wrong-kind]"},
		{"rule r\n  on when oxygen < low hysteresis 1 mg/L\n  off when oxygen > 9 V\n  call out\noutput out\n  fail off\n", "3:21: error: oxygen is in mg/L (concentration) and 9 V is in V (voltage); they cannot be compared [unit-mismatch]"},
		// ranges, rates, moments and times of day
		{"rule r\n  on when oxygen between 1 mg/L or low\n  call out\noutput out\n  fail off\n", "2:33: error: or where \"and\" must stand, between the two ends [syntax]"},
		{"rule r\n  on when oxygen between 5 mg/L and 4 mg/L hysteresis 1 mg/L\n  call out\noutput out\n  fail off\n", "2:26: error: `between` goes from the lower to the higher end; write 4 mg/L and 5 mg/L [syntax]"},
		{"rule r\n  on when oxygen outside 4 mg/L and 5 V hysteresis 1 mg/L\n  call out\noutput out\n  fail off\n", "2:37: error: oxygen is in mg/L (concentration) and 5 V is in V (voltage); they cannot be compared [unit-mismatch]"},
		{"rule r\n  on when oxygen outside 4 mg/L and 5 mg/L\n  call out\noutput out\n  fail off\n", "2:11: warning: oxygen outside 4 mg/L and 5 mg/L has neither `hysteresis` nor a delay, and r has no `off when`: noise at the trip point would switch it to and fro [no-hysteresis]"},
		{"rule r\n  on when oxygen = low\n  call out\noutput out\n  fail off\n", "2:23: error: the end of the line where `within` and how near must stand; measured values are never exactly equal [syntax]"},
		{"rule r\n  on when oxygen = low within 1 mA\n  call out\noutput out\n  fail off\n", "2:31: error: a `within` in mA (current) beside oxygen in mg/L (concentration); write it in mg/L [unit-mismatch]"},
		{"rule r\n  on when oxygen crosses mains\n  pulse 5 s\n  call out\noutput out\n  fail off\n", "2:26: error: mains is a discrete input and has no value to compare or add [wrong-kind]"},
		{"rule r\n  on when oxygen crosses low\n  call out\noutput out\n  fail off\n", "2:3: error: oxygen crosses low is true for an instant only, so r needs an end: `pulse`, `latch`, `off when` or `off after` [momentary]"},
		{"rule r\n  on when mains turns on for 5 s\n  pulse 5 s\n  call out\noutput out\n  fail off\n", "2:11: error: mains turns on is true for an instant only and cannot last for 5 s; of such conditions only `crosses` takes a `for` [momentary]"},
		{"rule r\n  on when oxygen turns on\n  pulse 5 s\n  call out\noutput out\n  fail off\n", "2:11: error: oxygen is an analog input; what turns on is a discrete input, a rule or an output [wrong-kind]"},
		{"rule r\n  on when mains turns bad\n  pulse 5 s\n  call out\noutput out\n  fail off\n", "2:17: error: `turns on` and `turns off` stand after a name [syntax]"},
		{"rule r\n  on when oxygen rising over 5 s\n  call out\noutput out\n  fail off\n", "2:25: error: over where `faster than` must stand: oxygen rising faster than 0.5 mg/L per min over 2 min [syntax]"},
		{"rule r\n  on when oxygen rising faster than 1 mg/L over 5 s\n  call out\noutput out\n  fail off\n", "2:44: error: over where \"per\" must stand, after the amount of a rate [syntax]"},
		{"rule r\n  on when oxygen rising faster than 1 mg/L per mA over 5 s\n  call out\noutput out\n  fail off\n", "2:48: error: mA where a unit of time must stand, such as min [syntax]"},
		{"rule r\n  on when oxygen falling faster than -1 mg/L per s over 5 s\n  call out\noutput out\n  fail off\n", "2:38: error: a rate of -1 mg/L; it is above 0, and `rising` or `falling` says its direction [syntax]"},
		{"rule r\n  on when oxygen rising faster than 1 mA per s over 5 s\n  call out\noutput out\n  fail off\n", "2:37: error: a rate in mA (current) per time beside oxygen, which is in mg/L (concentration); write it in mg/L [unit-mismatch]"},
		{"rule r\n  on when time between 06:00 and 25:00\n  call out\noutput out\n  fail off\n", "2:34: error: 25 in a time of day, which is written as 06:30 or 06:30:15, up to 23:59:59.999 [syntax]"},
		{"rule r\n  on when time between 6:00 and 07:00\n  call out\noutput out\n  fail off\n", "2:24: error: 6 in a time of day, which is written as 06:30 or 06:30:15, up to 23:59:59.999 [syntax]"},
		{"rule r\n  on when time between 06:00 and 06:00:00\n  call out\noutput out\n  fail off\n", "2:11: error: from 06:00 to 06:00:00 is no time at all; write two different times of day [syntax]"},
		{"rule r\n  on when time between 06:00 and 07:00\n  call out\noutput out\n  fail off\n", "2:11: error: a time of day needs to know the clock on the wall; add a line to the job, such as: timezone Europe/Dublin [no-timezone]"},
		{"rule r\n  on when low is good\n  call out\noutput out\n  fail off\n", "2:11: error: low is a setpoint; only a signal is good or bad [wrong-kind]"},
		{"rule r\n  on when oxygen is on\n  call out\noutput out\n  fail off\n", "2:11: error: oxygen is an analog input, not a condition; compare it with a value by < <= > or >= [wrong-kind]"},
		{"rule r\n  on when (mains is on) < low\n  call out\noutput out\n  fail off\n", "2:11: error: (mains is on) is a condition, which is true or false; a value must stand here [syntax]"},
		{"rule r\n  on when mains is broken\n  call out\noutput out\n  fail off\n", "2:11: error: mains is a discrete input and has no band named broken; it may be on, off, good or bad [wrong-kind]"},
		{"rule r\n  on when at least 3 of (mains, base)\n  call out\noutput out\n  fail off\n", "2:20: error: at least 3 of 2 conditions can never be; write a smaller number [syntax]"},
		{"rule r\n  on when at least 0 of (mains, base)\n  call out\noutput out\n  fail off\n", "2:20: error: 0 where a whole number from 1 must stand: at least 2 of (…) [syntax]"},
		{"rule r\n  on when at least 1 of (mains, base\n  call out\noutput out\n  fail off\n", "3:3: error: call where the parenthesis of column 25 must be closed by ) [syntax]"},
		{"rule r\n  on when s\n  call out\nrule s\n  on when not r\n  call out\noutput out\n  called by any\n  fail off\n", "1:6: error: r depends on itself: r → s → r; break the circle [circle]"},
		{"rule lead\n  on when q\n  call out\nrule q\n  on when q\n  call out\noutput out\n  called by any\n  fail off\n", "4:6: error: q depends on itself: q → q; break the circle [circle]"},
		{ring(9) + "output out\n  called by any\n  fail off\n", "1:6: error: r0 depends on itself: r0 → r1 → r2 → r3 → r4 → … → r8 → r0; break the circle [circle]"},
		// devices
		{"device d modbus \"127.0.0.1:502\" unit 1\n", "1:10: error: modbus where the kind of device must stand: modbus tcp or modbus rtu [syntax]"},
		{"device d modbus tcp 127.0.0.1 unit 1\n", "1:21: error: 127.0 where the device's address must stand, in quotes: \"127.0.0.1:502\" [syntax]"},
		{"device d modbus tcp \"rack\" unit 1\n", "1:21: error: \"rack\" is no address of a device; write host and port, such as 127.0.0.1:502 [address]"},
		{"device d modbus tcp \"a:502\" unit 300\n", "1:34: error: 300 where the unit number must stand, from 0 to 247 [syntax]"},
		{"device d modbus tcp \"a:502\" unit 1\n", "1:8: warning: nothing uses the device d; use it or take it out [unused]"},
		{"input x discrete\n  source low coil 1\n", "2:10: error: low is a setpoint; a point is wired to a device [wrong-kind]"},
		{"input x discrete\n  source d relay 1\n", "2:12: error: relay where the table must stand: holding, input, discrete, coil [syntax]"},
		{rack + "input x discrete\n  source rack holding 1\n", "3:15: error: x is on or off, and the table holding holds registers; write discrete or coil, or say which bit of the register: bit 3 [wrong-kind]"},
		{rack + "input x\n  source rack coil 1\n  unit mA\n", "3:15: error: x has a value, and the table coil holds single bits; write holding or input [wrong-kind]"},
		{rack + "output o\n  drives rack discrete 1\n  fail off\n", "3:15: error: the table discrete can only be read, and o is driven; write coil or holding [wrong-kind]"},
		{rack + "input x discrete\n  source rack coil 1\noutput o\n  drives rack coil 1\n  fail off\n", "5:3: error: o is wired to rack coil 1, as x is in line 32; one of the two addresses is wrong [same-address]"},
		{rack + "input x discrete\n  source rack coil 70000\n", "3:20: error: 70000 where the address must stand, from 0 to 65535 [syntax]"},
		{"device d modbus rtu \"/dev/ttyS1\" 19200 9E1 unit 1\n", "1:40: error: 9 where the frame of the line must stand: data bits, parity and stop bits, one of 8E1, 8O1, 8N1 or 8N2 [syntax]"},
		{"device d modbus rtu \"/dev/../etc/fstab\" 9600 8E1 unit 1\n", "1:21: error: \"/dev/../etc/fstab\" is no serial line; write its device file, such as /dev/ttyS1, or COM3 [address]"},
		{"device d modbus rtu \"COM3\" 9600 8X1 unit 1\n", "1:33: error: 8 where the frame of the line must stand: data bits, parity and stop bits, one of 8E1, 8O1, 8N1 or 8N2 [syntax]"},
		{"device d modbus rtu \"/dev/ttyS1\" 110 8E1 unit 1\n", "1:21: error: the line of d runs at 110 bits a second; the least is 300 [address]"},
		{"device d modbus rtu \"/dev/ttyS1\" 9600 8E1 unit 0\n", "1:48: error: unit 0 of a serial line is everybody, and nobody answers; a device has a unit from 1 to 247 [address]"},
		{rack + "  word order first\n", "2:14: error: first where what comes first must stand: low, high [syntax]"},
		{rack + "  heartbeat discrete 9 every 1 s\n", "2:13: error: discrete where the table must stand: coil, holding [syntax]"},
		{rack + "  alarm when lost\n", "2:18: error: the end of the line where \"priority\" must stand, before the priority of the alarm [syntax]"},
		{rack + "input x\n  source rack holding 65535 real\n  unit mA\n", "3:29: error: x as real reaches from 65535 to 65536; the last address is 65535 [address]"},
		{rack + "input x\n  source rack holding 3 word order low first\n  unit mA\n", "3:25: error: x stands in one register, which has no word order; take it out, or say its type [wrong-kind]"},
		{rack + "input x\n  source rack holding 3 bit 4\n  unit mA\n", "3:25: error: x has a value, and a bit is on or off; take `bit 4` out [wrong-kind]"},
		{rack + "input x discrete\n  source rack coil 3 bit 4\n", "3:22: error: the table coil holds single bits, which have no type, bit or order; take that out [wrong-kind]"},
		{rack + "input x discrete\n  source rack holding 3 bit 16\n", "3:29: error: 16 where the bit must stand, from 0 to 15 [syntax]"},
		{rack + "input x\n  source rack holding 3 lreal\n  unit mA\ninput y\n  source rack holding 6\n  unit mA\n", "6:3: error: y is wired to rack holding 6, and x in line 32 to rack holding 3 lreal: both take rack holding 6; one of the two addresses is wrong [same-address]"},
		{rack + "input x discrete\n  source rack holding 3 bit 4\ninput y discrete\n  source rack holding 3 bit 4\n", "5:3: error: y is wired to rack holding 3 bit 4, as x is in line 32; one of the two addresses is wrong [same-address]"},
		{rack + "  heartbeat coil 9 every 1 s\noutput o\n  drives rack coil 9\n  fail off\n", "4:3: error: o is wired to rack coil 9, as the heartbeat of rack is in line 32; one of the two addresses is wrong [same-address]"},
		{rack + "input x\n  source rack holding 3\n  poll 8 s\n  unit mA\n", "3:3: warning: x is read every 8 s, and the job settles in 5 s, so that it starts without it; write a longer `settle`, or poll it more often [short-settle]"},
		{rack + "input x\n  source rack holding 3\n  poll 2 s\n  unit mA\n  skip first 3 samples\n", "6:3: warning: x is good from its reading 4 on, after 8 s, and the job settles in 5 s, so that it starts without it; write a longer `settle`, or poll it more often [short-settle]"},
		{rack + "input x\n  source rack holding 3\n  poll 2 s\n  unit mA\n  stale after 1 s\n", "6:3: warning: x is stale after 1 s, and is read every 2 s, so that it is bad between two readings; make that longer, or poll it more often [short-settle]"},
		{"output o.mismatch\n  fail off\n", "1:8: error: o.mismatch would be the alarm of an output, o; a name has no dot [syntax]"},
		{"output o\n  fail off\nrule r\n  on when o.mismatch\n  call o\n", "4:11: error: the output o is not wired, so that nobody reads it back; add to it: drives DEVICE coil 0 [unknown-name]"},
		{"device d modbus tcp \"a:502\" unit 1\noutput o\n  drives d coil 1\n  fail off\nrule r\n  on when o.readback\n  call o\n", "6:11: error: o.readback is watched, and is good or bad; write o.readback is bad [wrong-kind]"},
		{"device d modbus tcp \"a:502\" unit 1\noutput o\n  drives d coil 1\n  fail off\nrule r\n  on when d\n  call o\n", "6:11: error: d is a device, which answers or does not; write d is bad, or d is good [wrong-kind]"},
		{"output o.unproven\n  fail off\n", "1:8: error: o.unproven would be the alarm of an output, o; a name has no dot [syntax]"},
		{"output o\n  fail off\n  proven by flow within 5 s\n", "3:13: error: nothing is named flow; did you mean low? [unknown-name]"},
		{"output o\n  fail off\n  proven by oxygen within 5 s\n", "3:13: error: oxygen is an analog input; what proves o is a discrete input that follows it [wrong-kind]"},
		{"output o\n  fail off\n  proven by mains 5 s\n", "3:19: error: 5 where \"within\" must stand, before how long it may take to follow [syntax]"},
		{"output o\n  fail off\nrule r\n  on when o.unproven\n  call o\n", "4:11: error: the output o has no alarm of its own; add to it: proven by INPUT within 5 s [unknown-name]"},
		{"output o\n  flash 5 mA\n  fail off\n", "2:9: error: 5 mA is no time; a duration has a unit such as s or min [syntax]"},
		// bands
		{"bands b\n  low: below 5 mg/L\n  fine: else\n", "1:8: error: the end of the line where \"of\" must stand, before the signal that is divided into bands [syntax]"},
		{"bands b of mains\n  low: below 5 mg/L\n  fine: else\n", "1:12: error: mains is a discrete input and has no value to compare or add [wrong-kind]"},
		{"bands b of oxygen\n  low: below 5 mg/L\n", "1:7: error: the bands b need at least one limit and, but for a ladder, below all of them the band in which the signal is otherwise, such as: fine: else [missing-clause]"},
		{"bands b of oxygen\n  low: below 5 mg/L\n  lower: below 4 mg/L\n  fine: else\n", "3:16: error: 4 mg/L after 5 mg/L; bands stand from the lowest limit up [band-order]"},
		{"bands b of oxygen\n  high: above 5 mg/L\n  higher: at or above low\n  fine: else\n", "3:23: error: low after 5 mg/L; bands stand from the highest limit down [band-order]"},
		{"bands b of oxygen\n  low: below 5 mg/L\n  high: above 6 mg/L\n  fine: else\n", "3:9: error: \"above\" beside \"below\"; all limits of bands go one way, `below` from the lowest up or `above` from the highest down [band-order]"},
		{"bands b of oxygen\n  low: below 5 mg/L\n  low: below 6 mg/L\n  fine: else\n", "3:8: error: two bands of b are named low; rename one [repeated-name]"},
		{"bands b of oxygen\n  low: below 5 V\n  fine: else\n", "2:14: error: oxygen is in mg/L (concentration) and 5 V is in V (voltage); they cannot be compared [unit-mismatch]"},
		{"bands b of oxygen\n  low: below 5 mg/L call low\n  fine: else\n", "2:26: error: low is a setpoint; a band calls outputs [wrong-kind]"},
		{"bands b of oxygen\n  not: below 5 mg/L\n  fine: else\n", "2:3: error: not cannot be the name of a band; a name has small letters and is no word of conditions [syntax]"},
		{"bands b of oxygen\n  low: under 5 mg/L\n  fine: else\n", "2:8: error: under is no clause of bands; it takes note, else, at or below, at or above, below, above, hysteresis, for and cumulative [syntax]"},
		{"bands b of oxygen\n  low: below 5 mg/L\n  fine: else\n  hysteresis 1 mA\n", "4:14: error: a hysteresis in mA (current) beside oxygen in mg/L (concentration); write it in mg/L [unit-mismatch]"},
		{"bands b of oxygen\n  low: below 5 mg/L\n  fine: else\nrule r\n  on when b is lower\n  call out\noutput out\n  fail off\n", "5:11: error: b is lower is true of no band of b; write b is low or b is fine [wrong-kind]"},
		{"bands b of oxygen\n  low: below 5 mg/L\n  fine: else\nrule r\n  on when b\n  call out\noutput out\n  fail off\n", "5:11: error: b is true of no band of b; write b is low or b is fine [wrong-kind]"},
		// alarms and recipients
		{"alarm a\n  on when mains\n  advice \"x\"\n", "1:7: error: the alarm a has no priority; write one of critical, high, medium or low [missing-clause]"},
		{"alarm a\n  priority high\n  advice \"x\"\n", "1:7: error: the alarm a has no `on when`; say when it comes [missing-clause]"},
		{"alarm a\n  on when mains\n  priority urgent\n  advice \"x\"\n", "3:12: error: urgent where the priority must stand: critical, high, medium, low [syntax]"},
		{"alarm a\n  on when mains\n  priority high\n", "1:7: warning: the alarm a gives no advice; say what to do: advice \"Open the bottle, then call the duty phone.\" [no-advice]"},
		{"alarm a\n  on when oxygen < low deadband 1 mg/L for 5 s\n  priority high\n  advice \"x\"\n", "2:33: error: `deadband` in an alarm: the standard for alarms calls by that word what is written `hysteresis` here; write which is meant, hysteresis or another limit [alarm-deadband]"},
		{"alarm a\n  on when mains\n  priority high\n  advice \"x\"\n  call low\n", "5:8: error: low is a setpoint; an alarm calls outputs [wrong-kind]"},
		{"alarm a\n  on when mains\n  priority high\n  advice \"x\"\n  call out until reset\noutput out\n  fail off\n", "5:18: error: reset where `acknowledged` must stand: call HORN until acknowledged [syntax]"},
		{"alarm a\n  on when mains\n  priority high\n  advice \"x\"\n  notify mains\n", "5:10: error: mains is a discrete input; an alarm notifies recipients [wrong-kind]"},
		{"alarm a\n  on when mains turns on\n  priority high\n  advice \"x\"\n", "2:3: error: mains turns on is true for an instant only, so a needs an end: `pulse`, `latch`, `off when` or `off after` [momentary]"},
		{"alarm a\n  on when a\n  priority high\n  advice \"x\"\n", "1:7: error: a depends on itself: a → a; break the circle [circle]"},
		{"alarm a\n  on when mains\n  off when not mains\n  latch\n  priority high\n  advice \"x\"\n", "3:3: error: `off when` beside `latch`: a latched rule stays on until it is reset; take one of the two out [exclusive-clauses]"},
		{"rule r\n  on when base is shelved\n  call out\noutput out\n  fail off\n", "2:11: error: base is a rule; only an alarm is shelved [wrong-kind]"},
		{"recipient x pager \"1\"\n", "1:13: error: pager where how it is told must stand: webhook, email [syntax]"},
		{"recipient x webhook \"office\"\n", "1:21: error: \"office\" is no web address; it begins with http:// or https:// [address]"},
		{"recipient x email \"office\"\n", "1:19: error: \"office\" is no mail address; write it as duty@fennick.example [address]"},
		{play + "  at 02:14 acknowledge base\n", "4:24: error: base is a rule; `acknowledge` is for an alarm [wrong-kind]"},
		// messages, and alarms of bad signals
		{"message m\n  every 1 h\n", "1:9: error: the message m sends nothing; add a line such as: send oxygen to office [missing-clause]"},
		{"message m\n  send oxygen to duty\nrecipient duty email \"a@b\"\n", "1:9: error: the message m is sent in 0 ways; write one of `every D`, `at start` and `when CONDITION` [missing-clause]"},
		{"message m\n  every 1 h\n  at start\n  send oxygen to duty\nrecipient duty email \"a@b\"\n", "1:9: error: the message m is sent in 2 ways; write one of `every D`, `at start` and `when CONDITION` [missing-clause]"},
		{"message m\n  every 1 h\n  send oxygen\n", "3:14: error: the end of the line where \"to\" must stand, before who is sent it [syntax]"},
		{"message m\n  every 1 h\n  send low to duty\nrecipient duty email \"a@b\"\n", "3:8: error: low is a setpoint; a message sends inputs, outputs and derived values [wrong-kind]"},
		{"message m\n  every 1 h\n  send oxygen to mains\n", "3:18: error: mains is a discrete input; a message is sent to recipients [wrong-kind]"},
		{"input x.bad discrete\n", "1:7: error: x.bad would be the alarm of an input, x; a name has no dot [syntax]"},
		{"input x discrete\ntrial t\n  play \"a.csv\"\n  expect x.bad off always\n", "4:10: error: the input x has no alarm of its own; add to it: alarm when bad [unknown-name]"},
		{"input x discrete\n  alarm when bad priority urgent\n", "2:27: error: urgent where the priority must stand: critical, high, medium, low [syntax]"},
		{"input x discrete\n  alarm when bad notify mains\n", "2:25: error: mains is a discrete input; an alarm notifies recipients [wrong-kind]"},
		// trials
		{"trial t\n  expect blower off always\n", "1:7: error: the trial t plays no recording; add a line such as: play \"recordings/night.csv\" [missing-clause]"},
		{"trial t\n  play \"a.csv\"\n", "1:7: error: the trial t expects nothing; add a line such as: expect OUTPUT off always [missing-clause]"},
		{"trial t\n  play a.csv\n  expect blower off always\n", "2:8: error: a where the path of the recording must stand, in quotes [syntax]"},
		{play + "  map \"DO\" oxygen\n", "4:12: error: oxygen where \"to\" must stand, before the point that the column is of [syntax]"},
		{play + "  map \"DO\" to low\n", "4:15: error: low is a setpoint; a column is of an input or an output [wrong-kind]"},
		{play + "  with oxygen 5 mg/L\n", "4:8: error: oxygen is an analog input; only a setpoint or a constant is given a value [wrong-kind]"},
		{play + "  with low 5 mA\n", "4:12: error: low is in mg/L (concentration) and cannot be 5 mA, which is in mA (current) [unit-mismatch]"},
		{play + "  at noon off blower\n", "4:6: error: noon where a time must stand: 02:14:00, 2026-03-02T02:14:00Z or +75 s [syntax]"},
		{play + "  at 02 off blower\n", "4:6: error: 02 is no time; write 02:14:00, 2026-03-02T02:14:00Z or +75 s [syntax]"},
		{play + "  at + off blower\n", "4:8: error: off where a duration must stand, such as 45 s, or the name of a setpoint of time [syntax]"},
		{play + "  at 02:14 stop blower\n", "4:12: error: stop where what a person does must stand: reset, set, hand, off, auto, pin, unpin, acknowledge [syntax]"},
		{play + "  at 02:14 reset base\n", "4:18: error: base is a rule; `reset` is for a rule or an alarm with `latch` [wrong-kind]"},
		{play + "  at 02:14 hand mains on\n", "4:17: error: mains is a discrete input; `hand` is for an output [wrong-kind]"},
		{play + "  at 02:14 hand blower 40 %\n", "4:24: error: blower is a discrete output; in hand it is on or off [wrong-kind]"},
		{play + "  at 02:14 pin oxygen on\n", "4:23: error: oxygen is an analog input and cannot be pinned to on [wrong-kind]"},
		{play + "  at 02:14 pin oxygen 5 mA\n", "4:23: error: oxygen is in mg/L (concentration) and cannot be pinned to 5 mA, which is in mA (current) [unit-mismatch]"},
		{play + "  at 02:14 set low\n", "4:19: error: the end of the line where the value must stand, such as 5.5 mg/L or on [syntax]"},
		{play + "  expect blower\n", "4:16: error: the end of the line where what is expected must stand: on, off, turns on, turns off, starts at most, between [syntax]"},
		{play + "  expect blower on\n", "4:19: error: the end of the line where a time must follow: always, at 02:14:00, from 02:14:00 to 02:40:00, or within 60 s of 02:14:00 [syntax]"},
		{play + "  expect blower turns on within 5 s 02:14:00\n", "4:37: error: 02 cannot follow 5 s; the parts of a duration go from the largest unit down [syntax]"},
		{play + "  expect blower starts at most often\n", "4:32: error: often where a whole number of starts must stand [syntax]"},
		{play + "  expect oxygen on always\n", "4:10: error: oxygen is an analog input; what is on or off is a rule, an alarm, a discrete output or a discrete input [wrong-kind]"},
		{play + "  expect blower between 1 mg/L and 2 mg/L always\n", "4:10: error: blower is an output; only a value lies between others [wrong-kind]"},
		{play + "  expect mains between 1 and 2 always\n", "4:10: error: mains is a discrete input; it is on or off [wrong-kind]"},
		{play + "  expect oxygen between 2 mg/L and 1 mg/L always\n", "4:25: error: `between` goes from the lower to the higher end; write 1 mg/L and 2 mg/L [syntax]"},
		{play + "  expect oxygen between 2 mA and 3 mg/L always\n", "4:25: error: oxygen is in mg/L (concentration), and its limits are in mA (current) and in mg/L (concentration) [unit-mismatch]"},
		{play + "  expect never (oxygen)\n", "4:17: error: oxygen is an analog input, not a condition; compare it with a value by < <= > or >= [wrong-kind]"},
		{play + "  expect hatch on always\n", "4:10: error: nothing is named hatch; declare it, or correct the name [unknown-name]"},
		// clauses that exclude each other
		{"rule r\n  on when mains\n  off when base\n  latch\n  call out\noutput out\n  fail off\n", "3:3: error: `off when` beside `latch`: a latched rule stays on until it is reset; take one of the two out [exclusive-clauses]"},
		{"rule r\n  on when mains\n  latch\n  minimum on 5 s\n  call out\noutput out\n  fail off\n", "4:3: error: `minimum on` beside `latch`: a latched rule stays on until it is reset; take one of the two out [exclusive-clauses]"},
		{"rule r\n  on when mains\n  reset when base\n  call out\noutput out\n  fail off\n", "3:3: error: `reset when` without `latch`: there is nothing to reset; add `latch`, or take it out [exclusive-clauses]"},
		{"rule r\n  on when mains\n  pulse 5 s\n  minimum off 5 s\n  call out\noutput out\n  fail off\n", "4:3: error: `minimum off` beside `pulse`: a pulse has its own end; take one of the two out [exclusive-clauses]"},
		{"rule r\n  on when mains\n  pulse 5 s\n  latch\n  call out\noutput out\n  fail off\n", "4:3: error: `latch` beside `pulse`: a pulse has its own end; take one of the two out [exclusive-clauses]"},
		{"rule r\n  on when mains\n  interlock if base\n  call out\noutput out\n  fail off\n", "3:13: error: if where the word before the condition must stand: when, unless [syntax]"},
		{"output out\n  minimum on 5 mA\n  fail off\nrule r\n  on when mains\n  call out\n", "2:14: error: 5 mA is no time; a duration has a unit such as s or min [syntax]"},
		{"rule r\n  on when mains\n  call low\n", "3:8: error: low is a setpoint; a rule calls outputs [wrong-kind]"},
		{"rule r\n  on when mains for mains\n  call out\noutput out\n  fail off\n", "2:21: error: mains is a discrete input; a duration is an amount of time or a setpoint or constant of time [wrong-kind]"},
		{"rule r\n  on when mains for low\n  call out\noutput out\n  fail off\n", "2:21: error: low cannot be a duration: 6 mg/L is no time; a duration has a unit such as s or min [unit-mismatch]"},
		{"rule r\n  call out\noutput out\n  fail off\n", "1:6: error: the rule r has no `on when`; say when it turns on [missing-clause]"},
		{"rule r\n  on when mains\n  off when not mains\n  off after 5 s\n  call out\noutput out\n  fail off\n", "4:3: error: `off after` beside `off when`: a rule has one way to turn off; take one of the two out [exclusive-clauses]"},
		{"rule r\n  on when mains\n  call out, out\noutput out\n  called by any\n  fail off\n", "3:13: error: out is called twice by the same rule; take one out [repeated-name]"},
		// units
		{"rule r\n  on when oxygen < 5 V hysteresis 1 mg/L\n  call out\noutput out\n  fail off\n", "2:20: error: oxygen is in mg/L (concentration) and 5 V is in V (voltage); they cannot be compared [unit-mismatch]"},
		{"rule r\n  on when oxygen < 5 hysteresis 1 mg/L\n  call out\noutput out\n  fail off\n", "2:20: error: oxygen is in mg/L (concentration) and 5 is a bare number; they cannot be compared [unit-mismatch]"},
		{"rule r\n  on when oxygen + 1 mA < low for 1 s\n  call out\noutput out\n  fail off\n", "2:20: error: oxygen is in mg/L (concentration) and 1 mA is in mA (current); they cannot be added [unit-mismatch]"},
		{"rule r\n  on when oxygen < low hysteresis 1 mA\n  call out\noutput out\n  fail off\n", "2:35: error: a hysteresis in mA (current) beside oxygen in mg/L (concentration); write it in mg/L [unit-mismatch]"},
		{"rule r\n  on when oxygen < low deadband -1 mg/L for 1 s\n  call out\noutput out\n  fail off\n", "2:33: error: a deadband of -1 mg/L; it is never below 0 [syntax]"},
		{"rule r\n  on when air + water > 1 degC for 1 s\n  call out\noutput out\n  fail off\n", "2:17: error: air and water are both temperatures; only a difference can be added to a temperature [unit-mismatch]"},
		{"rule r\n  on when air > band for 1 s\n  call out\noutput out\n  fail off\n", "2:17: error: air is a temperature and band is a temperature difference; they cannot be compared [unit-mismatch]"},
		{"rule r\n  on when air > 5 degC hysteresis water for 1 s\n  call out\noutput out\n  fail off\n", "2:35: error: water is a temperature, and a hysteresis is a difference; declare it with the word `difference` [unit-mismatch]"},
		{"rule r\n  on when band - air > 5 degC for 1 s\n  call out\noutput out\n  fail off\n", "2:18: error: band is a temperature difference and air a temperature; write the temperature first [unit-mismatch]"},
		{"rule r\n  on when -air > 5 degC for 1 s\n  call out\noutput out\n  fail off\n", "2:11: error: air is a temperature, and the negative of a temperature means nothing; write the number with its sign [unit-mismatch]"},
		{"constant c 5 mA difference\nrule r\n  on when oxygen < low for 1 s\n  call out\noutput out\n  fail off\n", "1:12: error: only a temperature can be a `difference`, and 5 mA is none; take the word out [unit-mismatch]"},
		{"input x\n  scale 0..5 V to 4..20 mA\n  scale 4..20 V to 0..5 mg/L\n", "3:3: error: this stage begins in V (voltage), but the one before it ends in mA (current); stages must join [chain]"},
		{"input x\n", "1:7: error: the input x has no unit; add stages such as `scale`, or `unit` if its readings are in engineering units, or write `input x discrete` if it is a contact [chain]"},
		{"input x\n  scale 0..5 V to 0..9 mg/L\n  unit mg/L\n", "3:3: error: `unit` beside stages: the last stage says the unit already; take one of the two out [exclusive-clauses]"},
		{"input x\n  unit mg/L\n  healthy 3.6..21 mA\n", "3:11: error: `healthy` in mA (current), but x has no such quantity in its chain: mg/L (concentration) [unit-mismatch]"},
		{"input x\n  unit mg/L\n  ignore changes under 1 mA\n", "3:24: error: a change in mA (current), but x is in mg/L (concentration) [unit-mismatch]"},
		{"constant gap -0.4 mg/L\nrule r\n  on when oxygen > 6 mg/L hysteresis gap\n", "3:38: error: gap as a hysteresis is -0.4 mg/L; it must be above 0 [setpoint-limits]"},
		{"constant gap 0 mg/L\nrule r\n  on when oxygen > 6 mg/L deadband gap\n", "3:36: error: gap as a deadband is 0 mg/L; it must be above 0 [setpoint-limits]"},
		{"setpoint gap 1 mg/L\n  allow 0..2 mg/L\nrule r\n  on when oxygen > 6 mg/L hysteresis (gap)\n", "4:38: error: gap is allowed from 0 mg/L, and as a hysteresis it must be above 0; let its limits begin there [setpoint-limits]"},
		{"setpoint s 5 mA\n  allow 1..2 mA\n", "1:12: error: the setpoint s is 5 mA, outside its own limits 1..2 mA; change one of the two [setpoint-limits]"},
		{"setpoint s 5 mA\n  allow 1..2 V\n", "2:9: error: limits in V (voltage) for a setpoint in mA (current); write them in mA [unit-mismatch]"},
		{"rule r\n  on when mains\n  call blower\n", "call"}, // see below: two callers
		// what is doubtful
		{"output o\n  fail off\n", "1:8: warning: nothing uses the output o; use it or take it out [unused]"},
		{"rule r\n  on when mains\n", "1:6: warning: the rule r calls no output; add: call OUTPUT [calls-nothing]"},
		{"rule r\n  on when mains\n  call o\noutput o\n", "4:8: warning: the output o has no fail state, so it goes off when its callers cannot decide; write `fail on`, `fail off` or `fail hold` [no-fail]"},
		{"rule r\n  on when oxygen < low\n  call o\noutput o\n  fail off\n", "2:11: warning: oxygen < low has neither `hysteresis` nor a delay, and r has no `off when`: noise at the trip point would switch it to and fro [no-hysteresis]"},
		{"setpoint s 5 s\nrule r\n  on when mains for s\n  call o\noutput o\n  fail off\n", "1:10: warning: the setpoint s has no limits; add a line such as: allow A..B s [no-allow]"},
		{"input x\n  scale 4..20 mA to 0..5 mg/L\nrule r\n  on when x < low for 1 s\n  call o\noutput o\n  fail off\n", "1:7: warning: x is a 4–20 mA input without `healthy`: a broken loop would read as a low value; add: healthy 3.6..21 mA [no-healthy]"},
	} {
		want := c.want
		switch want {
		case "":
			want = "a.rct:31:3: error: \"call\" is already written in line 29; name all that is called in one: call A, B [repeated-clause]"
		case "call":
			want = "a.rct:24:8: error: base and r call the output blower; say how they are combined: `called by any` or `called by all` [called-by]"
		default:
			var line int
			n, err := fmt.Sscanf(want, "%d", &line)
			require.NoError(t, err)
			require.Equal(t, 1, n)
			want = fmt.Sprintf("a.rct:%d%s", line+groundLines, want[strings.Index(want, ":"):])
		}
		_, found := parse(ground + c.text)
		var got []string
		for _, f := range found {
			got = append(got, f.String())
		}
		assert.Contains(t, got, want, "%.200s", c.text)
		assert.LessOrEqual(t, len(got), 2, "one mistake, and at most what follows from it: %v", got)
	}
}

// What other notations write is answered by what stands here in its place, once.
func TestMeant(t *testing.T) {
	for condition, want := range map[string]string{
		"oxygen > 5 mg/L for 10 sec":               "sec is no known unit; did you mean s? Put a unit of your own in quotes",
		"oxygen > 5 mg/l":                          "mg/l is no known unit; did you mean mg/L? Put a unit of your own in quotes",
		"oxygen => 5 mg/L":                         "=> is no sign here; write >=",
		"mains && base":                            "&& is no sign here; write and",
		"mains AND base":                           "AND is more than belongs here; write and in small letters",
		"mains = 1":                                "a state is asked for by `is`; write: mains is on",
		"mains = off":                              "a state is asked for by `is`; write: mains is off",
		"oxygen is above 5 mg/L":                   "a comparison is written with a sign; write: oxygen > …",
		"oxygen < 5 mg/L hysterisis 1 mg/L":        "hysterisis is more than belongs here; did you mean hysteresis?",
		"oxygen between 4,5 mg/L and 6 mg/L for 1": ", where \"and\" must stand, between the two ends; a number is written with a point, not with a comma",
	} {
		_, found := parse(ground + "output spare\n  fail off\nrule r\n  on when " + condition + "\n  off after 5 s\n  call spare\n")
		require.Len(t, found, 1, "%s: %v", condition, found)
		assert.Equal(t, want, found[0].Text)
	}
}

// A clause that is written twice hides nothing of what else is wrong, in either of the two.
func TestClauseTwice(t *testing.T) {
	text := ground + "output spare\n  fail off\nrule r\n  on when mains\n  interlock when nothing\n  interlock when mains or lost\n  call spare at nowhere\n"
	_, found := parse(text)
	var got []string
	for _, f := range found {
		got = append(got, f.Code)
	}
	assert.Equal(t, []string{"unknown-name", "repeated-clause", "unknown-name", "wrong-kind"}, got, "%v", found)
	assert.Contains(t, found[1].Text, "joined by `or`")
}

func TestTextThatIsNone(t *testing.T) {
	for text, want := range map[string]string{
		"job \"x\"\n# caf\xe9\n":                       "a.rct:2:6: error: byte 0xe9 is not UTF-8; save the sheet as UTF-8 text [encoding]",
		"\x7fELF\x00\x01":                              "a.rct:1:5: error: this is not a text file; a sheet is UTF-8 text [encoding]",
		strings.Repeat("# padding\n", sheet.MaxSize/9): "a.rct:1:1: error: this file is larger than 4 MiB and was not read; split it into several sheets [size]",
		"":                "a.rct:1:1: error: no sheet of this folder holds the job; begin one with: job \"Title\" [no-job]",
		"# only a note\n": "a.rct:1:1: error: no sheet of this folder holds the job; begin one with: job \"Title\" [no-job]",
	} {
		_, found := parse(text)
		require.Len(t, found, 1, "%.40q", text)
		assert.Equal(t, want, found[0].String())
	}
	_, err := sheet.ReadSources(fstest.MapFS{"readme.txt": {}})
	assert.ErrorIs(t, err, sheet.ErrNoSheets)
}

func TestManyErrorsInOneRun(t *testing.T) {
	_, found := parse("job \"x\"\nrule a\n  on when x < )\n  call\nrule b\n  on when )\n  off when y < 1\n  call z\n")
	var at []string
	for _, f := range found {
		at = append(at, fmt.Sprint(f.Line))
	}
	assert.Equal(t, []string{"3", "4", "6", "7", "8"}, at, "%v", found)
	assert.Equal(t, "      on when x < )\n                  ^", found[0].Excerpt([]string{"", "", "  on when x < )"}))
}

// Sheets of several files are one text; places name the file.
func TestSeveralSheets(t *testing.T) {
	folder := fstest.MapFS{
		"b.rct": {Data: []byte("rule r\n  on when x\n  call o\n")},
		"a.rct": {Data: []byte("\ufeffjob \"Two\"\r\n\r\ninput x discrete\r\n\r\noutput o\r\n  fail off\r\n")},
		"c.txt": {Data: []byte("not a sheet")},
	}
	sources, err := sheet.ReadSources(folder)
	require.NoError(t, err)
	job, found := sheet.Parse(sources)
	require.Empty(t, found)
	assert.Equal(t, "Two", job.Title)
	assert.Equal(t, "b.rct:1:1", job.Rule("r").At.String())
}

// The laid-out form of each testdata/NAME.rct stands in NAME.golden.
func TestLayout(t *testing.T) {
	files, err := filepath.Glob("testdata/*.rct")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		f, found := sheet.ParseFile(name, text)
		require.Empty(t, found)
		golden := strings.TrimSuffix(name, ".rct") + ".golden"
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		assert.Equal(t, string(want), f.String(), name)
	}
}

// Laying out is a fixed point, loses no comment, and does not change what the
// job means.
func TestLayoutIsAFixedPoint(t *testing.T) {
	check := func(t require.TestingT, text string) {
		job, found := parse(text)
		require.False(t, sheet.HasErrors(found), "%v\n%s", found, text)
		once := job.Files[0].String()
		again, found := parse(once)
		require.False(t, sheet.HasErrors(found), "%v\n%s", found, once)
		require.Equal(t, once, again.Files[0].String())
		require.Equal(t, comments(text), comments(once), "%s\n----\n%s", text, once)
		for _, r := range job.Rules {
			require.Equal(t, job.Say(r), again.Say(again.Rule(r.Name)))
		}
	}
	rapid.Check(t, func(t *rapid.T) { check(t, sheettest.Job(t)) })

	sources, err := sheet.ReadSources(os.DirFS("../../examples/hatchery"))
	require.NoError(t, err)
	for _, s := range sources {
		f, found := sheet.ParseFile(s.Name, s.Text)
		require.Empty(t, found)
		assert.Equal(t, string(s.Text), f.String(), s.Name)
	}
}

// comments counts the comments of a text, by what they say.
func comments(text string) map[string]int {
	all := map[string]int{}
	for _, line := range strings.Split(text, "\n") {
		quoted := false
		for i := 0; i < len(line); i++ {
			switch {
			case quoted && line[i] == '\\':
				i++
			case line[i] == '"':
				quoted = !quoted
			case line[i] == '#' && !quoted:
				all[strings.TrimRight(line[i:], " ")]++
				i = len(line)
			}
		}
	}
	return all
}

func TestSentence(t *testing.T) {
	for rule, want := range map[string]string{
		"on when oxygen < low for pause\n  off when oxygen > low + 0.4 mg/L for 2 min":                  "Call blower when oxygen is below low (6 mg/L) for pause (45 s). Stop when oxygen is above low (6 mg/L) + 0.4 mg/L for 2 min.",
		"on when not mains\n  off after 5 min":                                                          "Call blower when mains is off. Stop once that has been over for 5 min.",
		"on when (mains and (oxygen >= low deadband 1 mg/L)) for 5 s":                                   "Call blower when (mains is on and oxygen is at or above low (6 mg/L) with deadband 1 mg/L) for 5 s. Stop when that lets go.",
		"on when air > 5 degC deadband 1 degF hysteresis band or not (mains or mains)":                  "Call blower when air is above 5 degC with deadband 1 degF and hysteresis band (2 degF) or (not (mains is on or mains is on)). Stop when that lets go.",
		"on when at least 2 of (mains, base, oxygen is bad)\n  latch\n  reset when mains is off":        "Call blower when at least 2 of these hold: mains is on; base is on; oxygen is bad. Stay until reset, by a person or when mains is off, after that has let go.",
		"on when base is not on\n  latch\n  minimum off 5 s":                                            "Call blower when base is off. Stay until a person resets it, after that has let go. Off for at least 5 s.",
		"on when not (air is good)\n  pulse pause\n  interlock when base":                               "Call blower when air is not good. Stop after pause (45 s), and wait until that has let go. Interlocked, and off at once, when base is on.",
		"on when oxygen outside 4 mg/L and low hysteresis 1 mg/L or oxygen = low within 0.1 mg/L":       "Call blower when oxygen is outside 4 mg/L and low (6 mg/L) with hysteresis 1 mg/L or oxygen is within 0.1 mg/L of low (6 mg/L). Stop when that lets go.",
		"on when oxygen crosses low for 5 s\n  off when mains turns off or oxygen changes":              "Call blower when oxygen crosses low (6 mg/L) and has stayed there for 5 s. Stop when mains turns off or oxygen changes.",
		"on when mains changes\n  off after 5 s":                                                        "Call blower when mains changes. Stop 5 s after that.",
		"on when mains turns on or air crosses 5 degC\n  pulse 5 s":                                     "Call blower when mains turns on or air crosses 5 degC. Stop after 5 s.",
		"on when (air falling faster than 2 degF per min over pause) for 5 s":                           "Call blower when air falls faster than 2 degF per min over pause (45 s) for 5 s. Stop when that lets go.",
		"on when not oxygen is bad\n  permissive when mains\n  interlock unless base\n  minimum on 5 s": "Call blower when oxygen is not bad. Stop when that lets go. Permitted to turn on when mains is on. Interlocked, and off at once, unless base is on. On for at least 5 s.",
	} {
		job, found := parse(strings.Replace(ground, "fail on", "called by any\n  fail on", 1) + "rule r\n  " + rule + "\n  call blower\n")
		require.False(t, sheet.HasErrors(found), "%v", found)
		assert.Equal(t, want, job.Say(job.Rule("r")))
	}
}

// A job that is wrong in very many places is refused without looking for a near
// name at each.
func TestVeryManyUnknownNames(t *testing.T) {
	var b strings.Builder
	b.WriteString(ground + "output out\n  called by any\n  fail off\n")
	for i := range 900 {
		fmt.Fprintf(&b, "rule r%d\n  on when main\n  call out\n", i)
	}
	_, found := parse(b.String())
	require.Len(t, found, 900)
	assert.Equal(t, "nothing is named main; did you mean mains?", found[49].Text)
	assert.Equal(t, "nothing is named main; declare it, or correct the name", found[899].Text)
}

// Whatever the text, the parser ends, its findings are in the text, and what
// it lays out without a finding is a fixed point.
func FuzzParse(f *testing.F) {
	f.Add([]byte(ground))
	f.Add([]byte("job \"x\"\nrule r\n  on when (a < 1 and\n b > 2 mA) for 5 s # c\n  call x, y\n# end"))
	f.Add([]byte("constant c 1 h 30 min\nsetpoint d \"l\" -3.5 degF difference\n  allow -4..5 degF\n"))
	f.Add([]byte("input x\n  unit \"fish/m3\"\n\tsmooth median 5 samples\n  healthy 1..2 \"fish/m3\"\r\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		_, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: text}})
		lines := strings.Split(string(text), "\n")
		for _, x := range found {
			if x.Line < 1 || x.Line > len(lines) || x.Column < 1 {
				t.Fatalf("a finding outside the text: %v", x)
			}
			_ = x.Excerpt(lines)
		}
		file, found := sheet.ParseFile("a.rct", text)
		if len(found) > 0 {
			return
		}
		once := file.String()
		again, found := sheet.ParseFile("a.rct", []byte(once))
		if len(found) > 0 {
			t.Fatalf("laid out, it cannot be read: %v\n%s", found, once)
		}
		if twice := again.String(); once != twice {
			t.Fatalf("no fixed point:\n%s\n----\n%s", once, twice)
		}
	})
}
