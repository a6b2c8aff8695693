package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"wideknot/core/addr"
	"wideknot/core/diagnose"
	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/core/route"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// A Why asks why a packet does not arrive. From and To are addresses, or sites: then their
// gateways' own addresses are meant.
type Why struct {
	From, To string
	Protocol string
	Port     int
	Look     bool // gateways are asked to look, which takes some seconds
}

// A WhyAnswer says why.
type WhyAnswer struct {
	From     netip.Addr `json:"from"`
	To       netip.Addr `json:"to"`
	Protocol string     `json:"protocol"`
	Port     int        `json:"port"`
	Release  uint64     `json:"release" doc:"in force, whose path it is"`
	Looked   bool       `json:"looked" doc:"gateways were asked to look"`
	At       time.Time  `json:"at"`
	diagnose.Diagnosis
}

// ErrLooking is of a look while another one is taken in the estate.
var ErrLooking = errors.New("gateways of this estate are being asked to look already: wait some seconds")

// Rounds of asking, and how long each may take in seconds.
const (
	whyRounds = 6
	whyWithin = 15
	fewEnough = 150 // gateways of which all states are read, to tell what is dead together
)

// Why says why a packet does not arrive, by the release in force.
func (d *Desk) Why(ctx context.Context, estateKey string, w Why) (*WhyAnswer, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil {
		return nil, err
	}
	if view.Latest == 0 {
		return nil, &identity.Refused{Field: "from", Text: "nothing is released yet, so nothing runs"}
	}
	known, rows, err := d.knownOf(ctx, view)
	if err != nil {
		return nil, err
	}
	p := route.Packet{Protocol: w.Protocol, Port: w.Port}
	if p.From, err = d.addressOf(view, known, "from", w.From); err == nil {
		p.To, err = d.addressOf(view, known, "to", w.To)
	}
	if err != nil {
		return nil, err
	}
	if err := p.Check(); err != nil {
		return nil, &identity.Refused{Field: "to", Text: err.Error()}
	}
	leave, err := d.Working(ctx)
	if err != nil {
		return nil, err
	}
	err = d.knowMore(ctx, estateKey, view, known, rows, p, w.Look)
	leave()
	if err != nil {
		return nil, err
	}
	out := &WhyAnswer{From: p.From, To: p.To, Protocol: p.Protocol, Port: p.Port, Release: view.Latest, Looked: w.Look, At: time.Now().UTC()}
	is := diagnose.Diagnose(known, p)
	if w.Look && len(is.Wants) > 0 {
		if _, busy := d.looks.LoadOrStore(view.estateID, true); busy {
			return nil, ErrLooking
		}
		defer d.looks.Delete(view.estateID)
		for range whyRounds {
			if len(is.Wants) == 0 {
				break
			}
			if err := d.askFor(ctx, view.estateID, known, is.Wants); err != nil {
				return nil, err
			}
			if err := d.seeAnew(ctx, view, known); err != nil {
				return nil, err
			}
			is = diagnose.Diagnose(known, p)
		}
	}
	out.Diagnosis = *is
	return out, nil
}

