// Package console holds the built web console. The build (make build) fills
// dist; without it the folder is empty and the service says so.
package console

import "embed"

// Files is the built console under dist.
//
//go:embed all:dist
var Files embed.FS
