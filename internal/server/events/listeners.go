package events

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	netmail "net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// ListenerOrder is a listener that somebody wants.
type ListenerOrder struct {
	Kind    string `json:"kind" enum:"webhook,mailbox"`
	Target  string `json:"target" maxLength:"500" doc:"URL of a webhook, or an address for mail"`
	CutOnly bool   `json:"cut_only,omitempty" doc:"only what cuts somebody, and its end"`
	From    string `json:"from,omitempty" doc:"time of day, UTC, from which it is told, as 22:30; events of other times are not"`
	To      string `json:"to,omitempty"`
}

var clock = "15:04"

// Check says what is wrong with an order.
func (t *Teller) Check(o *ListenerOrder) error {
	for field, text := range map[string]string{"from": o.From, "to": o.To} {
		if _, err := time.Parse(clock, text); text != "" && err != nil {
			return &identity.Refused{Field: field, Text: fmt.Sprintf("%q is no time of day, as 22:30", text)}
		}
	}
	if (o.From == "") != (o.To == "") {
		return &identity.Refused{Field: "to", Text: "give both times or none"}
	}
	switch o.Kind {
	case Mailbox:
		at, err := netmail.ParseAddress(o.Target)
		switch {
		case t == nil || t.Mail.Host == "":
			return &identity.Refused{Field: "kind", Text: "this server sends no mail: it was started without --mail-server"}
		case err != nil || at.Name != "" || strings.ContainsAny(o.Target, "\r\n"):
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("%q is no address for mail", o.Target)}
		}
	case Webhook:
		u, err := url.Parse(o.Target)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil || u.Fragment != "":
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("%q is no address such as https://chat.example/hook", o.Target)}
		case t == nil || !t.allows(u):
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("this server may not tell %s: its administrator allows hosts by --tell", u.Host)}
		}
	default:
		return &identity.Refused{Field: "kind", Text: "it is a webhook or a mailbox"}
	}
	return nil
}

// allows reports whether a URL is of a host that may be told.
func (t *Teller) allows(u *url.URL) bool {
	return slices.Contains(t.Hosts, u.Host) || slices.Contains(t.Hosts, u.Hostname()) && (u.Port() == "" || u.Scheme == "https" && u.Port() == "443")
}

// Add keeps a listener, and returns the secret with which a webhook is signed, told once.
func Add(ctx context.Context, s *store.Store, t *Teller, sealer *identity.Sealer, estate uint64, o ListenerOrder) (id uint64, secret string, err error) {
	if err := t.Check(&o); err != nil {
		return 0, "", err
	}
	var sealed []byte
	if o.Kind == Webhook {
		raw := make([]byte, 24)
		_, _ = rand.Read(raw) // never fails
		secret = "whsec_" + base64.StdEncoding.EncodeToString(raw)
		sealed = sealer.Seal(raw, sealPurpose)
	}
	err = s.InTransaction(ctx, func(tx *store.Tx) error {
		have, err := tx.Listeners(estate)
		if err != nil {
			return err
		}
		if len(have) >= mostTold {
			return &identity.Refused{Field: "target", Text: fmt.Sprintf("an estate has up to %d listeners", mostTold)}
		}
		at, err := tx.Now()
		if err != nil {
			return err
		}
		row := store.Listener{EstateID: estate, Kind: o.Kind, Target: o.Target, CutOnly: o.CutOnly, FromTime: o.From, ToTime: o.To, Sealed: sealed, Author: identity.ActorOf(ctx).Name, MadeAt: at}
		if err := tx.AddListener(&row); err != nil {
			return err
		}
		id = row.ID
		return identity.Record(ctx, tx, at, identity.Act{Action: "listener.add", Estate: estate, Object: fmt.Sprintf("listener %d", id), After: o})
	})
	return id, secret, err
}

// Drop lets a listener be told nothing more.
func Drop(ctx context.Context, s *store.Store, estate, id uint64) error {
	return s.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Listener(estate, id)
		if err != nil {
			return fmt.Errorf("listener %d: %w", id, err)
		}
		if _, err := tx.DropListener(estate, id); err != nil {
			return err
		}
		at, err := tx.Now()
		if err != nil {
			return err
		}
		return identity.Record(ctx, tx, at, identity.Act{Action: "listener.drop", Estate: estate, Object: fmt.Sprintf("listener %d", id), Before: map[string]any{"kind": row.Kind, "target": row.Target}})
	})
}

// Reseal seals the secrets of listeners with the present master key, and counts those that an
// older one had sealed.
func Reseal(ctx context.Context, s *store.Store, sealer *identity.Sealer) (n int, err error) {
	err = s.InTransaction(ctx, func(tx *store.Tx) error {
		n = 0
		rows, err := tx.AllListeners()
		for i := range rows {
			if len(rows[i].Sealed) == 0 {
				continue
			}
			sealed, err := sealer.Reseal(rows[i].Sealed, sealPurpose)
			if err != nil {
				return err
			}
			if sealed == nil {
				continue
			}
			rows[i].Sealed = sealed
			if err := tx.SealListener(&rows[i]); err != nil {
				return err
			}
			n++
		}
		return err
	})
	return n, err
}

// enqueue lets each listener that wants an event be told of it.
func enqueue(tx *store.Tx, e *store.Event) error {
	list, err := tx.Listeners(e.EstateID)
	if err != nil {
		return err
	}
	for i := range list {
		if l := &list[i]; wants(l, e) {
			if err := tx.AddMessage(&store.Message{ListenerID: l.ID, EventID: e.ID, DueAt: e.At}); err != nil {
				return err
			}
		}
	}
	return nil
}

// wants reports whether a listener is told of an event: of what cuts somebody, or of all, and at
// its times of day.
func wants(l *store.Listener, e *store.Event) bool {
	if l.CutOnly && e.Cut == 0 {
		return false
	}
	if l.FromTime == "" {
		return true
	}
	now := e.At.UTC().Format(clock)
	if l.FromTime <= l.ToTime {
		return l.FromTime <= now && now < l.ToTime
	}
	return now >= l.FromTime || now < l.ToTime // over midnight
}
