package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var crowdFor = flag.Duration("crowd", 5*time.Second, "for how long 200 clients ask")

// crowdAnswers is how many answers the crowd waits for, however slow the machine is.
const crowdAnswers = 120

// Two hundred clients, each from an address of its own, ask for everything at
// once, and some go before they are answered. Nobody is answered by a failure;
// who has to wait too long is told so in a sentence; memory stays level.
func TestCrowd(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a while")
	}
	url, api, log, _ := start(t, t.TempDir())
	pushHatchery(t, api)
	require.NotNil(t, upload(t, api, "night.csv", night(t)).JSON201)
	get := []string{"/revisions", "/revisions/1", "/recordings", "/recordings/1", "/ready", "/bench", "/patterns", "/differences?from=1&to=1",
		"/series?revision=1&recording=1&point=oxygen&pixels=800", "/series?revision=1&recording=1&point=dosing&pixels=800&from=100&to=9000", "/values?revision=1&recording=1&t=500",
		"/histograms?revision=1&recording=1&point=oxygen&bins=40", "/curves?revision=1&input=oxygen", "/scales?revision=1&input=oxygen&value=12mA", "/recordings/1/file?format=jsonl",
		"/revisions/99", "/nothing"}
	post := map[string]string{
		"/replays":      `{"revision":1,"recording":1,"most":200}`,
		"/explanations": `{"revision":1,"recording":1,"name":"blower","t":16000}`,
		"/checks":       `{"sheets":[{"name":"a.rct","text":"job \"x\"\nderived d = d + d\n"}]}`,
		"/lessons":      `{"revision":1,"recording":1,"input":"oxygen","normal":{"from":600,"to":9000},"trouble":{"from":16700,"to":17100}}`,
		"/tries":        `{"sheets":[],"rule":"x"}`,
	}
	// A slow machine takes longer for the same answers.
	ctx, cancel := context.WithTimeout(t.Context(), *crowdFor+2*time.Minute)
	defer cancel()
	var all sync.WaitGroup
	var answered, left, busy atomic.Int64
	enough := time.Now().Add(*crowdFor)
	asks := func() bool { return ctx.Err() == nil && (answered.Load() < crowdAnswers || time.Now().Before(enough)) }
	m := &mortal{t: t, api: api}
	var wrong sync.Map
	for i := range 200 {
		client := &http.Client{
			Transport: &http.Transport{
				DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 1, byte(i/100), byte(1+i%100))}}).DialContext,
			},
		}
		all.Go(func() {
			defer client.CloseIdleConnections()
			defer cancel() // nobody waits for what others still ask
			r := rand.New(rand.NewPCG(uint64(i), 1))
			for asks() {
				method, path, body := http.MethodGet, get[r.IntN(len(get))], ""
				switch r.IntN(4) {
				case 0:
					for path, body = range post {
						method = http.MethodPost
						break
					}
				case 1:
					if r.IntN(10) == 0 {
						method, path, body = http.MethodPost, fmt.Sprintf(
							"/recordings?name=c%d-%d.csv",
							i,
							r.Int64(),
						), "time,a\n"+strings.Repeat(
							"1,1\n",
							2000,
						)
					}
				}
				asking, stop := context.WithCancel(ctx)
				if r.IntN(5) == 0 { // gone before the answer
					time.AfterFunc(time.Duration(r.IntN(3000))*time.Microsecond, stop)
				}
				q, err := http.NewRequestWithContext(asking, method, url+at(path), strings.NewReader(body))
				if err != nil {
					panic(err)
				}
				q.Header.Set(
					"Content-Type",
					map[bool]string{true: "application/octet-stream", false: "application/json"}[strings.HasPrefix(path, "/recordings?")],
				)
				answer, err := client.Do(q)
				if err != nil {
					left.Add(1)
					stop()
					continue
				}
				text, err := io.ReadAll(answer.Body)
				_ = answer.Body.Close()
				stop()
				switch {
				case err != nil:
					left.Add(1)
				case answer.StatusCode == http.StatusServiceUnavailable && json.Valid(text) && bytes.Contains(text, []byte("detail")):
					busy.Add(1)
				case answer.StatusCode >= 500:
					wrong.Store(fmt.Sprintf("%s %s: %d %.200s", method, path, answer.StatusCode, text), true)
				default:
					answered.Add(1)
				}
			}
		})
	}
	all.Wait()
	b := m.bench()
	assert.Zero(t, b.Ends)
	assert.Less(t, b.MemoryBytes, b.MostBytes)
	wrong.Range(func(what, _ any) bool { t.Error(what); return true })
	t.Logf("%d answered, %d gone, %d told to come back; the bench takes %d MB", answered.Load(), left.Load(), busy.Load(), b.MemoryBytes>>20)
	assert.GreaterOrEqual(t, answered.Load(), int64(crowdAnswers))
	for line := range strings.Lines(log.String()) {
		if strings.Contains(line, "level=ERROR") || strings.Contains(line, "panic") {
			t.Error(line)
		}
	}
}
