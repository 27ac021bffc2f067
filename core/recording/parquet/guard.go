package parquet

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go/format"
	"github.com/pierrec/lz4/v4"

	"rectura/core/recording"
)

// The library believes what a file says of itself: it makes room for as many
// bytes and values as a page announces, and unpacks whatever comes of it. So
// everything is looked at before the library is let at it.

// The limits of what is read of a file.
const (
	mostInPage   = 16 << 20 // values
	largestPage  = 64 << 20 // bytes, and so many times what it takes in the file:
	pagePacking  = 64
	fewReadings  = 4_000_000 // that any file may hold, and so many more for each byte of it:
	packing      = 1_000
	largestFoot  = 64 << 20
	footerLength = 8 // bytes at the end: the length of the footer, and "PAR1"
)

// soundFooter tells why the end of a file cannot be what it says.
func soundFooter(in io.ReaderAt, size int64) error {
	end := make([]byte, footerLength)
	if size < 2*footerLength {
		return errCut
	}
	if _, err := in.ReadAt(end, size-footerLength); err != nil {
		return err
	}
	n := int64(binary.LittleEndian.Uint32(end))
	if string(end[4:]) != "PAR1" || n > size-footerLength || n > largestFoot {
		return errCut
	}
	footer := make([]byte, n)
	if _, err := in.ReadAt(footer, size-footerLength-n); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	w := &walker{footer, mostElements}
	return w.structure(0, nil, nil)
}

// sound looks at every page of an open file.
func (s *scan) sound(in io.ReaderAt, size int64) error {
	most := s.Options.MostReadings
	if most == 0 {
		most = recording.DefaultReadings
	}
	most = min(most, fewReadings+size*packing)
	total := int64(0)
	for _, group := range s.file.Metadata().RowGroups {
		for i := range group.Columns {
			meta := &group.Columns[i].MetaData
			values, err := s.soundChunk(in, size, meta)
			if err == nil && values != group.NumRows {
				err = fmt.Errorf("there are %d values in it, and %d rows in its group; the file is broken", values, group.NumRows)
			}
			if err != nil {
				return fmt.Errorf("in the column %s: %w", recording.Shorten(strings.Join(meta.PathInSchema, ".")), err)
			}
			if total += values; total > most {
				return fmt.Errorf("it holds more than %d readings, which is too many for a file of %d bytes; divide it", most, size)
			}
		}
	}
	return nil
}

// A pageHead is what a page says of itself.
type pageHead struct {
	packed, unpacked int64 // bytes, as they stand and when they are unpacked
	values           int64
	levels           int64 // bytes in front that are never packed
	plain            bool  // the rest is not packed either
	dictionary       bool
}

// soundChunk looks at the pages of a column in a row group, and counts their
// values.
func (s *scan) soundChunk(in io.ReaderAt, size int64, meta *format.ColumnMetaData) (values int64, err error) {
	at := meta.DataPageOffset
	if meta.DictionaryPageOffset > 0 {
		at = min(at, meta.DictionaryPageOffset)
	}
	end := at + meta.TotalCompressedSize
	if at < 0 || end < at || end > size {
		return 0, errCut
	}
	head := make([]byte, 4096)
	for at < end {
		n, err := in.ReadAt(head, at)
		if n == 0 && err != nil {
			return 0, err
		}
		p, length, err := readHead(head[:n])
		if errors.Is(err, errCut) && n == len(head) && len(head) < largestPage { // a long one, with statistics
			head = make([]byte, 4*len(head))
			continue
		}
		if err != nil {
			return 0, err
		}
		at += length
		switch {
		case p.packed < 0 || p.unpacked < 0 || p.values < 0 || p.levels < 0 || p.packed > end-at || p.levels > p.packed:
			return 0, errCut
		case p.values > mostInPage:
			return 0, fmt.Errorf(
				"a page says that it holds %d values; at most %d are read in one, so write it with smaller pages",
				p.values,
				mostInPage,
			)
		case p.unpacked > max(largestPage, pagePacking*p.packed):
			return 0, fmt.Errorf("a page of %d bytes says that it unpacks to %d; write it with smaller pages", p.packed, p.unpacked)
		case p.dictionary && p.values > p.unpacked:
			return 0, errCut
		}
		if !p.plain && meta.Codec != format.Uncompressed {
			if err := unpacks(in, at+p.levels, p.packed-p.levels, p.unpacked-p.levels, meta.Codec); err != nil {
				return 0, err
			}
		}
		if !p.dictionary {
			values += p.values
		}
		at += p.packed
	}
	return values, nil
}

