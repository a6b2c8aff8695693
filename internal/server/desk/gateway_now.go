package desk

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"wideknot/core/gateway"
)

// A TunnelNow is one end of a tunnel as its gateway reports it, with what the release that
// it runs says of it.
type TunnelNow struct {
	Interface   string     `json:"interface"`
	Overlay     string     `json:"overlay,omitempty" doc:"empty for a tunnel that the release does not have"`
	Tunnel      string     `json:"tunnel,omitempty" doc:"as both ends name it"`
	Peer        string     `json:"peer,omitempty"`
	PeerLink    string     `json:"peer_link,omitempty"`
	Link        string     `json:"link,omitempty"`
	Rank        int        `json:"rank,omitempty"`
	Up          bool       `json:"up"`
	Since       *time.Time `json:"since,omitempty"`
	Carries     bool       `json:"carries" doc:"some way uses it now"`
	Probed      bool       `json:"probed"`
	Beyond      bool       `json:"beyond" doc:"beyond the limits of its probe profile"`
	SteadyIn    int        `json:"steady_in" doc:"seconds for which it is kept out still as it came and went, though its probes are answered"`
	HandshakeS  int        `json:"handshake_s" doc:"seconds since the latest; 0 where there was none"`
	Endpoint    string     `json:"endpoint,omitempty" doc:"where the far end was last heard from"`
	BytesIn     uint64     `json:"bytes_in"`
	BytesOut    uint64     `json:"bytes_out"`
	LatencyUs   int        `json:"latency_us"`
	JitterUs    int        `json:"jitter_us"`
	LossOutPPM  int        `json:"loss_out_ppm" doc:"in a million, of what this end sent"`
	LossBackPPM int        `json:"loss_back_ppm"`
	PathMTU     int        `json:"path_mtu"`
	KeptOff     uint64     `json:"kept_off" doc:"packets of zones that its links are not for"`
}

// A LinkNow is a WAN link as its gateway reports it.
type LinkNow struct {
	Link        string   `json:"link"`
	Addresses   []string `json:"addresses"`
	NextHopUp   bool     `json:"next_hop_up" doc:"its next hop answers"`
	NamesUp     bool     `json:"names_up" doc:"a name service answers by it"`
	SeenOutside string   `json:"seen_outside,omitempty" doc:"the address by which others see it"`
	PathMTU     int      `json:"path_mtu"`
}

// A GatewayNow is what a gateway reported last, named as the release that it runs names it.
type GatewayNow struct {
	GatewayRow
	Trial        string      `json:"trial,omitempty" doc:"token of what is being tried"`
	Left         int         `json:"trial_left" doc:"seconds until it goes back"`
	WANLinks     []LinkNow   `json:"wan_links"`
	Matching     int         `json:"matching" doc:"ends of tunnels that were asked for"`
	MatchingDead int         `json:"matching_dead" doc:"those of them that are dead"`
	Ends         []TunnelNow `json:"tunnel_ends" doc:"the first of them: dead ones before those beyond their limits, those that carry, and those that stand by"`
}

// Ends are the ends of tunnels of which somebody wants to know: all where nothing is given.
type Ends struct {
	Overlay string `query:"overlay" maxLength:"40"`
	Tunnel  string `query:"tunnel" maxLength:"200" doc:"as both ends name it"`
	Peer    string `query:"peer" maxLength:"40"`
	Link    string `query:"link" maxLength:"40" doc:"of the gateway itself"`
	Words   string `query:"words" maxLength:"100" doc:"all of which are part of an interface, an overlay, a peer or a link"`
	Most    int    `query:"most" minimum:"0" maximum:"10000" doc:"how many are listed at most; 1,000 when it is not given"`
}

// mostEnds is how many are listed where nobody says how many.
const mostEnds = 1000

