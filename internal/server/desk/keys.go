package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"wideknot/core/estate"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// A NewKey is what became of asking a gateway for a new key.
type NewKey struct {
	Site      string `json:"site"`
	PublicKey string `json:"public_key,omitempty" doc:"that is in the draft now"`
	Words     string `json:"words,omitempty" doc:"why there is none"`
}

// keysWithin is how long gateways may take to make their keys, in seconds.
const keysWithin = 20

// NewKeys lets gateways make new keys, which they keep to themselves, and takes the public
// halves into a draft, as one edit: of some sites, or of all whose gateways are there with none.
// The keys are used once the draft is released and brought to the gateways.
func (d *Desk) NewKeys(ctx context.Context, o Order, sites []string) (*View, []NewKey, error) {
	view, err := d.View(ctx, o.Place)
	if err != nil {
		return nil, nil, err
	}
	about := "new keys " + rand.Text()
	list, err := d.askForKeys(ctx, view, sites, about, o.Place.Draft)
	if err != nil {
		return nil, nil, err
	}
	if err := d.keysOf(ctx, view.estateID, about, list); err != nil {
		return nil, nil, err
	}
	fresh := map[string]string{}
	for _, k := range list {
		if k.PublicKey != "" {
			fresh[k.Site] = k.PublicKey
		}
	}
	if len(fresh) == 0 {
		return nil, nil, &identity.Refused{Field: "sites", Text: "no gateway made a new key; the first of them: " + list[0].Site + ": " + list[0].Words}
	}
	label := fmt.Sprintf("New keys of %d gateways", len(fresh))
	for site := range fresh {
		if len(fresh) == 1 {
			label = "A new key of the gateway of " + name(view.Estate.Site(site).Name, site)
		}
	}
	out, err := d.edit(ctx, o, label, func(e *estate.Estate) (*estate.Estate, error) {
		changed := &estate.Estate{}
		for i := range e.Sites {
			if key := fresh[e.Sites[i].Key]; key != "" {
				site := e.Sites[i]
				site.Gateway.PublicKey = key
				changed.Sites = append(changed.Sites, site)
			}
		}
		return estate.Merge(e, changed), nil
	})
	return out, list, err
}

// askForKeys asks the gateways of sites, and lists whom it asked.
func (d *Desk) askForKeys(ctx context.Context, view *View, sites []string, about, draft string) (list []NewKey, err error) {
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		list = nil
		live, err := tx.LiveGateways(view.estateID)
		if err != nil {
			return err
		}
		up := map[string]bool{}
		for i := range live {
			if g := &live[i]; g.BarredAt == nil && view.Estate.Site(g.Site) != nil {
				if up[g.Site] = g.Up; len(sites) == 0 && g.Up {
					list = append(list, NewKey{Site: g.Site})
				}
			}
		}
		for _, site := range sites {
			switch there, joined := up[site]; {
			case !joined:
				return &identity.Refused{Field: "sites", Text: "no gateway has joined for " + site + ": its key is made where it is, or by this server"}
			case !there:
				return &identity.Refused{Field: "sites", Text: "the gateway of " + site + " is away"}
			}
			list = append(list, NewKey{Site: site})
		}
		if len(list) == 0 {
			return &identity.Refused{Field: "sites", Text: "no gateway is there"}
		}
		rows := make([]store.Ask, len(list))
		for i := range list {
			rows[i] = store.Ask{EstateID: view.estateID, Site: list[i].Site, About: about, Operation: store.AskNewKey, Input: "{}"}
		}
		if err := tx.AddAsks(rows, keysWithin); err != nil {
			return err
		}
		now, err := tx.Now()
		if err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "gateway.new-key", Estate: view.estateID, Object: "draft " + draft, After: map[string]any{"sites": sites, "gateways": len(list)}})
	})
	return list, err
}

// keysOf waits for what gateways answer.
func (d *Desk) keysOf(ctx context.Context, estateID uint64, about string, list []NewKey) error {
	by, err := d.await(ctx, estateID, about, keysWithin)
	for i := range list {
		k, row := &list[i], by[list[i].Site]
		switch {
		case row == nil || row.AnsweredAt == nil:
			k.Words = "the gateway did not answer in time"
		case row.Output == nil:
			k.Words = row.Words
		default:
			if err := json.Unmarshal([]byte(*row.Output), &k.PublicKey); err != nil || strings.TrimSpace(k.PublicKey) == "" {
				k.PublicKey, k.Words = "", "what the gateway answered is no key"
			}
		}
	}
	return err
}

// await waits for so many seconds for what gateways answer to what they were asked about
// something, and forgets that they were asked.
func (d *Desk) await(ctx context.Context, estateID uint64, about string, seconds int) (by map[string]*store.Ask, err error) {
	for began := time.Now(); ; {
		var rows []store.Ask
		err := d.store.Snapshot(ctx, func(tx *store.Tx) (err error) {
			rows, err = tx.AsksAbout(estateID, about)
			return err
		})
		if err != nil {
			return nil, err
		}
		by = make(map[string]*store.Ask, len(rows))
		for i := range rows {
			by[rows[i].Site] = &rows[i]
		}
		open := slices.ContainsFunc(rows, func(a store.Ask) bool { return a.AnsweredAt == nil })
		if !open || time.Since(began) > time.Duration(seconds)*time.Second {
			return by, d.store.InTransaction(ctx, func(tx *store.Tx) error { return tx.DropAsks(estateID, about) })
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}
