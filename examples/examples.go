// Package examples holds the demo estate and the small documents that the
// README and the docs use.
package examples

import _ "embed" // for the documents

// Brindlewater is the demo estate's document.
//
//go:embed brindlewater.yaml
var Brindlewater string
