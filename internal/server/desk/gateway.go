package desk

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/core/words"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// A GatewaySummary is what lists show of what a gateway reported.
type GatewaySummary struct {
	Release  int    `json:"release" doc:"that it runs; 0 for none, or for what was applied by hand"`
	Digest   string `json:"digest,omitempty" doc:"of what it runs"`
	Tunnels  int    `json:"tunnels"`
	Dead     int    `json:"dead" doc:"tunnels that are dead"`
	Beyond   int    `json:"beyond" doc:"tunnels beyond their limits"`
	DeadWays int    `json:"dead_ways" doc:"ways by which nothing goes any more"`
	Links    int    `json:"links"`
	DownLink int    `json:"down_links" doc:"WAN links whose next hop does not answer"`
	ClockMs  int    `json:"clock_ms" doc:"by how much its clock is ahead of the server's"`
	Version  string `json:"version,omitempty" doc:"of the module it speaks, where that is not the server's"`
	Trouble  string `json:"trouble,omitempty" doc:"why the last applying failed"`
}

// SummaryOf sums a state up, by the server's time at which it came.
func SummaryOf(s *gateway.State, came time.Time) GatewaySummary {
	out := GatewaySummary{Release: s.Release, Digest: s.Digest, Tunnels: len(s.Tunnels), Links: len(s.Links), Trouble: s.Trial.Trouble}
	for i := range s.Tunnels {
		if !s.Tunnels[i].Up {
			out.Dead++
		} else if s.Tunnels[i].Beyond {
			out.Beyond++
		}
	}
	for i := range s.Ways {
		if s.Ways[i].Group == 0 {
			out.DeadWays++
		}
	}
	for i := range s.Links {
		if !s.Links[i].NextHopUp {
			out.DownLink++
		}
	}
	if at, err := time.Parse(time.RFC3339, string(s.At)); err == nil {
		out.ClockMs = int(at.Sub(came).Truncate(time.Second).Milliseconds())
	}
	return out
}

// A GatewayRow is a gateway that joined, as lists show it.
type GatewayRow struct {
	Site       string     `json:"site"`
	JoinedAt   time.Time  `json:"joined_at"`
	ExpiresAt  time.Time  `json:"expires_at" doc:"of its certificate"`
	BarredAt   *time.Time `json:"barred_at,omitempty"`
	Up         bool       `json:"up" doc:"a server that lives holds its line"`
	Since      *time.Time `json:"since,omitempty" doc:"when the line began, or ended where it is not up"`
	Server     string     `json:"server,omitempty"`
	Doubled    *time.Time `json:"doubled_at,omitempty" doc:"when two machines were found with its certificate"`
	Wanted     uint64     `json:"wanted" doc:"release it is to be brought to; 0 for none"`
	Confirmed  uint64     `json:"confirmed" doc:"release that it said it keeps"`
	Differs    bool       `json:"differs" doc:"what it runs is not what was confirmed"`
	Phase      string     `json:"phase,omitempty" enum:",sending,trying,confirmed,went-back,failed,differs,version" doc:"of bringing it to the wanted release"`
	Words      string     `json:"words,omitempty" doc:"the gateway's own, or why nothing is done"`
	ReportedAt *time.Time `json:"reported_at,omitempty"`
	OfferedAt  *time.Time `json:"offered_at,omitempty"`
	GatewaySummary
}

func gatewayRow(l *store.LiveGateway) GatewayRow {
	out := GatewayRow{
		Site: l.Site, JoinedAt: l.JoinedAt, ExpiresAt: l.ExpiresAt, BarredAt: l.BarredAt, Up: l.Up && l.BarredAt == nil, Since: l.Since, Server: l.Server, Doubled: l.DoubledAt,
		Wanted: l.Wanted, Confirmed: l.Confirmed, Phase: l.Phase, Words: l.Words, ReportedAt: l.StateAt, OfferedAt: l.OfferedAt,
	}
	if !l.Up && l.EndedAt != nil {
		out.Since = l.EndedAt
	}
	_ = json.Unmarshal([]byte(l.Summary), &out.GatewaySummary) // ours; empty where nothing was reported
	if out.Digest != "" && out.Digest == l.ConfirmedDigest {   // a release may change nothing of it
		out.Release = int(l.Confirmed)
	}
	out.Differs = l.ConfirmedDigest != "" && out.Digest != "" && out.Digest != l.ConfirmedDigest && out.Phase != "trying"
	return out
}

// Gateways lists the gateways of an estate that joined, by site.
func (d *Desk) Gateways(ctx context.Context, estateKey string) (out []GatewayRow, err error) {
	out = []GatewayRow{}
	err = d.store.Snapshot(ctx, func(tx *store.Tx) error {
		out = out[:0]
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", estateKey, err)
		}
		rows, err := tx.LiveGateways(e.ID)
		for i := range rows {
			out = append(out, gatewayRow(&rows[i]))
		}
		return err
	})
	return out, err
}

