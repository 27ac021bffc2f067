package transport

import (
	"context"
)

type requestKey struct{}

// RequestName returns what a request calls itself, so that its client finds its place
// in the queue; empty if it does not.
func RequestName(ctx context.Context) string {
	name, _ := ctx.Value(requestKey{}).(string)
	return name
}

// WithName returns a context of a request that calls itself so.
func WithName(ctx context.Context, name string) context.Context {
	return context.WithValue(ctx, requestKey{}, name)
}
