package live

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v4"

	"rectura/service/api"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/background"
	"rectura/service/live"
)

// Limits of streams.
const (
	mostReaders = 256                   // of all jobs together
	leastApart  = 20 * time.Millisecond // between two looks at an engine
	lookShare   = 10                    // looks take one part in so many of the time
	beatEvery   = 5 * time.Second       // of an event that changes nothing, so that a lost connection is noticed
	oldAge      = 2.0                   // seconds: a reading that is older is told with its age
)

// streams holds one stream for each engine that has had a reader.
type streams struct {
	mu      sync.Mutex
	all     map[*live.Engine]*stream
	readers int
}

// A stream is a snapshot of one engine that its readers share. Each item carries the number of the instant at which it last changed. A
// reader carries the number of the instant that it was last sent, and is sent the items with higher numbers. So nothing is queued for a
// slow reader, and nothing is kept for one that is away.
type stream struct {
	engine *live.Engine
	server *Server

	mu      sync.Mutex
	readers int
	looking bool
	time    time.Time
	start   int64 // the engine's
	at      int64 // the number of the newest instant that was looked at
	whole   int64 // as of this, there are other items: whoever has seen less needs all
	items   []item
	known   map[string]int // in items
	changed chan struct{}  // closed when there is more
	failed  error          // why there will be no more
}

// An item is one point, rule or setpoint, or one whole list, as JSON.
type item struct {
	key     string // its list, and its name
	list    string
	same    []byte // it has changed if this has
	encoded []byte
	since   int64
}

// of returns the stream of an engine, and counts the reader.
func (x *streams) of(s *Server, e *live.Engine) (*stream, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.readers >= mostReaders {
		return nil, transport.Refuse(http.StatusServiceUnavailable, fmt.Sprintf("%d readers follow jobs already; ask for what is so now instead.", mostReaders))
	}
	if x.all == nil {
		x.all = map[*live.Engine]*stream{}
	}
	for other := range x.all { // engines that have ended
		select {
		case <-other.Done():
			delete(x.all, other)
		default:
		}
	}
	t := x.all[e]
	if t == nil {
		t = &stream{engine: e, server: s, changed: make(chan struct{})}
		x.all[e] = t
	}
	x.readers++
	t.enter()
	return t, nil
}

func (x *streams) leave(t *stream) {
	x.mu.Lock()
	x.readers--
	x.mu.Unlock()
	t.mu.Lock()
	t.readers--
	t.mu.Unlock()
}

// enter counts a reader; the first one has the engine looked at.
func (t *stream) enter() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.readers++
	if t.looking {
		return
	}
	t.looking = true
	background.Go(t.server.log, "following a job", t.follow, func(err error) { t.end(err) })
}

// end tells readers that there will be no more.
func (t *stream) end(err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.failed, t.looking = err, false
	close(t.changed)
	t.changed = make(chan struct{})
}

// follow takes a snapshot after each instant, until the last reader has gone.
func (t *stream) follow() error {
	ctx := context.Background()
	for {
		began := time.Now()
		if err := t.look(ctx); err != nil {
			return err
		}
		t.mu.Lock()
		if t.readers == 0 {
			t.looking = false
			t.mu.Unlock()
			return nil
		}
		t.mu.Unlock()
		time.Sleep(max(leastApart, lookShare*time.Since(began)))
		select {
		case <-t.engine.Stepped():
		case <-t.engine.Done():
			return live.ErrEnded
		case <-time.After(time.Second): // ages and devices change without an instant
		}
	}
}

// look takes one snapshot, and wakes readers if an item differs.
func (t *stream) look(ctx context.Context) error {
	now, err := t.engine.Fresh(ctx)
	if err != nil {
		return err
	}
	v := nowView(views.Wall{Location: t.engine.Zone()}, &now.Now)
	items, err := itemsOf(&v)
	if err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.failed = nil
	if t.start != now.Starts {
		t.start, t.at, t.known = now.Starts, 0, nil
	}
	at := max(now.Instant, t.at+1) // ages change between instants
	differs := t.merge(items, at)
	if !differs {
		return nil
	}
	t.time, t.at = v.Time, at
	close(t.changed)
	t.changed = make(chan struct{})
	return nil
}

// merge replaces the items, and reports whether one differs.
func (t *stream) merge(items []item, at int64) (differs bool) {
	alike := len(items) == len(t.items) && t.known != nil
	for i := range items {
		alike = alike && t.items[i].key == items[i].key
	}
	if !alike {
		t.whole, t.known = at, map[string]int{}
	}
	for i := range items {
		x := &items[i]
		if x.since = at; alike && bytes.Equal(t.items[i].same, x.same) {
			x.since = t.items[i].since
		}
		t.known[x.key] = i
		differs = differs || x.since == at
	}
	t.items = items
	return differs
}