// Gateway returns one with what it reported last; nil where it reported nothing yet.
func (d *Desk) Gateway(ctx context.Context, estateKey, site string) (row GatewayRow, state *gateway.State, err error) {
	row, _, state, err = d.gatewayIn(ctx, estateKey, site)
	return row, state, err
}

// gatewayIn is Gateway with the number of the estate.
func (d *Desk) gatewayIn(ctx context.Context, estateKey, site string) (row GatewayRow, estateID uint64, state *gateway.State, err error) {
	text := ""
	err = d.store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", estateKey, err)
		}
		estateID = e.ID
		live, err := tx.LiveGateway(e.ID, site)
		if err != nil {
			return fmt.Errorf("a gateway of %s: %w", site, err)
		}
		row = gatewayRow(&live)
		if text, err = tx.GatewayState(e.ID, site); errors.Is(err, store.ErrNotFound) {
			err = nil
		}
		return err
	})
	if err == nil && text != "" {
		state, err = gateway.ParseState([]byte(text))
	}
	return row, estateID, state, err
}

// Bring says that gateways are to be brought to a release, all that joined with no sites. It
// returns how many.
func (d *Desk) Bring(ctx context.Context, estateKey string, release uint64, sites []string) (n int, err error) {
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		n = 0
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", estateKey, err)
		}
		if _, err := tx.Release(e.ID, release); release == 0 || err != nil {
			return fmt.Errorf("release %d: %w", release, ErrNotFound)
		}
		if len(sites) == 0 {
			rows, err := tx.LiveGateways(e.ID)
			if err != nil {
				return err
			}
			for i := range rows {
				if rows[i].BarredAt == nil && rows[i].Confirmed != release {
					sites = append(sites, rows[i].Site)
				}
			}
		}
		if running, err := tx.ActiveRollout(e.ID, true); err == nil {
			return fmt.Errorf("%w: rollout %d is on its way", ErrRolling, running.Number)
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
		for _, site := range sites {
			if _, err := tx.Gateway(e.ID, site, true); err != nil {
				return fmt.Errorf("a gateway of %s: %w", site, err)
			}
			n++
		}
		if n == 0 {
			return nil
		}
		if err := tx.WantAt(e.ID, sites, release, 0, int(rollout.New)); err != nil {
			return err
		}
		act := identity.Act{Action: "gateway.bring", Estate: e.ID, Object: words.Many(n, "gateway", "gateways"), After: map[string]any{"release": release, "sites": sites}}
		return identity.Record(ctx, tx, time.Now().UTC(), act)
	})
	return n, err
}

// PutBack lets what somebody set by hand at a gateway, by its digest, be overwritten by what
// was confirmed.
func (d *Desk) PutBack(ctx context.Context, estateKey, site, digest string) error {
	return d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", estateKey, err)
		}
		row, err := tx.Gateway(e.ID, site, true)
		if err != nil {
			return fmt.Errorf("a gateway of %s: %w", site, err)
		}
		row.PutBack, row.Attempt = digest, row.Attempt+1
		if err := tx.SaveGateway(&row, "put_back", "attempt"); err != nil {
			return err
		}
		return identity.Record(ctx, tx, time.Now().UTC(), identity.Act{Action: "gateway.put-back", Estate: e.ID, Object: "gateway " + site, Before: map[string]any{"digest": digest}, After: map[string]any{"release": row.Wanted}})
	})
}

// ErrRolling is returned for bringing gateways anywhere while a rollout does.
var ErrRolling = errors.New("gateways are being brought to a release")

// BringFirst lets a gateway that joined and runs nothing have the release in force. It
// reports whether that has its site.
func (d *Desk) BringFirst(ctx context.Context, estateKey, site string) (bool, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil || view.Latest == 0 || view.Plan.SiteIndex(site) < 0 {
		return false, err
	}
	release := view.Latest
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		if err := tx.WantAt(e.ID, []string{site}, release, 0, int(rollout.New)); err != nil {
			return err
		}
		return identity.Record(ctx, tx, time.Now().UTC(), identity.Act{Action: "gateway.bring", Estate: e.ID, Object: "1 gateways", After: map[string]any{"release": release, "sites": []string{site}}})
	})
	return err == nil, err
}

// A Version is what a gateway is to be: a stage between two releases. Of New the base says
// nothing.
type Version struct {
	Release, Base uint64
	Stage         rollout.Stage
}

// Kept is the release that a gateway at the version is said to keep.
func (v Version) Kept() uint64 {
	if v.Stage < rollout.Sending {
		return v.Base
	}
	return v.Release
}

