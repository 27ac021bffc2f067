package service_test

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	pq "github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/encoding/thrift"
	"github.com/parquet-go/parquet-go/format"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A child is the program itself, built without the race detector and run with
// little memory.
type child struct {
	t   *testing.T
	url string
}

// childMemory is the memory that the child may have for data, in KiB. The code
// below would take many times as much if it were believed.
const childMemory = 1_000_000

func startChild(t *testing.T) *child {
	t.Helper()
	folder := t.TempDir()
	program := filepath.Join(folder, "rectura")
	build := exec.Command("go", "build", "-o", program, "rectura/cmd/rectura")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	text, err := build.CombinedOutput()
	require.NoError(t, err, "%s", text)
	run := exec.Command(
		"sh",
		"-c",
		fmt.Sprintf(
			"ulimit -d %d; exec %s serve --data %s --listen 127.0.0.1:0 --bench-memory 500 --work-limit 20s --upload-limit 64",
			childMemory,
			program,
			filepath.Join(folder, "data"),
		),
	)
	out, err := run.StdoutPipe()
	require.NoError(t, err)
	var log buffer
	run.Stderr = &log
	require.NoError(t, run.Start())
	t.Cleanup(func() {
		assert.NoError(t, run.Process.Signal(os.Interrupt))
		assert.NoError(t, run.Wait(), "%s", log.String())
		assert.NotContains(t, log.String(), "panic")
		assert.NotContains(t, log.String(), "level=ERROR")
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err, "%s", log.String())
	c := &child{t, strings.TrimSpace(strings.TrimPrefix(line, "Rectura is at "))}
	status, _ := c.send(http.MethodPut, "/jobs/"+fennick, "", nil)
	require.Equal(t, http.StatusCreated, status)
	return c
}

// send sends a request and gives the answer; the child must be there afterwards.
func (c *child) send(method, path, kind string, body []byte) (status int, answer []byte) {
	c.t.Helper()
	q, err := http.NewRequestWithContext(c.t.Context(), method, c.url+at(path), bytes.NewReader(body))
	require.NoError(c.t, err)
	if body != nil {
		q.Header.Set("Content-Type", kind)
	}
	r, err := http.DefaultClient.Do(q)
	require.NoError(c.t, err)
	answer, err = io.ReadAll(r.Body)
	require.NoError(c.t, err)
	require.NoError(c.t, r.Body.Close())
	health, err := http.Get(c.url + "/api/ready")
	require.NoError(c.t, err, "the service is gone")
	require.NoError(c.t, health.Body.Close())
	require.Equal(c.t, http.StatusOK, health.StatusCode)
	return r.StatusCode, answer
}

func (c *child) post(path string, body any) (status int, answer []byte) {
	c.t.Helper()
	text, err := json.Marshal(body)
	require.NoError(c.t, err)
	return c.send(http.MethodPost, path, "application/json", text)
}

func (c *child) upload(name, query string, data []byte) (status int, answer []byte) {
	c.t.Helper()
	return c.send(http.MethodPost, "/recordings?name="+name+query, "application/octet-stream", data)
}

type object = map[string]any

func job(text string) []object {
	return []object{{"name": "a.rct", "text": "job \"Hostile\"\n" + text}}
}

const signalAndLamp = "input a\n  unit mg/L\ninput b\n  unit mg/L\noutput lamp\n  called by any\n  fail off\n"

// What a request of a few bytes asks for, or a file claims, does not bring the
// service down: each is answered with a sentence, and the next one is answered
// too.
func TestHostileRequests(t *testing.T) {
	if testing.Short() {
		t.Skip("builds the program")
	}
	c := startChild(t)
	status, answer := c.post(
		"/revisions",
		object{"sheets": job(signalAndLamp + "rule r\n  on when a > 5 mg/L hysteresis 0.5 mg/L\n  call lamp\n")},
	)
	require.Equal(t, http.StatusCreated, status, "%s", answer)
	status, answer = c.upload("a.csv", "", []byte("time,a,b\n0,1,2\n1,9,2\n2,1,2\n"))
	require.Equal(t, http.StatusCreated, status, "%s", answer)

	t.Run("jobs that are being written", func(t *testing.T) {
		var doubling strings.Builder
		doubling.WriteString(signalAndLamp + "derived d0 = a + b\n")
		for i := range 60 {
			fmt.Fprintf(&doubling, "derived d%d = d%d + d%d\n", i+1, i, i)
		}
		doubling.WriteString("rule r\n  on when d60 > 5 mg/L for 1 s\n  call lamp\n")
		for name, text := range map[string]string{
			"a value of itself":       signalAndLamp + "derived d = d + a\n",
			"a name that is not yet":  signalAndLamp + "derived flow = flow_in - flow_out\n",
			"two values in a circle":  signalAndLamp + "derived d = e + a\nderived e = d + a\nrule r\n  on when d > 5 mg/L\n  call lamp\n",
			"bands of a circle":       signalAndLamp + "derived d = d + a\nbands l of d\n  low: below 5 mg/L call lamp\n  fine: else\n",
			"sums of sums":            doubling.String(),
			"a very long sum":         signalAndLamp + "derived d = a" + strings.Repeat(" + a", 800_000) + "\n",
			"an alarm that calls one": signalAndLamp + "alarm x\n  on when a > 5 mg/L\n  priority high\n  call lamp\n  call lamp until acknowledged\n",
		} {
			status, answer := c.post(
				"/checks",
				object{"sheets": job(text), "format": true, "base": 1, "play": object{"recording": 1, "rule": "r", "pixels": 100}},
			)
			assert.Equal(t, http.StatusOK, status, "%s: %.300s", name, answer)
			assert.Less(t, len(answer), 1<<20, name)
		}
	})
	t.Run("pixels", func(t *testing.T) {
		for _, pixels := range []any{0, -1, nil, 1e12, 4097, 1.5, "100"} {
			play := object{"recording": 1, "rule": "r", "pixels": pixels}
			if pixels == nil {
				delete(play, "pixels")
			}
			status, answer := c.post("/checks", object{"sheets": job(signalAndLamp), "play": play})
			assert.Equal(t, http.StatusUnprocessableEntity, status, "%v: %s", pixels, answer)
			assert.Contains(t, string(answer), "pixels")
		}
	})
	t.Run("chains of rules", func(t *testing.T) {
		var b strings.Builder
		b.WriteString(
			signalAndLamp + "rule r0\n  on when a > 5 mg/L hysteresis 0.5 mg/L\n  call lamp\nrule r1\n  on when a > 4 mg/L hysteresis 0.5 mg/L\n  call lamp\n",
		)
		for i := 2; i < 24; i++ {
			fmt.Fprintf(&b, "rule r%d\n  on when r%d and r%d\n  call lamp\n", i, i-1, i-2)
		}
		status, answer := c.post("/revisions", object{"sheets": job(b.String())})
		require.Equal(t, http.StatusCreated, status, "%s", answer)
		status, answer = c.post("/replays", object{"revision": 2, "recording": 1})
		require.Equal(t, http.StatusOK, status, "%.300s", answer)
		assert.Less(t, len(answer), 200<<10)
		status, answer = c.post("/explanations", object{"revision": 2, "recording": 1, "name": "r23", "t": 1})
		require.Equal(t, http.StatusOK, status, "%.300s", answer)
		assert.Less(t, len(answer), 40<<10)
	})
	t.Run("numbers at the ends", func(t *testing.T) {
		status, answer := c.upload("ends.csv", "", []byte("time,a\n0,-1.7e308\n1,1.7e308\n2,1.7e308\n3,-1.7e308\n"))
		require.Equal(t, http.StatusCreated, status, "%s", answer)
		for _, path := range []string{"/histograms?revision=1&recording=2&point=a&bins=10", "/series?revision=1&recording=2&point=a&pixels=10", "/values?revision=1&recording=2&t=1"} {
			status, answer := c.send(http.MethodGet, path, "", nil)
			assert.Equal(t, http.StatusOK, status, "%s: %s", path, answer)
		}
		status, answer = c.post("/replays", object{"revision": 1, "recording": 2})
		assert.Equal(t, http.StatusOK, status, "%.300s", answer)
		status, answer = c.post(
			"/checks",
			object{
				"sheets": job(signalAndLamp + "rule r\n  on when a * 1000 > 5 mg/L for 1 s\n  call lamp\n"),
				"play":   object{"recording": 2, "rule": "r", "pixels": 100},
			},
		)
		assert.Equal(t, http.StatusOK, status, "%.300s", answer)
		for _, bound := range []string{"NaN", "Inf", "-inf", "x", ""} {
			status, answer := c.send(http.MethodGet, "/series?revision=1&recording=1&point=a&pixels=10&from="+bound, "", nil)
			assert.Equal(t, http.StatusBadRequest, status, "%s: %s", bound, answer)
		}
		status, answer = c.upload("long.csv", "", []byte("time,a\n1700-01-01T00:00:00Z,1\n2200-01-01T00:00:00Z,1\n"))
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%s", answer)
		assert.Contains(t, string(answer), "292 years")
	})
	t.Run("very many columns", func(t *testing.T) {
		for n, want := range map[int]int{2731: http.StatusCreated, 4095: http.StatusCreated, 5000: http.StatusUnprocessableEntity} {
			var b strings.Builder
			b.WriteString("time")
			for i := range n {
				fmt.Fprintf(&b, ",c%d", i)
			}
			b.WriteString("\n1" + strings.Repeat(",1", n) + "\n2" + strings.Repeat(",2", n) + "\n")
			status, answer := c.upload(fmt.Sprintf("%d.csv", n), "", []byte(b.String()))
			assert.Equal(t, want, status, "%d: %.300s", n, answer)
		}
	})
	t.Run("lines with few of many keys", func(t *testing.T) {
		var b bytes.Buffer
		b.WriteString(`{"time":0`)
		for i := range 4095 {
			fmt.Fprintf(&b, `,"c%d":1`, i)
		}
		b.WriteString("}\n")
		for i := range 400_000 {
			fmt.Fprintf(&b, "{\"time\":%d,\"c0\":1}\n", i+1)
		}
		for name, query := range map[string]string{"sparse.jsonl": "", "sorted.jsonl": "&sort=true"} {
			status, answer := c.upload(name, query, b.Bytes())
			assert.Equal(t, http.StatusCreated, status, "%.300s", answer)
		}
		status, answer := c.send(http.MethodGet, "/recordings/5/file?format=csv", "", nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%.300s", answer)
		assert.Contains(t, string(answer), "write JSON Lines")
	})
	t.Run("patterns", func(t *testing.T) {
		status, answer := c.upload("p.txt", "&every=1s&pattern=(%3FP%3Ca%3E(x%7B100%7D)%7B10%7D)", []byte(strings.Repeat("x", 1<<20)))
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%s", answer)
		assert.Contains(t, string(answer), "too large")
	})
	t.Run("files that claim", func(t *testing.T) {
		for name, data := range claims(t) {
			status, answer := c.upload(name+".parquet", "", data)
			assert.Equal(t, http.StatusUnprocessableEntity, status, "%s: %s", name, answer)
		}
	})
	t.Run("names", func(t *testing.T) {
		for _, name := range []string{"a\x1b.rct", "a\n.rct", "../a.rct", "a/b.rct", `a\b.rct`, ".rct", "a"} {
			status, answer := c.post("/revisions", object{"sheets": []object{{"name": name, "text": "job \"x\"\n"}}})
			assert.Equal(t, http.StatusUnprocessableEntity, status, "%q: %s", name, answer)
		}
		status, answer := c.post("/revisions", object{"sheets": job(signalAndLamp), "note": strings.Repeat("n", 1001)})
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%s", answer)
	})
}

// claims are small Parquet files that say of themselves what cannot be.
func claims(t *testing.T) map[string][]byte {
	type row struct {
		Time int64   `parquet:"time"`
		A    float64 `parquet:"a,optional"`
	}
	var plain bytes.Buffer
	require.NoError(t, pq.Write(&plain, []row{{0, 1}, {1, 2}}))
	data := plain.Bytes()
	changed := func(change func(m *format.FileMetaData)) []byte {
		f, err := pq.OpenFile(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		m := *f.Metadata()
		change(&m)
		foot, err := thrift.Marshal(new(thrift.CompactProtocol), &m)
		require.NoError(t, err)
		length := int(binary.LittleEndian.Uint32(data[len(data)-8:]))
		out := append(bytes.Clone(data[:len(data)-8-length]), foot...)
		return append(binary.LittleEndian.AppendUint32(out, uint32(len(foot))), "PAR1"...)
	}
	all := map[string][]byte{
		"rows": changed(func(m *format.FileMetaData) {
			m.NumRows = 1e11
			m.RowGroups[0].NumRows = 1e11
			for i := range m.RowGroups[0].Columns {
				m.RowGroups[0].Columns[i].MetaData.NumValues = 1e11
			}
		}),
		"beyond-the-end": changed(func(m *format.FileMetaData) { m.RowGroups[0].Columns[0].MetaData.TotalCompressedSize = 1 << 40 }),
		"nowhere":        changed(func(m *format.FileMetaData) { m.RowGroups[0].Columns[0].MetaData.DataPageOffset = math.MaxInt64 }),
		"a-short-end":    append([]byte("PAR1\x15\x04\x19\xfc\xff\xff\xff\x7f"), "\x0c\x00\x00\x00PAR1"...),
	}
	// A page that says it is small and unpacks to a gigabyte, or says that it does.
	page := func(said int64, packed []byte, codec int64) []byte {
		var b bytes.Buffer
		b.WriteString("PAR1")
		head := compact(
			i32(1, 0),
			i32(2, said),
			i32(3, int64(len(packed))),
			structure(5, compact(i32(1, 1000), i32(2, 0), i32(3, 3), i32(4, 3))),
		)
		b.Write(head)
		b.Write(packed)
		size := int64(b.Len() - 4)
		chunk := func(name string) []byte {
			return compact(
				i64(2, 4),
				structure(
					3,
					compact(i32(1, 2), list(2, 5, []byte{0}), list(3, 8, word(name)), i32(4, codec), i64(5, 1000), i64(6, size), i64(7, size), i64(9, 4)),
				),
			)
		}
		leaf := func(name string) []byte { return compact(i32(1, 2), i32(3, 0), field(4, 8, word(name))) }
		foot := compact(i32(1, 1), list(2, 12, compact(field(4, 8, word("r")), i32(5, 2)), leaf("time"), leaf("a")), i64(3, 1000),
			list(4, 12, compact(list(1, 12, chunk("time"), chunk("a")), i64(2, size), i64(3, 1000))))
		b.Write(foot)
		b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(foot))))
		b.WriteString("PAR1")
		return b.Bytes()
	}
	var bomb bytes.Buffer
	z, err := zstd.NewWriter(&bomb)
	require.NoError(t, err)
	zeros := make([]byte, 1<<20)
	for range 3000 {
		_, err := z.Write(zeros)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	all["a-packed-page"] = page(8000, bomb.Bytes(), 6)
	all["a-large-page"] = page(math.MaxInt32, []byte("x"), 0)
	return all
}

// The fields of Thrift's compact protocol, as far as the claims need them.
func zigzag(v int64) []byte { return binary.AppendUvarint(nil, uint64(v<<1)^uint64(v>>63)) }
func field(id byte, kind byte, value []byte) []byte {
	return append(append([]byte{kind}, zigzag(int64(id))...), value...)
}
func i32(id byte, v int64) []byte            { return field(id, 5, zigzag(v)) }
func i64(id byte, v int64) []byte            { return field(id, 6, zigzag(v)) }
func structure(id byte, value []byte) []byte { return field(id, 12, value) }
func word(s string) []byte                   { return append(binary.AppendUvarint(nil, uint64(len(s))), s...) }
func compact(fields ...[]byte) []byte        { return append(bytes.Join(fields, nil), 0) }
func list(id, kind byte, of ...[]byte) []byte {
	return field(id, 9, append([]byte{byte(len(of))<<4 | kind}, bytes.Join(of, nil)...))
}
