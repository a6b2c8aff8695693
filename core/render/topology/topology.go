// Package topology renders the overlays of an estate as the network topology
// model of RFC 8345 in RFC 7951 JSON.
package topology

import (
	"bytes"
	"encoding/json"
	"fmt"

	"wideknot/core/render"
	"wideknot/core/tunnel"
)

type (
	networks struct {
		Networks struct {
			Network []network `json:"network"`
		} `json:"ietf-network:networks"`
	}
	network struct {
		ID    string `json:"network-id"`
		Nodes []node `json:"node"`
		Links []link `json:"ietf-network-topology:link,omitempty"`
	}
	node struct {
		ID    string  `json:"node-id"`
		Ports []point `json:"ietf-network-topology:termination-point,omitempty"`
	}
	point struct {
		ID string `json:"tp-id"`
	}
	link struct {
		ID     string `json:"link-id"`
		Source struct {
			Node string `json:"source-node"`
			Port string `json:"source-tp"`
		} `json:"source"`
		Destination struct {
			Node string `json:"dest-node"`
			Port string `json:"dest-tp"`
		} `json:"destination"`
	}
)

// File renders every overlay as a network of its own: sites are nodes, tunnel
// interfaces their termination points, and each tunnel a link each way.
func File(p *tunnel.Plan) (render.File, error) {
	var out networks
	for i := range p.Overlays {
		o := &p.Overlays[i]
		n := network{ID: o.Spec.Key}
		for _, m := range o.Members {
			one := node{ID: p.Site(m).Key}
			for _, e := range p.Ends(m) {
				if e.Overlay == i {
					local, _ := p.Sides(e)
					one.Ports = append(one.Ports, point{local.Interface})
				}
			}
			n.Nodes = append(n.Nodes, one)
		}
		for j := range o.Adjacencies {
			for k := range o.Adjacencies[j].Tunnels {
				t := &o.Adjacencies[j].Tunnels[k]
				n.Links = append(n.Links, linkOf(p, &t.A, &t.B), linkOf(p, &t.B, &t.A))
			}
		}
		out.Networks.Network = append(out.Networks.Network, n)
	}
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(out); err != nil {
		return render.File{}, fmt.Errorf("writing the topology: %w", err)
	}
	return render.File{Path: "topology.json", Text: text.Bytes()}, nil
}

func linkOf(p *tunnel.Plan, from, to *tunnel.Port) link {
	var l link
	l.Source.Node, l.Source.Port = p.Site(from.Site).Key, from.Interface
	l.Destination.Node, l.Destination.Port = p.Site(to.Site).Key, to.Interface
	l.ID = l.Source.Node + "/" + l.Source.Port
	return l
}
