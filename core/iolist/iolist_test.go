package iolist_test

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"rectura/core/iolist"
	"rectura/core/sheet"
)

func hatchery(t *testing.T) *sheet.Job {
	sources, err := sheet.ReadSources(os.DirFS("../../examples/hatchery"))
	require.NoError(t, err)
	job, found := sheet.Parse(sources)
	require.Empty(t, found)
	return job
}

// A cell is a part of its point, and declares nothing of its own; where a point is wired is read as in a sheet.
func TestWires(t *testing.T) {
	row := func(kind, wire string) []iolist.Row {
		return []iolist.Row{{Number: 2, Cells: map[string]string{"point": "door", "kind": kind, "wire": wire}}}
	}
	r := iolist.Sheet("a.csv", row("DI", "rack holding 4 bit 3"), nil)
	assert.Equal(t, "input door discrete\n  source rack holding 4 bit 3\n", r.Text)
	for wire, want := range map[string]string{
		"rack discrete 4\nrule open\n  on when not door\n  call horn": "a.csv:2: the column wire holds a line break; write it on one line",
		"rack holding 4":               `a.csv:2: "source rack holding 4": door is on or off, and the table holding holds registers`,
		"rack relay 4":                 `a.csv:2: "source rack relay 4": relay where the table must stand`,
		"Rack 4 holding":               `a.csv:2: "source Rack 4 holding": `,
		"rack holding 4 bit 3 # spare": "",
	} {
		r := iolist.Sheet("a.csv", row("DI", wire), nil)
		if want == "" {
			assert.Empty(t, r.Bad, wire)
			continue
		}
		require.Len(t, r.Bad, 1, wire)
		assert.Contains(t, r.Bad[0], want)
		assert.Empty(t, r.Text)
	}
}

// The hatchery's points go into a list of either kind and come back with their
// names, texts, wiring, scaling and health.
func TestThereAndBack(t *testing.T) {
	job := hatchery(t)
	rows := iolist.Rows(job)
	for name, write := range map[string]func(*bytes.Buffer) error{
		"list.csv":  func(b *bytes.Buffer) error { return iolist.WriteCSV(b, rows) },
		"list.xlsx": func(b *bytes.Buffer) error { return iolist.WriteWorkbook(b, rows) },
	} {
		var b bytes.Buffer
		require.NoError(t, write(&b))
		read, err := iolist.ReadFile(name, b.Bytes(), "", nil)
		require.NoError(t, err)
		result := iolist.Sheet(name, read, nil)
		assert.Empty(t, result.Bad)
		assert.Empty(t, result.Renamed)
		assert.Equal(t, []string{"rack"}, result.Devices, "which a list does not have")
		back, found := sheet.Parse(
			[]sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\ndevice rack modbus tcp \"127.0.0.1:1502\" unit 1\n" + result.Text)}},
		)
		require.False(t, sheet.HasErrors(found), "%v", found)
		assert.Equal(t, rows, iolist.Rows(back))
		assert.Len(t, iolist.Sheet(name, read, job).Present, len(rows)-1, "all are in the job already")
	}
}

// Every row is accounted for.
func TestSheet(t *testing.T) {
	list := strings.Join([]string{
		"Signal name;Service;kind;card;signal;low;high;unit;healthy;remark",
		"DO R1;Dissolved oxygen;AI;0..4095 counts to 0..20 mA;4..20 mA;0;20;mg/L;3.6..21 mA;x",
		"DO R1;The same again;analog;;;;;mg/L;;",
		";;;;;;;;;",
		"2nd pump;;relay;;;;;;;",
		"Bath;;analog;;pt100;;;degC;;",
		"Door;\"Door \"\"A\"\"\";contact;;;;;;;",
		"Mast;;crane;;;;;;;",
		"Level;;analog;;4..20 mA;0;;mm;;",
		"and;;DI;;;;;;;",
		"Odd;;analog;;4..20 V;0,5;2;mm;3..5 mA;",
		"Valve;;AO;;;0;;%;;",
	}, "\n")
	rows, err := iolist.ReadFile("points.csv", []byte(list), "", map[string]string{"point": "Signal name", "description": "Service"})
	require.NoError(t, err)
	r := iolist.Sheet("points.csv", rows, nil)
	assert.Equal(t, []string{"do_r1", "do_r1_2", "p2nd_pump", "bath", "door", "and_point"}, r.Points)
	assert.Equal(t, 1, r.Blank)
	assert.Equal(
		t,
		[]string{"DO R1 → do_r1", "DO R1 → do_r1_2", "2nd pump → p2nd_pump", "Bath → bath", "Door → door", "and → and_point"},
		r.Renamed,
	)
	assert.Equal(t, []string{
		`points.csv:8: the kind "crane" is none of analog (AI), discrete (DI), discrete inverted, output (DO), analog output (AO)`,
		"points.csv:9: the columns low and high are the values at the ends of 4..20 mA; fill in both",
		"points.csv:11: \"healthy 3..5 mA\": `healthy` in mA (current), but odd has no such quantity in its chain: V (voltage), mm (length)",
		"points.csv:12: the columns low, high and unit are the range of an analog output; fill them in",
	}, r.Bad)
	assert.Contains(
		t,
		r.Text,
		"input do_r1 \"Dissolved oxygen\"\n  scale 0..4095 counts to 0..20 mA\n  scale 4..20 mA to 0..20 mg/L\n  healthy 3.6..21 mA\n",
	)
	assert.Contains(t, r.Text, "input bath\n  curve pt100 to degC\n")
	assert.Contains(t, r.Text, "input door \"Door \\\"A\\\"\" discrete\n")
	assert.Equal(t, len(rows), len(r.Points)+r.Blank+len(r.Bad)+len(r.Present))
}

