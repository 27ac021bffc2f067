// Package sheet is the language in which a job is written: text to a model and back,
// and what is to be said of it.
//
// A job is a folder of sheets, files named NAME.rct in UTF-8. A line that begins in
// column 1 begins a declaration; the indented lines below it are its clauses. A # begins
// a comment. A line that ends with an operator, a comma or an open parenthesis goes on in
// the next. Names are made of small letters, digits and _; text stands in quotes.
//
//	job "Title"                       timezone ZONE · settle D · starts apart D
//	device NAME modbus tcp "HOST:PORT" unit N     poll D · timeout D · word order low|high first ·
//	device NAME modbus rtu "LINE" BAUD 8E1 unit N byte order low|high first · heartbeat TABLE N every D ·
//	                                  alarm when lost priority P
//	input NAME ["label"] [discrete]   source DEVICE TABLE N [TYPE] [bit N] [word order …] · poll D · stages: scale A..B U to C..D V,
//	                                  curve S to U, divider R to supply E, root …, correct X to Y, … · unit U ·
//	                                  healthy A..B U · stale after D · frozen after D within X ·
//	                                  unsteady beyond X within D · bad after D · good after D · alarm when bad … ·
//	                                  skip first N samples · smooth average|median N samples, lag D · clamp A..B U ·
//	                                  round nearest|down X · ignore changes under X
//	                                  discrete: inverted · debounce D · words "on", "off"
//	derived NAME = VALUE
//	setpoint NAME VALUE [difference]  allow A..B U
//	constant NAME VALUE
//	output NAME [analog A..B U]       drives DEVICE TABLE N [TYPE] [bit N] · refresh D · called by any|all|highest|lowest ·
//	                                  permissive when C · interlock when|unless C · minimum on D · minimum off D ·
//	                                  fail on|off|hold|VALUE · flash D · inverted · scale … · proven by INPUT within D ·
//	                                  service after D
//	rule NAME                         on when C · off when C · off after D · pulse D · latch · reset when C ·
//	                                  permissive when C · interlock when|unless C · minimum on D · minimum off D ·
//	                                  call OUTPUT [at VALUE], …
//	bands NAME of INPUT               [NAME:] at or below|below|at or above|above VALUE [call …] · else [call …] ·
//	                                  hysteresis VALUE · for D · cumulative
//	follow NAME                       call OUTPUT from INPUT A..B U to C..D V · while C
//	loop NAME                         keep INPUT at VALUE · acting reverse|direct · proportional band X · integral D ·
//	                                  bias X · derivative D · every D · while C · call OUTPUT
//	alarm NAME                        on when C · off when C · off after D · priority P · latch · reset when C ·
//	                                  inhibit when C · advice "…" · call … [until acknowledged] · notify RECIPIENT, …
//	recipient NAME webhook|email "…"
//	message NAME                      every D · at start · when C · send VALUE, … to RECIPIENT, …
//	trial NAME                        play "…" · map "…" to POINT · with SETPOINT VALUE · scan D · at T COMMAND ·
//	                                  expect …
//
// Every declaration takes notes, every point a tag and a terminal. D is a duration, such
// as 45 s or 1 min 30 s, or the name of a setpoint or constant of time. VALUE is made of
// quantities, names, + - * /, parentheses, and the functions min, max, average, median
// and abs; a condition C, after
//
//	condition = or-term [ "for" D ] .
//	or-term   = and-term { "or" and-term } .
//	and-term  = unary { "and" unary } .
//	unary     = "not" unary | "(" condition ")" | test .
//	test      = VALUE ( "<" | "<=" | ">" | ">=" ) VALUE [ "deadband" VALUE ] [ "hysteresis" VALUE ]
//	          | VALUE "=" VALUE "within" VALUE
//	          | VALUE ( "between" | "outside" ) VALUE "and" VALUE [ "hysteresis" VALUE ]
//	          | NAME [ "is" [ "not" ] ( "on" | "off" | "good" | "bad" | "unacknowledged" | "shelved" | band ) ]
//	          | NAME ( "turns on" | "turns off" | "changes" )
//	          | VALUE "crosses" VALUE [ "for" D ]
//	          | VALUE ( "rising" | "falling" ) "faster than" rate "over" D
//	          | "at least" N "of" "(" condition { "," condition } ")"
//	          | "time between" CLOCK "and" CLOCK .
//
// What reads two ways needs parentheses: `and` beside `or`, `for` behind either. Values
// have units; what does not go together is a finding, as is everything else that is
// wrong, with its place and what to do. Parse reads a job, and String of a File lays it
// out, so that reading it back gives the same.
//
// Where things stand: lex.go makes tokens of text, parse.go declarations of lines, and
// clause.go binds each clause to its field in a row, from which its parsing, its layout,
// its checks and the words of editors follow; expr.go has conditions and values. The
// file of a declaration (rule and job in parse.go, output.go, loop.go, …) has its rows, its
// check and its sentence.
package sheet
