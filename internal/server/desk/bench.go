package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// How a tunnel is tried: how long a gateway may take for one way, in seconds; up to which rate
// where the survey has none, in kbit/s; and the part of the survey's rate that is tried, as the
// gateway sends no more by itself (operating.md, 3, Shaping).
const (
	benchWithin  = 25
	benchUnknown = 10_000
	benchPart    = .95
	outerHeaders = 60 // bytes that a packet has more outside a tunnel over IPv4
)

// A BenchRun is what a tunnel bore one way.
type BenchRun struct {
	ID        uint64              `json:"id"`
	At        time.Time           `json:"at"`
	Author    string              `json:"author"`
	Site      string              `json:"site" doc:"that sent"`
	Interface string              `json:"interface" doc:"there"`
	Link      string              `json:"link"`
	Peer      string              `json:"peer" doc:"where it was counted"`
	PeerLink  string              `json:"peer_link"`
	Kbps      int                 `json:"kbps" doc:"up to which it was loaded, as packets are in the tunnel"`
	LinkMbps  float64             `json:"link_mbps" doc:"what it passed, as packets are on the WAN link"`
	Limit     bool                `json:"limit" doc:"more was tried, and was lost; otherwise it passes at least that"`
	UpMbps    float64             `json:"up_mbps" doc:"of the survey in force, from the site's link; 0 where it has none"`
	DownMbps  float64             `json:"down_mbps" doc:"of the survey in force, to the peer's link"`
	Words     string              `json:"words,omitempty" doc:"why there is no answer"`
	Size      int                 `json:"size" doc:"of the packets, in bytes"`
	Steps     []gateway.BenchStep `json:"steps"`
}

// ErrBenching is of a bench while another one is going on in the estate.
var ErrBenching = errors.New("a tunnel of this estate is being loaded already: wait some seconds")

// A Benching is a tunnel to be loaded, from one end and then from the other.
type Benching struct {
	Ends [2]BenchRun
	view *View
}

// BenchOf finds a tunnel by its interface at a site, in the release in force.
func (d *Desk) BenchOf(ctx context.Context, estateKey, site, iface string) (*Benching, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil {
		return nil, err
	}
	at := view.Plan.SiteIndex(site)
	if at < 0 {
		return nil, &identity.Refused{Field: "site", Text: fmt.Sprintf("%q is no site of the release in force", site)}
	}
	near := gateway.Of(view.Routes, at).Tunnel(iface)
	if near == nil {
		return nil, &identity.Refused{Field: "interface", Text: fmt.Sprintf("%s has no tunnel %q in the release in force", site, iface)}
	}
	out := &Benching{view: view}
	far := gateway.Of(view.Routes, view.Plan.SiteIndex(near.Peer))
	for i := range far.Tunnels {
		t := &far.Tunnels[i]
		if t.Overlay == near.Overlay && t.Ident(far.Site) == near.Ident(site) {
			out.Ends = [2]BenchRun{
				{Site: site, Interface: iface, Link: near.Link, Peer: near.Peer, PeerLink: near.PeerLink},
				{Site: near.Peer, Interface: t.Interface, Link: t.Link, Peer: site, PeerLink: t.PeerLink},
			}
		}
	}
	if out.Ends[1].Site == "" {
		return nil, fmt.Errorf("the far end of %s: %w", iface, ErrNotFound)
	}
	for i := range out.Ends {
		r := &out.Ends[i]
		r.Steps = []gateway.BenchStep{}
		r.UpMbps, r.DownMbps = linkOf(view.Estate, r.Site, r.Link).UpMbps, linkOf(view.Estate, r.Peer, r.PeerLink).DownMbps
		r.Kbps = bound(r.UpMbps, r.DownMbps)
	}
	return out, nil
}

// bound is up to which rate one way is loaded, as packets are in the tunnel: no more than the survey
// gives both links.
func bound(up, down float64) int {
	least := up
	if up == 0 || down > 0 && down < up {
		least = down
	}
	if least == 0 {
		return benchUnknown
	}
	const usual = 1400 // bytes of a packet in a tunnel, about
	return max(gateway.LeastBench, min(gateway.MostBench, int(least*1000*benchPart*usual/(usual+outerHeaders))))
}

func linkOf(e *estate.Estate, site, link string) estate.Link {
	if s := e.Site(site); s != nil {
		for i := range s.Links {
			if s.Links[i].Key == link {
				return s.Links[i]
			}
		}
	}
	return estate.Link{}
}

