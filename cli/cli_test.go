package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/device/simulated"
)

var update = flag.Bool("update", false, "write what the commands print into testdata/*.golden")

// run runs a command line as a shell would call it.
func run(t *testing.T, args ...string) (out string, code int) {
	t.Helper()
	var b bytes.Buffer
	code = Run(t.Context(), args, &b, &b)
	return b.String(), code
}

// Each testdata/NAME.golden is commands, "$ rectura check DIR", each with what
// it prints and its exit code. HATCHERY stands for the demo job.
func TestGoldens(t *testing.T) {
	hatchery, err := filepath.Abs("../examples/hatchery")
	require.NoError(t, err)
	files, err := filepath.Glob("testdata/*.golden")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		t.Run(filepath.Base(name), func(t *testing.T) {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			var got strings.Builder
			for _, line := range strings.Split(string(text), "\n") {
				command, ok := strings.CutPrefix(line, "$ rectura ")
				if !ok {
					continue
				}
				out, code := run(t, words(strings.ReplaceAll(command, "HATCHERY", hatchery))...)
				fmt.Fprintf(&got, "%s\n%s", line, strings.ReplaceAll(out, hatchery, "HATCHERY"))
				if code != 0 {
					fmt.Fprintf(&got, "[exit %d]\n", code)
				}
				got.WriteByte('\n')
			}
			if *update {
				require.NoError(t, os.WriteFile(name, []byte(got.String()), 0o644))
			}
			assert.Equal(t, string(text), got.String())
		})
	}
}

// words takes a command apart as a shell does, quotes included.
func words(s string) []string {
	var all []string
	for _, m := range regexp.MustCompile(`'([^']*)'|(\S+)`).FindAllStringSubmatch(s, -1) {
		all = append(all, m[1]+m[2])
	}
	return all
}

