// Package watch is the server's side of the lines that gateways call: it knows who is there,
// keeps what they report, and brings them to the release that is wanted.
package watch

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"wideknot/internal/line"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/series"
	"wideknot/internal/server/store"
	"wideknot/internal/server/turns"
)

// How often what is done.
const (
	liveEvery  = 500 * time.Millisecond // that this server lives is written, and what its gateways are to be is read
	askEvery   = 5 * time.Second        // a gateway is asked how it is, if it tells of nothing before
	atMost     = 300 * time.Millisecond // it is not asked more often
	saveEvery  = 250 * time.Millisecond // what was reported is written, in one transaction
	offerEvery = 5 * time.Minute
	askWithin  = 10 * time.Second
	knockFor   = 10 * time.Second // a handshake
)

// A Keeper keeps the lines of one server. The database says which server holds the line of
// a gateway: who called last. A line that another server or a later call took over is closed.
type Keeper struct {
	Store     *store.Store
	Desk      *desk.Desk
	Authority *enrol.Authority
	Shown     *enrol.Shown
	Name      string // of this server, told apart from all others
	Log       *slog.Logger
	// Trial is how long a gateway that tries something waits to be confirmed, in seconds; 0 for
	// the usual time.
	Trial int

	guard  line.Guard
	mu     sync.Mutex
	lines  map[lineID]*held
	saving map[*held]map[string]any // columns of lines that are to be written

	relaxing *time.Timer // see relax

	series    series.Keeper
	measured  []*measured // that is to be written
	nextRooms time.Time   // when room for samples is made again
}

type lineID struct {
	estate uint64
	site   string
}

// Serve keeps the lines of gateways that call a listener until the context ends.
func (k *Keeper) Serve(ctx context.Context, listen net.Listener) error {
	if k.Log == nil {
		k.Log = slog.New(slog.DiscardHandler)
	}
	k.lines, k.saving = map[lineID]*held{}, map[*held]map[string]any{}
	k.series.Store = k.Store
	if err := k.live(ctx, true); err != nil {
		return err
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	var all sync.WaitGroup
	defer all.Wait()
	all.Go(func() {
		turns.Take(ctx, liveEvery, k.Log, "keeping lines", func(ctx context.Context) error { return k.live(ctx, false) })
	})
	all.Go(func() { turns.Take(ctx, saveEvery, k.Log, "keeping lines", k.save) })
	all.Go(func() { turns.Take(ctx, liveEvery, k.Log, "keeping lines", k.ask) })
	all.Go(func() { turns.Take(ctx, saveEvery, k.Log, "keeping lines", k.saveMeasured) })
	stop := context.AfterFunc(ctx, func() { _ = listen.Close() })
	defer stop()
	for {
		conn, err := listen.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			if errors.Is(err, net.ErrClosed) {
				return err
			}
			time.Sleep(50 * time.Millisecond) // too many open files, say: others end
			continue
		}
		if proved, ok := k.guard.Enter(conn); ok {
			all.Go(func() { k.welcome(ctx, conn, proved) })
		}
	}
}

// welcome learns who called, and holds the line until it ends.
func (k *Keeper) welcome(ctx context.Context, raw net.Conn, proved func()) {
	defer raw.Close()
	defer proved()
	h, err := k.know(ctx, raw)
	if err != nil {
		k.Log.Info("a caller is refused", "from", raw.RemoteAddr(), "reason", err)
		return
	}
	proved()
	defer k.leave(h)
	h.run(ctx)
}

// errLater is of a gateway that could not be known for now.
var errLater = errors.New("the database does not answer; the gateway calls again")