// Working waits for a turn at what takes a core and anybody may ask for.
func (d *Desk) Working(ctx context.Context) (leave func(), err error) {
	select {
	case d.whys <- struct{}{}:
		return func() { <-d.whys }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// seeAnew reads what gateways reported meanwhile.
func (d *Desk) seeAnew(ctx context.Context, view *View, known *diagnose.Known) error {
	return d.store.Snapshot(ctx, func(tx *store.Tx) error {
		live, err := tx.LiveGateways(view.estateID)
		if err != nil {
			return err
		}
		var sites []string
		for i := range live {
			if g := known.Gateways[live[i].Site]; g != nil {
				g.Up = live[i].Up && live[i].BarredAt == nil
				sites = append(sites, live[i].Site)
			}
		}
		sites = slices.DeleteFunc(sites, func(site string) bool { return known.Gateways[site].State == nil })
		states, err := tx.GatewayStatesOf(view.estateID, sites)
		for site, text := range states {
			if s, err := gateway.ParseState([]byte(text)); err == nil { // what cannot be read says nothing new
				known.Gateways[site].State = s
			}
		}
		return err
	})
}

// addressOf reads an address, or takes a site's gateway's own.
func (d *Desk) addressOf(view *View, known *diagnose.Known, field, text string) (netip.Addr, error) {
	if at, err := netip.ParseAddr(text); err == nil {
		return at, nil
	}
	i := view.Plan.SiteIndex(text)
	if i < 0 {
		return netip.Addr{}, &identity.Refused{Field: field, Text: fmt.Sprintf("%q is neither an address nor a site of the release in force", text)}
	}
	for j := range view.Estate.Sites[i].Subnets {
		n := &view.Estate.Sites[i].Subnets[j]
		if len(n.Share) == 0 {
			continue
		}
		at := n.Prefix.Addr().Next()
		if o := known.Of(text).Offers; o != nil {
			if own := o.Own([]netip.Prefix{n.Prefix}); own.IsValid() {
				at = own
			}
		}
		if field == "to" { // as others know it
			return addr.Moved(at, n.Prefix, n.Taking()), nil
		}
		return at, nil
	}
	return netip.Addr{}, &identity.Refused{Field: field, Text: text + " shares no subnet: give an address"}
}

// knownOf reads what gateways are there.
func (d *Desk) knownOf(ctx context.Context, view *View) (*diagnose.Known, map[string]*store.LiveGateway, error) {
	out := &diagnose.Known{Routes: view.Routes, Gateways: map[string]*diagnose.Gateway{}}
	rows := map[string]*store.LiveGateway{}
	var live []store.LiveGateway
	var offering []store.Gateway
	states := map[string]string{}
	err := d.store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		if live, err = tx.LiveGateways(view.estateID); err != nil {
			return err
		}
		if len(live) <= fewEnough {
			if states, err = tx.GatewayStates(view.estateID); err != nil {
				return err
			}
			offering, err = tx.Offering(view.estateID, "")
		}
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	for i := range live {
		l := &live[i]
		rows[l.Site] = l
		out.Gateways[l.Site] = &diagnose.Gateway{Joined: l.BarredAt == nil, Up: l.Up && l.BarredAt == nil}
	}
	for site, text := range states {
		if out.Gateways[site] != nil {
			out.Gateways[site].State, _ = gateway.ParseState([]byte(text)) // what cannot be read is not known
		}
	}
	for i := range offering {
		offersInto(out, &offering[i])
	}
	return out, rows, nil
}

func offersInto(known *diagnose.Known, row *store.Gateway) {
	g := known.Gateways[row.Site]
	if g == nil || row.Offers == nil {
		return
	}
	g.Offers, _ = gateway.ParseOffers([]byte(*row.Offers)) // what cannot be read is not known
}

// knowMore reads of the gateways on the path what they are to be, what they run and what they
// see.
func (d *Desk) knowMore(ctx context.Context, estateKey string, view *View, known *diagnose.Known, rows map[string]*store.LiveGateway, p route.Packet, look bool) error {
	done := map[string]bool{}
	for range whyRounds { // what is seen may lead elsewhere
		more := slices.DeleteFunc(diagnose.Sites(known, p), func(site string) bool { return done[site] })
		for _, site := range more {
			done[site] = true
			if err := d.knowGateway(ctx, estateKey, view, known, rows[site], site, look); err != nil {
				return err
			}
		}
		if len(more) == 0 {
			break
		}
	}
	return nil
}

// knowGateway reads of one.
func (d *Desk) knowGateway(ctx context.Context, estateKey string, view *View, known *diagnose.Known, row *store.LiveGateway, site string, look bool) error {
	if known.Gateways[site] == nil {
		known.Gateways[site] = &diagnose.Gateway{}
	}
	g := known.Gateways[site]
	var err error
	if g.Wants, _, err = d.configOf(ctx, estateKey, site, view.Latest); err != nil {
		return err
	}
	g.Release = int(view.Latest)
	if row == nil {
		return nil
	}
	g.Keeps = int(row.Confirmed)
	if g.State == nil || g.Offers == nil {
		err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
			text, err := tx.GatewayState(view.estateID, site)
			if err == nil && text != "" {
				g.State, _ = gateway.ParseState([]byte(text)) // what cannot be read is not known
			}
			full, err := tx.Gateway(view.estateID, site, false)
			if err == nil {
				offersInto(known, &full)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	if g.State == nil || g.State.Digest == g.Wants.Digest() {
		return nil
	}
	if row.ConfirmedDigest != "" && g.State.Digest != row.ConfirmedDigest && g.State.Trial.Token == "" {
		g.ByHand = true
		if look && g.Up {
			g.Runs, _, err = d.running(ctx, view.estateID, site)
			var refused *identity.Refused
			if errors.As(err, &refused) { // it does not say: then that is not known
				err = nil
			}
		}
		return err
	}
	if row.Confirmed > 0 {
		g.Runs, _, err = d.configAt(ctx, estateKey, site, confirmedVersion(row))
	}
	return err
}

// askFor asks gateways for what a diagnosis wants to know, and adds what they answer.
func (d *Desk) askFor(ctx context.Context, estateID uint64, known *diagnose.Known, wants []diagnose.Want) error {
	about := "why " + rand.Text()
	var rows []store.Ask
	for i := range wants {
		w := &wants[i]
		add := func(operation string, input any) error {
			text, err := json.Marshal(input)
			rows = append(rows, store.Ask{EstateID: estateID, Site: w.Site, About: about + " " + operation, Operation: operation, Input: string(text)})
			return err
		}
		var err error
		if len(w.Echoes) > 0 {
			err = add(store.AskEcho, w.Echoes)
		}
		if w.Look != nil {
			err = errors.Join(err, add(store.AskLook, w.Look))
		}
		if err != nil {
			return err
		}
	}
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error { return tx.AddAsks(rows, whyWithin) })
	if err != nil {
		return err
	}
	for _, operation := range []string{store.AskEcho, store.AskLook} {
		by, err := d.await(ctx, estateID, about+" "+operation, whyWithin)
		if err != nil {
			return err
		}
		for i := range wants {
			answerInto(known.Gateways[wants[i].Site], operation, wants[i].Again, by[wants[i].Site])
		}
	}
	return nil
}

// answerInto adds what a gateway answered; what it did not is not known.
func answerInto(g *diagnose.Gateway, operation string, again bool, row *store.Ask) {
	if row == nil || row.Output == nil {
		return
	}
	if operation == store.AskLook {
		var l gateway.Looked
		if json.Unmarshal([]byte(*row.Output), &l) == nil { // it was read before it was kept
			g.Looked = &l
		}
		return
	}
	var list []gateway.Echoed
	if json.Unmarshal([]byte(*row.Output), &list) != nil {
		return
	}
	if g.Echoes == nil {
		g.Echoes = map[diagnose.Ask]gateway.Echoed{}
	}
	for _, e := range list {
		g.Echoes[diagnose.Ask{From: e.From, To: e.To, Again: again}] = e
	}
}

// confirmedVersion is what a gateway said it keeps.
func confirmedVersion(row *store.LiveGateway) Version {
	if row.ConfirmedAttempt == row.Attempt && row.Base > 0 {
		return Version{Release: row.Wanted, Base: row.Base, Stage: rollout.Stage(row.ConfirmedStage)}
	}
	return Version{Release: row.Confirmed, Stage: rollout.New}
}
