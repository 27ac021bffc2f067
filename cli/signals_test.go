package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// copyHatchery makes a copy of the demo job that may be written to.
func copyHatchery(t *testing.T) string {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "hatchery")
	require.NoError(t, os.CopyFS(folder, os.DirFS("../examples/hatchery")))
	return folder
}

// transitions plays a recording and gives what changed, without the reasons'
// names of files.
func transitions(t *testing.T, args ...string) string {
	t.Helper()
	out, code := run(t, append([]string{"replay"}, append(args, "--format", "json")...)...)
	require.Equal(t, 0, code, out)
	var r struct{ Transitions json.RawMessage }
	require.NoError(t, json.Unmarshal([]byte(out[strings.Index(out, "{"):]), &r))
	require.Greater(t, len(r.Transitions), 500)
	return string(r.Transitions)
}

// The same recording replays to the same transitions in every form: three
// dialects of CSV, long CSV, JSON Lines, Parquet and a text capture.
func TestEveryFormReplaysTheSame(t *testing.T) {
	folder := copyHatchery(t)
	original := filepath.Join(folder, "recordings", "pump-trip.csv")
	text, err := os.ReadFile(original)
	require.NoError(t, err)
	want := transitions(t, folder, original)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	names := strings.Split(lines[0], ",")
	var semicolons, tabs, long, capture strings.Builder
	semicolons.WriteString("\ufeff" + strings.ReplaceAll(lines[0], ",", ";") + "\r\n")
	tabs.WriteString(strings.ReplaceAll(lines[0], ",", "\t") + "\n")
	long.WriteString("time,point,value\n")
	for _, line := range lines[1:] {
		cells := strings.Split(line, ",")
		// 2026-03-09T02:00:00Z is 09.03.2026 02:00:00 and, in Dublin, the same.
		day, clock := cells[0][8:10]+"."+cells[0][5:7]+"."+cells[0][:4], cells[0][11:19]
		semicolons.WriteString(day + " " + clock + ";" + strings.ReplaceAll(strings.Join(cells[1:], ";"), ".", ",") + "\r\n")
		tabs.WriteString(cells[0][:10] + " " + clock + "\t" + strings.Join(cells[1:], "\t") + "\n")
		for i, cell := range cells[1:] {
			fmt.Fprintf(&long, "%s,%s,%s\n", cells[0], names[i+1], cell)
		}
		fmt.Fprintf(
			&capture,
			"[%s] ox=%s t=%s q=%s dp=%s ph=%s w=%s k1=%s zs=%s m=%s\n",
			cells[0],
			cells[1],
			cells[2],
			cells[3],
			cells[4],
			cells[5],
			cells[6],
			cells[7],
			cells[8],
			cells[9],
		)
	}
	forms := write(
		t,
		map[string]string{
			"semicolons.csv": semicolons.String(),
			"tabs.tsv":       tabs.String(),
			"long.csv":       long.String(),
			"capture.log":    capture.String(),
		},
	)
	for _, name := range []string{"converted.jsonl", "converted.parquet", "converted.csv"} {
		out, code := run(t, "convert", original, "-o", filepath.Join(forms, name))
		require.Equal(t, 0, code, out)
		assert.Contains(t, out, "CSV, wide, separated by comma; times rfc3339")
	}
	for _, args := range [][]string{
		{"semicolons.csv", "--zone", "Europe/Dublin"}, {"tabs.tsv"}, {"long.csv"}, {"converted.jsonl"}, {"converted.parquet"}, {"converted.csv"},
		{"capture.log", "--pattern", `\[(?P<time>\S+)\] ox=(?P<oxygen>\S+) t=(?P<temperature>\S+) q=(?P<inflow>\S+) dp=(?P<filter_dp>\S+) ph=(?P<ph>\S+) w=(?P<hopper>\S+) k1=(?P<mains>\S+) zs=(?P<hatch_open>\S+) m=(?P<blower>\S+)`},
	} {
		got := transitions(t, append([]string{folder, filepath.Join(forms, args[0])}, args[1:]...)...)
		assert.Equal(t, strings.ReplaceAll(want, "Z\"", ""), strings.ReplaceAll(strings.ReplaceAll(got, "Z\"", ""), "+00:00\"", ""), args[0])
	}

	// A replay may be kept with what the rules did, and read again.
	saved := filepath.Join(forms, "saved.parquet")
	out, code := run(t, "replay", folder, original, "--save", saved)
	require.Equal(t, 0, code, out)
	again, code := run(t, "replay", folder, saved)
	assert.Equal(t, 0, code, again)
	assert.Contains(t, again, "column blower is an output: the plant did what the rules say")
	assert.Contains(t, again, "column blower.plant is no point of this job")
}