// write makes files below a new folder.
func write(t *testing.T, files map[string]string) string {
	t.Helper()
	folder := t.TempDir()
	for name, text := range files {
		path := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	return folder
}

const small = "job \"Small\"\n\ninput k discrete\n\noutput o\n  fail off\n\nrule r\n  on when k\n  call o\n"

// What is wrong is said in a sentence, with the exit code that goes with it.
func TestBadInput(t *testing.T) {
	folder := write(t, map[string]string{
		"good/a.rct": small, "good/recordings/a.csv": "time,k\n0,0\n5,1\n", "good/recordings/back.csv": "time,k\n5,0\n4,1\n", "good/recordings/text.csv": "time,k\n5,maybe\n",
		"good/recordings/half.csv": "time,k\n0,0.5\n", "good/recordings/empty.csv": "", "good/recordings/short.csv": "time,k,x\n0,1\n", "good/recordings/binary.csv": "\x00\x01",
		"tried/a.rct":            small + "\ntrial fails\n  play \"recordings/a.csv\"\n  expect o on always\n\ntrial lost\n  play \"recordings/lost.csv\"\n  expect o on always\n\ntrial beyond\n  play \"../good/recordings/a.csv\"\n  expect o on always\n",
		"tried/recordings/a.csv": "time,k\n0,0\n5,1\n", "empty/readme.txt": "", "latin/a.rct": "job \"caf\xe9\"\n", "tab/a.rct": "job \"x\"\n\tsettle 5 s\n", "long/recordings/a.csv": "time,k\n0," + strings.Repeat("1", 2<<20), "long/a.rct": small,
	})
	for _, c := range []struct {
		args string
		code int
		want string
	}{
		{"check DIR/empty", 2, `rectura: DIR/empty: no sheet (a file NAME.rct) is in this folder; begin one with: job "Title"`},
		{"check DIR/nothing", 2, "rectura: there is no folder DIR/nothing; a job is the folder that holds its sheets"},
		{"check DIR/good/a.rct", 2, "rectura: DIR/good/a.rct is a file; a job is the folder that holds the sheets"},
		{"check DIR/latin", 1, "DIR/latin/a.rct:1:9: error: byte 0xe9 is not UTF-8; save the sheet as UTF-8 text [encoding]"},
		{"check DIR/tab", 1, "DIR/tab/a.rct:2:1: error: a tab; indent and separate with blanks [tab]"},
		{"fmt DIR/tab", 2, "rectura: a sheet with errors is not laid out; nothing was written"},
		{"show DIR/tab", 2, "rectura: DIR/tab cannot run until its 1 error is mended"},
		{"replay DIR/good a", 0, "no longer"},
		{"replay DIR/good b", 2, "rectura: no recording b is here nor in DIR/good/recordings; it has a.csv, back.csv, binary.csv, empty.csv, half.csv, short.csv, text.csv"},
		{"replay DIR/good back", 2, "rectura: DIR/good/recordings/back.csv:3:1: the time goes back, from 5 to 4; sort the rows by time (--sort)"},
		{"replay DIR/good text", 2, `DIR/good/recordings/text.csv:2:3: k: "maybe" is no reading`},
		{"replay DIR/good half", 2, "rectura: playing recordings/half.csv: column k, at +0 s: 0.5 is neither 0 nor 1, and k is a discrete input"},
		{"replay DIR/good empty", 2, "DIR/good/recordings/empty.csv: the file is empty"},
		{"replay DIR/good short", 2, "DIR/good/recordings/short.csv:2:4: this row ends after cell 2 of 3; x is missing"},
		{"replay DIR/good binary", 2, "DIR/good/recordings/binary.csv: this is not a text file"},
		{"replay DIR/long a", 2, "DIR/long/recordings/a.csv:2:1: this line is longer than 1 MiB; this is no CSV recording"},
		{"replay DIR/good a --set x", 2, `rectura: --set: "x" is not NAME=VALUE, such as oxygen_low=5.5mg/L`},
		{"replay DIR/good a --scan 0s", 2, `rectura: --scan: "0s" is not above 0`},
		{"replay DIR/good a --from noon", 2, `rectura: "noon" is no time of this recording, which has elapsed seconds`},
		{"replay DIR/good a --plot a.gif", 2, "rectura: --plot a.gif: the file's name ends in .svg or .png"},
		{"replay DIR/good a --plot DIR/no/a.svg", 2, "rectura: drawing: open DIR/no/a.svg: no such file or directory"},
		{"replay DIR/good a --format xml", 2, "rectura: --format xml: it is one of table, json, csv"},
		{"replay DIR/good a --sacn 5s", 2, "rectura: rectura replay has no option --sacn; did you mean --scan?; see: rectura replay --help"},
		{"replay DIR/good", 2, "rectura: RECORDING is missing: rectura replay JOB RECORDING [flags]; for example: rectura replay examples/hatchery night"},
		{"scale DIR/good k 5mA", 2, "rectura: k is a discrete input and has no chain"},
		{"scale DIR/good z 5mA", 2, "rectura: DIR/good has no input named z"},
		{"show DIR/good z", 2, "rectura: nothing in DIR/good is named z"},
		{"serve --listen 0.0.0.0:0 --data DIR/data", 2, "rectura: the address 0.0.0.0:0 can be reached from other machines; the service listens on loopback only"},
		{"serve --upload-limit 0", 2, "rectura: --upload-limit 0: it is from 1 to 1048576 MiB"},
		{"replay DIR/good a --zone Erewhon", 2, `rectura: --zone: "Erewhon" is no known time zone; write its IANA name, such as Europe/Dublin, or its offset from UTC, such as +01:00`},
		{"replay DIR/good a --map k", 2, `rectura: --map: "k" is not COLUMN=POINT, such as 'DO R1=oxygen' or 'DO R1=oxygen [mA]'`},
		{"replay DIR/good a --map z=k", 2, "rectura: DIR/good/recordings/a.csv: no column is named z, which was mapped to k; the file has k (--map)"},
		{"replay DIR/good a --pattern (", 2, "rectura: --pattern: error parsing regexp"},
		{"replay DIR/good a --pattern (?P<k>1)", 2, "rectura: DIR/good/recordings/a.csv: the pattern has no group named time, and nothing says how far apart the lines are"},
		{"replay DIR/good a --pattern (?P<k>1) --every soon", 2, `rectura: --every: "soon" is not a duration`},
		{"replay DIR/good a --time-format D.M.Y", 2, `the time format "D.M.Y" is neither one of rfc3339`},
		{"replay DIR/good a --save a.txt", 2, "rectura: --save a.txt: the file's name ends in .csv, .jsonl or .parquet"},
		{"replay DIR/good back --sort", 0, "k"},
		{"replay DIR/good text --skip-bad-rows", 2, "no row of the file can be read; the first is DIR/good/recordings/text.csv:2:3"},
		{"convert DIR/good/recordings/a.csv", 2, "rectura: --output is missing; for example: rectura convert"},
		{"convert DIR/good/recordings/a.csv -o DIR/a.txt", 2, "rectura: -o DIR/a.txt: the file's name ends in .csv, .jsonl or .parquet"},
		{"convert DIR/good/recordings/a.csv -o DIR/good/recordings/a.csv", 2, "rectura: -o DIR/good/recordings/a.csv: that is the recording itself"},
		{"convert DIR/good/recordings/a.csv -o DIR/no/a.parquet", 2, "rectura: writing the recording: open DIR/no/a.parquet: no such file or directory"},
		{"convert DIR/good -o DIR/a.csv", 2, "rectura: DIR/good is a folder; a recording is a file"},
		{"convert DIR/none.csv -o DIR/a.csv", 2, "rectura: opening the recording: open DIR/none.csv: no such file or directory"},
		{"calibrate DIR/good k 1=1", 2, "rectura: k is a discrete input and cannot be calibrated"},
		{"calibrate DIR/good z 1=1", 2, "rectura: no input is named z"},
		{"calibrate DIR/good k high=1", 2, `rectura: measured: "high" does not begin with a number`},
		{"teach DIR/good k --recording a --normal +0s..+1s --trouble +1s..+5s", 2, "rectura: k is a discrete input; only an analog one has a trip point"},
		{"teach DIR/good k --recording a --normal noon..+1s --trouble +1s..+5s", 2, `rectura: --normal: "noon" is no time of this recording`},
		{"teach DIR/good k --recording a --like o --normal +0s..+1s", 2, "rectura: --like stands in the place of --normal and --trouble; give one or the other"},
		{"scale DIR/good k", 2, "rectura: give a value, such as 12mA, or --from, --to and --step"},
		{"scale DIR/good k 5 --from 1", 2, "rectura: --from, --to and --step stand in the place of values; give one or the other"},
		{"iolist import DIR/good DIR/none.csv", 2, "rectura: opening the list: open DIR/none.csv: no such file or directory"},
		{"iolist import DIR/good DIR/good/a.rct --map x", 2, `rectura: --map: "x" is not OURS=THEIRS, such as 'point=Signal name'`},
		{"iolist export DIR/tab DIR/a.csv", 2, "rectura: DIR/tab cannot run until its 1 error is mended"},
		{"push DIR/good --server http://127.0.0.1:1", 2, "rectura: asking the service; is it running?"},
		{"recordings DIR/none.csv --server http://127.0.0.1:1", 2, "rectura: opening the recording: stat DIR/none.csv: no such file or directory"},
		{"try DIR/good z=1", 2, "rectura: no input, setpoint or constant is named z"},
		{"try DIR/good k=ajar", 2, `rectura: k: "ajar" is no state of a contact; write on, off or bad`},
		{"try DIR/good k=on", 0, "called by r"},
		{"try DIR/good k=off,on", 0, "off  off  off"},
		{"trip DIR/good r", 2, "rectura: r depends on no analog input, so it has no trip point"},
		{"why DIR/good a r --at +5s", 0, "r, rule: on at +5 s, since +5 s"},
		{"why DIR/good a o", 0, "It does not change again in this recording."},
		{"why DIR/good a o --at +9s", 2, "rectura: asking recordings/a.csv: +9 s is outside the recording, which goes from +0 s to +5 s"},
		{"why DIR/good a z", 2, "rectura: asking recordings/a.csv: no input, rule, alarm, bands, follow, loop, message or output is named z"},
		{"why DIR/good a r --at noon", 2, `rectura: --at: "noon" is no time of this recording`},
		{"why DIR/good a r --format csv", 2, "rectura: --format csv: an explanation is no table; choose table or json"},
		{"trial DIR/good", 2, "rectura: DIR/good has no trials; a trial is a declaration of its sheets"},
		{"trial DIR/good t", 2, "rectura: DIR/good has no trial named t"},
		{"trial DIR/tried fails", 1, "o on always  off at +0 s"},
		{"trial DIR/tried lost", 2, "rectura: trial lost: opening the recording: open DIR/tried/recordings/lost.csv: no such file or directory"},
		{"trial DIR/tried beyond", 2, "rectura: trial beyond: ../good/recordings/a.csv is outside the job's folder"},
		{"check DIR/tried", 1, "a.rct:17:3: error: the recording recordings/lost.csv of the trial lost is not in the job's folder; put it there, or correct its path [no-recording]"},
		{"trip DIR/good z", 2, "rectura: no rule, alarm or bands are named z"},
		{"trip DIR/good r --with k", 2, `rectura: --with: "k" is not NAME=VALUE, such as oxygen=5.9mg/L`},
		{"frobnicate", 2, "rectura: rectura has no command frobnicate; see: rectura --help"},
	} {
		out, code := run(t, words(strings.ReplaceAll(c.args, "DIR", folder))...)
		out = strings.ReplaceAll(out, folder, "DIR")
		assert.Equal(t, c.code, code, "%s\n%s", c.args, out)
		if c.want == "no longer" {
			c.want = "called by r"
		}
		assert.Contains(t, out, c.want, c.args)
	}
}

func TestFmt(t *testing.T) {
	folder := write(t, map[string]string{"a.rct": "job   \"Small\"\n" + strings.TrimPrefix(small, "job \"Small\"\n")})
	file := filepath.Join(folder, "a.rct")
	require.NoError(t, os.Chmod(file, 0o640))
	out, code := run(t, "fmt", folder, "--diff")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "-job   \"Small\"\n+job \"Small\"\n")
	out, code = run(t, "fmt", folder)
	assert.Equal(t, 0, code)
	assert.Equal(t, file+"\n", out)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, small, string(text))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	out, code = run(t, "fmt", folder, "--diff")
	assert.Equal(t, 0, code)
	assert.Empty(t, out)
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "no temporary file is left")
}

