package cli

import (
	"errors"
	"io"
	"net/http"
	"strings"
)

// mostAnswered limits an answer of the service that is read whole, in bytes.
const mostAnswered = 256 << 20

// errEndless is the error of an answer that is larger.
var errEndless = errors.New("the answer is larger than 256 MiB; is this the service?")

// bounded bounds the answers of a service that are read whole: those in JSON. Others, such as files of recordings, go to a file as they
// come.
type bounded struct{ next http.RoundTripper }

// RoundTrip makes a request.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	a, err := b.next.RoundTrip(r)
	if err == nil && (strings.Contains(a.Header.Get("Content-Type"), "json") || a.StatusCode >= http.StatusBadRequest) {
		a.Body = &boundedBody{a.Body, mostAnswered}
	}
	return a, err
}

type boundedBody struct {
	io.ReadCloser
	left int64
}

// Read reads the answer up to its limit.
func (b *boundedBody) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errEndless
	}
	n, err := b.ReadCloser.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}
