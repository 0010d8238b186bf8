// Package console holds the built web console, as the service serves it.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console; it has no index.html if it was not built.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the directory is embedded above
	}
	return files
}
