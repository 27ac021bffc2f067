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

	"github.com/xuri/excelize/v2"
)

// The limits of a list.
const (
	MaxSize = 32 << 20 // bytes
	maxRows = 50_000
)

// ReadFile reads a list from CSV or .xlsx, by its name. mapping gives the
// file's own headings in the place of ours, by ours.
func ReadFile(name string, data []byte, mapping map[string]string) ([]Row, error) {
	if len(data) > MaxSize {
		return nil, fmt.Errorf("%s: the list is larger than %d MiB", name, MaxSize>>20)
	}
	var cells [][]string
	var err error
	if strings.EqualFold(path.Ext(name), ".xlsx") {
		cells, err = readWorkbook(name, data)
	} else {
		cells, err = readCSV(name, data)
	}
	if err != nil {
		return nil, err
	}
	return rows(name, cells, mapping)
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
	all, err := r.ReadAll()
	var p *csv.ParseError
	if errors.As(err, &p) {
		return nil, fmt.Errorf("%s:%d:%d: the list cannot be read: %w", name, p.Line, p.Column, p.Err)
	}
	return all, err
}

func readWorkbook(name string, data []byte) (cells [][]string, err error) {
	f, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{UnzipSizeLimit: 8 * MaxSize, UnzipXMLSizeLimit: MaxSize})
	if err != nil {
		return nil, fmt.Errorf("%s: this is no .xlsx workbook: %w", name, err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	table := f.GetSheetName(0)
	merged, err := f.GetMergeCells(table)
	if err != nil {
		return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, table, err)
	}
	if len(merged) > 0 {
		return nil, fmt.Errorf("%s: the cells %s:%s of %s are merged; a list has one cell for each value, so part them", name, merged[0].GetStartAxis(), merged[0].GetEndAxis(), table)
	}
	all, err := f.GetRows(table)
	if err != nil {
		return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, table, err)
	}
	for i, row := range all {
		for k := range row {
			at, err := excelize.CoordinatesToCellName(k+1, i+1)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			formula, err := f.GetCellFormula(table, at)
			if err != nil {
				return nil, fmt.Errorf("%s: reading the cell %s: %w", name, at, err)
			}
			if formula != "" {
				return nil, fmt.Errorf("%s: the cell %s of %s holds a formula; paste the list as values", name, at, table)
			}
		}
	}
	return all, nil
}

// rows puts cells under their headings.
func rows(name string, cells [][]string, mapping map[string]string) ([]Row, error) {
	if len(cells) == 0 {
		return nil, fmt.Errorf("%s: the list is empty; it begins with a row of headings: %s", name, strings.Join(Headings, ", "))
	}
	if len(cells) > maxRows {
		return nil, fmt.Errorf("%s: the list has more than %d rows", name, maxRows)
	}
	theirs := map[string]string{} // their heading to ours
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
	at := map[int]string{}
	for i, h := range cells[0] {
		ours, ok := theirs[strings.ToLower(strings.TrimSpace(h))]
		if !ok {
			continue
		}
		for _, before := range at {
			if before == ours {
				return nil, fmt.Errorf("%s:1: two columns are %s; rename one", name, ours)
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
			return nil, fmt.Errorf("%s:1: no column is headed %s, which was mapped to %s", name, given, ours)
		}
	}
	if !found("point") && !found("tag") && !found("description") {
		return nil, fmt.Errorf("%s:1: no column is headed point, tag or description, of which one names the points; say with a mapping which of these does: %s", name, strings.Join(cells[0], ", "))
	}
	var all []Row
	for i, c := range cells[1:] {
		row := Row{Number: i + 2, Cells: map[string]string{}}
		for k, v := range c {
			if h, ok := at[k]; ok {
				row.Cells[h] = v
			}
		}
		all = append(all, row)
	}
	return all, nil
}

// WriteCSV writes rows as CSV.
func WriteCSV(w io.Writer, rows [][]string) error {
	if err := csv.NewWriter(w).WriteAll(rows); err != nil {
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
