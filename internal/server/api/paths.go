package api

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/server/desk"
)

// SiteTunnel is a tunnel as one of its sites sees it.
type SiteTunnel struct {
	Overlay   string         `json:"overlay"`
	Tunnel    string         `json:"tunnel" doc:"its name in the overlay, the same at both ends"`
	Interface string         `json:"interface"`
	Link      string         `json:"link"`
	Port      int            `json:"port"`
	Addresses []netip.Prefix `json:"addresses"`
	Peer      string         `json:"peer"`
	PeerLink  string         `json:"peer_link"`
	PeerFace  string         `json:"peer_interface"`
	PeerPort  int            `json:"peer_port"`
	PeerAddrs []netip.Prefix `json:"peer_addresses"`
	Rank      int            `json:"rank" doc:"in the adjacency, 1 first"`
	Of        int            `json:"of"`
	Share     *tunnel.Share  `json:"share,omitempty" doc:"its part of the flows, where tunnels share the load"`
	Kind      tunnel.Kind    `json:"kind"`
	Position  int            `json:"position" doc:"of the hub in the spoke's list, 0 for none"`
	Cost      int            `json:"cost"`
	MTU       int            `json:"mtu"`
	Family    string         `json:"family"`
	Opens     string         `json:"opens" enum:"this,peer,both,nobody"`
	Endpoint  string         `json:"endpoint" doc:"where the peer is called; empty when it cannot be"`
	Keepalive int            `json:"keepalive" doc:"seconds, 0 for none"`
	PeerKey   string         `json:"peer_key"`
	Allowed   []netip.Prefix `json:"allowed"`
}

// SiteRoute is a route of a site.
type SiteRoute struct {
	Prefix  netip.Prefix `json:"prefix"`
	Kind    route.Kind   `json:"kind"`
	To      string       `json:"to"`
	Overlay string       `json:"overlay"`
	Chain   int          `json:"chain" doc:"which of the site's chains carries it; -1 for none"`
	Link    string       `json:"link" doc:"WAN link by which a pinned or local route leaves"`
	NextHop string       `json:"next_hop"`
	Discard bool         `json:"discard" doc:"whether a discard route stands behind it"`
	// From is set for a breakout, which is for packets that start there.
	From []netip.Prefix `json:"from,omitempty" doc:"subnets of the site in which a packet must start"`
}

// RouteHop is one way of a route; the first is in use, the others stand by.
type RouteHop struct {
	Interface string     `json:"interface"`
	Via       string     `json:"via"`
	Metric    int        `json:"metric"`
	Weight    int        `json:"weight" doc:"its part among hops of the same metric, which share the load; 0 where there is but one"`
	Cost      int        `json:"cost"`
	Steps     int        `json:"steps"`
	Why       route.Rule `json:"why"`
}

// SitePlan is everything that follows for one site.
type SitePlan struct {
	Site      string       `json:"site"`
	Name      string       `json:"name"`
	PublicKey string       `json:"public_key"`
	Switches  bool         `json:"switches" doc:"whether a dead tunnel goes out of use without anybody acting"`
	Tunnels   []SiteTunnel `json:"tunnels"`
	Routes    []SiteRoute  `json:"routes"`
	Chains    [][]RouteHop `json:"chains" doc:"ways that many routes share, each in order: the first carries the traffic"`
	Apart     []Apart      `json:"apart" doc:"adjacencies that no tunnel serves"`
	Files     []File       `json:"files" doc:"the configuration, without private key"`
}

// Apart is a pair of sites that cannot be joined.
type Apart struct {
	Overlay string   `json:"overlay"`
	Peer    string   `json:"peer"`
	Reasons []string `json:"reasons"`
	Via     []string `json:"via" doc:"the hubs that carry the traffic instead; empty when none does"`
}

// File is one rendered text.
type File struct {
	Path string `json:"path"`
	Text string `json:"text"`
}

func chainOf(v *desk.View, hops []route.Hop) []RouteHop {
	out := make([]RouteHop, len(hops))
	for i, h := range hops {
		out[i] = RouteHop{Interface: h.Interface, Via: v.Plan.Site(h.Via).Key, Metric: h.Metric, Weight: h.Weight, Cost: h.Cost, Steps: h.Steps, Why: h.Why}
	}
	return out
}

func valid(prefixes ...netip.Prefix) []netip.Prefix {
	out := []netip.Prefix{}
	for _, p := range prefixes {
		if p.IsValid() {
			out = append(out, p)
		}
	}
	return out
}

