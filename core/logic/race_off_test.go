//go:build !race

package logic

const raced = false
