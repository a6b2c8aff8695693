// Package linux writes a gateway's configuration for Linux: a folder of files with
// a program, apply, that makes a gateway what they say, as often as it is run, and
// takes away what is no longer wanted.
package linux

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render"
	"wideknot/core/route"
)

// Keys knows the secrets that go into bundles, in base64. A nil function leaves
// its kind out, and false one key.
type Keys struct {
	Private func(site string) (string, bool)
	Shared  func(overlay, tunnel string) (string, bool) // by the tunnel's ident
}

// NoKeys leaves all secrets out.
var NoKeys Keys

// About is what a bundle says of itself.
type About struct {
	Name    string // of the site
	Release int    // 0 where it is none
	Digest  string // of the configuration, where it is known already
}

// Site renders the bundle of one site, as Write does, of no release.
func Site(m *route.Map, site int, keys Keys) ([]render.File, error) {
	return Write(gateway.Of(m, site), About{Name: m.Plan.Site(site).Name}, keys)
}

// apply is the program in every bundle, the same for all.
//
//go:embed apply.sh
var apply []byte

// Write renders a configuration as a bundle, in a folder named for its site. The
// same gives the same bytes. It is empty for a site without tunnels. The error is of
// text that must not stand in a configuration.
func Write(c *gateway.Config, about About, keys Keys) ([]render.File, error) {
	if len(c.Tunnels) == 0 {
		return nil, nil
	}
	b := &bundle{c: c, about: about, keys: keys}
	b.add("README.txt", b.readme)
	b.files = append(b.files, render.File{Path: c.Site + "/apply", Text: apply})
	b.add("release", b.release)
	b.add("tunnels", b.tunnels)
	b.add("ways", b.ways)
	b.add("routes", b.routes)
	b.add("discards", b.discards)
	b.add("links.ip", b.links)
	b.add("rules.ip", func(t *render.Text) { b.rules(t, gateway.IPv4) })
	b.add("rules6.ip", func(t *render.Text) { b.rules(t, gateway.IPv6) })
	b.add("filter.nft", b.filter)
	b.add("sysctl.conf", b.sysctl)
	if c.Carries(estate.IPsec) {
		b.add("swanctl.conf", b.swanctl)
	}
	for i := range c.Tunnels {
		if t := &c.Tunnels[i]; t.WireGuard != nil {
			b.add("wg/"+t.Interface+".conf", func(text *render.Text) { b.wireguard(text, t) })
		}
	}
	for _, l := range c.Lists {
		b.add("wg/allowed."+strconv.Itoa(l.ID), func(text *render.Text) { allowed(text, l.Prefixes) })
	}
	for _, u := range units {
		b.files = append(b.files, render.File{Path: c.Site + "/" + u.name, Text: u.text})
	}
	b.manifest()
	b.secrets()
	if b.err != nil {
		return nil, fmt.Errorf("site %s: %w", c.Site, b.err)
	}
	return b.files, nil
}

// A bundle is a configuration while it is written.
type bundle struct {
	c     *gateway.Config
	about About
	keys  Keys
	files []render.File
	room  []byte // in which each file is written
	err   error
	also  *gateway.Config // whose interfaces belong to the overlays too; nil for none
	kept  bool            // by the agent, which probes and shapes
}

// add appends a file.
func (b *bundle) add(name string, write func(*render.Text)) {
	t := &render.Text{Bytes: b.room[:0]}
	write(t)
	if b.err == nil {
		b.err = t.Err
	}
	b.room = t.Bytes
	b.files = append(b.files, render.File{Path: b.c.Site + "/" + name, Text: bytes.Clone(t.Bytes)})
}

// manifest lists all files so far with their digests, as sha256sum reads them.
func (b *bundle) manifest() {
	b.add("manifest", func(t *render.Text) {
		for _, f := range b.files {
			sum := sha256.Sum256(f.Text)
			t.Str(hex.EncodeToString(sum[:])).Str("  ").Line(strings.TrimPrefix(f.Path, b.c.Site+"/"))
		}
	})
}

