package api

//go:generate go tool -modfile=../../tools/go.mod oapi-codegen -config models.yaml openapi.yaml