// GatewayNow returns how a gateway is, and some ends of its tunnels.
func (d *Desk) GatewayNow(ctx context.Context, estateKey, site string, ends Ends) (*GatewayNow, error) {
	row, estateID, state, err := d.gatewayIn(ctx, estateKey, site)
	if err != nil {
		return nil, err
	}
	out := &GatewayNow{GatewayRow: row, WANLinks: []LinkNow{}, Ends: []TunnelNow{}}
	if state == nil {
		return out, nil
	}
	out.Trial, out.Left = state.Trial.Token, state.Trial.Left
	for i := range state.Links {
		l := &state.Links[i]
		one := LinkNow{Link: l.Link, Addresses: []string{}, NextHopUp: l.NextHopUp, NamesUp: l.NamesUp, PathMTU: l.PathMTU}
		for _, a := range l.Addresses {
			one.Addresses = append(one.Addresses, a.String())
		}
		if l.SeenOutside.IsValid() {
			one.SeenOutside = l.SeenOutside.String()
		}
		out.WANLinks = append(out.WANLinks, one)
	}
	runs := &shown{}
	if state.Release > 0 {
		is, err := d.shownOf(ctx, estateID, estateKey, site, uint64(state.Release))
		switch {
		case err == nil:
			runs = is
		case !errors.Is(err, ErrNotFound):
			return nil, err
		}
	}
	out.list(&ends, state, runs)
	return out, nil
}

// list adds the ends that are asked for.
func (g *GatewayNow) list(ends *Ends, state *gateway.State, runs *shown) {
	carries := state.Carries(runs.ways)
	words := strings.Fields(strings.ToLower(ends.Words))
	var found []*gateway.TunnelState
	for i := range state.Tunnels {
		if t := &state.Tunnels[i]; ends.hold(runs.tunnel(t.Interface), t.Interface, g.Site, words) {
			found = append(found, t)
			if !t.Up {
				g.MatchingDead++
			}
		}
	}
	g.Matching = len(found)
	place := func(t *gateway.TunnelState) int {
		switch {
		case !t.Up:
			return 0
		case t.Beyond:
			return 1
		case carries[t.Interface]:
			return 2
		}
		return 3
	}
	slices.SortFunc(found, func(a, b *gateway.TunnelState) int {
		return cmp.Or(place(a)-place(b), cmp.Compare(a.Interface, b.Interface))
	})
	for _, t := range found[:min(len(found), cmp.Or(ends.Most, mostEnds))] {
		g.Ends = append(g.Ends, tunnelNow(g.Site, runs.tunnel(t.Interface), t, carries))
	}
}

// hold reports whether an end is among those asked for; one that the release does not have has but a
// name.
func (e *Ends) hold(t *gateway.Tunnel, name, site string, words []string) bool {
	if t == nil {
		t = &gateway.Tunnel{}
	}
	for _, asked := range [][2]string{{e.Overlay, t.Overlay}, {e.Peer, t.Peer}, {e.Link, t.Link}} {
		if asked[0] != "" && asked[0] != asked[1] {
			return false
		}
	}
	if e.Tunnel != "" && (t.Overlay == "" || e.Tunnel != t.Ident(site)) {
		return false
	}
	if len(words) == 0 {
		return true
	}
	text := strings.ToLower(name + " " + t.Overlay + " " + t.Peer + " " + t.Link)
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
}

func tunnelNow(site string, t *gateway.Tunnel, s *gateway.TunnelState, carries map[string]bool) TunnelNow {
	out := TunnelNow{
		Interface: s.Interface, Up: s.Up, Carries: carries[s.Interface] && s.Up, Beyond: s.Beyond, HandshakeS: s.HandshakeS, Probed: s.Sent > 0,
		BytesIn: uint64(s.BytesIn), BytesOut: uint64(s.BytesOut), LatencyUs: s.LatencyUs, JitterUs: s.JitterUs, LossOutPPM: s.LossOutPPM, LossBackPPM: s.LossBackPPM,
		PathMTU: s.PathMTU, SteadyIn: s.SteadyIn, KeptOff: uint64(s.KeptOff),
	}
	if s.Endpoint.IsValid() {
		out.Endpoint = s.Endpoint.String()
	}
	if at, err := time.Parse(time.RFC3339, string(s.Since)); err == nil {
		out.Since = &at
	}
	if t != nil {
		out.Overlay, out.Tunnel, out.Peer, out.PeerLink, out.Link, out.Rank = t.Overlay, t.Ident(site), t.Peer, t.PeerLink, t.Link, t.Rank
	}
	return out
}
