package parquet

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	pq "github.com/parquet-go/parquet-go"

	"rectura/core/recording"
)

// rowsInGroup is how many rows are written as one group, and are held in memory
// meanwhile.
const rowsInGroup = 1 << 18

// Write writes a recording as a wide Parquet file. What is written reads back
// the same.
func Write(w io.Writer, r *recording.Recording) error {
	time := pq.Timestamp(pq.Nanosecond)
	if r.Clock.Elapsed {
		time = pq.Decimal(9, 18, pq.Int64Type)
	}
	root := pq.Group{"time": pq.Compressed(pq.Encoded(time, &pq.DeltaBinaryPacked), &pq.Zstd)}
	rows := 0
	if err := r.EachRow(func(int64, []recording.Reading) error { rows++; return nil }); err != nil {
		return err
	}
	if err := r.FitsTable(rows); err != nil {
		return fmt.Errorf("writing Parquet: %w", err)
	}
	var order []string
	for _, c := range r.Columns {
		heading := c.Heading()
		if heading == "time" {
			return fmt.Errorf("writing Parquet: a point is named time, as is the column of the time")
		}
		// Readings are decimals of few digits, which gain much by it.
		node := pq.Compressed(pq.Encoded(pq.Leaf(pq.DoubleType), &pq.Plain), &pq.Zstd)
		if c.Len() < rows {
			node = pq.Optional(node)
		}
		root[heading] = node
		order = append(order, heading)
	}
	schema := pq.NewSchema("recording", root)
	out := pq.NewGenericWriter[any](w, schema, pq.MaxRowsPerRowGroup(rowsInGroup),
		pq.KeyValueMetadata(offsetKey, strconv.Itoa(r.Clock.OffsetAt(r.Start))), pq.KeyValueMetadata(columnsKey, strings.Join(order, "\n")))
	// The schema puts its columns in order of name.
	place := map[string]int{}
	optional := map[string]bool{}
	for i, f := range schema.Fields() {
		place[f.Name()], optional[f.Name()] = i, f.Optional()
	}
	row := make(pq.Row, len(place))
	batch := make([]pq.Row, 0, 512)
	flush := func() error {
		_, err := out.WriteRows(batch)
		batch = batch[:0]
		return err
	}
	err := r.EachRow(func(t int64, some []recording.Reading) error {
		for i := range row {
			row[i] = pq.NullValue().Level(0, 0, i)
		}
		row[place["time"]] = pq.Int64Value(t).Level(0, 0, place["time"])
		for _, c := range some {
			at, level := place[order[c.Column]], 0
			if optional[order[c.Column]] {
				level = 1
			}
			row[at] = pq.DoubleValue(c.Value).Level(0, level, at)
		}
		batch = append(batch, row.Clone())
		if len(batch) == cap(batch) {
			return flush()
		}
		return nil
	})
	if err == nil {
		err = flush()
	}
	if err == nil {
		err = out.Close()
	}
	if err != nil {
		return fmt.Errorf("writing Parquet: %w", err)
	}
	return nil
}
