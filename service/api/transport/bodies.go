package transport

import (
	"errors"
	"io"
	"net/http"
	"strings"
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
			if r.Body != nil && r.Body != http.NoBody {
				r.Body = &pacedBody{
					ReadCloser: http.MaxBytesReader(c.Response(), r.Body, limit),
					deadline:   http.NewResponseController(c.Response()).SetReadDeadline,
				}
			}
			return next(c)
		}
	}
}

// takesFiles tells whether a request sends a recording's file.
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
}

func (b *pacedBody) Read(p []byte) (int, error) {
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