// secrets appends the keys, each in a file of its own and none in another. They are
// no part of the manifest.
func (b *bundle) secrets() {
	if b.keys.Private != nil && b.c.Carries(estate.WireGuard) {
		if key, ok := b.keys.Private(b.c.Site); ok {
			b.add("secrets/private.key", func(t *render.Text) { t.Word(key).End() })
		}
	}
	var ipsec []*gateway.Tunnel
	for i := range b.c.Tunnels {
		t := &b.c.Tunnels[i]
		key, ok := b.preshared(t)
		switch {
		case !ok:
		case t.IPsec != nil:
			ipsec = append(ipsec, t)
		case t.WireGuard.Preshared:
			b.add("secrets/"+t.Interface+".psk", func(text *render.Text) { text.Word(key).End() })
		}
	}
	if len(ipsec) > 0 {
		b.add("secrets/swanctl.secrets", func(t *render.Text) { b.swanctlSecrets(t, ipsec) })
	}
}

// Secrets renders the keys alone, as a bundle has them in its folder secrets.
func Secrets(c *gateway.Config, keys Keys) ([]render.File, error) {
	b := &bundle{c: c, keys: keys}
	b.secrets()
	return b.files, b.err
}

// preshared returns the secret that both ends of a tunnel know, if it is to be
// written.
func (b *bundle) preshared(t *gateway.Tunnel) (string, bool) {
	if b.keys.Shared == nil {
		return "", false
	}
	return b.keys.Shared(t.Overlay, t.Ident(b.c.Site))
}

// Mode is what a file of a bundle may be used for: apply is a program, all else is
// for its owner to read.
func Mode(name string) uint32 {
	if path.Base(name) == "apply" {
		return 0o700
	}
	return 0o600
}

func (b *bundle) heading(t *render.Text, what string) {
	t.Str("# ").Word(b.c.Site).Str(": ").Line(what)
	t.Line("# Written by Wide Knot from the design; changes made here are lost with the next release.")
}

// release says in one line, and then by name, what this is.
func (b *bundle) release(t *render.Text) {
	t.Word(b.c.Site)
	if b.about.Release > 0 {
		t.Str(", release ").Num(b.about.Release)
	}
	digest := b.about.Digest
	if digest == "" {
		digest = b.c.Digest()
	}
	t.Str(", digest ").Line(digest[:16])
	t.Str("site ").Word(b.c.Site).End()
	if b.about.Release > 0 {
		t.Str("release ").Num(b.about.Release).End()
	}
	t.Str("digest ").Line(digest)
}

// tunnels lists the interfaces: name, next hop, MTU, transport, addresses.
func (b *bundle) tunnels(t *render.Text) {
	for i := range b.c.Tunnels {
		one := &b.c.Tunnels[i]
		transport := "wireguard"
		if one.IPsec != nil {
			transport = "ipsec"
		}
		t.Word(one.Interface).Str(" ").Num(one.NextHop).Str(" ").Num(one.MTU).Str(" ").Str(transport)
		for _, a := range one.Addresses {
			t.Str(" ").Prefix(a)
		}
		t.End()
	}
}

func (b *bundle) wireguard(t *render.Text, one *gateway.Tunnel) {
	w := one.WireGuard
	t.Str("# ").Word(b.c.Site).Str("/").Word(one.Link).Str(" to ").Word(one.Peer).Str("/").Word(one.PeerLink).
		Str(", choice ").Num(one.Rank).Str(" in ").Word(one.Overlay).Line("; apply adds the keys.")
	t.Line("[Interface]")
	t.Str("ListenPort = ").Num(w.Port).End()
	if w.Mark > 0 {
		t.Str("FwMark = ").Num(w.Mark).End()
	}
	t.End().Line("[Peer]")
	t.Str("PublicKey = ").Word(w.PublicKey).End()
	if w.Preshared {
		t.Str("#PresharedKey = ").Word(one.Interface).Line(".psk")
	}
	t.Str("AllowedIPs = ")
	prefixes(t, w.Allowed)
	if w.List > 0 {
		t.Str("#AllowedIPs = wg/allowed.").Num(w.List).End()
	}
	if w.Endpoint != "" {
		t.Str("Endpoint = ").Word(w.Endpoint).End()
	}
	if w.Keepalive > 0 {
		t.Str("PersistentKeepalive = ").Num(w.Keepalive).End()
	}
}

func prefixes(t *render.Text, list []netip.Prefix) {
	for i, p := range list {
		if i > 0 {
			t.Str(", ")
		}
		t.Prefix(p)
	}
	t.End()
}

// allowed is a list of prefixes that many tunnels allow, as a line of their files.
func allowed(t *render.Text, list []netip.Prefix) { prefixes(t.Str("AllowedIPs = "), list) }

