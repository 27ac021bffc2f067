package transport

import (
	"errors"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v4"
)

// The pace at which a body must come in: so many bytes in so much time.
const (
	bodyPart = 16 << 10
	bodyTime = 20 * time.Second
)

// limitBodies bounds what is sent, and how slowly.
func limitBodies(upload int64) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			r, limit := c.Request(), int64(BodyLimit)
			if takesFiles(r) {
				limit = upload
			}
			if r.Body == nil || r.Body == http.NoBody {
				return next(c)
			}
			if len(r.TransferEncoding) > 0 {
				// A Content-Length beside it was dropped, and whoever is in between may have gone by that (RFC 9112, 6.1).
				c.Response().Header().Set(echo.HeaderConnection, "close")
			}
			b := &pacedBody{
				ReadCloser: http.MaxBytesReader(c.Response(), r.Body, limit),
				deadline:   http.NewResponseController(c.Response()).SetReadDeadline,
			}
			r.Body = b
			err := next(c)
			if err != nil {
				c.Error(err) // answered before the rest of the body is read, which may take its time
			}
			b.drain()
			return nil
		}
	}
}

// mostDrained bounds what is read of a body that nobody needs any more, in bytes. A client that sends more than this sees its
// connection end, and perhaps not the answer.
const mostDrained = 8 << 20

// takesFiles reports whether the body of a request is a recording's file.
func takesFiles(r *http.Request) bool {
	_, of, job := strings.Cut(strings.TrimPrefix(r.URL.Path, "/api/jobs/"), "/")
	return r.Method == http.MethodPost && job && (of == "recordings" || of == "previews")
}

// A pacedBody fails when it comes in too slowly.
type pacedBody struct {
	io.ReadCloser
	deadline func(time.Time) error
	begun    bool
	left     int // of the part that must come in by the deadline

	mu     sync.Mutex // held while part of it is read
	closed bool
}

// Close lets no reader go on. What is left of the body is read by drain.
func (b *pacedBody) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.closed = true
	return nil
}

// drain reads what is left of a body: a client that still sends sees the answer only then.
func (b *pacedBody) drain() {
	if err := b.Close(); err != nil { // a reader that a proxy has left behind stops
		return
	}
	_, _ = io.CopyN(io.Discard, readerFunc(b.read), mostDrained) // of whatever comes no more, nobody needs to know
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

func (b *pacedBody) Read(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return 0, http.ErrBodyReadAfterClose
	}
	return b.read(p)
}

func (b *pacedBody) read(p []byte) (int, error) {
	if !b.begun || b.left <= 0 {
		b.begun, b.left = true, bodyPart
		if err := b.deadline(time.Now().Add(bodyTime)); err != nil && !errors.Is(err, http.ErrNotSupported) {
			return 0, err
		}
	}
	n, err := b.ReadCloser.Read(p)
	b.left -= n
	if err == io.EOF {
		if err := b.deadline(time.Time{}); err != nil && !errors.Is(err, http.ErrNotSupported) {
			return n, err
		}
	}
	return n, err
}
