// Package custom renders text templates that engineers write for gateways of
// their own kind (Go text/template). What a template sees is Site.
package custom

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"text/template"
	"text/template/parse"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A Site is what a template sees: . is the site, and its fields are these.
type Site struct {
	Key, Name, Region string
	Estate            string // the estate's name
	PublicKey         string
	Gateway           estate.Gateway
	Links             []estate.Link
	Subnets           []estate.Subnet
	Tunnels           []Tunnel
	Routes            []Route
}

// A Tunnel is one of the site's tunnels, seen from it.
type Tunnel struct {
	Overlay, Interface, Link, Peer, PeerLink string
	Rank, Port, PeerPort, MTU, Keepalive     int // Keepalive in seconds, 0 for none; MTU in bytes
	Address4, Address6                       netip.Prefix
	PeerAddress4, PeerAddress6               netip.Prefix
	Endpoint, PeerKey                        string
	Calls                                    bool // this end can open it
	Allowed                                  []netip.Prefix
}

// A Route is one of the site's routes.
type Route struct {
	Prefix  netip.Prefix
	Kind    string // connected, overlay, cut, breakout, pin, local
	To      string // site
	Discard bool
	Hops    []Hop // in order
}

// A Hop is one way of a route.
type Hop struct {
	Interface, Via string
	Metric         int
	Weight         int // its part among hops of the same metric; 0 where there is but one
}

// DataOf collects what templates see of a site.
func DataOf(m *route.Map, site int) Site {
	p := m.Plan
	s := p.Site(site)
	out := Site{
		Key: s.Key, Name: s.Name, Region: s.Region, Estate: p.Estate.About.Name, PublicKey: p.PublicKey(site),
		Gateway: s.Gateway, Links: s.Links, Subnets: s.Subnets,
	}
	for _, peer := range p.Peers(site) {
		out.Tunnels = append(out.Tunnels, tunnelOf(p, &peer))
	}
	for _, r := range m.Table(site) {
		one := Route{Prefix: r.Prefix, Kind: string(r.Kind), To: p.Site(r.To).Key, Discard: r.Discards()}
		for _, h := range r.Hops {
			one.Hops = append(one.Hops, Hop{h.Interface, p.Site(h.Via).Key, h.Metric, h.Weight})
		}
		out.Routes = append(out.Routes, one)
	}
	return out
}

func tunnelOf(p *tunnel.Plan, peer *tunnel.Peer) Tunnel {
	return Tunnel{
		Overlay: peer.Overlay.Spec.Key, Interface: peer.Interface, Link: p.Link(peer.Local).Key,
		Peer: p.Site(peer.Remote.Site).Key, PeerLink: p.Link(peer.Remote).Key,
		Rank: peer.Rank, Port: peer.Local.UDP, PeerPort: peer.Remote.UDP, MTU: peer.Tunnel.MTU, Keepalive: peer.Keepalive,
		Address4: peer.Local.Address4, Address6: peer.Local.Address6, PeerAddress4: peer.Remote.Address4, PeerAddress6: peer.Remote.Address6,
		Endpoint: peer.Endpoint, PeerKey: peer.PublicKey, Calls: peer.Local.Calls, Allowed: peer.Allowed(),
	}
}

// functions are those a template may call besides the built-in ones.
var functions = template.FuncMap{
	"join":    func(separator string, list any) string { return strings.Join(words(list), separator) },
	"address": func(p netip.Prefix) string { return p.Addr().String() },
	"length":  func(p netip.Prefix) int { return p.Bits() },
	"upper":   strings.ToUpper,
	"replace": func(old, new, text string) string { return strings.ReplaceAll(text, old, new) },
}

// words makes texts of a list.
func words(list any) []string {
	switch list := list.(type) {
	case []netip.Prefix:
		out := make([]string, len(list))
		for i, p := range list {
			out[i] = p.String()
		}
		return out
	case []netip.Addr:
		out := make([]string, len(list))
		for i, a := range list {
			out[i] = a.String()
		}
		return out
	case []string:
		return list
	}
	return []string{fmt.Sprint(list)}
}