// itemsOf divides a view into items. Lateness, counts of requests and hours of outputs change all the time; they do not make an item
// differ.
func itemsOf(v *api.Now) (all []item, err error) {
	add := func(list, name string, same, whole any) {
		x := item{key: list + " " + name, list: list}
		if x.encoded, err = json.Marshal(whole); err != nil {
			return
		}
		x.same = x.encoded
		if same != nil {
			x.same, err = json.Marshal(same)
		}
		all = append(all, x)
	}
	status := v.Status
	status.LatenessMs, status.Records, status.Devices = api.Lateness{}, nil, append([]api.DeviceNow{}, status.Devices...)
	for i := range status.Devices {
		d := &status.Devices[i]
		d.Requests, d.P99Ms = 0, 0
	}
	add("status", "", status, v.Status)
	for i := range v.Points {
		p := v.Points[i]
		if p.AgeSeconds != nil && *p.AgeSeconds < oldAge {
			p.AgeSeconds = nil
		}
		p.OnSeconds, p.DueSeconds = nil, nil
		add("points", p.Name, p, v.Points[i])
	}
	for _, r := range v.Rules {
		same := r
		if r.DelayUntil != nil { // its sentence counts the time that has passed
			same.Because = ""
		}
		add("rules", r.Name, same, r)
	}
	for _, x := range v.Setpoints {
		add("setpoints", x.Name, nil, x)
	}
	add("alarms", "", nil, v.Alarms)
	add("bypasses", "", nil, v.Bypasses)
	return all, err
}

// event returns the text of the next event for a reader that was last sent the instant seen of the start start, and the instant of the
// event.
func (t *stream) event(start, seen int64) (text []byte, at int64) {
	whole := start != t.start || seen < t.whole || seen > t.at
	lists := map[string][][]byte{}
	for i := range t.items {
		if x := &t.items[i]; whole || x.since > seen {
			lists[x.list] = append(lists[x.list], x.encoded)
		}
	}
	var b bytes.Buffer
	kind := "change"
	if whole {
		kind = "state"
	}
	fmt.Fprintf(&b, "event: %s\nid: %d.%d\ndata: {\"time\":%q", kind, t.start, t.at, t.time.Format(time.RFC3339Nano))
	for _, list := range []string{"status", "points", "rules", "setpoints", "alarms", "bypasses"} {
		some, is := lists[list]
		switch {
		case list == "status" || list == "alarms" || list == "bypasses": // which are one item
			if is {
				fmt.Fprintf(&b, ",%q:%s", list, some[0])
			}
		case is || whole:
			fmt.Fprintf(&b, ",%q:[%s]", list, bytes.Join(some, []byte{','}))
		}
	}
	b.WriteString("}\n\n")
	return b.Bytes(), t.at
}

// A following is the answer to a reader.
type following struct {
	*stream
	ctx         context.Context
	closing     context.Context
	start, seen int64
}

// GetLive streams the changes of a job.
func (s *Server) GetLive(ctx context.Context, request GetLiveRequestObject) (GetLiveResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	t, err := s.streams.of(s, p.engine)
	if err != nil {
		return nil, err
	}
	f := &following{stream: t, ctx: ctx, closing: s.closing}
	start, seen, _ := strings.Cut(views.Deref(request.Params.LastEventID), ".")
	if f.start, err = strconv.ParseInt(start, 10, 64); err == nil {
		f.seen, err = strconv.ParseInt(seen, 10, 64)
	}
	if err != nil { // the id is none of ours, or none was given: it begins with everything
		f.start, f.seen = -1, 0
	}
	return f, nil
}

// VisitGetLiveResponse sends events until the reader goes, the engine ends, or the service closes.
func (f *following) VisitGetLiveResponse(w http.ResponseWriter) error {
	defer f.server.streams.leave(f.stream)
	w.Header().Set(echo.HeaderContentType, "text/event-stream")
	w.WriteHeader(http.StatusOK)
	to := http.NewResponseController(w)
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		f.mu.Lock()
		changed, failed := f.changed, f.failed
		var text []byte
		if f.start != f.stream.start || f.seen != f.at {
			if f.at != 0 {
				text, f.seen = f.event(f.start, f.seen)
				f.start = f.stream.start
			}
		}
		f.mu.Unlock()
		if failed != nil {
			return nil // the client asks again, and is told why there is nothing
		}
		if len(text) > 0 {
			if _, err := w.Write(text); err != nil {
				return nil // the reader has gone
			}
			if err := to.Flush(); err != nil {
				return nil
			}
		}
		select {
		case <-changed:
		case <-f.ctx.Done():
			return nil
		case <-f.closing.Done():
			return nil
		case <-beat.C:
			if _, err := w.Write([]byte(": \n\n")); err != nil {
				return nil
			}
			if err := to.Flush(); err != nil {
				return nil
			}
		}
	}
}
