package recording

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Options are what a person may say of a file that does not say it itself. The
// zero value is for a file that says all.
type Options struct {
	TimeColumn  string         // its heading, if it is none of the usual ones
	TimeFormat  string         // as in TimeFormats; empty: found from the first rows
	Zone        *time.Location // of times that have none of their own; nil: UTC
	Map         []Mapping
	Sort        bool     // bring rows whose times go back into order
	SkipBadRows bool     // count and list broken rows instead of refusing the file
	Pattern     *Pattern // of a text capture
	Every       int64    // nanoseconds between the lines of a text capture that have no time
	Rows        int      // stop after so many rows, for a preview; 0: read all

	MostReadings int64 // of all columns together; 0: DefaultReadings

	// Spread runs tasks, perhaps at once, and returns when all are done; nil for
	// one after the other. Readers of large files share their work out by it.
	Spread func(tasks []func())
}

// A Pattern is how the lines of a text capture are read.
type Pattern struct {
	*regexp.Regexp
	Headings []string // of the groups, by their numbers; empty where one is no column
}

// Limits of what is read. What is larger is divided.
const (
	MaxColumns      = 4096
	DefaultReadings = 200_000_000                           // that take some 3 GB while they are read
	MaxSpan         = 292 * 365 * 24 * 3600 * 1_000_000_000 // nanoseconds from the first time of a recording to its last
)

// A Mapping gives a column of a file to a point, and perhaps says its unit.
type Mapping struct {
	Column, Point, Unit string
}

// ParseMapping reads `COLUMN=POINT` or `COLUMN=POINT [UNIT]`.
func ParseMapping(s string) (Mapping, error) {
	i := strings.LastIndex(s, "=")
	if i <= 0 {
		return Mapping{}, fmt.Errorf("%q is not COLUMN=POINT, such as 'DO R1=oxygen' or 'DO R1=oxygen [mA]'", s)
	}
	name, unit, err := SplitHeading(s[i+1:])
	if err != nil || name == "" {
		return Mapping{}, fmt.Errorf("%q is not COLUMN=POINT, such as 'DO R1=oxygen' or 'DO R1=oxygen [mA]'", s)
	}
	return Mapping{strings.TrimSpace(s[:i]), name, unit}, nil
}

// SplitHeading takes `oxygen [mA]` apart.
func SplitHeading(s string) (name, unit string, err error) {
	name, unit, found := strings.Cut(s, "[")
	name = strings.TrimSpace(name)
	if !found {
		return name, "", nil
	}
	unit, rest, closed := strings.Cut(unit, "]")
	if unit = strings.TrimSpace(unit); !closed || strings.TrimSpace(rest) != "" || unit == "" {
		return "", "", fmt.Errorf("the heading %s has a bracket that is not a unit at its end; write it as: name [unit]", s)
	}
	return name, unit, nil
}

// Heading puts a column's name and unit together again.
func (c *Column) Heading() string {
	if c.Unit == "" {
		return c.Name
	}
	return c.Name + " [" + c.Unit + "]"
}

// An Error is what is wrong with a file, and where. Line and Column count from
// 1, Column in characters; both are 0 where the whole file is meant.
type Error struct {
	File         string
	Line, Column int
	Text         string
	Mend         string // the option by which a person can mend it, as commands name it, such as time-format; or nothing
}

// A mendable error is one that an option mends.
type mendable struct {
	text, option string
}

func (m *mendable) Error() string { return m.text }

func mendedBy(option, format string, args ...any) error {
	return &mendable{fmt.Sprintf(format, args...), option}
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Text)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Text)
}

// Understood is how a file was taken, for a person to see whether that was
// right.
type Understood struct {
	Format     string // "CSV, wide"
	Separator  string // "comma", "semicolon", "tab"; empty where there is none
	Decimal    string // "point" or "comma"; empty where that is fixed
	TimeColumn string
	TimeFormat string // as in TimeFormats, "rfc3339"
	Zone       string // of times that have none of their own
}

func (u Understood) String() string {
	s := u.Format
	if u.Separator != "" {
		s += ", separated by " + u.Separator
	}
	if u.Decimal == "comma" {
		s += ", decimal comma"
	}
	if u.TimeFormat != "" {
		s += "; times " + u.TimeFormat
	}
	if u.Zone != "" {
		s += " in " + u.Zone
	}
	return s
}

