package cli

import (
	"encoding/binary"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"

	"rectura/core/cells"

	"github.com/jedib0t/go-pretty/v6/text"
)

// A list is rows under headings, for people as an aligned table or for programs as CSV. Its rows are kept as
// text, packed one behind the other: a week of a chattering contact has a million of them.
type list struct {
	heads   []string
	numbers []int // the columns, counted from 1, that are aligned to the right
	rows    int
	parts   [][]byte // whole rows: the number of cells, and each of them behind its length
	widths  []int    // of the columns
}

// partSize is about how many bytes a part of a list takes.
const partSize = 1 << 20

func (l *list) add(cells ...string) {
	size := binary.MaxVarintLen64
	for len(l.widths) < len(cells) {
		l.widths = append(l.widths, 0)
	}
	for i, c := range cells {
		size += len(c) + binary.MaxVarintLen64
		l.widths[i] = max(l.widths[i], text.StringWidthWithoutEscSequences(c))
	}
	last := len(l.parts) - 1
	if last < 0 || cap(l.parts[last])-len(l.parts[last]) < size {
		room := partSize
		if last < 0 {
			room = 1 << 10 // most lists are short
		}
		l.parts = append(l.parts, make([]byte, 0, max(size, room)))
		last++
	}
	l.parts[last] = binary.AppendUvarint(l.parts[last], uint64(len(cells)))
	for _, c := range cells {
		l.parts[last] = append(binary.AppendUvarint(l.parts[last], uint64(len(c))), c...)
	}
	l.rows++
}

// each calls f with the cells of every row, which are good until it returns.
func (l *list) each(f func(cells []string) error) error {
	var cells []string
	for _, part := range l.parts {
		for len(part) > 0 {
			of, size := binary.Uvarint(part)
			part, cells = part[size:], cells[:0]
			for range of {
				n, size := binary.Uvarint(part)
				end := size + int(n)
				cells = append(cells, string(part[size:end]))
				part = part[end:]
			}
			if err := f(cells); err != nil {
				return err
			}
		}
	}
	return nil
}

// oneLine keeps a cell on its line.
var oneLine = strings.NewReplacer("\n", " ", "\r", " ", "\t", " ")

func (l *list) table(w io.Writer) error {
	widths := make([]int, max(len(l.heads), len(l.widths)))
	copy(widths, l.widths)
	for i, h := range l.heads {
		widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(h))
	}
	var out []byte
	write := func(cells []string) {
		from := len(out)
		for i, c := range cells {
			c = oneLine.Replace(c)
			room := widths[i] - text.StringWidthWithoutEscSequences(c)
			if slices.Contains(l.numbers, i+1) {
				out = append(append(out, blanks(room)...), c...)
			} else {
				out = append(append(out, c...), blanks(room)...)
			}
			out = append(out, "  "...)
		}
		for len(out) > from && out[len(out)-1] == ' ' {
			out = out[:len(out)-1]
		}
		out = append(out, '\n')
	}
	write(l.heads)
	err := l.each(func(cells []string) error {
		if write(cells); len(out) < 1<<16 {
			return nil
		}
		_, err := w.Write(out)
		out = out[:0]
		return err
	})
	if err == nil {
		_, err = w.Write(out)
	}
	if err != nil {
		return fmt.Errorf("writing the table: %w", err)
	}
	return nil
}

func blanks(n int) string { return strings.Repeat(" ", max(n, 0)) }

func (l *list) csv(w io.Writer) error {
	c := csv.NewWriter(w)
	err := c.Write(l.heads)
	if err == nil {
		err = l.each(func(row []string) error {
			for i, cell := range row {
				row[i] = cells.Guarded(cell)
			}
			return c.Write(row)
		})
	}
	c.Flush()
	if err == nil {
		err = c.Error()
	}
	if err != nil {
		return fmt.Errorf("writing CSV: %w", err)
	}
	return nil
}
