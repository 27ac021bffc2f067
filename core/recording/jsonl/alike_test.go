package jsonl

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/recording"
)

// What is taken from a line because it is laid out as the one before is what taking it apart as JSON
// gives, however its bytes are changed.
func TestAlike(t *testing.T) {
	taken := 0
	rapid.Check(t, func(t *rapid.T) {
		first := rapid.SampledFrom([]string{
			`{"time":12,"oxygen [mA]":10.48,"mains":true}`,
			` {"time" : "2026-03-02T02:00:00Z", "a":null,"b":-1.5e+3 } `,
			`{"time":0,"a\u0062":"bad","c":false}` + "\r",
		}).Draw(t, "first")
		next := []byte(first)
		for range rapid.IntRange(0, 3).Draw(t, "changes") {
			i := rapid.IntRange(0, len(next)-1).Draw(t, "at")
			next[i] = rapid.SampledFrom([]byte(`0123456789.-+eE"\tfnu:,{} `+"\x00\xff")).Draw(t, "byte")
		}
		s := &scan{Source: recording.Source{Name: "a.jsonl"}}
		s.Line = []byte(first)
		require.NoError(t, s.parse())
		if !s.alike.take(next, s.pairs) {
			return
		}
		taken++
		got := append([]pair(nil), s.pairs...)
		fresh := &scan{Source: recording.Source{Name: "a.jsonl"}}
		fresh.Line = next
		require.NoError(t, fresh.parse(), "%q", next)
		for i := range got {
			got[i].column = 0
			require.Equal(t, string(fresh.pairs[i].value), string(got[i].value), "%q", next)
			got[i].value, fresh.pairs[i].value = nil, nil
		}
		require.Equal(t, fresh.pairs, got, "%q", next)
	})
	require.Positive(t, taken)
}
