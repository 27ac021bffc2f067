package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
)

// An event is one of a stream.
type event struct {
	kind, id string
	client.LiveChange
}

// A reader reads a stream.
type reader struct {
	t      *testing.T
	lines  *bufio.Scanner
	cancel context.CancelFunc
	last   string
}

func (m *mortal) reader(after string) *reader {
	ctx, cancel := context.WithTimeout(m.t.Context(), 30*time.Second)
	m.t.Cleanup(cancel)
	p := &client.GetLiveParams{}
	if after != "" {
		p.LastEventID = &after
	}
	a, err := m.api.ClientInterface.GetLive(ctx, m.name(), p)
	require.NoError(m.t, err)
	require.Equal(m.t, http.StatusOK, a.StatusCode)
	require.Equal(m.t, "text/event-stream", a.Header.Get("Content-Type"))
	m.t.Cleanup(func() { _ = a.Body.Close() }) // it was read as far as it matters
	lines := bufio.NewScanner(a.Body)
	lines.Buffer(nil, 1<<20)
	return &reader{m.t, lines, cancel, ""}
}

// next returns the next event; false at the end of the stream.
func (r *reader) next() (e event, is bool) {
	for r.lines.Scan() {
		field, value, _ := strings.Cut(r.lines.Text(), ": ")
		switch field {
		case "event":
			e.kind = value
		case "id":
			e.id, r.last = value, value
		case "data":
			require.NoError(r.t, json.Unmarshal([]byte(value), &e.LiveChange))
			return e, true
		}
	}
	return e, false
}

// until reads on until an event is as it is waited for.
func (r *reader) until(what string, is func(e *event) bool) event {
	for {
		e, more := r.next()
		require.True(r.t, more, "the stream ends before %s", what)
		if is(&e) {
			return e
		}
	}
}

func oxygenIs(v float64) func(e *event) bool {
	return func(e *event) bool {
		if e.Points == nil {
			return false
		}
		for _, p := range *e.Points {
			if p.Name == "oxygen" && p.Value != nil && *p.Value == v {
				return true
			}
		}
		return false
	}
}

// A reader gets everything first, and then what differs. One that comes back gets what it has missed, the newest of each; whoever reads
// slowly holds up nobody.
func TestStream(t *testing.T) {
	rack := onRack(t)
	_, api, _, stop := start(t, t.TempDir())
	m := &mortal{t: t, api: api}
	m.push(fmt.Sprintf(mortalJob, rack.Address()))
	m.arm()
	m.until("it drives", func(n *client.Now) bool { return !n.Status.Settling })
	r := m.reader("")
	first, is := r.next()
	require.True(t, is)
	assert.Equal(t, "state", first.kind)
	assert.Len(t, *first.Points, 7)
	assert.NotNil(t, first.Status)
	assert.NotNil(t, first.Alarms)

	m.reader("") // which is not read on
	var all sync.WaitGroup
	readers := make([]*reader, 50)
	for i := range readers {
		readers[i] = m.reader("")
	}
	rack.SetWords("holding", 0, 5)
	began := time.Now()
	for _, x := range readers {
		all.Go(func() { x.until("the reading", oxygenIs(5)) })
	}
	e := r.until("the reading", oxygenIs(5))
	all.Wait()
	t.Logf("fifty readers have a reading after %s", time.Since(began))
	assert.Equal(t, "change", e.kind)
	assert.Nil(t, e.Setpoints, "what is as before is not sent again")
	assert.LessOrEqual(t, len(*e.Points), 2)
	e = r.until("the blower", func(e *event) bool {
		return e.Points != nil && (*e.Points)[0].Name == "blower" && *(*e.Points)[0].State == "on"
	})
	assert.NotNil(t, e.Rules)

	r.cancel() // and back again
	for _, v := range []uint16{6, 7, 8} {
		rack.SetWords("holding", 0, v)
		m.until("it is read", func(n *client.Now) bool { return *n.Points[0].Value == float64(v) })
	}
	back := m.reader(r.last)
	e = back.until("what was missed", oxygenIs(8))
	assert.Equal(t, "change", e.kind)
	for _, foreign := range []string{"9.1", "x", "1.999999999"} {
		e, _ := m.reader(foreign).next()
		assert.Equal(t, "state", e.kind, foreign)
	}

	m.disarm(client.PartingHold)
	m.disarm(client.PartingHold)
	for more := true; more; {
		_, more = back.next()
	}
	gone, err := api.GetLiveWithResponse(t.Context(), fennick, nil)
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, http.StatusConflict, gone.Body), "is idle")

	l, err := api.ListenWithResponse(t.Context(), fennick, client.ListenRequest{})
	require.NoError(t, err)
	require.NotNil(t, l.JSON200, "%s", l.Body)
	open := m.reader("")
	_, is = open.next()
	require.True(t, is)
	begun := time.Now()
	stop()
	assert.Less(t, time.Since(begun), 5*time.Second, "readers keep no service from ending")
}
