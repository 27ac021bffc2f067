// Package client is the Go client of the service's API, generated from the
// same description as the server.
package client

//go:generate go tool -modfile=../tools/go.mod oapi-codegen -config client.yaml ../service/api/openapi.yaml