// The JSON of a replay has the fields that stay, and its times are exact.
func TestReplayJSON(t *testing.T) {
	folder := write(
		t,
		map[string]string{
			"a.rct":            small,
			"recordings/a.csv": "time,k\n2.000000001,0\n3.5,1\n9,1\n",
			"recordings/b.csv": "time,k,other\n2026-03-02T02:00:00Z,0,1\n2026-03-02T02:00:00.25Z,1,1\n",
		},
	)
	out, code := run(t, "replay", folder, "a", "--format", "json")
	assert.Equal(t, 0, code)
	assert.JSONEq(
		t,
		`{"job": "Small", "recording": "recordings/a.csv", "start": 2.000000001, "end": 9.0, "seconds": 6.999999999, "samples": 3,
		"transitions": [
			{"t": 1.499999999, "time": 3.5, "name": "r", "kind": "rule", "from": "off", "to": "on", "because": "k is on"},
			{"t": 1.499999999, "time": 3.5, "name": "o", "kind": "output", "from": "off", "to": "on", "because": "called by r"}],
		"summary": [
			{"name": "r", "kind": "rule", "starts": 1, "on_seconds": 5.5, "undecided_seconds": 0, "final": "on"},
			{"name": "o", "kind": "output", "starts": 1, "on_seconds": 5.5, "undecided_seconds": 0, "final": "on"}],
		"warnings": []}`,
		out,
	)
	assert.Contains(t, out, `"t": 1.499999999`, "to the nanosecond")
	out, code = run(t, "replay", folder, "b", "--format", "json")
	assert.Equal(t, 0, code)
	_, out, _ = strings.Cut(out, "\n") // the warning, on standard error
	var v struct {
		Start, End string
		Warnings   []string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &v))
	assert.Equal(t, "2026-03-02T02:00:00Z 2026-03-02T02:00:00.25Z", v.Start+" "+v.End)
	assert.Equal(t, []string{"column other is no point of this job"}, v.Warnings)
}

