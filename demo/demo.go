// Package demo holds the workspace of the sea farm Marrow Voe: four net pens, a feed
// barge, a desk and a feed store ashore. All of it is made up.
package demo

import "embed"

// Files holds the workspace file and what it refers to.
//
//go:embed hodstone.yaml schemas
var Files embed.FS

// File is the workspace file's name in [Files].
const File = "hodstone.yaml"
