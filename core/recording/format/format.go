// Package format finds out which of the formats a file of a recording has, and
// reads or writes it.
package format

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/core/recording/jsonl"
	"rectura/core/recording/parquet"
	"rectura/core/recording/text"
)

// A Format is one of the forms of a recording's file.
type Format string

// The formats.
const (
	CSV     Format = "csv"
	JSONL   Format = "jsonl"
	Parquet Format = "parquet"
	Text    Format = "text" // read by a pattern, and never written
)

// Extensions are the ends of file names that readers know, with the dot.
var Extensions = map[string]Format{".csv": CSV, ".tsv": CSV, ".jsonl": JSONL, ".ndjson": JSONL, ".parquet": Parquet}

// Find tells the format of a file by its name, the first bytes in it and the
// options: a pattern makes it a text capture.
func Find(name string, head []byte, o recording.Options) Format {
	switch {
	case o.Pattern != nil:
		return Text
	case bytes.HasPrefix(head, []byte("PAR1")):
		return Parquet
	}
	if f, ok := Extensions[strings.ToLower(path.Ext(name))]; ok {
		return f
	}
	if bytes.HasPrefix(bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \r\n"), []byte("{")) {
		return JSONL
	}
	return CSV
}

// A File is what a recording is read from. Only Parquet needs more than a
// stream.
type File interface {
	io.Reader
	io.ReaderAt
}

// Read reads a recording of any format, of size bytes. Progress is told of the
// bytes read, if it is not nil.
func Read(name string, in File, size int64, o recording.Options, progress io.Writer) (*recording.Recording, error) {
	head := make([]byte, 512)
	n, err := in.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	f := Find(name, head[:n], o)
	if f == Parquet {
		return parquet.Reader{Name: name, Options: o}.Read(in, size)
	}
	var stream io.Reader = in
	if progress != nil {
		stream = io.TeeReader(in, progress)
	}
	return ReadStream(f, name, stream, o)
}

// ReadStream reads a recording of a format that needs no more than a stream.
func ReadStream(f Format, name string, in io.Reader, o recording.Options) (*recording.Recording, error) {
	switch f {
	case JSONL:
		return jsonl.Reader{Name: name, Options: o}.Read(in)
	case Text:
		return text.Reader{Name: name, Options: o}.Read(in)
	case Parquet:
		return nil, fmt.Errorf("%s: a Parquet file is not read as a stream", name)
	}
	return csv.Reader{Name: name, Options: o}.Read(in)
}

// Write writes a recording.
func Write(f Format, w io.Writer, r *recording.Recording) error {
	switch f {
	case CSV:
		return csv.Write(w, r)
	case JSONL:
		return jsonl.Write(w, r)
	case Parquet:
		return parquet.Write(w, r)
	}
	return fmt.Errorf("recordings are not written as %s; choose csv, jsonl or parquet", f)
}
