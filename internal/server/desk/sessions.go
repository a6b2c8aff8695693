package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// sessionsWithin is how long a gateway may take to tell of sessions, in seconds.
const sessionsWithin = 15

// ErrSessions is of a question for sessions while another one waits for its answer.
var ErrSessions = errors.New("sessions of this estate are being asked for already: wait some seconds")

// Sessions is what is open by a tunnel, as the gateway at one of its ends knows it.
type Sessions struct {
	At        time.Time     `json:"at"`
	Site      string        `json:"site"`
	Interface string        `json:"interface"`
	Peer      string        `json:"peer"`
	Reset     gateway.Reset `json:"reset,omitempty" enum:"keys,flows" doc:"what was ended; what is told was open before"`
	Keys      []KeySession  `json:"keys"`
	Flows     []Flow        `json:"flows" doc:"whose packets leave by it, by the main table; the first 200"`
	More      int           `json:"more" doc:"flows besides these"`
	Ended     int           `json:"ended" doc:"flows that were forgotten"`
	Words     string        `json:"words,omitempty" doc:"why flows are not told"`
}

// A KeySession is what came and went by a key of the far end.
type KeySession struct {
	Key        string `json:"key" doc:"public"`
	HandshakeS int    `json:"handshake_s" doc:"seconds since hands were shaken; 0 where they never were"`
	Endpoint   string `json:"endpoint,omitempty" doc:"where the far end was last heard from"`
	BytesIn    uint64 `json:"bytes_in"`
	BytesOut   uint64 `json:"bytes_out"`
}

// A Flow is packets of two hosts there and back.
type Flow struct {
	Protocol   int    `json:"protocol" doc:"of IP"`
	From       string `json:"from" doc:"ADDRESS:PORT of its first packet, or ADDRESS where the protocol has no ports"`
	To         string `json:"to"`
	Unanswered bool   `json:"unanswered" doc:"no answer came, as far as the gateway tells"`
	Left       int    `json:"seconds_left" doc:"until it is forgotten, unless a packet of it comes"`
}

// hostOf writes one side of a flow, without a port where there is none.
func hostOf(a netip.AddrPort) string {
	if a.Port() == 0 {
		return a.Addr().String()
	}
	return a.String()
}

// PeerOf returns the far end of a tunnel of the release in force.
func (d *Desk) PeerOf(ctx context.Context, estateKey, site, iface string) (string, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil {
		return "", err
	}
	at := view.Plan.SiteIndex(site)
	if at < 0 {
		return "", &identity.Refused{Field: "site", Text: fmt.Sprintf("%q is no site of the release in force", site)}
	}
	t := gateway.Of(view.Routes, at).Tunnel(iface)
	if t == nil {
		return "", &identity.Refused{Field: "interface", Text: fmt.Sprintf("%s has no tunnel %q in the release in force", site, iface)}
	}
	return t.Peer, nil
}

// Sessions asks the gateway of a site what is open by one of its tunnels, and has it ended where a
// reset says so. Both are in the audit: who talks to whom is for nobody's mere curiosity.
func (d *Desk) Sessions(ctx context.Context, estateKey, site, peer string, o gateway.SessionsOrder) (*Sessions, error) {
	if err := o.Check(); err != nil {
		return nil, &identity.Refused{Field: "interface", Text: err.Error()}
	}
	input, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	about := "sessions " + rand.Text()
	var estateID uint64
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", estateKey, err)
		}
		estateID = e.ID
		return nil
	})
	if err != nil {
		return nil, err
	}
	if _, busy := d.sessions.LoadOrStore(estateID, true); busy {
		return nil, ErrSessions
	}
	defer d.sessions.Delete(estateID)
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		if err := tx.AddAsks([]store.Ask{{EstateID: estateID, Site: site, About: about, Operation: store.AskSessions, Input: string(input)}}, sessionsWithin); err != nil {
			return err
		}
		now, err := tx.Now()
		if err != nil {
			return err
		}
		act := identity.Act{Action: "sessions.list", Estate: estateID, Object: site + " " + o.Interface, After: map[string]any{"towards": peer}}
		if o.Reset != "" {
			act.Action, act.After = "sessions.reset", map[string]any{"towards": peer, "reset": o.Reset}
		}
		return identity.Record(ctx, tx, now, act)
	})
	if err != nil {
		return nil, err
	}
	by, err := d.await(ctx, estateID, about, sessionsWithin)
	if err != nil {
		return nil, err
	}
	row := by[site]
	switch {
	case row == nil || row.AnsweredAt == nil:
		return nil, &identity.Refused{Field: "site", Text: "the gateway of " + site + " did not answer in time"}
	case row.Output == nil:
		return nil, &identity.Refused{Field: "site", Text: row.Words}
	}
	var is gateway.Sessions
	if err := json.Unmarshal([]byte(*row.Output), &is); err != nil {
		return nil, err
	}
	return sessionsOf(site, peer, &o, &is), nil
}

// sessionsOf is what a gateway answered, as the API tells it.
func sessionsOf(site, peer string, o *gateway.SessionsOrder, is *gateway.Sessions) *Sessions {
	out := &Sessions{
		At: time.Now().UTC(), Site: site, Interface: o.Interface, Peer: peer, Reset: o.Reset,
		Keys: []KeySession{}, Flows: []Flow{}, More: is.More, Ended: is.Ended, Words: is.Words,
	}
	for _, k := range is.Keys {
		one := KeySession{Key: k.Key, HandshakeS: k.HandshakeS, BytesIn: uint64(k.BytesIn), BytesOut: uint64(k.BytesOut)}
		if k.Endpoint.IsValid() {
			one.Endpoint = k.Endpoint.String()
		}
		out.Keys = append(out.Keys, one)
	}
	for _, f := range is.Flows {
		out.Flows = append(out.Flows, Flow{f.Protocol, hostOf(f.From), hostOf(f.To), f.Unanswered, f.Left})
	}
	return out
}
