//go:build counted

package visits

import "sync/atomic"

var seen atomic.Int64

// Add counts one node.
func Add() { seen.Add(1) }

// Take gives the count and begins a new one.
func Take() int64 { return seen.Swap(0) }