// A ForGateway is what a gateway is sent: its configuration at a release, and the keys that
// it shares with far ends.
type ForGateway struct {
	Config *gateway.Config
	Digest string
	Shared map[string][32]byte
}

// ForGateway makes what a site's gateway is to be at a version.
func (d *Desk) ForGateway(ctx context.Context, estateKey, site string, v Version) (*ForGateway, error) {
	config, view, err := d.configAt(ctx, estateKey, site, v)
	if err != nil {
		return nil, err
	}
	out := &ForGateway{Config: config, Digest: config.Digest(), Shared: map[string][32]byte{}}
	wants := false
	for i := range out.Config.Tunnels {
		w := out.Config.Tunnels[i].WireGuard
		wants = wants || w != nil && w.Preshared
	}
	if !wants {
		return out, nil
	}
	keys, err := d.privateKeys(ctx, view, site)
	if err != nil {
		return nil, err
	}
	for i := range out.Config.Tunnels {
		t := &out.Config.Tunnels[i]
		if t.WireGuard == nil || !t.WireGuard.Preshared {
			continue
		}
		text, ok := keys.Shared(t.Overlay, t.Ident(out.Config.Site))
		raw, err := base64.StdEncoding.DecodeString(text)
		if !ok || err != nil || len(raw) != 32 {
			return nil, fmt.Errorf("the pre-shared key of %s is not there", t.Interface)
		}
		out.Shared[t.Interface] = [32]byte(raw)
	}
	return out, nil
}

// gatewayPulse is what a watch knows of an estate's gateways.
type gatewayPulse struct {
	changed   time.Time
	count, up int64
	told      map[string]time.Time // site → change that was told
}

// lateCommit is how long after its time a change may be seen.
const lateCommit = 3 * time.Second

// lookAtGateways tells open pages which gateways changed.
func (w *watch) lookAtGateways(ctx context.Context) error {
	var rows []GatewayRow
	err := w.d.store.Snapshot(ctx, func(tx *store.Tx) error {
		rows = rows[:0]
		pulse, err := tx.GatewayPulse(w.estate)
		if err != nil {
			return err
		}
		g := &w.gateways
		if pulse.Changed == nil { // the first to join is news
			if g.told == nil {
				g.told = map[string]time.Time{}
			}
			return nil
		}
		if g.changed.Equal(*pulse.Changed) && g.count == pulse.Count && g.up == pulse.Up {
			return nil
		}
		first, before := g.told == nil, g.changed
		all := g.count != pulse.Count || g.up != pulse.Up
		g.changed, g.count, g.up = *pulse.Changed, pulse.Count, pulse.Up
		if first {
			g.told = map[string]time.Time{}
		}
		since := before.Add(-lateCommit)
		if all {
			since = time.Time{}
		}
		live, err := tx.LiveGatewaysSince(w.estate, since)
		if err != nil {
			return err
		}
		for i := range live {
			l := &live[i]
			if l.ChangedAt == nil || !all && g.told[l.Site].Equal(*l.ChangedAt) {
				continue
			}
			g.told[l.Site] = *l.ChangedAt
			rows = append(rows, gatewayRow(l))
		}
		if first {
			rows = nil // pages load the list themselves
		}
		return nil
	})
	if err == nil && len(rows) > 0 {
		w.tell(event(0, GatewaysMoved, rows))
	}
	return err
}

// configAt makes the configuration of a site's gateway at a version, with a view that has
// keys of all its tunnels.
func (d *Desk) configAt(ctx context.Context, estateKey, site string, v Version) (*gateway.Config, *View, error) {
	if v.Stage == rollout.New {
		return d.configOf(ctx, estateKey, site, v.Release)
	}
	old, view, err := d.configOf(ctx, estateKey, site, v.Base)
	if err != nil || v.Stage == rollout.Old {
		return old, view, err
	}
	is, view, err := d.configOf(ctx, estateKey, site, v.Release)
	if err != nil {
		return nil, nil, err
	}
	return rollout.At(old, is, v.Stage), view, nil
}

// configOf makes the configuration of a site's gateway at a release; nobody may change it.
func (d *Desk) configOf(ctx context.Context, estateKey, site string, release uint64) (*gateway.Config, *View, error) {
	view, err := d.View(ctx, Place{estateKey, fmt.Sprintf("release-%d", release)})
	if err != nil {
		return nil, nil, err
	}
	at := view.Plan.SiteIndex(site)
	if at < 0 {
		return nil, nil, fmt.Errorf("site %q in release %d: %w", site, release, ErrNotFound)
	}
	return d.heavy.of(atRelease{view.estateID, release, site}, func() *gateway.Config { return gateway.Of(view.Routes, at) }), view, nil
}
