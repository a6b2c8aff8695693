package gateway

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"slices"
)

// A Telling is what the hubs of an overlay tell its gateways, and what this one does
// with it: each hub tells which sites it reaches, by their numbers, and everyone takes
// the first path of an order that lives.
type Telling struct {
	Overlay string `json:"overlay"`
	// Version is 16 hexadecimal digits over all that numbers mean; what is told with
	// another is not understood.
	Version string        `json:"version"`
	Sites   int           `json:"sites"` // their numbers are 1 to this
	Me      int           `json:"me"`
	Hubs    []int         `json:"hub,omitempty"` // their numbers
	Peers   []Numbered    `json:"peer,omitempty"`
	Orders  []Order       `json:"order,omitempty"`
	To      []Destination `json:"destination,omitempty"`
}

// Numbered is a neighbour.
type Numbered struct {
	Number int    `json:"number"`
	Site   string `json:"site"`
}

// An Order is paths, the best first.
type Order struct {
	ID    int    `json:"id"` // from 1
	Paths []Path `json:"path"`
}

// A Path is the hubs, by number, between this site and a destination; none where they
// are joined.
type Path struct {
	ID  int   `json:"id"` // from 1
	Via []int `json:"via,omitempty"`
}

// A Destination is a site and the order of the paths to it.
type Destination struct {
	Number int `json:"number"`
	Order  int `json:"order"`
}

// First returns the number of the neighbour at which the best living path to a site
// begins; 0 where none lives. lives says whether the tunnels between two sites do.
func (t *Telling) First(to int, lives func(a, b int) bool) int {
	at, ok := slices.BinarySearchFunc(t.To, to, func(d Destination, to int) int { return d.Number - to })
	if !ok {
		return 0
	}
	paths := t.Orders[t.To[at].Order-1].Paths
	for i := range paths {
		via := paths[i].Via
		last := t.Me
		living := true
		for _, hub := range via {
			living = living && lives(last, hub)
			last = hub
		}
		if living && lives(last, to) {
			if len(via) > 0 {
				return via[0]
			}
			return to
		}
	}
	return 0
}

// tellings says what is told in the overlays of the site whose hubs tell.
func (k *making) tellings() {
	p := k.plan
	k.told = make([]int, len(p.Overlays))
	for i := range p.Overlays {
		o := &p.Overlays[i]
		if !o.Has(k.index) || !k.routes.Told(i) {
			continue
		}
		members := slices.Clone(o.Members)
		slices.SortFunc(members, func(a, b int) int { return cmp.Compare(p.Site(a).Key, p.Site(b).Key) })
		k.numbers[i] = map[int]int{}
		sum := sha256.New()
		sum.Write([]byte(o.Spec.Key)) // never fails
		for n, site := range members {
			k.numbers[i][site] = n + 1
			sum.Write([]byte{0, byte(boolInt(o.IsHub(site)))})
			sum.Write([]byte(p.Site(site).Key))
		}
		t := Telling{Overlay: o.Spec.Key, Version: hex.EncodeToString(sum.Sum(nil)[:8]), Sites: len(members), Me: k.numbers[i][k.index]}
		for _, hub := range o.Hubs {
			t.Hubs = append(t.Hubs, k.numbers[i][hub])
		}
		slices.Sort(t.Hubs)
		for j := range k.peers {
			if peer := &k.peers[j]; peer.Overlay == o {
				t.Peers = append(t.Peers, Numbered{k.numbers[i][peer.Remote.Site], p.Site(peer.Remote.Site).Key})
			}
		}
		slices.SortFunc(t.Peers, func(a, b Numbered) int { return a.Number - b.Number })
		t.Peers = slices.Compact(t.Peers)
		k.destinations(&t, i, members)
		k.out.Tellings = append(k.out.Tellings, t)
		k.told[i] = len(k.out.Tellings)
	}
}

// destinations lists the sites that share something, each with its order; most have one
// of a few.
func (k *making) destinations(t *Telling, overlay int, members []int) {
	known := map[string]int{}
	var id []byte
	for n, site := range members {
		if site == k.index || len(k.plan.Site(site).Shared(t.Overlay)) == 0 {
			continue
		}
		candidates := k.routes.Candidates(overlay, k.index, site)
		if len(candidates) == 0 {
			continue
		}
		order := Order{ID: len(t.Orders) + 1, Paths: make([]Path, len(candidates))}
		id = id[:0]
		for i, c := range candidates {
			order.Paths[i].ID = i + 1
			for _, hub := range c.Via {
				order.Paths[i].Via = append(order.Paths[i].Via, k.numbers[overlay][hub])
				id = binary.AppendUvarint(id, uint64(k.numbers[overlay][hub]))
			}
			id = append(id, 0)
		}
		at, ok := known[string(id)]
		if !ok {
			t.Orders = append(t.Orders, order)
			at = order.ID
			known[string(id)] = at
		}
		t.To = append(t.To, Destination{n + 1, at})
	}
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
