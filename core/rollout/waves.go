package rollout

import (
	"cmp"
	"fmt"
	"slices"

	"wideknot/core/gateway"
)

// A Wave is gateways that are changed together.
type Wave struct {
	Name  string   `json:"name"`
	Sites []string `json:"sites"`
	Why   string   `json:"why,omitempty"`
}

// Waves chooses in which waves the gateways that change are changed: one that risks least,
// then the rest of its region, then the other regions, and at last the hubs, in waves of which
// none holds all hubs of a site.
func Waves(gateways []Gateway) (out []Wave) {
	var spokes, hubs []*Gateway
	for i := range gateways {
		g := &gateways[i]
		switch {
		case !g.changes():
		case relays(g.Old) || relays(g.New):
			hubs = append(hubs, g)
		default:
			spokes = append(spokes, g)
		}
	}
	if len(spokes) > 0 {
		first := slices.MinFunc(spokes, func(a, b *Gateway) int {
			return cmp.Or(cmp.Compare(len(a.at(Old).Tunnels), len(b.at(Old).Tunnels)), cmp.Compare(len(a.at(Old).Routes), len(b.at(Old).Routes)), cmp.Compare(a.Key, b.Key))
		})
		out = append(out, Wave{
			Name: "first", Sites: []string{first.Key},
			Why: fmt.Sprintf("%s risks least: no other site's traffic goes through it, and of those that change it has the fewest tunnels, %d", first.Key, len(first.at(Old).Tunnels)),
		})
		region, rest := Wave{Name: first.Region}, Wave{Name: "the rest"}
		for _, g := range spokes {
			switch {
			case g == first:
			case first.Region != "" && g.Region == first.Region:
				region.Sites = append(region.Sites, g.Key)
			default:
				rest.Sites = append(rest.Sites, g.Key)
			}
		}
		for _, w := range []Wave{region, rest} {
			if len(w.Sites) > 0 {
				out = append(out, w)
			}
		}
	}
	return append(out, hubWaves(gateways, hubs)...)
}

// hubWaves puts hubs that no site has in common into one wave.
func hubWaves(gateways []Gateway, hubs []*Gateway) (out []Wave) {
	together := map[[2]string]bool{} // hubs that some gateway has tunnels to both of
	isHub := map[string]bool{}
	for _, h := range hubs {
		isHub[h.Key] = true
	}
	for i := range gateways {
		var own []string
		for _, c := range []*gateway.Config{gateways[i].Old, gateways[i].New} {
			if c == nil {
				continue
			}
			for j := range c.Tunnels {
				if p := c.Tunnels[j].Peer; isHub[p] && !slices.Contains(own, p) {
					own = append(own, p)
				}
			}
		}
		for _, a := range own {
			for _, b := range own {
				together[[2]string{a, b}] = true
			}
		}
	}
	for _, h := range hubs {
		at := slices.IndexFunc(out, func(w Wave) bool {
			return !slices.ContainsFunc(w.Sites, func(other string) bool { return together[[2]string{h.Key, other}] })
		})
		if at < 0 {
			out = append(out, Wave{Name: fmt.Sprintf("hubs %d", len(out)+1)})
			at = len(out) - 1
		}
		out[at].Sites = append(out[at].Sites, h.Key)
	}
	return out
}

// at is the configuration at a stage, an empty one for none.
func (g *Gateway) at(s Stage) *gateway.Config {
	if c := At(g.Old, g.New, s); c != nil {
		return c
	}
	return &gateway.Config{}
}

// changes reports whether a rollout changes anything of a gateway.
func (g *Gateway) changes() bool {
	if !g.compared {
		g.compared, g.differs = true, !g.Fixed && !same(g.Old, g.New)
	}
	return g.differs
}

func same(a, b *gateway.Config) bool {
	if a == nil || b == nil {
		return a == b
	}
	if a == b {
		return true
	}
	// What is quickly seen to differ is part of the digest.
	return len(a.Tunnels) == len(b.Tunnels) && slices.Equal(a.Routes, b.Routes) && a.Digest() == b.Digest()
}

func relays(c *gateway.Config) bool {
	return c != nil && slices.ContainsFunc(c.Filter.Overlays, func(o gateway.Passing) bool { return o.Relays })
}
