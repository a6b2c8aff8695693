package events

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Kinds of listeners.
const (
	Webhook = "webhook"
	Mailbox = "mailbox"
)

// How telling goes.
const (
	tellEvery   = 500 * time.Millisecond
	tellWithin  = 10 * time.Second
	tellFirst   = 5 * time.Second // until it is tried again; twice as long each time
	tellLongest = 10 * time.Minute
	tellFor     = 24 * time.Hour // then it is given up
	mostTold    = 50             // listeners of an estate
	sealPurpose = "listener"
)

// A Teller tells listeners of events. Hosts are those that may be told, as its administrator
// says: whoever owns an estate does not choose what this server connects to.
type Teller struct {
	Store  *store.Store
	Sealer *identity.Sealer
	Hosts  []string // HOST or HOST:PORT
	Mail   MailServer
	Origin string // of the web interface, for links
	Log    *slog.Logger
	Client *http.Client // nil for the usual one
}

// Run tells what is due until the context ends.
func (t *Teller) Run(ctx context.Context) {
	for {
		if err := t.turn(ctx); err != nil && ctx.Err() == nil {
			t.Log.Error("telling of events", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(tellEvery):
		}
	}
}

// due is what is told in one turn.
type due struct {
	message  store.Message
	listener store.Listener
	event    store.Event
	estate   store.Estate
}

func (t *Teller) turn(ctx context.Context) error {
	var list []due
	err := t.Store.InTransaction(ctx, func(tx *store.Tx) (err error) {
		list, err = take(tx)
		return err
	})
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	failed := make(chan error, len(list))
	for i := range list {
		all.Go(func() { failed <- t.try(ctx, &list[i]) })
	}
	all.Wait()
	close(failed)
	for e := range failed {
		err = errors.Join(err, e)
	}
	return err
}

// try tells one message, and keeps how that ended.
func (t *Teller) try(ctx context.Context, d *due) error {
	telling, done := context.WithTimeout(ctx, tellWithin)
	defer done()
	err := t.tell(telling, d)
	now := time.Now().UTC()
	d.message.Words = ""
	if err != nil {
		d.message.Words = cut(err.Error(), 300)
		d.message.DueAt = now.Add(min(tellFirst<<min(d.message.Tries-1, 10), tellLongest))
	} else {
		d.message.SentAt = &now
	}
	return t.Store.InTransaction(ctx, func(tx *store.Tx) error { return tx.SaveMessage(&d.message) })
}

// take lists what is to be told now. While this server tries, no other one does; what is too old
// is given up.
func take(tx *store.Tx) (list []due, err error) {
	rows, err := tx.DueMessages()
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	listeners, err := tx.AllListeners()
	if err != nil {
		return nil, err
	}
	now, err := tx.Now()
	if err != nil {
		return nil, err
	}
	for i := range rows {
		d := due{message: rows[i]}
		at := slices.IndexFunc(listeners, func(l store.Listener) bool { return l.ID == rows[i].ListenerID })
		if at < 0 {
			continue // it was dropped just now, and its messages with it
		}
		d.listener = listeners[at]
		if d.event, err = tx.EventByID(rows[i].EventID); err == nil {
			d.estate, err = tx.EstateByID(d.event.EstateID)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		d.message.Tries++
		d.message.DueAt = now.Add(3 * tellWithin)
		if err != nil || now.Sub(d.event.At) > tellFor {
			d.message.SentAt, d.message.Words = &now, "given up"
		}
		if err := tx.SaveMessage(&d.message); err != nil {
			return nil, err
		}
		if d.message.SentAt == nil {
			list = append(list, d)
		}
	}
	return list, nil
}

func (t *Teller) tell(ctx context.Context, d *due) error {
	if d.listener.Kind == Mailbox {
		return t.post(ctx, d)
	}
	return t.call(ctx, d)
}
