// Package api is the HTTP contract as Go types: the server's interface and the
// client, both generated from api/openapi.yaml. It holds no behaviour.
package api

//go:generate go tool oapi-codegen -config oapi-codegen.yaml ../../api/openapi.yaml

// ContractHeader is the header of every answer below /api/. It has the contract's
// version.
const ContractHeader = "Jorvex-Contract"
