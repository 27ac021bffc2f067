package cli

import (
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service"
	"rectura/service/device/simulated"
)

// changing is what is another each time that docs/live.md is run: times, ages, how late the engine is.
var changing = regexp.MustCompile(`\d\d\d\d-\d\d-\d\d |\d\d:\d\d:\d\d(\.\d+)?|\d+\.\d m?s\b|\d+ MiB of memory|, of \d+ at the most`)

// numbered is the number of an entry of the journal, which is higher where the machine was slow: a write that comes late has
// a line of its own.
var numbered = regexp.MustCompile(`(?m)^ \d+ T`)

// steady leaves that out, with the blanks that stand for it in a table.
func steady(s string) string {
	s = regexp.MustCompile(` +`).ReplaceAllString(changing.ReplaceAllString(s, "T"), " ")
	return numbered.ReplaceAllString(s, " N T")
}

// alone is said where nothing keeps the machine's clock right, as on some of those that run these tests.
const alone = "\nNothing keeps the machine's clock right: times may be off. Synchronise it, by NTP say.\n"

// looks are the commands that only look, which may be a moment too early.
var looks = []string{"status", "points", "rules", "alarms", "bypasses", "journal", "why", "verify"}

// An evening is a service, and a rack that it is wired to.
type evening struct {
	t    *testing.T
	data string
	rack *simulated.Rack
	url  string
	stop func()
}

func (x *evening) start() {
	s, err := service.Start(
		x.t.Context(),
		service.Config{Data: x.data, Listen: "127.0.0.1:0", Version: "test", Log: slog.New(slog.NewTextHandler(io.Discard, nil))},
	)
	require.NoError(x.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	x.url = s.URL()
	x.stop = func() {
		cancel()
		require.NoError(x.t, <-done)
	}
}

// act does what a comment of the page says of the plant.
func (x *evening) act(comment string) {
	if strings.Contains(comment, "restarted") {
		x.stop()
		x.start()
		return
	}
	if m := regexp.MustCompile(`until (\w+) is found (\w+)`).FindStringSubmatch(comment); m != nil {
		require.Eventually(x.t, func() bool {
			out, _ := run(x.t, "points", m[1], "--format", "json", "--server", x.url)
			return strings.Contains(out, `"found": "`+m[2]+`"`)
		}, 10*time.Second, 10*time.Millisecond)
		return
	}
	for _, m := range regexp.MustCompile(`(\w+) (\d+) = (\d+)`).FindAllStringSubmatch(comment, -1) {
		address, _ := strconv.Atoi(m[2]) // which is digits
		value, _ := strconv.Atoi(m[3])
		if m[1] == "holding" {
			x.rack.SetWords("holding", address, uint16(value))
		} else {
			x.rack.SetBit(m[1], address, value != 0)
		}
	}
}

// command runs one of the page, and gives what it prints; one that only looks is run until it prints what it should.
func (x *evening) command(line, want string) string {
	args := words(line)[1:]
	if args[0] != "new" {
		args = append(args, "--server", x.url)
	}
	once := func() string {
		out, _ := run(x.t, args...)
		return strings.ReplaceAll(out, alone, "")
	}
	for limit := time.Now().Add(15 * time.Second); ; time.Sleep(20 * time.Millisecond) { // between two looks
		got := once()
		looking := false
		for _, l := range looks {
			looking = looking || args[0] == l
		}
		if !looking || steady(got) == steady(want) || time.Now().After(limit) || *update && time.Since(limit) > -9*time.Second {
			return got
		}
	}
}

// What docs/live.md shows is what happens on a rack. Times are those of the day on which it was written.
func TestLiveDocs(t *testing.T) {
	if testing.Short() {
		t.Skip("takes an evening")
	}
	name := "anna"
	before := who
	who = func() *string { return &name }
	t.Cleanup(func() { who = before })
	path, err := filepath.Abs("../docs/live.md")
	require.NoError(t, err)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	folder := t.TempDir()
	t.Chdir(folder)
	x := &evening{t: t, data: filepath.Join(folder, "data"), rack: rack}
	x.start()
	t.Cleanup(func() { x.stop() })
	got := regexp.MustCompile("(?ms)^<!-- (.*?) -->$|^```\n(\\$ .*?)^```$").ReplaceAllStringFunc(string(text), func(s string) string {
		if strings.HasPrefix(s, "<!--") {
			x.act(s)
			return s
		}
		return "```\n" + x.example(strings.TrimSuffix(strings.TrimPrefix(s, "```\n"), "```")) + "```"
	})
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	assert.Equal(t, steady(string(text)), steady(got))
}

// example runs the commands of a block, and is the block as it should stand.
func (x *evening) example(block string) string {
	var got strings.Builder
	for _, part := range strings.Split("\n"+strings.TrimSuffix(block, "\n"), "\n$ ")[1:] {
		command, printed, _ := strings.Cut(part, "\n")
		got.WriteString("$ " + command + "\n")
		if args := words(command); args[0] == "cat" {
			require.NoError(x.t, os.MkdirAll(filepath.Dir(args[1]), 0o755))
			wired := strings.ReplaceAll(printed, "127.0.0.1:1502", x.rack.Address())
			require.NoError(x.t, os.WriteFile(args[1], []byte(wired+"\n"), 0o644))
			got.WriteString(printed + "\n")
			continue
		}
		got.WriteString(x.command(command, printed+"\n"))
	}
	return got.String()
}

// A time that is asked for is of the job's clock, and of today where no day stands before it.
func TestMoment(t *testing.T) {
	zone := time.FixedZone("", 3600)
	today := time.Now().In(zone).Format(time.DateOnly)
	for text, want := range map[string]string{
		"02:14":                today + "T02:14:00+01:00",
		"02:14:05":             today + "T02:14:05+01:00",
		"2026-03-02 02:14":     "2026-03-02T02:14:00+01:00",
		"2026-03-02":           "2026-03-02T00:00:00+01:00",
		"2026-03-02T02:14:05Z": "2026-03-02T02:14:05Z",
	} {
		got, err := moment("--from", text, zone)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.Format(time.RFC3339), text)
	}
	_, err := moment("--from", "half past two", zone)
	assert.EqualError(t, err, `--from "half past two": write a time of today, such as 02:14, or a date and a time: 2026-03-02 02:14:05`)
}