// What calibrate and teach write stands in the sheet, and the job is still
// right.
func TestWritingIntoTheJob(t *testing.T) {
	folder := copyHatchery(t)
	out, code := run(t, "calibrate", folder, "oxygen", "0.12 mg/L=0 mg/L", "9.40 mg/L=9.10 mg/L", "--note", "J.M., Winkler titration")
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "points.rct now has: correct 0.12 mg/L to 0 mg/L, 9.4 mg/L to 9.1 mg/L")
	text, err := os.ReadFile(filepath.Join(folder, "points.rct"))
	require.NoError(t, err)
	assert.Regexp(
		t,
		`correct 0.12 mg/L to 0 mg/L, 9.4 mg/L to 9.1 mg/L  # calibrated \d{4}-\d\d-\d\d, J.M., Winkler titration\n`,
		string(text),
	)
	out, code = run(
		t,
		"teach",
		folder,
		"inflow",
		"--recording",
		"night",
		"--normal",
		"22:10..02:10",
		"--trouble",
		"02:20..02:50",
		"--write",
		"pump_stands",
		"--call",
		"beacon",
	)
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "rules.rct now has the setpoint pump_stands_point and the rule pump_stands")
	out, code = run(t, "check", folder)
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "7 rules; 0 errors, 0 warnings")
	out, code = run(t, "fmt", folder, "--diff")
	assert.Equal(t, 0, code, "what was written is canonical: %s", out)
	before, err := os.ReadFile(filepath.Join(folder, "rules.rct"))
	require.NoError(t, err)
	out, code = run(
		t,
		"teach",
		folder,
		"inflow",
		"--recording",
		"night",
		"--normal",
		"22:10..02:10",
		"--trouble",
		"02:20..02:50",
		"--write",
		"pump_stands",
	)
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "pump_stands is already the name of the rule at rules.rct:")
	after, err := os.ReadFile(filepath.Join(folder, "rules.rct"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
}

func TestIolist(t *testing.T) {
	folder := copyHatchery(t)
	dir := t.TempDir()
	for _, name := range []string{"points.csv", "points.xlsx"} {
		list := filepath.Join(dir, name)
		out, code := run(t, "iolist", "export", folder, list)
		require.Equal(t, 0, code, out)
		assert.Contains(t, out, "19 points")
		job := filepath.Join(dir, "job-"+filepath.Ext(name)[1:])
		out, code = run(t, "iolist", "import", job, list)
		require.Equal(t, 0, code, out)
		assert.Contains(t, out, "19 rows, 19 made points in ")
		assert.Contains(t, out, "  rack is no device of this job yet; declare it: device rack modbus tcp")
		f, err := os.OpenFile(filepath.Join(job, "points.rct"), os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteString("\ndevice rack modbus tcp \"127.0.0.1:1502\" unit 1\n")
		require.NoError(t, err)
		require.NoError(t, f.Close())
		out, code = run(t, "check", job)
		assert.Equal(t, 0, code, out)
		out, code = run(t, "iolist", "import", job, list)
		require.Equal(t, 0, code, out)
		assert.Contains(t, out, "19 rows, 19 in the job already")
	}
	bad := filepath.Join(dir, "bad.csv")
	require.NoError(t, os.WriteFile(bad, []byte("point,kind\npump,output\nmast,crane\n"), 0o600))
	out, code := run(t, "iolist", "import", filepath.Join(dir, "new"), bad)
	assert.Equal(t, 2, code)
	assert.Contains(t, out, `bad.csv:3: the kind "crane" is none of analog (AI), discrete (DI),`)
	assert.Contains(t, out, "1 row of 2 in ")
	assert.NoDirExists(t, filepath.Join(dir, "new"))
	out, code = run(t, "iolist", "import", filepath.Join(dir, "new"), bad, "--skip-bad-rows")
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "2 rows, 1 made points in ")
}
