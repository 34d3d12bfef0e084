// Package demo holds the worked example that ships with Zygos: the workspace of Ebbline, an
// invented tidal-power operator, and a starter workspace.
package demo

import "embed"

// Files holds the folders workspace and starter.
//
//go:embed workspace starter
var Files embed.FS
