// Package demo holds the workspace of the sea farm Marrow Voe: four net pens, a feed
// barge, a desk and a feed store ashore; and, in dairy, that of a small cheese dairy. All of
// it is made up.
package demo

import "embed"

// Files holds the workspace file and what it refers to.
//
//go:embed hodstone.yaml schemas points.csv dairy
var Files embed.FS

// File is the workspace file's name in [Files].
const File = "hodstone.yaml"

// Dairy is the folder of the dairy's workspace in [Files].
const Dairy = "dairy"
