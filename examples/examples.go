// Package examples holds the demo estate and the small documents that the
// README and the docs use.
package examples

import (
	"embed"
	"fmt"
	"strings"

	"wideknot/core/estate"
)

// Brindlewater is the demo estate's document.
//
//go:embed brindlewater.yaml
var Brindlewater string

//go:embed *.yaml
var documents embed.FS

// Estate reads the document of that name, such as three-sites, after texts in
// it were changed: an old one and its new one in turn. It errs when there is no
// such document, when it has not one of the old texts, or when what comes of it
// cannot be used.
func Estate(name string, change ...string) (*estate.Estate, error) {
	text, err := documents.ReadFile(name + ".yaml")
	if err != nil {
		return nil, err
	}
	for i := 0; i < len(change); i += 2 {
		if !strings.Contains(string(text), change[i]) {
			return nil, fmt.Errorf("%s has no %q", name, change[i])
		}
	}
	e, _, err := estate.Read(strings.NewReader(strings.NewReplacer(change...).Replace(string(text))))
	return e, err
}

// TwoFaults is a script for the stand-ins of the demo estate.
//
//go:embed scripts/two-faults.yaml
var TwoFaults string
