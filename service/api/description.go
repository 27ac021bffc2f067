// Package api describes the service's HTTP interface: openapi.yaml, and the types made from it. Its subpackages answer: live what
// control serves, bench what the bench serves; transport is what both have of HTTP.
package api

import _ "embed"

// Description is openapi.yaml. The tags of its operations name the process that answers: live, bench, or both.
//
//go:embed openapi.yaml
var Description []byte
