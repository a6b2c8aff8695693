// Package sheet renders an estate as CSV (RFC 4180): the three sheets that can
// be imported, one of tunnels and one of routes.
package sheet

import (
	"bytes"
	"encoding/csv"
	"net/netip"
	"strconv"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/route"
)

// Files renders sites.csv, links.csv and subnets.csv; tunnels.csv, a row for
// each tunnel; and routes.csv, a row for each hop of each site's routes.
func Files(m *route.Map) []render.File {
	sheets := estate.WriteSheets(m.Plan.Estate)
	return []render.File{
		{Path: "sites.csv", Text: []byte(sheets.Sites)}, {Path: "links.csv", Text: []byte(sheets.Links)}, {Path: "subnets.csv", Text: []byte(sheets.Subnets)},
		{Path: "tunnels.csv", Text: tunnels(m)}, {Path: "routes.csv", Text: routes(m)},
	}
}

func write(rows func(put func(...string))) []byte {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	rows(func(cells ...string) { _ = w.Write(cells) }) // a bytes.Buffer takes every write
	w.Flush()
	return out.Bytes()
}

func tunnels(m *route.Map) []byte {
	p := m.Plan
	return write(func(put func(...string)) {
		put("overlay", "rank", "site_a", "link_a", "interface_a", "port_a", "addresses_a", "site_b", "link_b", "interface_b", "port_b", "addresses_b", "opened_by", "family", "mtu")
		for i := range p.Overlays {
			o := &p.Overlays[i]
			for j := range o.Adjacencies {
				for k := range o.Adjacencies[j].Tunnels {
					t := &o.Adjacencies[j].Tunnels[k]
					opened := "both"
					if !t.A.Calls {
						opened = p.Site(t.B.Site).Key
					} else if !t.B.Calls {
						opened = p.Site(t.A.Site).Key
					}
					put(o.Spec.Key, strconv.Itoa(k+1),
						p.Site(t.A.Site).Key, p.Link(&t.A).Key, t.A.Interface, strconv.Itoa(t.A.UDP), list(t.A.Address4, t.A.Address6),
						p.Site(t.B.Site).Key, p.Link(&t.B).Key, t.B.Interface, strconv.Itoa(t.B.UDP), list(t.B.Address4, t.B.Address6),
						opened, string(t.Family), strconv.Itoa(t.MTU))
				}
			}
		}
	})
}

// part writes a weight, nothing for none.
func part(weight int) string {
	if weight == 0 {
		return ""
	}
	return strconv.Itoa(weight)
}

func list(prefixes ...netip.Prefix) string {
	var out []string
	for _, p := range prefixes {
		if p.IsValid() {
			out = append(out, p.String())
		}
	}
	return strings.Join(out, " ")
}

func routes(m *route.Map) []byte {
	p := m.Plan
	return write(func(put func(...string)) {
		put("site", "prefix", "kind", "to", "overlay", "interface", "via", "metric", "cost", "why", "weight")
		for i := range p.Estate.Sites {
			for _, r := range m.Table(i) {
				head := []string{p.Site(i).Key, r.Prefix.String(), string(r.Kind), p.Site(r.To).Key, r.Overlay}
				for _, h := range r.Hops {
					put(append(head[:5:5], h.Interface, p.Site(h.Via).Key, strconv.Itoa(h.Metric), strconv.Itoa(h.Cost), string(h.Why), part(h.Weight))...)
				}
				if len(r.Hops) == 0 {
					put(append(head[:5:5], "", "", "", "", "", "")...)
				}
			}
		}
	})
}
