package live

//go:generate go tool -modfile=../../../tools/go.mod oapi-codegen -config server.yaml ../openapi.yaml
