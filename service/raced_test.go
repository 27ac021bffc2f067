//go:build race

package service_test

const raced = true
