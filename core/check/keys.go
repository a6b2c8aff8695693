package check

import (
	"fmt"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/words"
)

// keys reports gateways without a key and keys used by two.
func keys(in *Input, report func(Finding)) {
	p := in.Plan
	holders := map[string][]string{}
	var missing []Subject
	var order []string
	members(p, func(i int, site *estate.Site) {
		key := p.PublicKey(i)
		if key == "" {
			missing = append(missing, Subject{Site: site.Key})
			return
		}
		if holders[key] == nil {
			order = append(order, key)
		}
		holders[key] = append(holders[key], site.Key)
	})
	if len(missing) > 0 {
		report(Finding{
			Code: "key/missing", Severity: Note,
			Title:    words.Many(len(missing), "gateway has", "gateways have") + " no key yet",
			Why:      "Keys are made when the estate is loaded into the server or rendered.",
			Fix:      "Nothing to do, unless a gateway makes its own key: then enter its public key.",
			Subjects: missing,
		})
	}
	for _, key := range order {
		if len(holders[key]) > 1 {
			report(Finding{
				Code: "key/reused", Severity: Error,
				Title:    fmt.Sprintf("%s use the same public key", strings.Join(holders[key], " and ")),
				Why:      "Whoever holds the private key of one site can impersonate the other, and a hub cannot tell them apart.",
				Fix:      "Give each gateway a key of its own.",
				Subjects: []Subject{{Site: holders[key][0]}, {Site: holders[key][1]}},
			})
		}
	}
}