// IsTimeName tells whether a heading is one of the usual ones of the time.
func IsTimeName(s string) bool {
	return slices.Contains([]string{"time", "timestamp", "date", "datetime"}, strings.ToLower(s))
}

// A Namer gives columns the names of points, as the mappings say.
type Namer struct {
	mappings []Mapping
	used     []bool
}

// NewNamer begins to name the columns of a file.
func NewNamer(o Options) *Namer { return &Namer{o.Map, make([]bool, len(o.Map))} }

// MaxName is the longest name of a column, in bytes.
const MaxName = 500

// Column makes the column of a heading.
func (n *Namer) Column(heading string) (*Column, error) {
	switch {
	case len(heading) > MaxName:
		return nil, fmt.Errorf("the heading %q is longer than %d bytes", Shorten(heading), MaxName)
	case !utf8.ValidString(heading):
		return nil, fmt.Errorf("the heading %q is no UTF-8 text", Shorten(heading))
	case strings.ContainsAny(heading, "\n\r\x00"):
		return nil, fmt.Errorf("the heading %q has a line break or a zero in it", Shorten(heading))
	}
	for i, m := range n.mappings {
		if m.Column == strings.TrimSpace(heading) {
			n.used[i] = true
			return &Column{Name: m.Point, Unit: m.Unit}, nil
		}
	}
	name, unit, err := SplitHeading(heading)
	if err != nil {
		return nil, err
	}
	for i, m := range n.mappings {
		if m.Column == name {
			n.used[i] = true
			if m.Unit != "" {
				unit = m.Unit
			}
			return &Column{Name: m.Point, Unit: unit}, nil
		}
	}
	return &Column{Name: name, Unit: unit}, nil
}

// Unused is an error if a mapping named a column that the file does not have.
func (n *Namer) Unused(file string, columns []*Column) error {
	for i, m := range n.mappings {
		if n.used[i] {
			continue
		}
		names := make([]string, len(columns))
		for k, c := range columns {
			names[k] = c.Heading()
		}
		return &Error{
			File: file,
			Mend: "map",
			Text: fmt.Sprintf("no column is named %s, which was mapped to %s; the file has %s", m.Column, m.Point, strings.Join(names, ", ")),
		}
	}
	return nil
}

// Mapped is a recording whose columns have the names that they would have been given
// if its file had been read with mappings. They share their readings.
func (r *Recording) Mapped(all []Mapping) (*Recording, error) {
	if len(all) == 0 {
		return r, nil
	}
	n, mapped := NewNamer(Options{Map: all}), *r
	mapped.Columns = make([]*Column, len(r.Columns))
	for i, c := range r.Columns {
		named, err := n.Column(c.Heading())
		if err != nil {
			return nil, err
		}
		other := *c
		other.Name, other.Unit = named.Name, named.Unit
		mapped.Columns[i] = &other
	}
	return &mapped, n.Unused("the recording", r.Columns)
}

// A Skipper counts and lists broken rows where they may be left out.
type Skipper struct {
	On    bool
	count int
	first []string
}

// listed is the number of broken rows that are listed one by one.
const listed = 10

// Skip tells whether a broken row is left out; if not, the error stands.
func (s *Skipper) Skip(err error) bool {
	e, ok := err.(*Error)
	if !s.On || !ok || e.Line == 0 {
		return false
	}
	if s.count++; len(s.first) < listed {
		s.first = append(s.first, e.Error())
	}
	return true
}

// Notes say what was left out.
func (s *Skipper) Notes() []string {
	if s.count == 0 {
		return nil
	}
	notes := []string{fmt.Sprintf("broken rows left out: %d", s.count)}
	notes = append(notes, s.first...)
	if more := s.count - len(s.first); more > 0 {
		notes = append(notes, fmt.Sprintf("and %d more broken rows", more))
	}
	return notes
}

// Shorten keeps a cell that is quoted in a message readable.
func Shorten[T string | []byte](b T) string {
	const most = 40
	if len(b) <= most {
		return string(b)
	}
	return string(b[:most]) + "…"
}
