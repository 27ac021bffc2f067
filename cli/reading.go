package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/recording"
	"rectura/core/recording/format"
	textfile "rectura/core/recording/text"
	"rectura/core/unit"
)

// readingFlags are what a person says of a recording's file that it does not
// say itself.
type readingFlags struct {
	timeColumn, timeFormat, zone, pattern, every string
	mappings                                     []string
	sort, skipBad                                bool
}

func addReading(c *cobra.Command, f *readingFlags) {
	flags := c.Flags()
	flags.StringVar(&f.timeColumn, "time-column", "", "the `heading` of the time, if it is none of time, timestamp, date, datetime")
	flags.StringVar(
		&f.timeFormat,
		"time-format",
		"",
		"rfc3339, elapsed, seconds, milliseconds, or a `layout` such as 'DD.MM.YYYY hh:mm:ss'",
	)
	flags.StringVar(&f.zone, "zone", "", "the `zone` of local times, such as Europe/Dublin or +01:00 (default: the job's)")
	flags.StringArrayVar(
		&f.mappings,
		"map",
		nil,
		"the point of a column, `COLUMN=POINT`, perhaps with its unit: 'DO R1=oxygen [mA]'; may be repeated",
	)
	flags.StringVar(
		&f.pattern,
		"pattern",
		"",
		"read a text capture by this `pattern`: 'raw: {lamp}', or a regular expression with a group named after each point",
	)
	flags.StringVar(&f.every, "every", "", "how far apart the lines of a text capture without times lie, a `duration`")
	flags.BoolVar(&f.sort, "sort", false, "bring rows whose times go back into order")
	flags.BoolVar(&f.skipBad, "skip-bad-rows", false, "count and list broken rows instead of refusing the file")
}

// options reads the flags; the job's zone counts where none is given.
func (f readingFlags) options(jobZone string) (o recording.Options, err error) {
	o = recording.Options{TimeColumn: f.timeColumn, TimeFormat: f.timeFormat, Sort: f.sort, SkipBadRows: f.skipBad}
	if name := cmp.Or(f.zone, jobZone); name != "" {
		if o.Zone, err = recording.LoadZone(name); err != nil {
			return o, fmt.Errorf("--zone: %w", err)
		}
	}
	for _, m := range f.mappings {
		mapping, err := recording.ParseMapping(m)
		if err != nil {
			return o, fmt.Errorf("--map: %w", err)
		}
		o.Map = append(o.Map, mapping)
	}
	if f.pattern != "" {
		if o.Pattern, err = textfile.Compile(f.pattern); err != nil {
			return o, fmt.Errorf("--pattern: %w", err)
		}
	}
	if f.every != "" {
		if o.Every, err = unit.ParseDuration(f.every); err != nil {
			return o, fmt.Errorf("--every: %w", err)
		}
	}
	return o, nil
}

// largeFile is the size from which on reading shows its progress, in bytes.
const largeFile = 20 << 20

// readRecording reads a recording, with a progress bar if it is large and a
// person is watching.
func readRecording(c *cobra.Command, path string, o recording.Options) (r *recording.Recording, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("opening the recording: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	info, err := f.Stat()
	if err != nil {
		return nil, fmt.Errorf("opening the recording: %w", err)
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s is a folder; a recording is a file", path)
	}
	progress, done := progressOf(c, info.Size(), "reading "+filepath.Base(path))
	o.Spread = spread
	r, err = format.Read(path, f, info.Size(), o, progress)
	var wrong *recording.Error
	if errors.As(err, &wrong) && wrong.Mend != "" {
		err = fmt.Errorf("%w (--%s)", err, wrong.Mend)
	}
	return r, errors.Join(err, done())
}

// spread runs tasks on all processors.
func spread(tasks []func()) {
	var all sync.WaitGroup
	for _, task := range tasks {
		all.Go(task)
	}
	all.Wait()
}

// progressOf gives a bar to write to; nil if nobody watches or there is little
// to wait for.
func progressOf(c *cobra.Command, size int64, what string) (progress io.Writer, done func() error) {
	if size < largeFile || !isTerminal(c.ErrOrStderr()) {
		return nil, func() error { return nil }
	}
	bar := progressbar.DefaultBytes(size, what)
	return bar, bar.Close
}

// params are the flags as the service takes them.
func (f readingFlags) params(name string) *client.UploadRecordingParams {
	p := &client.UploadRecordingParams{Name: name}
	for _, t := range []struct {
		text string
		into **string
	}{{f.timeColumn, &p.TimeColumn}, {f.timeFormat, &p.TimeFormat}, {f.zone, &p.Zone}, {f.pattern, &p.Pattern}, {f.every, &p.Every}} {
		if t.text != "" {
			*t.into = &t.text
		}
	}
	if len(f.mappings) > 0 {
		p.Map = &f.mappings
	}
	if f.sort {
		p.Sort = &f.sort
	}
	if f.skipBad {
		p.SkipBadRows = &f.skipBad
	}
	return p
}