// know begins TLS as the client of who called (RFC 8071), learns from the certificate who it
// is, and takes the line.
func (k *Keeper) know(ctx context.Context, raw net.Conn) (*held, error) {
	shown, err := k.Shown.Certificate()
	if err != nil {
		return nil, err
	}
	conn := tls.Client(raw, &tls.Config{
		Certificates: []tls.Certificate{*shown}, MinVersion: tls.VersionTLS13, NextProtos: []string{"h2"},
		InsecureSkipVerify: true, // the authority and the database say who it is, not a name
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 {
				return line.ErrStranger
			}
			return line.SignedBy(k.Authority.Pool, s.PeerCertificates[0], time.Now())
		},
	})
	knocking, done := context.WithTimeout(ctx, knockFor)
	defer done()
	if err := conn.HandshakeContext(knocking); err != nil {
		return nil, err
	}
	shows := conn.ConnectionState().PeerCertificates[0]
	estateKey, site, ok := line.GatewayOf(shows)
	if !ok {
		return nil, line.ErrStranger
	}
	digest := line.KeyDigest(shows)
	h := &held{k: k, estateKey: estateKey, poke: make(chan struct{}, 1), ended: make(chan struct{})}
	err = k.Store.InTransaction(ctx, func(tx *store.Tx) error {
		g, err := tx.GatewayOfKey(estateKey, site, digest[:])
		switch {
		case errors.Is(err, store.ErrNotFound):
			return enrol.ErrForeign
		case err != nil:
			return fmt.Errorf("%w (%w)", errLater, err)
		case g.BarredAt != nil:
			return enrol.ErrBarred
		}
		h.row, err = tx.TakeLine(g.EstateID, site, k.Name)
		h.is = store.LineSeen{Wanted: g.Wanted, Base: g.Base, Stage: g.Stage, Attempt: g.Attempt, Confirmed: g.Confirmed, ConfirmedDigest: g.ConfirmedDigest, ConfirmedAttempt: g.ConfirmedAttempt, KeyDigest: g.KeyDigest}
		return err
	})
	if err != nil {
		return nil, err
	}
	if h.client, err = line.NewClient(ctx, conn); err != nil {
		return nil, err
	}
	h.id = lineID{h.row.EstateID, site}
	k.mu.Lock()
	before := k.lines[h.id]
	k.lines[h.id] = h
	k.mu.Unlock()
	if before != nil {
		go before.replaced(ctx)
	}
	return h, nil
}

// leave forgets a line that ended.
func (k *Keeper) leave(h *held) {
	_ = h.client.Close() // it has ended
	k.mu.Lock()
	if k.lines[h.id] == h {
		delete(k.lines, h.id)
	}
	delete(k.saving, h)
	k.mu.Unlock()
	ctx, done := context.WithTimeout(context.Background(), 5*time.Second)
	defer done()
	now := time.Now().UTC()
	err := k.Store.InTransaction(ctx, func(tx *store.Tx) error {
		_, err := tx.SaveLine(&h.row, map[string]any{"ended_at": now})
		return err
	})
	if err != nil {
		k.Log.Error("the end of a line is not written", "site", h.row.Site, "error", err)
	}
	close(h.ended)
}

// live says that this server lives, and learns what its gateways are to be. A line that it
// holds no more by the database is closed.
func (k *Keeper) live(ctx context.Context, first bool) error {
	var rows []store.LineSeen
	if err := k.Store.InTransaction(ctx, func(tx *store.Tx) error { return tx.ServerLives(k.Name, first) }); err != nil {
		return err
	}
	// The lines first: the row of each of them is written by now.
	k.mu.Lock()
	lines := slices.Collect(maps.Values(k.lines))
	k.mu.Unlock()
	err := k.Store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		rows, err = tx.Lines(k.Name)
		return err
	})
	if err != nil {
		return err
	}
	seen := make(map[lineID]*store.LineSeen, len(rows))
	for i := range rows {
		seen[lineID{rows[i].EstateID, rows[i].Site}] = &rows[i]
	}
	for _, h := range lines {
		row := seen[h.id]
		switch {
		case row == nil || row.Epoch > h.row.Epoch:
			if !h.going.Swap(true) {
				go h.replaced(ctx)
			}
		case row.Epoch == h.row.Epoch && row.BarredAt != nil:
			k.Log.Info("a gateway was barred", "site", h.id.site)
			_ = h.client.Close()
		case row.Epoch == h.row.Epoch:
			h.told(row)
		}
	}
	return nil
}

// put notes columns of a line that are to be written.
func (k *Keeper) put(h *held, values map[string]any) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.lines[h.id] != h {
		return
	}
	into := k.saving[h]
	if into == nil {
		into = map[string]any{}
		k.saving[h] = into
	}
	for name, v := range values {
		into[name] = v
	}
}

// save writes what was noted, of all lines in one transaction.
func (k *Keeper) save(ctx context.Context) error {
	k.mu.Lock()
	saving := k.saving
	k.saving = map[*held]map[string]any{}
	k.mu.Unlock()
	if len(saving) == 0 {
		return nil
	}
	lost := []*held{}
	err := k.Store.InTransaction(ctx, func(tx *store.Tx) error {
		lost = lost[:0]
		for h, values := range saving {
			holds, err := tx.SaveLine(&h.row, values)
			if err != nil {
				return err
			}
			if !holds {
				lost = append(lost, h)
			}
		}
		return nil
	})
	if err != nil { // it is written with what comes next
		for h, values := range saving {
			k.mu.Lock()
			if now := k.saving[h]; now != nil {
				for name, v := range now {
					values[name] = v
				}
			}
			if k.lines[h.id] == h {
				k.saving[h] = values
			}
			k.mu.Unlock()
		}
		return err
	}
	for _, h := range lost {
		if !h.going.Swap(true) {
			go h.replaced(ctx)
		}
	}
	return nil
}
