package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/internal/server/store"
)

// SaveSite adds or replaces the site of that key.
func (d *Desk) SaveSite(ctx context.Context, o Order, key string, site estate.Site) (*View, error) {
	o.Part = PartID(store.Site, key)
	return d.edit(ctx, o, "Edit "+name(site.Name, key), func(e *estate.Estate) (*estate.Estate, error) {
		if site.Key != key {
			return nil, estate.Problems{{Path: "key", Message: fmt.Sprintf("the site is %q; a key cannot be changed, for tunnels and history are named by it", key)}}
		}
		if problems := estate.ValidateSite(e, &site); len(problems) > 0 {
			return nil, estate.Problems(problems)
		}
		return estate.Merge(e, &estate.Estate{Sites: []estate.Site{site}}), nil
	})
}

// DeleteSite removes a site, from the overlays too.
func (d *Desk) DeleteSite(ctx context.Context, o Order, key string) (*View, error) {
	o.Part = PartID(store.Site, key)
	view, err := d.View(ctx, o.Place)
	if err != nil {
		return nil, err
	}
	site := view.Estate.Site(key)
	if site == nil {
		return nil, fmt.Errorf("site %q: %w", key, ErrNotFound)
	}
	return d.edit(ctx, o, "Delete "+name(site.Name, key), func(e *estate.Estate) (*estate.Estate, error) {
		return e.WithoutSite(key)
	})
}

func name(name, key string) string {
	if name == "" {
		return key
	}
	return name
}

// SaveAbout replaces the estate's name and regions, and of its underlays, its
// reserved blocks and the order in which zones give way those that are given:
// an empty list empties, none leaves what was there.
func (d *Desk) SaveAbout(ctx context.Context, o Order, about estate.About) (*View, error) {
	o.Part = PartID(store.Head, "")
	return d.edit(ctx, o, "Edit the estate's name and regions", func(e *estate.Estate) (*estate.Estate, error) {
		out := e.Clone()
		was := out.About
		out.About = about
		if about.Underlays == nil {
			out.About.Underlays = was.Underlays
		}
		if about.Reserved == nil {
			out.About.Reserved = was.Reserved
		}
		if about.Shed == nil {
			out.About.Shed = was.Shed
		}
		return out, nil
	})
}

// SaveOverlay adds or replaces the overlay of that key.
func (d *Desk) SaveOverlay(ctx context.Context, o Order, key string, overlay estate.Overlay) (*View, error) {
	o.Part = PartID(store.Overlay, key)
	return d.step(ctx, o, func(at *opening) (*View, error) {
		e := at.view.Estate
		if overlay.Key != key {
			return nil, estate.Problems{{Path: "key", Message: fmt.Sprintf("the overlay is %q; its key cannot be changed", key)}}
		}
		if problems := estate.ValidateOverlay(e, &overlay); len(problems) > 0 {
			return nil, estate.Problems(problems)
		}
		label, err := shapingOf(e.Overlay(key), &overlay)
		if err != nil {
			return nil, err
		}
		return d.take(ctx, at, o, label, estate.Merge(e, &estate.Estate{Overlays: []estate.Overlay{overlay}}), at.row.Base)
	})
}

// shapingOf says which of an overlay's settings an edit changes; was is nil for
// a new one.
func shapingOf(was, is *estate.Overlay) (string, error) {
	label := "Shape " + is.Key
	if was == nil {
		return label, nil
	}
	before, err := settingsOf(was)
	if err != nil {
		return "", err
	}
	after, err := settingsOf(is)
	if err != nil {
		return "", err
	}
	var changed []string
	for _, name := range slices.Concat(slices.Collect(maps.Keys(before)), slices.Collect(maps.Keys(after))) {
		if !bytes.Equal(before[name], after[name]) {
			changed = append(changed, strings.ReplaceAll(name, "_", " "))
		}
	}
	if len(changed) == 0 {
		return label, nil
	}
	slices.Sort(changed)
	return label + ": " + strings.Join(slices.Compact(changed), ", "), nil
}

