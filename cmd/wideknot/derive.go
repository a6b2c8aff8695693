package main

import (
	"fmt"
	"io"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/route"
)

// The JSON output of derive: see docs/command-line.md.
type (
	derivedSite struct {
		Site    string          `json:"site"`
		Tunnels []derivedTunnel `json:"tunnels"`
		Routes  []derivedRoute  `json:"routes"`
	}
	derivedTunnel struct {
		Overlay   string         `json:"overlay"`
		Rank      int            `json:"rank"`
		Interface string         `json:"interface"`
		Link      string         `json:"link"`
		Port      int            `json:"port"`
		Address4  netip.Prefix   `json:"address4,omitzero"`
		Address6  netip.Prefix   `json:"address6,omitzero"`
		MTU       int            `json:"mtu"`
		Opens     bool           `json:"opens"`
		Peer      string         `json:"peer"`
		PeerLink  string         `json:"peer_link"`
		Endpoint  string         `json:"endpoint,omitempty"`
		Keepalive int            `json:"keepalive,omitempty"`
		Allowed   []netip.Prefix `json:"allowed"`
	}
	derivedRoute struct {
		Prefix netip.Prefix `json:"prefix"`
		Kind   route.Kind   `json:"kind"`
		To     string       `json:"to"`
		Hops   []derivedHop `json:"hops,omitempty"`
	}
	derivedHop struct {
		Interface string     `json:"interface"`
		Via       string     `json:"via"`
		Metric    int        `json:"metric"`
		Weight    int        `json:"weight,omitempty"`
		Cost      int        `json:"cost"`
		Why       route.Rule `json:"why,omitempty"`
	}
)

func derivedSites(m *route.Map, only string) []derivedSite {
	p := m.Plan
	out := []derivedSite{}
	for i := range p.Estate.Sites {
		site := derivedSite{Site: p.Site(i).Key, Tunnels: []derivedTunnel{}, Routes: []derivedRoute{}}
		if only != "" && only != site.Site {
			continue
		}
		for _, peer := range p.Peers(i) {
			site.Tunnels = append(site.Tunnels, derivedTunnel{
				Overlay: peer.Overlay.Spec.Key, Rank: peer.Rank, Interface: peer.Interface, Link: p.Link(peer.Local).Key,
				Port: peer.Local.UDP, Address4: peer.Local.Address4, Address6: peer.Local.Address6, MTU: peer.Tunnel.MTU,
				Opens: peer.Local.Calls, Peer: p.Site(peer.Remote.Site).Key, PeerLink: p.Link(peer.Remote).Key,
				Endpoint: peer.Endpoint, Keepalive: peer.Keepalive, Allowed: peer.Allowed(),
			})
		}
		for _, r := range m.Table(i) {
			one := derivedRoute{Prefix: r.Prefix, Kind: r.Kind, To: p.Site(r.To).Key}
			for _, h := range r.Hops {
				one.Hops = append(one.Hops, derivedHop{h.Interface, p.Site(h.Via).Key, h.Metric, h.Weight, h.Cost, h.Why})
			}
			site.Routes = append(site.Routes, one)
		}
		out = append(out, site)
	}
	return out
}

func deriveCommand() *cobra.Command {
	var f format
	var only string
	c := &cobra.Command{
		Use:   "derive FILE",
		Short: "Print every site's tunnels, peers and routes",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			if only != "" && e.Site(only) == nil {
				return unusable(fmt.Errorf("there is no site %q in %s", only, args[0]))
			}
			m := derive(e)
			sites := derivedSites(m, only)
			if f == "json" {
				return writeJSON(c.OutOrStdout(), map[string]any{"sites": sites, "allocations": m.Plan.Allocations()})
			}
			for _, s := range sites {
				printSite(c.OutOrStdout(), s)
			}
			return nil
		},
	}
	f.add(c)
	c.Flags().StringVar(&only, "site", "", "this site only")
	return c
}

func printSite(w io.Writer, s derivedSite) {
	fmt.Fprintf(w, "%s: %d tunnels\n", s.Site, len(s.Tunnels))
	for _, t := range s.Tunnels {
		address := t.Address4
		if !address.IsValid() {
			address = t.Address6
		}
		how := "opened by the peer"
		if t.Opens {
			how = "calls " + t.Endpoint
		}
		fmt.Fprintf(w, "  %-15s %s %d. %s to %s/%s  %s  port %d  MTU %d  %s\n",
			t.Interface, t.Overlay, t.Rank, t.Link, t.Peer, t.PeerLink, address, t.Port, t.MTU, how)
	}
	for _, r := range s.Routes {
		var hops []string
		for _, h := range r.Hops {
			text := fmt.Sprintf("%s %d", h.Interface, h.Metric)
			if h.Weight > 0 {
				text += fmt.Sprintf(" × %d", h.Weight)
			}
			hops = append(hops, text)
		}
		switch r.Kind {
		case route.Connected:
			hops = []string{"connected"}
		case route.Cut:
			hops = []string{"no path to " + r.To + ": discarded"}
		}
		fmt.Fprintf(w, "  %-18s %s\n", r.Prefix, strings.Join(hops, ", "))
	}
	fmt.Fprintln(w)
}
