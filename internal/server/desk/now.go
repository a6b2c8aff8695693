package desk

import (
	"context"
	"sync"
	"time"

	"wideknot/core/diagnose"
	"wideknot/core/gateway"
	"wideknot/internal/server/store"
)

// A Now is what is not as designed at present, by the release in force.
type Now struct {
	Release  uint64    `json:"release" doc:"in force; 0 for none"`
	At       time.Time `json:"at"`
	Joined   int       `json:"joined" doc:"gateways"`
	There    int       `json:"there" doc:"gateways that are there"`
	Tunnels  int       `json:"tunnels" doc:"of the release in force"`
	Dead     int       `json:"dead" doc:"of those"`
	DeadWays int       `json:"dead_ways" doc:"ways of gateways that lead nowhere, as those report"`
	diagnose.Situation
}

// nowFor is for how long what was worked out is told to all who ask: every open page does, each
// time that anything changes.
const nowFor = 300 * time.Millisecond

// lately is what was worked out last for an estate.
type lately struct {
	mu sync.Mutex
	at time.Time
	is *present
}

// A present is what is known of an estate's gateways at a moment, and what follows; nobody may
// change it but for the looms that were woven of it.
type present struct {
	now   *Now
	view  *View
	known *diagnose.Known

	mu    sync.Mutex
	looms map[[2]string]*LiveLoom // by overlay and region
}

// Now says what is not as designed at present; nobody may change it.
func (d *Desk) Now(ctx context.Context, estateKey string) (*Now, error) {
	is, err := d.atPresent(ctx, estateKey)
	if err != nil {
		return nil, err
	}
	return is.now, nil
}

func (d *Desk) atPresent(ctx context.Context, estateKey string) (*present, error) {
	kept, _ := d.nows.LoadOrStore(estateKey, &lately{})
	l := kept.(*lately) // nothing else is in there
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.is != nil && time.Since(l.at) < nowFor {
		return l.is, nil
	}
	began := time.Now()
	view, err := d.View(ctx, Place{estateKey, Released})
	var known *diagnose.Known
	ways := 0
	if err == nil {
		known, ways, err = d.troubled(ctx, view)
	}
	if err != nil {
		d.nows.Delete(estateKey) // there may be no such estate
		return nil, err
	}
	l.at, l.is = began, &present{now: nowOf(view, known, ways), view: view, known: known, looms: map[[2]string]*LiveLoom{}}
	return l.is, nil
}

// nowOf says what is not as designed, by what is known.
func nowOf(view *View, known *diagnose.Known, ways int) *Now {
	out := &Now{Release: view.Latest, At: time.Now().UTC(), Situation: diagnose.Situation{Troubles: []diagnose.Trouble{}, CutSites: []string{}}}
	for _, g := range known.Gateways {
		if g.Joined {
			out.Joined++
		}
		if g.Up {
			out.There++
		}
	}
	if view.Latest == 0 {
		return out
	}
	out.Tunnels = view.Plan.Tunnels()
	out.DeadWays = ways
	out.Situation = diagnose.Look(known, view.Model())
	out.Dead = out.DeadTunnels()
	return out
}

// How long after it called tunnels of a gateway that were never alive are on their way up, and
// those of one that joined just now, or where most called just now.
const (
	fresh = 30 * time.Second
	risen = 40 * time.Second
)

// troubled reads which gateways there are, and what those report whose tunnels do not all live
// well; of the others that is known. It counts the ways that lead nowhere.
func (d *Desk) troubled(ctx context.Context, view *View) (out *diagnose.Known, ways int, err error) {
	out = &diagnose.Known{Routes: view.Routes, Gateways: map[string]*diagnose.Gateway{}}
	err = d.store.Snapshot(ctx, func(tx *store.Tx) error {
		live, err := tx.LiveGateways(view.estateID)
		if err != nil {
			return err
		}
		now, err := tx.Now()
		if err != nil {
			return err
		}
		ways = 0
		young, there := 0, 0
		var ask []string
		for i := range live {
			row := gatewayRow(&live[i])
			g := &diagnose.Gateway{
				Joined: row.BarredAt == nil, Up: row.Up, Release: int(view.Latest), Keeps: int(row.Confirmed), ByHand: row.Differs || row.Phase == "differs",
				Clock: row.ClockMs, Well: row.ReportedAt != nil && row.Dead == 0 && row.Beyond == 0,
			}
			g.Fresh = row.Phase == "sending" || row.Phase == "trying" || row.Up && row.Since != nil && now.Sub(*row.Since) < fresh
			g.Rising = now.Sub(row.JoinedAt) < risen
			if row.Up {
				there++
				if row.Since != nil && now.Sub(*row.Since) < risen {
					young++
				}
			}
			if row.Phase == "failed" || row.Phase == "went-back" {
				g.Failed = row.Words
			}
			out.Gateways[row.Site] = g
			ways += row.DeadWays
			if row.Up && row.ReportedAt != nil && (!g.Well || row.DownLink > 0) {
				ask = append(ask, row.Site)
			}
		}
		if young*2 > there { // all begin anew
			for _, g := range out.Gateways {
				g.Rising = true
			}
		}
		states, err := tx.GatewayStatesOf(view.estateID, ask)
		for site, text := range states {
			out.Gateways[site].State, _ = gateway.ParseState([]byte(text)) // what cannot be read is not known
		}
		return err
	})
	return out, ways, err
}
