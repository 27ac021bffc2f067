// Package bench answers what the bench process serves: jobs, revisions and recordings, everything that is played or worked out, and the
// records of what ran. It reaches no device and no engine.
package bench

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"github.com/labstack/echo/v4"

	"rectura/service/api/inside"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/store"
)

// Config has the dependencies and limits of a Server.
type Config struct {
	Store       *store.Store
	Records     *store.Records
	Log         *slog.Logger
	UploadLimit int64 // the largest recording taken, in bytes of its file
	Now         func() time.Time
	Memory      int64           // bytes that the process is to stay below; what is kept in memory has a part of it
	WorkLimit   time.Duration   // of one computation
	Closing     context.Context // ends when the process closes
	Damaged     func() []string // returns the damage of the store, in sentences
}

// importLimit bounds the time of one upload, however large and slow it is.
const importLimit = 12 * time.Hour

// mostIncoming is the largest number of files that come in at once.
const mostIncoming = 64

// A Server holds what the handlers share.
type Server struct {
	store   *store.Store
	records *store.Records
	log     *slog.Logger
	now     func() time.Time
	library *library
	damaged func() []string

	bench   *pool.Pool // plays, traces, teaches, exports
	desk    *pool.Pool // answers what is asked while writing, and takes no longer
	imports *pool.Pool // read files that have come in

	incoming *pool.Pool // files that come in
}

// New returns the handler of what control passes on, and of what it asks for itself.
func New(c Config) (http.Handler, error) {
	s := &Server{store: c.Store, records: c.Records, log: c.Log, now: c.Now, damaged: c.Damaged, bench: pool.New(c.Closing, c.Log, c.WorkLimit),
		desk: pool.New(c.Closing, c.Log, c.WorkLimit), imports: pool.New(c.Closing, c.Log, c.WorkLimit),
		incoming: pool.NewOf(c.Closing, c.Log, mostIncoming, importLimit)}
	s.library = newLibrary(s.bench, c.Log, c.Memory/4)
	return transport.New(transport.Options{Log: c.Log, Upload: c.UploadLimit, Own: "bench"}, func(e *echo.Echo) {
		e.Use(withRunning)
		RegisterHandlersWithBaseURL(e, NewStrictHandler(s, nil), "/api")
		s.registerInside(e.Group("/inside"))
	})
}

type runningKey struct{}

// withRunning keeps what control says of the job of a request.
func withRunning(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		r := c.Request()
		if j, is := inside.RunningOf(r.Header); is {
			c.SetRequest(r.WithContext(context.WithValue(r.Context(), runningKey{}, j)))
		}
		return next(c)
	}
}

// running returns the job that runs under the name of the request's job.
func running(ctx context.Context) (j inside.RunningJob, is bool) {
	j, is = ctx.Value(runningKey{}).(inside.RunningJob)
	return j, is
}
