package tunnel

import "wideknot/core/estate"

// Quality is what the survey lets expect of a tunnel: the links at both ends, one after
// the other. Links without figures count as perfect.
func (p *Plan) Quality(t *Tunnel) estate.Quality {
	return p.Link(&t.A).Quality().Through(p.Link(&t.B).Quality())
}
