//go:build powercuts

package service_test

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// strace writes down what a process does with its files, with all that it writes, and leaves the process the one that was started.
func strace(file string) []string {
	calls := "open,openat,write,writev,pwrite64,pwritev,ftruncate,fallocate,fsync,fdatasync,unlink,unlinkat,rename,renameat,renameat2"
	return []string{"strace", "-D", "-f", "-ttt", "-xx", "-y", "-s", "1000000", "-e", "signal=none", "-e", "trace=" + calls, "-o", file}
}

// A sector is what a disk writes whole, in bytes.
const sector = 512

// A change is what was asked of a file: bytes at a place, or a length where there are none.
type change struct {
	at    int64
	bytes []byte
}

func (c change) on(data []byte) []byte {
	end := c.at + int64(len(c.bytes))
	if missing := end - int64(len(data)); missing > 0 {
		data = append(data, make([]byte, missing)...)
	}
	if c.bytes == nil {
		return data[:c.at]
	}
	copy(data[c.at:], c.bytes)
	return data
}

// A node is a file, whatever it is called: what is certain to be on the disk, and what may be.
type node struct {
	synced  []byte
	pending []change
}

// A traced is a folder as those see it who use it, and as the disk has it for certain.
type traced struct {
	folder        string
	names, synced map[string]*node
}

// kept gives the files that a power cut leaves: what was synced, and what chance lets through of what was asked for later.
func (d *traced) kept(through func() bool) map[string][]byte {
	names := d.synced
	if through() {
		names = d.names
	}
	files := map[string][]byte{}
	for name, n := range names {
		data := append([]byte{}, n.synced...)
		for _, c := range n.pending {
			if c.bytes == nil {
				if through() {
					data = c.on(data)
				}
				continue
			}
			for k := int64(0); k < int64(len(c.bytes)); {
				end := min(int64(len(c.bytes)), k+sector-(c.at+k)%sector)
				if through() {
					data = change{c.at + k, c.bytes[k:end]}.on(data)
				}
				k = end
			}
		}
		files[name] = data
	}
	return files
}

// lay writes such files into a folder.
func lay(t *testing.T, files map[string][]byte) string {
	folder := t.TempDir()
	for name, data := range files {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), data, 0o600))
	}
	return folder
}

var (
	traceLine = regexp.MustCompile(`^(\d+) +(\d+\.\d+) (.*)$`)
	traceCall = regexp.MustCompile(`^(\w+)\((.*?)(?:\) += (-?\d+).*| <unfinished \.\.\.>)$`)
	traceDone = regexp.MustCompile(`^<\.\.\. (\w+) resumed>.* = (-?\d+)`)
	traceText = regexp.MustCompile(`["<]((?:\\x[0-9a-f]{2})+)[">]`)
	numbers   = regexp.MustCompile(`, (\d+)`)
)

// plain replaces what is written in hexadecimal digits.
func plain(t *testing.T, s string) []byte {
	data, err := hex.DecodeString(strings.ReplaceAll(s, `\x`, ""))
	require.NoError(t, err)
	return data
}

// replay goes through what strace wrote down, and calls cut before each sync takes effect.
func (d *traced) replay(t *testing.T, file string, cut func(at time.Time)) {
	f, err := os.Open(file)
	require.NoError(t, err)
	defer func() { require.NoError(t, f.Close()) }()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 16<<20)
	under := map[string]string{} // what is under way, by thread
	for lines.Scan() {
		m := traceLine.FindStringSubmatch(lines.Text())
		require.NotNil(t, m, lines.Text())
		thread, text := m[1], m[3]
		seconds, err := strconv.ParseFloat(m[2], 64)
		require.NoError(t, err)
		at := time.UnixMicro(int64(seconds * 1e6))
		if strings.HasPrefix(text, "+++") {
			continue
		}
		if done := traceDone.FindStringSubmatch(text); done != nil {
			d.do(t, under[thread], done[2], at, cut)
			delete(under, thread)
			continue
		}
		call := traceCall.FindStringSubmatch(text)
		require.NotNil(t, call, "%.200s", text)
		if call[3] == "" {
			under[thread] = text
			continue
		}
		d.do(t, text, call[3], at, cut)
	}
	require.NoError(t, lines.Err())
}

// do does what a call did that ended well.
func (d *traced) do(t *testing.T, text, result string, at time.Time, cut func(time.Time)) {
	if strings.HasPrefix(result, "-") {
		return
	}
	call := traceCall.FindStringSubmatch(text)
	var texts []string
	for _, m := range traceText.FindAllStringSubmatch(call[2], -1) {
		texts = append(texts, string(plain(t, m[1])))
	}
	if len(texts) == 0 {
		return
	}
	// Of all files, those of the folder count, but for the one that SQLite's processes share, which is made anew after a start.
	name := func(path string) string {
		if filepath.Dir(path) != d.folder || strings.HasSuffix(path, "-shm") {
			return ""
		}
		return filepath.Base(path)
	}
	last := texts[len(texts)-1]
	switch call[1] {
	case "open", "openat":
		if n := name(last); n != "" && strings.Contains(call[2], "O_CREAT") && (d.names[n] == nil || strings.Contains(call[2], "O_TRUNC")) {
			d.names[n] = &node{}
		}
	case "rename", "renameat", "renameat2":
		if from, to := name(texts[0]), name(last); d.names[from] != nil {
			d.names[to] = d.names[from]
			delete(d.names, from)
		}
	case "unlink", "unlinkat":
		delete(d.names, name(last))
	case "fsync", "fdatasync":
		cut(at)
		if last == d.folder {
			d.synced = map[string]*node{}
			for n, f := range d.names {
				d.synced[n] = f
			}
		} else if n := d.names[name(last)]; n != nil {
			for _, c := range n.pending {
				n.synced = c.on(n.synced)
			}
			n.pending = nil
		}
	default:
		n := d.names[name(texts[0])]
		if n == nil {
			return
		}
		all := numbers.FindAllStringSubmatch(call[2], -1)
		where, err := strconv.ParseInt(all[len(all)-1][1], 10, 64)
		require.NoError(t, err)
		switch call[1] {
		case "pwrite64":
			require.Equal(t, result, fmt.Sprint(len(last)), "all was written, and strace wrote it down")
			n.pending = append(n.pending, change{where, []byte(last)})
		case "write": // by which whole files are written, at once
			require.Contains(t, []string{"lock", "plant.head.next", "plant.head.synced.next"}, name(texts[0]))
			n.pending = append(n.pending, change{0, []byte(last)})
		case "ftruncate":
			n.pending = append(n.pending, change{at: where})
		default:
			require.Fail(t, "a call that this test does not know", "%.200s", text)
		}
	}
}

// chance lets one of two through.
func chance(r *rand.Rand) func() bool { return func() bool { return r.IntN(2) == 0 } }