// readHead reads the head of a page, and tells how long it is.
func readHead(data []byte) (p pageHead, length int64, err error) {
	w := &walker{data, 1000}
	err = w.structure(0, func(field int16, v int64) {
		switch field {
		case 2:
			p.unpacked = v
		case 3:
			p.packed = v
		}
	}, func(field int16) func(int16, int64) {
		switch field {
		case 7:
			p.dictionary = true
		case 8:
			return func(field int16, v int64) {
				switch field {
				case 1:
					p.values = v
				case 5, 6:
					p.levels += max(v, 0)
				case 7:
					p.plain = v == 0
				}
			}
		}
		return func(field int16, v int64) {
			if field == 1 {
				p.values = v
			}
		}
	})
	return p, int64(len(data) - len(w.data)), err
}

var errUnpacks = errors.New("a page unpacks to more than it says, or cannot be unpacked")

// unpacks makes sure that a page does not unpack to more than it says.
func unpacks(in io.ReaderAt, at, packed, unpacked int64, codec format.CompressionCodec) error {
	if codec == format.Snappy { // which says how long it is in front
		head := make([]byte, min(packed, binary.MaxVarintLen64))
		if _, err := in.ReadAt(head, at); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if n, ok := binary.Uvarint(head); ok <= 0 || int64(n) > unpacked {
			return errUnpacks
		}
		return nil
	}
	page := make([]byte, packed)
	if _, err := in.ReadAt(page, at); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	var out io.Reader
	switch codec {
	case format.Zstd:
		return unpacksZstd(page, unpacked)
	case format.Lz4Raw:
		if _, err := lz4.UncompressBlock(page, make([]byte, unpacked)); err != nil {
			return errUnpacks
		}
		return nil
	case format.Gzip:
		z, err := gzip.NewReader(bytes.NewReader(page))
		if err != nil {
			return fmt.Errorf("a page cannot be unpacked: %w", err)
		}
		out = z
	case format.Brotli:
		out = brotli.NewReader(bytes.NewReader(page))
	default:
		return fmt.Errorf("it is packed by %s, which is not read; write it with zstd, snappy, gzip or not packed", codec)
	}
	n, err := io.Copy(io.Discard, io.LimitReader(out, unpacked+1))
	if err != nil || n > unpacked {
		return errUnpacks
	}
	return nil
}

// unpacksZstd goes along the blocks of a page, each of which says how long it is
// or is at most 128 KiB (RFC 8878, 3.1.1.2).
func unpacksZstd(page []byte, unpacked int64) error {
	const largestBlock = 128 << 10
	for total := int64(0); len(page) > 0; {
		var h zstd.Header
		if err := h.Decode(page); err != nil {
			return errUnpacks
		}
		if h.Skippable {
			n := uint64(h.HeaderSize) + uint64(h.SkippableSize)
			if n > uint64(len(page)) {
				return errUnpacks
			}
			page = page[n:]
			continue
		}
		if h.HasFCS && h.FrameContentSize > uint64(unpacked) {
			return errUnpacks
		}
		page = page[h.HeaderSize:]
		for last := false; !last; {
			if len(page) < 3 {
				return errUnpacks
			}
			b := int(page[0]) | int(page[1])<<8 | int(page[2])<<16
			size, kind := b>>3, b>>1&3
			last = b&1 == 1
			page = page[3:]
			switch kind {
			case 0: // as it stands
				total += int64(size)
			case 1: // one byte, so many times
				total += int64(size)
				size = 1
			case 2:
				total += largestBlock
			default:
				return errUnpacks
			}
			if size > len(page) || total > unpacked+largestBlock {
				return errUnpacks
			}
			page = page[size:]
		}
		if h.HasCheckSum {
			page = page[min(4, len(page)):]
		}
	}
	return nil
}