// settingsOf takes an overlay apart by the document's keys.
func settingsOf(o *estate.Overlay) (map[string]json.RawMessage, error) {
	text, err := json.Marshal(o)
	if err != nil {
		return nil, fmt.Errorf("writing overlay %s: %w", o.Key, err)
	}
	var out map[string]json.RawMessage
	err = json.Unmarshal(text, &out)
	return out, err
}

// DeleteOverlay removes an overlay; no subnet is shared into it any more.
func (d *Desk) DeleteOverlay(ctx context.Context, o Order, key string) (*View, error) {
	o.Part = PartID(store.Overlay, key)
	return d.edit(ctx, o, "Delete overlay "+key, func(e *estate.Estate) (*estate.Estate, error) {
		if e.Overlay(key) == nil {
			return nil, fmt.Errorf("overlay %q: %w", key, ErrNotFound)
		}
		out := e.Clone()
		out.Overlays = slices.DeleteFunc(out.Overlays, func(o estate.Overlay) bool { return o.Key == key })
		for i := range out.Sites {
			for j := range out.Sites[i].Subnets {
				setShare(&out.Sites[i].Subnets[j], key, false)
			}
		}
		return out, nil
	})
}

// A Choice of subnets: those of a zone, or of a zone at one site. An empty
// Zone with All unset is the zone without a name.
type Choice struct {
	Zone string
	Site string
	All  bool
}

// Share lets subnets take part in an overlay, or no longer.
func (d *Desk) Share(ctx context.Context, o Order, overlay string, c Choice, take bool) (*View, error) {
	label := fmt.Sprintf("Share zone %s into %s", name(c.Zone, "(none)"), overlay)
	if !take {
		label = fmt.Sprintf("Stop sharing zone %s into %s", name(c.Zone, "(none)"), overlay)
	}
	return d.edit(ctx, o, label, func(e *estate.Estate) (*estate.Estate, error) {
		spec := e.Overlay(overlay)
		if spec == nil {
			return nil, fmt.Errorf("overlay %q: %w", overlay, ErrNotFound)
		}
		members := spec.Members()
		out := e.Clone()
		for i := range out.Sites {
			site := &out.Sites[i]
			if c.Site != "" && site.Key != c.Site || !slices.Contains(members, site.Key) {
				continue
			}
			for j := range site.Subnets {
				if c.All || site.Subnets[j].Zone == c.Zone {
					setShare(&site.Subnets[j], overlay, take)
				}
			}
		}
		return out, nil
	})
}

func setShare(n *estate.Subnet, overlay string, take bool) {
	if n.SharedInto(overlay) == take {
		return
	}
	n.Share = slices.DeleteFunc(slices.Clone(n.Share), func(o string) bool { return o == overlay })
	if take {
		n.Share = append(n.Share, overlay)
	}
	if len(n.Share) == 0 {
		n.Share = nil
	}
}

// Repair carries out one of the repairs that a finding offers.
func (d *Desk) Repair(ctx context.Context, o Order, r planning.Repair) (*View, error) {
	return d.edit(ctx, o, r.Label, func(e *estate.Estate) (*estate.Estate, error) { return planning.Apply(e, r) })
}

// Reserve keeps a block for something, or with an empty purpose frees it.
func (d *Desk) Reserve(ctx context.Context, o Order, r estate.Reservation) (*View, error) {
	label := fmt.Sprintf("Reserve %s for %s", r.Prefix, r.For)
	if r.For == "" {
		label = fmt.Sprintf("Free %s", r.Prefix)
	}
	return d.edit(ctx, o, label, func(e *estate.Estate) (*estate.Estate, error) {
		out := e.Clone()
		out.About.Reserved = slices.DeleteFunc(out.About.Reserved, func(old estate.Reservation) bool { return old.Prefix == r.Prefix })
		if r.For != "" {
			out.About.Reserved = append(out.About.Reserved, r)
		}
		return out, nil
	})
}
