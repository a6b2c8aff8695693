package gateway

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func mapOf(e *estate.Estate) *route.Map { return route.Build(tunnel.Derive(e)) }

// telling lets the hubs of an estate tell which sites they reach.
func telling(e *estate.Estate) {
	for i := range e.Overlays {
		e.Overlays[i].HubsTell = true
	}
	for i := range e.Sites {
		e.Sites[i].Gateway.Switches = true
	}
}

// limiting gives overlays limits, to which different zones are held.
func limiting(e *estate.Estate) {
	zones := e.Zones()
	for i := 0; i < min(len(e.Overlays), estate.MaxLimited) && len(zones) > 0; i++ {
		if e.Overlays[i].Probe == nil {
			e.Overlays[i].Probe = &estate.Probe{}
		}
		e.Overlays[i].Probe.Limits = &estate.Limits{LatencyMs: 150, LossPercent: 1, WindowS: 600, Zones: zones[i%len(zones):][:1]}
	}
}

// eachSite makes the configuration of every site of some random estates.
func eachSite(t *testing.T, seeds uint64, do func(where string, m *route.Map, site int, c *Config)) {
	t.Helper()
	for seed := range seeds {
		e := sample.Mixed(seed)
		if seed%2 == 0 {
			telling(e)
		}
		if seed%3 > 0 {
			limiting(e)
		}
		m := mapOf(e)
		for i := range m.Plan.Estate.Sites {
			do(fmt.Sprintf("seed %d, %s", seed, m.Plan.Site(i).Key), m, i, Of(m, i))
		}
	}
}

// What is probed, what the LAN's router is asked for and how a link is left are as the
// plan has them.
func TestWhatIsProbedAndAsked(t *testing.T) {
	probed, limited, beside, forwards := 0, 0, 0, 0
	eachSite(t, 40, func(where string, m *route.Map, site int, c *Config) {
		s := m.Plan.Site(site)
		for i, peer := range m.Plan.Peers(site) {
			spec, one := peer.Overlay.Spec.Probe, c.Tunnels[i].Probe
			if (spec == nil) != (one == nil) {
				t.Errorf("%s, %s: probed %v", where, peer.Interface, one)
			}
			if spec == nil || one == nil {
				continue
			}
			probed++
			far := &m.Plan.Site(peer.Remote.Site).Gateway
			if keeps := s.Gateway.KeepsLimits(peer.Overlay.Spec) && far.KeepsLimits(peer.Overlay.Spec); keeps != (one.Limits != Limits{}) {
				t.Errorf("%s, %s: limits %+v", where, peer.Interface, one.Limits)
			} else if keeps {
				limited++
			}
			want := m.Plan.Site(peer.Remote.Site).Gateway.LANAddress
			if spec.Full().Target == estate.FarEnd {
				if want = peer.Remote.Address4.Addr(); !peer.Remote.Address4.IsValid() {
					want = peer.Remote.Address6.Addr()
				}
			}
			if one.Address != want || one.Interval != spec.Full().IntervalMs || one.Misses != spec.Full().Misses {
				t.Errorf("%s, %s: %+v, not %v", where, peer.Interface, *one, want)
			}
		}
		var asked, unreached, remote []netip.Prefix
		for _, r := range c.Neighbours.Routes {
			if r.Via != s.Gateway.LANAddressOf(r.Prefix.Addr().Is4()) {
				t.Errorf("%s: %v by %v", where, r.Prefix, r.Via)
			}
			if !r.From.IsValid() {
				asked = append(asked, r.Prefix)
			}
		}
		for _, r := range m.Table(site) {
			switch {
			case r.Kind != route.Overlay && r.Kind != route.Cut:
			case s.Gateway.LANAddressOf(r.Prefix.Addr().Is4()).IsValid():
				remote = append(remote, r.Prefix)
			default:
				unreached = append(unreached, r.Prefix)
			}
		}
		if s.Gateway.Placement != estate.OneArmed {
			remote, unreached = nil, nil
		} else {
			beside++
		}
		count := 0
		for _, w := range c.Neighbours.Without {
			count += w.Count
		}
		if !slices.Equal(addr.Aggregate(asked), addr.Aggregate(remote)) || count != len(addr.Aggregate(unreached)) {
			t.Errorf("%s: the router is asked for %v, %d without an address; planned %v, %v", where, asked, count, remote, unreached)
		}
		for _, f := range c.Neighbours.Forwards {
			forwards++
			l := s.Link(f.Link)
			var ports []int
			for _, p := range m.Plan.Peers(site) {
				if m.Plan.Link(p.Local) == l {
					ports = append(ports, p.Local.UDP)
				}
			}
			slices.Sort(ports)
			if l.Reach != estate.Forwarded || f.Outside != l.Outside || f.Inside != l.Addresses[0] || !slices.Equal(ports, f.Ports) {
				t.Errorf("%s: %+v of %+v, ports %v", where, f, *l, ports)
			}
		}
	})
	if probed == 0 || limited == 0 || beside == 0 || forwards == 0 {
		t.Errorf("%d probed, %d with limits, %d beside a router, %d forwarded", probed, limited, beside, forwards)
	}
}
