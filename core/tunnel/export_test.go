package tunnel

import "wideknot/core/estate"

// Recount is Allocations without its short cut.
func (p *Plan) Recount() estate.Allocations {
	out := *p
	out.recorded = false
	return out.Allocations()
}