// Long as a list of fields is.
func sitePlan(v *desk.View, site int) (SitePlan, error) {
	p := v.Plan
	key := func(i int) string { return p.Site(i).Key }
	out := SitePlan{
		Site: key(site), Name: p.Site(site).Name, PublicKey: p.PublicKey(site), Switches: p.Site(site).Gateway.SwitchesItself(),
		Tunnels: []SiteTunnel{}, Routes: []SiteRoute{}, Chains: [][]RouteHop{}, Apart: []Apart{}, Files: []File{},
	}
	for _, peer := range p.Peers(site) {
		opens := "this"
		if peer.Remote.Calls {
			opens = "peer"
			if peer.Local.Calls {
				opens = "both"
			}
		}
		if peer.Tunnel.Mute {
			opens = "nobody"
		}
		out.Tunnels = append(out.Tunnels, SiteTunnel{
			Overlay: peer.Overlay.Spec.Key, Tunnel: p.Ident(peer.Tunnel), Interface: peer.Interface, Link: p.Link(peer.Local).Key, Port: peer.Local.UDP,
			Addresses: valid(peer.Local.Address4, peer.Local.Address6),
			Peer:      key(peer.Remote.Site), PeerLink: p.Link(peer.Remote).Key, PeerFace: peer.Remote.Interface, PeerPort: peer.Remote.UDP,
			PeerAddrs: valid(peer.Remote.Address4, peer.Remote.Address6),
			Rank:      peer.Rank, Of: len(peer.Adjacency.Tunnels), Share: peer.Adjacency.Share(peer.Rank - 1), Kind: peer.Adjacency.Kind, Position: peer.Adjacency.Position, Cost: peer.Adjacency.Cost,
			MTU: peer.Tunnel.MTU, Family: string(peer.Tunnel.Family), Opens: opens,
			Endpoint: peer.Endpoint, Keepalive: peer.Keepalive, PeerKey: peer.PublicKey, Allowed: peer.Allowed,
		})
	}
	chains := map[*route.Hop]int{} // routes share their hops
	for _, r := range v.Routes.Table(site) {
		one := SiteRoute{Prefix: r.Prefix, Kind: r.Kind, To: key(r.To), Overlay: r.Overlay, Chain: -1, Discard: r.Discards(), From: r.From}
		if r.Link != nil {
			one.Link, one.NextHop = r.Link.Key, r.NextHop.String()
		}
		if len(r.Hops) > 0 {
			at, known := chains[&r.Hops[0]]
			if !known {
				at = len(out.Chains)
				chains[&r.Hops[0]] = at
				out.Chains = append(out.Chains, chainOf(v, r.Hops))
			}
			one.Chain = at
		}
		out.Routes = append(out.Routes, one)
	}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for j := range o.Adjacencies {
			a := &o.Adjacencies[j]
			if len(a.Tunnels) > 0 || a.A != site && a.B != site {
				continue
			}
			apart := Apart{Overlay: o.Spec.Key, Peer: key(a.A + a.B - site), Reasons: p.WhyApart(o, a), Via: []string{}}
			if path := v.Routes.Path(i, a.A, a.B); path != nil {
				for _, hub := range path[1 : len(path)-1] {
					apart.Via = append(apart.Via, key(hub))
				}
			}
			out.Apart = append(out.Apart, apart)
		}
	}
	files, err := v.Bundle(site)
	for _, f := range files {
		out.Files = append(out.Files, File{Path: f.Path, Text: string(f.Text)})
	}
	return out, err
}

// Long as a list of operations is.
func (s *Server) sitePlans(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-site-plan", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/sites/{site}/plan", "Read what follows for a site: tunnels, routes, configuration"),
		func(ctx context.Context, in *InSite) (*answer[SitePlan], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			site := v.Plan.SiteIndex(in.Site)
			if site < 0 {
				return nil, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Site))
			}
			plan, err := sitePlan(v, site)
			return tagged(v, plan), refusal(err)
		})
	huma.Register(a, operation("reveal-key", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/sites/{site}/private-key", "Reveal the private key of a site"),
		func(ctx context.Context, in *InSite) (*struct {
			CacheNot string `header:"Cache-Control"`
			Body     struct {
				PrivateKey string `json:"private_key"`
			}
		}, error) {
			key, err := d.PrivateKey(ctx, in.place(), in.Site)
			out := &struct {
				CacheNot string `header:"Cache-Control"`
				Body     struct {
					PrivateKey string `json:"private_key"`
				}
			}{CacheNot: "no-store"}
			out.Body.PrivateKey = key
			return out, refusal(err)
		})
	// A POST, because an archive with keys must not be a link that a page or a
	// mail can hold.
	huma.Register(a, files(operation("make-archive", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/archive", "Make a zip file of the configurations"), "application/zip"),
		func(ctx context.Context, in *struct {
			InDraft
			Body struct {
				Site string `json:"site,omitempty" maxLength:"40" doc:"this site only"`
				Keys bool   `json:"keys" doc:"with private keys, for operators"`
			}
		}) (*huma.StreamResponse, error) {
			if in.Body.Keys && !accessOf(ctx).role.Includes(permissions["make-archive-with-keys"].role) {
				return nil, huma.Error403Forbidden("private keys are for operators; ask for the archive without them")
			}
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			if in.Body.Site != "" && v.Plan.SiteIndex(in.Body.Site) < 0 {
				return nil, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Body.Site))
			}
			pack, err := d.Archive(ctx, v, in.Body.Site, in.Body.Keys)
			if err != nil {
				return nil, refusal(err)
			}
			name := v.Key
			if in.Body.Site != "" {
				name += "-" + in.Body.Site
			}
			if in.Body.Keys {
				name += "-with-keys"
			}
			return s.streamed(ctx, "application/zip", name+".zip", pack)
		})
}