func TestBadLists(t *testing.T) {
	workbook := func(change func(f *excelize.File) error) []byte {
		f := excelize.NewFile()
		require.NoError(t, f.SetCellStr("Sheet1", "A1", "point"))
		require.NoError(t, f.SetCellStr("Sheet1", "B1", "kind"))
		require.NoError(t, f.SetCellStr("Sheet1", "A2", "pump"))
		require.NoError(t, f.SetCellStr("Sheet1", "B2", "output"))
		require.NoError(t, change(f))
		var b bytes.Buffer
		require.NoError(t, f.Write(&b))
		return b.Bytes()
	}
	for _, c := range []struct {
		name    string
		data    []byte
		mapping map[string]string
		want    string
	}{
		{"a.csv", nil, nil, "a.csv: the list is empty; it begins with a row of headings: point, description"},
		{"a.csv", []byte("name,kind\n"), nil, "a.csv:1: no column is headed point, tag or description, of which one names the points; say with a mapping which of these does: name, kind"},
		{"a.csv", []byte("point,point\n"), nil, "a.csv:1: two columns are point; rename one"},
		{"a.csv", []byte("point\n\"x\n"), nil, "a.csv:2:4: the list cannot be read"},
		{"a.csv", []byte("point\n"), map[string]string{"tag": "Loop"}, "a.csv:1: no column is headed Loop, which was mapped to tag"},
		{"a.csv", []byte("point\n"), map[string]string{"loop": "Loop"}, "loop is no column of a list; there are point, description"},
		{"a.xlsx", []byte("no workbook"), nil, "a.xlsx: this is no .xlsx workbook"},
		{"a.xlsx", workbook(func(f *excelize.File) error { return f.SetCellFormula("Sheet1", "B2", `="out"&"put"`) }), nil, "a.xlsx: the cell B2 of Sheet1 holds a formula; paste the list as values"},
		{"a.xlsx", workbook(func(f *excelize.File) error { return f.MergeCell("Sheet1", "A2", "B3") }), nil, "a.xlsx: the cells A2:B3 of Sheet1 are merged; a list has one cell for each value, so part them"},
	} {
		_, err := iolist.ReadFile(c.name, c.data, "", c.mapping)
		require.Error(t, err, c.want)
		assert.Contains(t, err.Error(), c.want)
	}
	rows, err := iolist.ReadFile("a.xlsx", workbook(func(*excelize.File) error { return nil }), "", nil)
	require.NoError(t, err)
	assert.Equal(t, "output pump\n", iolist.Sheet("a.xlsx", rows, nil).Text)
}

// A list as a panel builder hands it over: a cover with merged cells, a title above the
// headings, his own headings, and a valve that takes 4..20 mA.
func TestForeignWorkbook(t *testing.T) {
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetName("Sheet1", "Cover"))
	require.NoError(t, f.MergeCell("Cover", "A1", "D4"))
	_, err := f.NewSheet("CP2")
	require.NoError(t, err)
	for i, row := range [][]any{{"Panel CP2"}, {"Loop", "Type", "Range", "From", "To", "Unit"}, {"FCV-201", "AO", "4..20 mA", 0, 100, "%"}, {"XS-201", "DI"}} {
		require.NoError(t, f.SetSheetRow("CP2", fmt.Sprintf("A%d", i+1), &row))
	}
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	mapping := map[string]string{"tag": "Loop", "kind": "Type", "signal": "Range", "low": "From", "high": "To"}
	for _, table := range []string{"", "CP2"} {
		rows, err := iolist.ReadFile("cp2.xlsx", b.Bytes(), table, mapping)
		require.NoError(t, err)
		require.Equal(t, 3, rows[0].Number)
		r := iolist.Sheet("cp2.xlsx", rows, nil)
		assert.Empty(t, r.Bad)
		assert.Equal(
			t,
			"output fcv_201 analog 0..100 %\n  tag \"FCV-201\"\n  scale 0..100 % to 4..20 mA\n\ninput xs_201 discrete\n  tag \"XS-201\"\n",
			r.Text,
		)
	}
	_, err = iolist.ReadFile("cp2.xlsx", b.Bytes(), "CP3", mapping)
	assert.EqualError(t, err, "cp2.xlsx: no sheet is named CP3; there are Cover, CP2")
	delete(mapping, "kind")
	rows, err := iolist.ReadFile("cp2.xlsx", b.Bytes(), "", mapping)
	require.NoError(t, err)
	assert.Contains(
		t,
		iolist.Sheet("cp2.xlsx", rows, nil).Bad[0],
		"cp2.xlsx:4: no column was mapped to the kind, which is analog (AI), discrete (DI)",
	)
}

// Whatever a list calls its points, names are legal and unique.
func FuzzNames(f *testing.F) {
	f.Add("DO R1", "2nd pump")
	f.Fuzz(func(t *testing.T, a, b string) {
		rows := []iolist.Row{
			{Number: 2, Cells: map[string]string{"point": a, "kind": "output"}},
			{Number: 3, Cells: map[string]string{"point": b, "kind": "output", "description": a}},
		}
		r := iolist.Sheet("a.csv", rows, nil)
		_, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte("job \"x\"\n\n" + r.Text)}})
		for _, x := range found {
			if x.Severity == sheet.Error {
				t.Fatalf("%q, %q: %v\n%s", a, b, x, r.Text)
			}
		}
	})
}
