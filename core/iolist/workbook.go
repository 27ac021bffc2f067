package iolist

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/xuri/excelize/v2"
)

// The limits of a workbook once it is unpacked.
const (
	maxUnpacked = 64 << 20 // bytes, of all its parts
	maxColumns  = 256
)

func readWorkbook(name string, data []byte) (cells [][]string, err error) {
	if err := inspect(data); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	f, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxUnpacked / 4})
	if err != nil {
		return nil, fmt.Errorf("%s: this is no .xlsx workbook: %w", name, err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	table := f.GetSheetName(0)
	rows, err := f.Rows(table)
	if err != nil {
		return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, table, err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		row, err := rows.Columns()
		if err != nil {
			return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, table, err)
		}
		if cells = append(cells, row); len(cells) > maxRows {
			return nil, fmt.Errorf("%s: the list has more than %d rows", name, maxRows)
		}
	}
	if err := rows.Error(); err != nil {
		return nil, fmt.Errorf("%s: reading the sheet %s: %w", name, table, err)
	}
	return cells, nil
}

// inspect goes through the first sheet of a workbook as it is unpacked, before
// anything in it is believed: a list has one plain value a cell.
func inspect(data []byte) error {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return fmt.Errorf("this is no .xlsx workbook: %w", err)
	}
	parts := map[string]*zip.File{}
	for _, f := range z.File {
		parts[strings.TrimPrefix(f.Name, "/")] = f
	}
	title, sheet, err := firstSheet(parts)
	if err != nil {
		return err
	}
	rows := 0
	cell := ""
	return eachElement(parts[sheet], func(e xml.StartElement) error {
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

// firstSheet is the title of the first sheet and the part in which it stands.
func firstSheet(parts map[string]*zip.File) (title, part string, err error) {
	const workbook, relations = "xl/workbook.xml", "xl/_rels/workbook.xml.rels"
	id := ""
	err = eachElement(parts[workbook], func(e xml.StartElement) error {
		if e.Name.Local == "sheet" && id == "" {
			title, id = attribute(e, "name"), attribute(e, "id")
		}
		return nil
	})
	if err != nil {
		return "", "", err
	}
	err = eachElement(parts[relations], func(e xml.StartElement) error {
		if e.Name.Local != "Relationship" || attribute(e, "Id") != id {
			return nil
		}
		if part = attribute(e, "Target"); !strings.HasPrefix(part, "/") {
			part = path.Join("xl", part)
		}
		part = strings.TrimPrefix(part, "/")
		return nil
	})
	if err == nil && parts[part] == nil {
		err = errors.New("this is no .xlsx workbook: its first sheet is missing")
	}
	return title, part, err
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
