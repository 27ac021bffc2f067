package transport

import (
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A body must come in at a pace, and is free of it once it is there.
func TestPaceOfBodies(t *testing.T) {
	var deadlines []time.Time
	b := &pacedBody{
		ReadCloser: io.NopCloser(strings.NewReader(strings.Repeat("x", 3*bodyPart))),
		deadline:   func(d time.Time) error { deadlines = append(deadlines, d); return nil },
	}
	data, err := io.ReadAll(b)
	require.NoError(t, err)
	assert.Len(t, data, 3*bodyPart)
	assert.GreaterOrEqual(t, len(deadlines), 3)
	assert.WithinDuration(t, time.Now().Add(bodyTime), deadlines[0], time.Second)
	assert.True(t, deadlines[len(deadlines)-1].IsZero())
	broken := errors.New("broken")
	_, err = io.ReadAll(&pacedBody{ReadCloser: io.NopCloser(strings.NewReader("x")), deadline: func(time.Time) error { return broken }})
	assert.ErrorIs(t, err, broken)
}
