package cells_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"rectura/core/cells"
)

func TestGuarded(t *testing.T) {
	for text, want := range map[string]string{
		"oxygen": "oxygen", "": "", "-4.5 degC": "-4.5 degC", "+3": "+3", "=1+1": "'=1+1", "@sum": "'@sum", "-cmd": "'-cmd", "\t=1": "'\t=1", "'quoted'": "'quoted'",
	} {
		assert.Equal(t, want, cells.Guarded(text))
		assert.Equal(t, text, cells.Unguarded(cells.Guarded(text)))
	}
}
