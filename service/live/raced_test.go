//go:build race

package live_test

const raced = true
