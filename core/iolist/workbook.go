package iolist

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"
)

// The limits of a workbook once it is unpacked.
const (
	maxUnpacked = 64 << 20 // bytes, of all its parts
	maxColumns  = 256
)

// mostTables is how many sheets of a workbook are looked into for a list.
const mostTables = 20

// readWorkbook reads the sheet of a workbook that is named table, or else the first that
// holds a list: a cover, and what cannot be one, is passed over.
func readWorkbook(name string, data []byte, table string, isList func([][]string) bool) ([][]string, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("%s: this is no .xlsx workbook: %w", name, err)
	}
	parts := map[string]*zip.File{}
	for _, f := range z.File {
		parts[strings.TrimPrefix(f.Name, "/")] = f
	}
	tables, err := tablesOf(parts)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if table != "" {
		i := slices.IndexFunc(tables, func(t tablePart) bool { return t.title == table })
		if i < 0 {
			var titles []string
			for _, t := range tables {
				titles = append(titles, t.title)
			}
			return nil, fmt.Errorf("%s: no sheet is named %s; there are %s", name, table, strings.Join(titles, ", "))
		}
		tables = tables[i : i+1]
	}
	var first [][]string
	var firstErr error
	for i, t := range tables[:min(len(tables), mostTables)] {
		cells, err := readTable(name, data, parts, t)
		if err == nil && isList(cells) {
			return cells, nil
		}
		if i == 0 {
			first, firstErr = cells, err
		}
	}
	return first, firstErr
}

// readTable reads one sheet of a workbook.
func readTable(name string, data []byte, parts map[string]*zip.File, t tablePart) (cells [][]string, err error) {
	if err := inspect(parts[t.part], t.title); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	f, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxUnpacked / 4})
	if err != nil {
		return nil, fmt.Errorf("%s: this is no .xlsx workbook: %w", name, err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	rows, err := f.Rows(t.title)
	if err != nil {
		return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, t.title, err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		row, err := rows.Columns()
		if err != nil {
			return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, t.title, err)
		}
		if cells = append(cells, row); len(cells) > maxRows {
			return nil, fmt.Errorf("%s: the list has more than %d rows", name, maxRows)
		}
	}
	if err := rows.Error(); err != nil {
		return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, t.title, err)
	}
	return cells, nil
}

// inspect goes through a sheet of a workbook as it is unpacked, before anything in it is
// believed: a list has one plain value a cell.
func inspect(part *zip.File, title string) error {
	rows := 0
	cell := ""
	return eachElement(part, func(e xml.StartElement) error {
		switch e.Name.Local {
		case "row":
			if rows++; rows > maxRows {
				return fmt.Errorf("the list has more than %d rows", maxRows)
			}
		case "c":
			cell = attribute(e, "r")
			column, _, err := excelize.CellNameToCoordinates(cell)
			if err == nil && column > maxColumns {
				return fmt.Errorf("the cell %s of %s lies beyond column %d; a list is not that wide, so delete what is there", cell, title, maxColumns)
			}
		case "f":
			return fmt.Errorf("the cell %s of %s holds a formula; paste the list as values", cell, title)
		case "mergeCell":
			return fmt.Errorf("the cells %s of %s are merged; a list has one cell for each value, so part them", attribute(e, "ref"), title)
		}
		return nil
	})
}

// A tablePart is a sheet of a workbook: its title and the part in which it stands.
type tablePart struct{ title, part string }

// tablesOf are the sheets of a workbook, in their order.
func tablesOf(parts map[string]*zip.File) ([]tablePart, error) {
	const workbook, relations = "xl/workbook.xml", "xl/_rels/workbook.xml.rels"
	var tables []tablePart
	at := map[string]int{} // by the number of its relation
	err := eachElement(parts[workbook], func(e xml.StartElement) error {
		if e.Name.Local == "sheet" {
			at[attribute(e, "id")] = len(tables)
			tables = append(tables, tablePart{title: attribute(e, "name")})
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	err = eachElement(parts[relations], func(e xml.StartElement) error {
		i, is := at[attribute(e, "Id")]
		if e.Name.Local != "Relationship" || !is {
			return nil
		}
		part := attribute(e, "Target")
		if !strings.HasPrefix(part, "/") {
			part = path.Join("xl", part)
		}
		tables[i].part = strings.TrimPrefix(part, "/")
		return nil
	})
	tables = slices.DeleteFunc(tables, func(t tablePart) bool { return parts[t.part] == nil })
	if err == nil && len(tables) == 0 {
		err = errors.New("this is no .xlsx workbook: its first sheet is missing")
	}
	return tables, err
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// eachElement calls f for every element of a part, of which no more is unpacked
// than a workbook may have.
func eachElement(part *zip.File, f func(e xml.StartElement) error) (err error) {
	if part == nil {
		return errors.New("this is no .xlsx workbook: a part of it is missing")
	}
	in, err := part.Open()
	if err != nil {
		return fmt.Errorf("unpacking %s: %w", part.Name, err)
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	limited := &io.LimitedReader{R: in, N: maxUnpacked}
	d := xml.NewDecoder(limited)
	for {
		token, err := d.RawToken()
		switch {
		case limited.N <= 0:
			return fmt.Errorf("%s is larger than %d MiB when it is unpacked; this is no list", part.Name, maxUnpacked>>20)
		case err == io.EOF:
			return nil
		case err != nil:
			return fmt.Errorf("reading %s: %w", part.Name, err)
		}
		if e, ok := token.(xml.StartElement); ok {
			if err := f(e); err != nil {
				return err
			}
		}
	}
}
