package iolist

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"rectura/core/cells"

	"github.com/xuri/excelize/v2"
)

// The limits of a list.
const (
	MaxSize = 32 << 20 // bytes
	maxRows = 50_000
)

// ReadFile reads a list from CSV or .xlsx, by its name. mapping gives the
// file's own headings in the place of ours, by ours. Of a workbook it is the sheet named
// table, or, if that is empty, the first that holds a list.
func ReadFile(name string, data []byte, table string, mapping map[string]string) ([]Row, error) {
	if len(data) > MaxSize {
		return nil, fmt.Errorf("%s: the list is larger than %d MiB", name, MaxSize>>20)
	}
	theirs, err := headingsOf(mapping)
	if err != nil {
		return nil, err
	}
	var cells [][]string
	if strings.EqualFold(path.Ext(name), ".xlsx") {
		cells, err = readWorkbook(name, data, table, func(cells [][]string) bool { return headingRow(cells, theirs) >= 0 })
	} else if table != "" {
		return nil, fmt.Errorf("%s: a CSV file has no sheets; take --sheet out", name)
	} else {
		cells, err = readCSV(name, data)
	}
	if err != nil {
		return nil, err
	}
	return rows(name, cells, theirs, mapping)
}

// headingsOf gives our headings by those of a list, in small letters.
func headingsOf(mapping map[string]string) (map[string]string, error) {
	theirs := map[string]string{}
	for _, h := range Headings {
		theirs[h] = h
	}
	for ours, given := range mapping {
		if !slices.Contains(Headings, ours) {
			return nil, fmt.Errorf("%s is no column of a list; there are %s", ours, strings.Join(Headings, ", "))
		}
		delete(theirs, ours)
		theirs[strings.ToLower(given)] = ours
	}
	return theirs, nil
}

func readCSV(name string, data []byte) ([][]string, error) {
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
	r := csv.NewReader(bytes.NewReader(data))
	r.FieldsPerRecord = -1
	first, _, _ := bytes.Cut(data, []byte("\n"))
	for _, sep := range []rune{'\t', ';'} {
		if bytes.ContainsRune(first, sep) {
			r.Comma = sep
			break
		}
	}
	var all [][]string
	for {
		row, err := r.Read()
		var p *csv.ParseError
		switch {
		case err == io.EOF:
			return all, nil
		case errors.As(err, &p):
			return nil, fmt.Errorf("%s:%d:%d: the list cannot be read: %w", name, p.Line, p.Column, p.Err)
		case err != nil:
			return nil, fmt.Errorf("%s: reading the list: %w", name, err)
		case len(row) > maxColumns:
			return nil, fmt.Errorf("%s: row %d has %d cells; a list has at most %d columns", name, len(all)+1, len(row), maxColumns)
		case len(all) == maxRows:
			return nil, fmt.Errorf("%s: the list has more than %d rows", name, maxRows)
		}
		for i := range row {
			row[i] = cells.Unguarded(row[i])
		}
		all = append(all, row)
	}
}

// rows puts cells under their headings.
func rows(name string, cells [][]string, theirs, mapping map[string]string) ([]Row, error) {
	if len(cells) == 0 {
		return nil, fmt.Errorf("%s: the list is empty; it begins with a row of headings: %s", name, strings.Join(Headings, ", "))
	}
	head := max(headingRow(cells, theirs), 0)
	at := map[int]string{}
	for i, h := range cells[head] {
		ours, ok := theirs[strings.ToLower(strings.TrimSpace(h))]
		if !ok {
			continue
		}
		for _, before := range at {
			if before == ours {
				return nil, fmt.Errorf("%s:%d: two columns are %s; rename one", name, head+1, ours)
			}
		}
		at[i] = ours
	}
	found := func(h string) bool {
		for _, o := range at {
			if o == h {
				return true
			}
		}
		return false
	}
	for ours, given := range mapping {
		if !found(ours) {
			return nil, fmt.Errorf("%s:%d: no column is headed %s, which was mapped to %s", name, head+1, given, ours)
		}
	}
	if !found("point") && !found("tag") && !found("description") {
		return nil, fmt.Errorf(
			"%s:%d: no column is headed point, tag or description, of which one names the points; say with a mapping which of these does: %s",
			name,
			head+1,
			strings.Join(cells[head], ", "),
		)
	}
	var all []Row
	for i, c := range cells[head+1:] {
		row := Row{Number: head + i + 2, Cells: map[string]string{}}
		for k, h := range at {
			row.Cells[h] = ""
			if k < len(c) {
				row.Cells[h] = c[k]
			}
		}
		all = append(all, row)
	}
	return all, nil
}

// mostTitles is how many rows may stand above the headings.
const mostTitles = 30

// headingRow is the first row, of those at the top, that names points, be it by a heading of
// ours or by one that is mapped to it; negative if there is none.
func headingRow(cells [][]string, theirs map[string]string) int {
	for i, row := range cells[:min(len(cells), mostTitles+1)] {
		for _, h := range row {
			if ours := theirs[strings.ToLower(strings.TrimSpace(h))]; ours == "point" || ours == "tag" || ours == "description" {
				return i
			}
		}
	}
	return -1
}

// WriteCSV writes rows as CSV. What a spreadsheet would take for a formula is
// guarded.
func WriteCSV(w io.Writer, rows [][]string) error {
	guarded := make([][]string, len(rows))
	for i, row := range rows {
		for _, cell := range row {
			guarded[i] = append(guarded[i], cells.Guarded(cell))
		}
	}
	if err := csv.NewWriter(w).WriteAll(guarded); err != nil {
		return fmt.Errorf("writing the list: %w", err)
	}
	return nil
}

// WriteWorkbook writes rows as an .xlsx workbook, the headings in bold.
func WriteWorkbook(w io.Writer, rows [][]string) (err error) {
	f := excelize.NewFile()
	defer func() { err = errors.Join(err, f.Close()) }()
	table := "Points"
	if err = f.SetSheetName(f.GetSheetName(0), table); err != nil {
		return fmt.Errorf("writing the list: %w", err)
	}
	for i, row := range rows {
		for k, v := range row {
			at, cellErr := excelize.CoordinatesToCellName(k+1, i+1)
			if err = errors.Join(err, cellErr, f.SetCellStr(table, at, v)); err != nil {
				return fmt.Errorf("writing the list: %w", err)
			}
		}
	}
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err == nil {
		err = f.SetRowStyle(table, 1, 1, bold)
	}
	if err == nil {
		err = f.SetColWidth(table, "A", "M", 16)
	}
	if err == nil {
		err = f.Write(w)
	}
	if err != nil {
		return fmt.Errorf("writing the list: %w", err)
	}
	return nil
}
