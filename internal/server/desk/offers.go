package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/offer"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// SiteOffers are what a site's gateway offers, beside what a draft says.
type SiteOffers struct {
	Site    string            `json:"site"`
	At      time.Time         `json:"at"`
	Offers  []offer.Item      `json:"offers"`
	Refused map[string]string `json:"refused" doc:"offer → why it is not taken"`
	Open    int               `json:"open" doc:"how many could be taken and are not refused"`
}

// Offers lists what gateways offer to a draft: of one site, or of all with an empty one. What was
// measured is among the offers of one site alone: it is read from weeks of rows.
func (d *Desk) Offers(ctx context.Context, at Place, site string) (*View, []SiteOffers, error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	rows, err := d.offersOf(ctx, view.estateID, site)
	if err != nil {
		return nil, nil, err
	}
	measured := &offer.Measured{}
	if site != "" {
		if measured, err = d.measured(ctx, at.Estate, site); err != nil {
			return nil, nil, err
		}
	}
	out := []SiteOffers{}
	for i := range rows {
		one, err := siteOffers(view.Estate, &rows[i], measured)
		if err != nil {
			return nil, nil, err
		}
		if one != nil {
			out = append(out, *one)
		}
	}
	return view, out, nil
}

func (d *Desk) offersOf(ctx context.Context, estateID uint64, site string) (rows []store.Gateway, err error) {
	err = d.store.Snapshot(ctx, func(tx *store.Tx) error {
		rows, err = tx.Offering(estateID, site)
		return err
	})
	return rows, err
}

// siteOffers compares; nil for a gateway that offered nothing, or of no site of the estate.
func siteOffers(e *estate.Estate, row *store.Gateway, measured *offer.Measured) (*SiteOffers, error) {
	if row.Offers == nil || e.Site(row.Site) == nil {
		return nil, nil
	}
	seen, err := gateway.ParseOffers([]byte(*row.Offers))
	if err != nil {
		return nil, err
	}
	out := &SiteOffers{Site: row.Site, At: *row.OfferedAt, Offers: append(offer.Of(e, row.Site, seen), offer.Figures(e, row.Site, measured)...), Refused: map[string]string{}}
	if err := json.Unmarshal([]byte(row.Refusals), &out.Refused); err != nil {
		return nil, fmt.Errorf("the refusals of %s: %w", row.Site, err)
	}
	for i := range out.Offers {
		if o := &out.Offers[i]; o.Open() && out.Refused[o.ID] == "" {
			out.Open++
		}
	}
	return out, nil
}

// TakeOffers takes what a site's gateway offers into a draft, as one edit.
func (d *Desk) TakeOffers(ctx context.Context, o Order, site string, ids []string) (*View, error) {
	view, list, err := d.Offers(ctx, o.Place, site)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("offers of a gateway of %s: %w", site, ErrNotFound)
	}
	words := fmt.Sprintf("%d offers", len(ids))
	if len(ids) == 1 {
		if i := slices.IndexFunc(list[0].Offers, func(of offer.Item) bool { return of.ID == ids[0] }); i >= 0 {
			words = "the " + list[0].Offers[i].About
		}
	}
	o.Part = PartID(store.Site, site)
	label := "Take " + words + " from the gateway of " + name(view.Estate.Site(site).Name, site)
	rows, err := d.offersOf(ctx, view.estateID, site)
	if err != nil {
		return nil, err
	}
	measured, err := d.measured(ctx, o.Place.Estate, site)
	if err != nil {
		return nil, err
	}
	return d.edit(ctx, o, label, func(e *estate.Estate) (*estate.Estate, error) {
		now, err := siteOffers(e, &rows[0], measured)
		if err != nil {
			return nil, err
		}
		if now == nil {
			return nil, fmt.Errorf("site %q: %w", site, ErrNotFound)
		}
		taken, err := offer.Take(e.Site(site), now.Offers, ids)
		if err != nil {
			return nil, &identity.Refused{Field: "offers", Text: err.Error()}
		}
		if problems := estate.ValidateSite(e, taken); len(problems) > 0 {
			return nil, estate.Problems(problems)
		}
		return estate.Merge(e, &estate.Estate{Sites: []estate.Site{*taken}}), nil
	})
}

// mostReason is how long a reason may be, in bytes.
const mostReason = 300

// RefuseOffer says why an offer is not taken, or with no reason that it may be after all.
func (d *Desk) RefuseOffer(ctx context.Context, estateKey, site, id, reason string) error {
	if reason = strings.TrimSpace(reason); len(reason) > mostReason {
		return &identity.Refused{Field: "reason", Text: fmt.Sprintf("a reason has up to %d characters", mostReason)}
	}
	return d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", estateKey, err)
		}
		row, err := tx.Gateway(e.ID, site, true)
		if err != nil {
			return fmt.Errorf("a gateway of %s: %w", site, err)
		}
		before := map[string]string{}
		if err := json.Unmarshal([]byte(row.Refusals), &before); err != nil {
			return err
		}
		after := maps.Clone(before)
		if after[id] = reason; reason == "" {
			delete(after, id)
		}
		if len(after) > 500 {
			return errors.New("too many refusals")
		}
		text, err := json.Marshal(after)
		if err != nil {
			return err
		}
		row.Refusals = string(text)
		if err := tx.SaveGateway(&row, "refusals"); err != nil {
			return err
		}
		act := identity.Act{Action: "gateway.refuse-offer", Estate: e.ID, Object: "gateway " + site, Before: before[id], After: map[string]string{"offer": id, "reason": reason}}
		return identity.Record(ctx, tx, time.Now().UTC(), act)
	})
}