// A Template is a parsed one.
type Template struct{ parsed *template.Template }

// MaxTemplate and MaxOutput bound a template and what it may write, in bytes.
const (
	MaxTemplate = 1 << 20
	MaxOutput   = 16 << 20
)

// maxNesting bounds loops within loops.
const maxNesting = 3

// Parse reads a template. Its errors are estate.Problems with line and, where
// known, column. Templates that call others, or loop over anything but lists
// of the site, are refused: they could run without end.
func Parse(text string) (*Template, error) {
	if len(text) > MaxTemplate {
		return nil, estate.Problems{{Line: 1, Message: fmt.Sprintf("the template is larger than %d bytes", MaxTemplate)}}
	}
	parsed, err := template.New("template").Funcs(functions).Option("missingkey=error").Parse(text)
	if err != nil {
		return nil, problemOf(err)
	}
	if len(parsed.Templates()) > 1 {
		return nil, estate.Problems{{Line: 1, Message: "templates may not define others"}}
	}
	if parsed.Tree != nil {
		if err := inspect(parsed.Tree, parsed.Root, 0); err != nil {
			return nil, err
		}
	}
	return &Template{parsed}, nil
}

// inspect walks the parse tree for what could run without end.
func inspect(tree *parse.Tree, node parse.Node, loops int) error {
	refuse := func(n parse.Node, message string) error {
		where, _ := tree.ErrorContext(n)
		return problemOf(fmt.Errorf("template: %s: %s", where, message))
	}
	branch := func(lists ...*parse.ListNode) error {
		for _, l := range lists {
			if l == nil {
				continue
			}
			for _, n := range l.Nodes {
				if err := inspect(tree, n, loops); err != nil {
					return err
				}
			}
		}
		return nil
	}
	switch n := node.(type) {
	case *parse.ListNode:
		return branch(n)
	case *parse.TemplateNode:
		return refuse(n, "templates may not call others")
	case *parse.IfNode:
		return branch(n.List, n.ElseList)
	case *parse.WithNode:
		return branch(n.List, n.ElseList)
	case *parse.RangeNode:
		if loops++; loops > maxNesting {
			return refuse(n, fmt.Sprintf("loops may be nested %d deep", maxNesting))
		}
		if !overList(n.Pipe) {
			return refuse(n, "a loop runs over a list of the site, such as .Tunnels")
		}
		return branch(n.List, n.ElseList)
	}
	return nil
}

// overList reports whether a pipeline is just a field.
func overList(p *parse.PipeNode) bool {
	if p == nil || len(p.Cmds) != 1 || len(p.Cmds[0].Args) != 1 {
		return false
	}
	switch n := p.Cmds[0].Args[0].(type) {
	case *parse.FieldNode:
		return true
	case *parse.VariableNode:
		return len(n.Ident) > 1
	}
	return false
}

// Render executes the template for a site.
func (t *Template) Render(data Site) ([]byte, error) {
	out := &bounded{}
	if err := t.parsed.Execute(out, data); err != nil {
		return nil, problemOf(err)
	}
	return out.Bytes(), nil
}

// bounded is a buffer that refuses to grow without end.
type bounded struct{ bytes.Buffer }

var errTooLong = errors.New("the output is longer than 16 MB")

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > MaxOutput {
		return 0, errTooLong
	}
	return b.Buffer.Write(p)
}

var _ io.Writer = (*bounded)(nil)

var place = regexp.MustCompile(`^template: template:(\d+)(?::(\d+))?: (?s:(.*))$`)

// problemOf takes line and column out of the template package's message.
func problemOf(err error) error {
	p := estate.Problem{Line: 1, Message: err.Error()}
	if m := place.FindStringSubmatch(err.Error()); m != nil {
		p.Line, _ = strconv.Atoi(m[1])
		p.Column, _ = strconv.Atoi(m[2])
		p.Message = m[3]
	}
	return estate.Problems{p}
}
