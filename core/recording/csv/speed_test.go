package csv_test

import (
	"bufio"
	"bytes"
	stdcsv "encoding/csv"
	"fmt"
	"io"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/core/recording"
	"rectura/core/recording/csv"
)

func spread(tasks []func()) {
	var all sync.WaitGroup
	for _, task := range tasks {
		all.Go(task)
	}
	all.Wait()
}

// BenchmarkRead reads a recording of eight columns from memory, in parts on all
// processors, beside encoding/csv, which only takes the same text apart, with
// one record for all rows. The ratio of the rates is to be 1.5 at the least.
func BenchmarkRead(b *testing.B) {
	var text bytes.Buffer
	w := bufio.NewWriter(&text)
	w.WriteString("time,a,b,c,d,e,f,g,h\n")
	at := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	for i := range 400_000 {
		w.WriteString(at.Format(time.RFC3339))
		for k := range 8 {
			fmt.Fprint(w, ",", strconv.FormatFloat(float64((i*31+k*7)%2000)/100, 'f', 4, 64))
		}
		w.WriteByte('\n')
		at = at.Add(time.Second)
	}
	require.NoError(b, w.Flush())
	var ours, plain time.Duration
	for b.Loop() {
		began := time.Now()
		_, err := csv.Reader{Name: "r.csv", Options: recording.Options{Spread: spread}}.Read(bytes.NewReader(text.Bytes()))
		require.NoError(b, err)
		ours += time.Since(began)
		began = time.Now()
		r := stdcsv.NewReader(bytes.NewReader(text.Bytes()))
		r.ReuseRecord = true
		for {
			if _, err := r.Read(); err == io.EOF {
				break
			} else if err != nil {
				b.Fatal(err)
			}
		}
		plain += time.Since(began)
	}
	b.ReportMetric(plain.Seconds()/ours.Seconds(), "times-encoding/csv")
	b.ReportMetric(float64(text.Len()*b.N)/ours.Seconds()/1e6, "MB/s")
	b.ReportMetric(0, "ns/op")
}