func TestPlot(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{"night.svg", "night.png"} {
		_, code := run(t, "replay", "../examples/hatchery", "night", "--plot", filepath.Join(folder, name))
		require.Equal(t, 0, code)
	}
	svg, err := os.ReadFile(filepath.Join(folder, "night.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(svg), "recordings/night.csv, 1 March 2026, 22:00:00 to 04:00:00 UTC, 6 h")
	f, err := os.Open(filepath.Join(folder, "night.png"))
	require.NoError(t, err)
	defer f.Close()
	_, err = png.Decode(f)
	require.NoError(t, err)
}

// With another number in a clause, the reasons tell that one, in every format.
func TestReasonsOfOtherNumbers(t *testing.T) {
	folder := write(t, map[string]string{
		"gate/a.rct": "job \"Gate\"\n\ninput flow\n  unit L/s\n\noutput lamp\n  fail off\n\nrule high\n  on when flow > 60 L/s hysteresis 10 L/s\n  call lamp\n",
		"gate/r.csv": "time,flow\n0,20\n1,80\n2,20\n",
	})
	for _, format := range []string{"table", "csv", "json"} {
		out, code := run(
			t,
			"replay",
			filepath.Join(folder, "gate"),
			filepath.Join(folder, "gate", "r.csv"),
			"--set",
			"high.hysteresis=5L/s",
			"--format",
			format,
		)
		assert.Equal(t, 0, code)
		assert.Contains(t, out, "flow 20 L/s <= 55 L/s (reset point of flow > 60 L/s hysteresis 5 L/s)", format)
	}
}

// The service's commands, against a service that runs as `demo` does.
func TestService(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	reader, writer, err := os.Pipe()
	require.NoError(t, err)
	ended := make(chan int, 1)
	go func() {
		ended <- Run(ctx, []string{"demo", "--listen", "127.0.0.1:0", "--data", t.TempDir()}, writer, &bytes.Buffer{})
		writer.Close()
	}()
	buf := make([]byte, 4096)
	n, err := reader.Read(buf)
	require.NoError(t, err)
	server := regexp.MustCompile(`http://[0-9.:]+`).FindString(string(buf[:n]))
	require.NotEmpty(t, server)
	t.Setenv(serverVariable, server)

	folder := write(t, map[string]string{"a.rct": small, "wrong/a.rct": "job \"x\"\nrule r\n  on when z\n", "b.csv": "time,k\n0,1\n0,0\n",
		"Small hut/a.rct": small + "\ntrial dip\n  play \"recordings/a.csv\"\n  expect o on at +5 s\n\ntrial lost\n  play \"recordings/lost.csv\"\n  expect o on at +5 s\n", "Small hut/recordings/a.csv": "time,k\n0,0\n5,1\n"})
	out, code := run(t, "push", folder, "--job", "hatchery", "--note", "a small one")
	assert.Equal(t, "Small: revision 2 of hatchery\n", out)
	assert.Equal(t, 0, code)
	out, code = run(t, "push", filepath.Join(folder, "wrong"))
	assert.Equal(t, 1, code)
	assert.Contains(
		t,
		out,
		"wrong/a.rct:3:11: error: nothing is named z; declare it, or correct the name [unknown-name]\n      on when z\n              ^\n",
	)
	out, code = run(t, "revisions")
	assert.Equal(t, 0, code)
	assert.Regexp(t, `(?m)^ +2  \S+ \S+  Small +1 +1 +1 +0  a small one$`, out)
	out, _ = run(t, "recordings", filepath.Join(folder, "b.csv"))
	assert.Equal(
		t,
		"b.csv: recording 5, 1 readings, kept in 1 kB\nb.csv: readings that came again for the same time, of which the later counts: 1\n",
		out,
	)
	out, code = run(t, "recordings", filepath.Join(folder, "b.csv"))
	assert.Equal(t, 2, code)
	assert.Equal(t, "rectura: keeping recording b.csv: exists already\n", out)
	out, _ = run(t, "recordings", "--format", "csv")
	assert.Contains(t, out, "3,night.csv,2026-03-01 22:00:00Z,6 h,8,172808,")
	out, _ = run(t, "recordings", "rename", "5", "c.csv")
	assert.Equal(t, "recording 5: c.csv\n", out)
	out, _ = run(t, "recordings", "delete", "5")
	assert.Equal(t, "recording 5 is deleted\n", out)
	out, code = run(t, "recordings", "delete", "3")
	assert.Equal(t, "rectura: Deleting recording 3: a trial of revision 1 plays it: it is needed.\n", out)
	assert.Equal(t, 2, code)

	hut := filepath.Join(folder, "Small hut")
	lost := "trial lost: its recording recordings/lost.csv is not in the job's folder, so the service cannot play it\n"
	out, _ = run(t, "push", hut)
	assert.Equal(t, "a.csv: recording 6, 2 readings\n"+lost+"Small: revision 1 of small-hut\n", out)
	out, _ = run(t, "push", hut)
	assert.Equal(t, lost+"Small: revision 1 of small-hut is the same already\n", out)
	require.NoError(t, os.WriteFile(filepath.Join(hut, "recordings", "a.csv"), []byte("time,k\n0,1\n5,1\n"), 0o600))
	out, _ = run(t, "push", hut)
	assert.Regexp(t, `^a \([0-9a-f]{7}\)\.csv: recording 7, 2 readings\n(?s).*Small: revision 2 of small-hut\n$`, out)
	out, _ = run(t, "jobs", "--format", "csv")
	assert.Equal(t, "JOB,TITLE,NEWEST,REVISIONS,RECORDINGS\nhatchery,Small,2,2,4\nsmall-hut,Small,2,2,2\n", out)
	out, code = run(t, "revisions")
	assert.Equal(t, "rectura: the service keeps the jobs hatchery and small-hut; say which: --job hatchery\n", out)
	assert.Equal(t, 2, code)
	out, _ = run(t, "jobs", "delete", "small-hut")
	assert.Equal(t, "rectura: small-hut has 2 revisions and 2 recordings, which would be gone for good; if that is meant, say --yes\n", out)
	out, _ = run(t, "jobs", "delete", "small-hut", "--yes")
	assert.Equal(t, "small-hut is deleted.\n", out)

	probeRack(t)

	stop()
	assert.Equal(t, 0, <-ended)
	require.NoError(t, reader.Close())
}

// probeRack looks at what stands in a rack, under every type.
func probeRack(t *testing.T) {
	rack, err := simulated.Start()
	require.NoError(t, err)
	defer func() { require.NoError(t, rack.Close()) }()
	rack.SetWords("holding", 4, 0x51ec, 0x40e8)
	pond := write(
		t,
		map[string]string{
			"pond/a.rct": "job \"Pond\"\ndevice rack modbus tcp \"" + rack.Address() + "\" unit 1\n  word order low first\ninput ph\n  source rack holding 4 real\n  unit pH\n  healthy 2..12 pH\n" +
				"output horn\n  drives rack coil 7\n  fail off\nrule r\n  on when ph < 6 pH hysteresis 0.2 pH\n  call horn\n",
		},
	)
	_, code := run(t, "push", filepath.Join(pond, "pond"))
	require.Equal(t, 0, code)
	out, code := run(t, "registers", "--probe", "ph", "--job", "pond")
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "ph: rack holding 4, 400005\nTYPE   ORDER     WORDS")
	assert.Regexp(t, `(?m)^real   CDAB      51ec 40e8 +7\.26  as wired$`, out)
	assert.Regexp(t, `(?m)^udint  CDAB      51ec 40e8 +1088967148$`, out)
	out, _ = run(t, "registers", "--probe", "horn", "--job", "pond")
	assert.Equal(t, "horn: rack coil 7, 000008: off\n", out)
	out, code = run(t, "registers", "--probe", "phi", "--job", "pond")
	assert.Equal(t, 2, code)
	assert.Equal(t, "rectura: Nothing in this job is named phi.\n", out)
	for _, args := range [][]string{{"registers"}, {"registers", pond, "--probe", "ph"}} {
		_, code = run(t, args...)
		assert.Equal(t, 2, code)
	}
}

func TestCompletion(t *testing.T) {
	for args, want := range map[string]string{
		"__complete show ../examples/hatchery stand": "standby_blower\tStandby blower on low oxygen",
		"__complete scale ../examples/hatchery ox":   "oxygen\tRaceway 1 dissolved oxygen",
		"__complete replay ../examples/hatchery nig": "night.csv",
		"__complete replay x y --format j":           "json",
		"completion bash":                            "bash completion",
	} {
		out, code := run(t, strings.Fields(args)...)
		assert.Equal(t, 0, code)
		assert.Contains(t, out, want, args)
	}
}

// Shells complete folders first, then the names that a command takes.
func TestCompletionOfNames(t *testing.T) {
	hatchery, err := filepath.Abs("../examples/hatchery")
	require.NoError(t, err)
	for _, c := range []struct {
		args string
		want []string
		not  string
	}{
		{"scale HATCHERY ", []string{"oxygen\tRaceway 1 dissolved oxygen", "temperature"}, "mains"},
		{"teach HATCHERY ", []string{"inflow\tRaceway 1 inflow"}, "hatch_open"},
		{"calibrate HATCHERY ", []string{"hopper\tFeed hopper weight"}, "blower"},
		{"replay HATCHERY ", []string{"night.csv", "pump-trip.csv"}, "oxygen"},
		{"show HATCHERY ", []string{"standby_blower", "mains", "blower", "oxygen_low"}, "night.csv"},
		{"replay HATCHERY night --format ", []string{"table", "json", "csv"}, "xml"},
	} {
		args := append([]string{"__complete"}, strings.Split(strings.ReplaceAll(c.args, "HATCHERY", hatchery), " ")...)
		out, code := run(t, args...)
		require.Equal(t, 0, code, out)
		for _, w := range c.want {
			assert.Contains(t, out, w, c.args)
		}
		assert.NotContains(t, out, c.not, c.args)
	}
}

// Every command's help has an example, on the demo job where it takes one.
func TestHelp(t *testing.T) {
	for _, command := range newRoot().Commands() {
		if !command.IsAvailableCommand() || command.Name() == "help" || command.Name() == "completion" {
			continue
		}
		out, code := run(t, command.Name(), "--help")
		assert.Equal(t, 0, code)
		assert.Contains(t, out, "Usage:\n  rectura "+command.Name())
		if command.Name() != "version" && command.Name() != "iolist" {
			assert.Contains(t, out, "Examples:\n  rectura "+command.Name(), command.Name())
		}
		for _, sub := range command.Commands() {
			out, code := run(t, command.Name(), sub.Name(), "--help")
			assert.Equal(t, 0, code)
			assert.Contains(t, out, "Examples:\n  rectura "+command.Name()+" "+sub.Name())
		}
	}
}