// Bench loads a tunnel, from one end and then from the other, and keeps what it bore.
func (d *Desk) Bench(ctx context.Context, b *Benching) ([]BenchRun, error) {
	id := b.view.estateID
	if _, busy := d.benches.LoadOrStore(id, true); busy {
		return nil, ErrBenching
	}
	defer d.benches.Delete(id)
	for i := range b.Ends {
		r := &b.Ends[i]
		if err := d.benchOneWay(ctx, id, r); err != nil {
			return nil, err
		}
	}
	return b.Ends[:], nil
}

func (d *Desk) benchOneWay(ctx context.Context, estateID uint64, r *BenchRun) error {
	input, err := json.Marshal(gateway.Bench{Interface: r.Interface, Kbps: r.Kbps})
	if err != nil {
		return err
	}
	about := "bench " + rand.Text()
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		if err := tx.AddAsks([]store.Ask{{EstateID: estateID, Site: r.Site, About: about, Operation: store.AskBench, Input: string(input)}}, benchWithin); err != nil {
			return err
		}
		now, err := tx.Now()
		if err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "tunnel.bench", Estate: estateID, Object: r.Site + " " + r.Interface, After: map[string]any{"kbps": r.Kbps, "towards": r.Peer}})
	})
	if err != nil {
		return err
	}
	by, err := d.await(ctx, estateID, about, benchWithin)
	if err != nil {
		return err
	}
	r.At, r.Author = time.Now().UTC(), identity.ActorOf(ctx).Name
	switch row := by[r.Site]; {
	case row == nil || row.AnsweredAt == nil:
		r.Words = "the gateway of " + r.Site + " did not answer in time"
		return nil
	case row.Output == nil:
		r.Words = row.Words
		return nil
	default:
		if err := json.Unmarshal([]byte(*row.Output), &benchData{&r.Size, &r.Steps}); err != nil {
			return err
		}
	}
	r.judge()
	data, err := json.Marshal(gateway.Benched{Size: r.Size, Steps: r.Steps})
	if err != nil {
		return err
	}
	return d.store.InTransaction(ctx, func(tx *store.Tx) error {
		kept := store.Bench{EstateID: estateID, At: r.At, Author: r.Author, Site: r.Site, Interface: r.Interface, Link: r.Link, Peer: r.Peer, PeerLink: r.PeerLink, Kbps: r.Kbps, Data: string(data)}
		err := tx.AddBench(&kept)
		r.ID = kept.ID
		return err
	})
}

// benchData reads a gateway.Benched into a run.
type benchData struct {
	Size  *int                 `json:"size"`
	Steps *[]gateway.BenchStep `json:"step"`
}

// judge says what it bore.
func (r *BenchRun) judge() {
	is := gateway.Benched{Size: r.Size, Steps: r.Steps}
	kbps, limit := is.Bears()
	r.Limit = limit
	r.LinkMbps = float64(int(float64(kbps)*float64(r.Size+outerHeaders)/float64(max(1, r.Size))/10+.5)) / 100
}

// Benches lists what tunnels from or towards a site bore, the newest first, with the figures that
// the survey in force has.
func (d *Desk) Benches(ctx context.Context, estateKey, site string, days int) ([]BenchRun, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil {
		return nil, err
	}
	var rows []store.Bench
	err = d.store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		rows, err = tx.Benches(view.estateID, site, time.Now().UTC().AddDate(0, 0, -days), mostBenches)
		return err
	})
	if err != nil {
		return nil, err
	}
	out := []BenchRun{}
	for i := range rows {
		row := &rows[i]
		r := BenchRun{ID: row.ID, At: row.At.UTC(), Author: row.Author, Site: row.Site, Interface: row.Interface, Link: row.Link, Peer: row.Peer, PeerLink: row.PeerLink, Kbps: row.Kbps, Steps: []gateway.BenchStep{}}
		if err := json.Unmarshal([]byte(row.Data), &benchData{&r.Size, &r.Steps}); err != nil {
			return nil, err
		}
		r.UpMbps, r.DownMbps = linkOf(view.Estate, r.Site, r.Link).UpMbps, linkOf(view.Estate, r.Peer, r.PeerLink).DownMbps
		r.judge()
		out = append(out, r)
	}
	return out, nil
}

// mostBenches is how many are listed.
const mostBenches = 100
