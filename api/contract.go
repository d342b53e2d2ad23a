// Package api holds the contracts as they are written.
package api

import _ "embed"

// Adapter is the contract between the service and a cloud, as YAML.
//
//go:embed adapter.yaml
var Adapter string