// ways lists each way: its number, then its groups in order, NAME or NAME,WEIGHT
// with slashes between those that share the load.
func (b *bundle) ways(t *render.Text) {
	for i := range b.c.Ways {
		w := &b.c.Ways[i]
		t.Num(w.ID)
		for _, g := range w.Groups {
			for j, m := range g.Members {
				t.Str(map[bool]string{true: " ", false: "/"}[j == 0]).Word(m.Interface)
				if m.Weight > 1 {
					t.Str(",").Num(m.Weight)
				}
			}
		}
		t.End()
	}
}

// routes lists the routes by ways: prefix, way, and the table if it is not the main
// one.
func (b *bundle) routes(t *render.Text) {
	for i := range b.c.Routes {
		if r := &b.c.Routes[i]; r.Way > 0 {
			t.Prefix(r.Prefix).Str(" ").Num(r.Way)
			if r.Table != gateway.DefaultTable {
				t.Str(" ").Num(r.Table)
			}
			t.End()
		}
	}
}

// discards lists what is discarded when no route of a way is left: prefix, and the
// table if it is not the main one.
func (b *bundle) discards(t *render.Text) {
	for _, d := range b.c.Discards {
		t.Prefix(d.Prefix)
		if d.Table != gateway.DefaultTable {
			t.Str(" ").Num(d.Table)
		}
		t.End()
	}
}

// links are the routes that leave by a WAN link, for ip -batch.
func (b *bundle) links(t *render.Text) {
	for i := range b.c.Routes {
		if r := &b.c.Routes[i]; r.Via.IsValid() {
			t.Str("route replace ").Prefix(r.Prefix).Str(" proto 199 via ").Addr(r.Via).Str(" dev ").Word(r.Device)
			if r.Table != gateway.DefaultTable {
				t.Str(" table ").Num(r.Table)
			}
			t.End()
		}
	}
}

// mainTable is the number of the main table (rtnetlink(7)).
const mainTable = 254

// rules says which packets ask which table. Lines are word for word as ip shows what
// it was told, by which apply knows them again.
func (b *bundle) rules(t *render.Text, family gateway.Family) {
	for i := range b.c.Rules {
		r := &b.c.Rules[i]
		if r.Family != family {
			continue
		}
		from, arriving := []string{"all"}, []string{""}
		if len(r.From) > 0 {
			from = nil
			for _, p := range r.From {
				from = append(from, shown(p))
			}
		}
		if len(r.Arriving) > 0 {
			arriving = r.Arriving
		}
		for _, f := range from {
			for _, device := range arriving {
				t.Str("rule add from ").Word(f)
				if r.Mark > 0 {
					t.Str(" fwmark 0x").Str(strconv.FormatInt(int64(r.Mark), 16)).Str("/0x").Str(strconv.FormatInt(int64(r.Mask), 16))
				}
				if device != "" {
					t.Str(" iif ").Word(device)
				}
				if r.NoLonger {
					t.Str(" lookup ").Num(mainTable).Str(" suppress_prefixlength 0")
				} else {
					t.Str(" lookup ").Num(r.Table)
				}
				t.Str(" priority ").Num(r.Priority).Line(" protocol 199")
			}
		}
	}
}

// shown writes a prefix as ip shows it: without the length of a single address.
func shown(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

func (b *bundle) sysctl(t *render.Text) {
	b.heading(t, "kernel settings")
	t.Line("net.ipv4.ip_forward = 1")
	if b.c.Forward6 {
		t.Line("net.ipv6.conf.all.forwarding = 1")
	}
	// A change of a way is one change of its next hops, however many routes it has.
	t.Line("net.ipv4.nexthop_compat_mode = 0")
	if slices.ContainsFunc(b.c.Links, func(l gateway.Link) bool { return l.Mark > 0 }) {
		t.Line("net.ipv4.conf.all.src_valid_mark = 1")
	}
	if len(b.c.Places) > 0 {
		// A flow keeps to one of the tunnels that share the load.
		t.Line("net.ipv4.fib_multipath_hash_policy = 1")
		t.Line("net.ipv6.fib_multipath_hash_policy = 1")
	}
	// Who may send what by a tunnel is known by its key. A filter of reverse paths
	// would refuse what comes by a backup while both ends switch, and what a hub
	// hands back; so would the wish to tell of a shorter way.
	t.Line("net.ipv4.conf.all.send_redirects = 0")
	for i := range b.c.Tunnels {
		t.Str("net.ipv4.conf.").Word(b.c.Tunnels[i].Interface).Line(".rp_filter = 0")
		t.Str("net.ipv4.conf.").Word(b.c.Tunnels[i].Interface).Line(".send_redirects = 0")
	}
}
